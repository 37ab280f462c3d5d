//! The service's log on standard error: values in it cannot forge lines, and no cause fills it.

use crate::terminal::visible;
use std::collections::HashMap;
use std::fmt::{Debug, Write as _};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tracing::field::{Field, Visit};
use tracing::{Event, Level, Metadata, Subscriber, callsite};
use tracing_subscriber::field::MakeExt;
use tracing_subscriber::fmt::format::{Writer, debug_fn};
use tracing_subscriber::layer::{Context, Filter, Layer, SubscriberExt};
use tracing_subscriber::util::SubscriberInitExt;
use tracing_subscriber::{EnvFilter, fmt};

/// Warnings and errors of one cause that are written in a [`WINDOW`]; the others are counted.
const MOST: u32 = 10;
const WINDOW: Duration = Duration::from_secs(60);
/// Most causes that are counted separately; beyond, all causes of one place in the code count as one.
const CAUSES: usize = 1000;

/// Starts the log: level `info` and above, unless `WIREWATCH_LOG` is set. Must be called inside the runtime.
pub fn start(as_json: bool) {
    let levels = EnvFilter::try_from_env("WIREWATCH_LOG")
        .unwrap_or_else(|_| EnvFilter::new("info,sqlx=warn,sea_orm_migration=warn,lapin=error"));
    let bounds = Bounds::default();
    let lines = fmt::layer().with_writer(std::io::stderr).with_target(false);
    let log = tracing_subscriber::registry().with(levels);
    if as_json {
        log.with(lines.json().with_filter(bounds.clone())).init();
    } else {
        log.with(lines.fmt_fields(debug_fn(field).delimited(" ")).with_filter(bounds.clone())).init();
    }
    tokio::spawn(report(bounds));
}

/// Writes one field. Text stays on one line, with control characters escaped.
fn field(writer: &mut Writer<'_>, field: &Field, value: &dyn Debug) -> std::fmt::Result {
    let shown = visible(&format!("{value:?}")).replace('\n', "\\n");
    if field.name() == "message" { write!(writer, "{shown}") } else { write!(writer, "{}={shown}", field.name()) }
}

/// Says once a [`WINDOW`] how many lines were left out.
async fn report(bounds: Bounds) {
    loop {
        tokio::time::sleep(WINDOW).await;
        for (cause, lines) in bounds.left_out(Instant::now()) {
            tracing::warn!(lines, cause, "more lines like the ones before were left out");
        }
    }
}

/// Limits the lines of each cause within a time window. A cause is a place in the code with the connection concerned.
#[derive(Debug, Clone, Default)]
struct Bounds(Arc<Mutex<HashMap<(callsite::Identifier, String), Lines>>>);

/// Lines of one cause since its window began.
#[derive(Debug)]
struct Lines {
    since: Instant,
    written: u32,
    left_out: u64,
    /// The message, with the connection it is about.
    cause: String,
}

impl Bounds {
    fn admits(&self, place: callsite::Identifier, about: About, now: Instant) -> bool {
        let mut causes = self.0.lock().expect("no holder panics");
        let mut key = (place, about.connection);
        if !causes.contains_key(&key) && causes.len() >= CAUSES {
            key.1.clear();
        }
        let cause = || format!("{} {}", about.message, key.1).trim_end().to_owned();
        let lines = causes.entry(key.clone()).or_insert_with(|| Lines { since: now, written: 0, left_out: 0, cause: cause() });
        if now.duration_since(lines.since) >= WINDOW && lines.left_out == 0 {
            (lines.since, lines.written) = (now, 0);
        }
        let admitted = lines.written < MOST;
        lines.written += u32::from(admitted);
        lines.left_out += u64::from(!admitted);
        admitted
    }

    /// Returns the causes whose window has ended, with the number of lines left out, and resets them.
    fn left_out(&self, now: Instant) -> Vec<(String, u64)> {
        let mut causes = self.0.lock().expect("no holder panics");
        let over = causes.extract_if(|_, lines| now.duration_since(lines.since) >= WINDOW);
        over.filter(|(_, lines)| lines.left_out > 0).map(|(_, lines)| (lines.cause, lines.left_out)).collect()
    }
}

impl<S: Subscriber> Filter<S> for Bounds {
    fn enabled(&self, _: &Metadata<'_>, _: &Context<'_, S>) -> bool {
        true
    }

    fn event_enabled(&self, event: &Event<'_>, _: &Context<'_, S>) -> bool {
        if *event.metadata().level() > Level::WARN {
            return true;
        }
        let mut about = About::default();
        event.record(&mut about);
        self.admits(event.metadata().callsite(), about, Instant::now())
    }
}

/// Distinguishes causes of the same place in the code.
#[derive(Debug, Default)]
struct About {
    message: String,
    connection: String,
}

impl Visit for About {
    fn record_str(&mut self, field: &Field, value: &str) {
        if field.name() == "connection" {
            value.clone_into(&mut self.connection);
        }
    }

    fn record_debug(&mut self, field: &Field, value: &dyn Debug) {
        if field.name() == "message" {
            let _ = write!(self.message, "{value:?}");
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io;
    use tracing_subscriber::fmt::MakeWriter;

    /// Keeps what is written.
    #[derive(Debug, Clone, Default)]
    struct Buffer(Arc<Mutex<Vec<u8>>>);

    impl io::Write for Buffer {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            self.0.lock().unwrap().extend_from_slice(bytes);
            Ok(bytes.len())
        }

        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }

    impl<'a> MakeWriter<'a> for Buffer {
        type Writer = Self;

        fn make_writer(&'a self) -> Self {
            self.clone()
        }
    }

    /// The lines that `log` leads to, and the bounds they went through.
    fn logged(log: impl FnOnce()) -> (Vec<String>, Bounds) {
        let (buffer, bounds) = (Buffer::default(), Bounds::default());
        let lines = fmt::layer().with_writer(buffer.clone()).with_target(false).without_time().with_ansi(false);
        let lines = lines.fmt_fields(debug_fn(field).delimited(" ")).with_filter(bounds.clone());
        tracing::subscriber::with_default(tracing_subscriber::registry().with(lines), log);
        let text = String::from_utf8(buffer.0.lock().unwrap().clone()).unwrap();
        (text.lines().map(str::to_owned).collect(), bounds)
    }

    #[test]
    fn a_value_from_outside_cannot_forge_a_line() {
        let says = "no\n2026-12-01T00:00:00Z  INFO all is well\u{1b}[2J";
        let (lines, _) = logged(|| tracing::warn!(%says, "a call was not received"));
        assert_eq!(lines, [r" WARN a call was not received says=no\n2026-12-01T00:00:00Z  INFO all is well\u{1b}[2J"]);
    }

    #[test]
    fn each_cause_has_its_lines_and_the_rest_are_counted() {
        let (lines, bounds) = logged(|| {
            for n in 0..1000 {
                for connection in ["shop", "books"] {
                    tracing::warn!(connection, n, "a call was not received");
                }
                tracing::info!(n, "released");
            }
        });
        let of = |text: &str| lines.iter().filter(|line| line.contains(text)).count();
        assert_eq!((of("\"shop\""), of("\"books\""), of("released")), (10, 10, 1000));
        assert!(bounds.left_out(Instant::now()).is_empty(), "the minute is not over");
        let mut left_out = bounds.left_out(Instant::now() + WINDOW);
        left_out.sort();
        assert_eq!(
            left_out,
            [("a call was not received books".to_owned(), 990), ("a call was not received shop".to_owned(), 990)]
        );
        assert!(bounds.left_out(Instant::now() + WINDOW).is_empty(), "reported once");
    }
}
