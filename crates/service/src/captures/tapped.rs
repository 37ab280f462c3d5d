//! Fills captures from calls and taps, and stores them across restarts.

use super::{CaptureKind, Caught};
use crate::run::App;
use serde_json::{Map, Value};
use std::sync::Arc;
use std::time::Duration;
use wirewatch_core::Timestamp;
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::{CaptureRow, CapturedRow, JournalError};
use wirewatch_links::amqp::Overheard;

/// From the end of a tap on an exchange to the next try.
const AGAIN: Duration = Duration::from_secs(5);

/// Reopens the captures of earlier starts that have not expired.
///
/// # Errors
/// [`JournalError`]; no capture is open then.
pub async fn reopen(app: &Arc<App>) -> Result<(), JournalError> {
    let (captures, mut captured) = app.store.captures(SystemClock.now()).await?;
    for row in captures {
        let own = captured.extract_if(.., |one| one.capture == row.name);
        let caught = own.map(|one| Caught {
            n: one.n.unsigned_abs(),
            at: Timestamp(one.at),
            line: one.line,
            headers: serde_json::from_str(&one.properties).unwrap_or_default(),
            body: one.body.into(),
        });
        let caught = caught.collect();
        let CaptureRow { name, connection, exchange, pattern, until, by_whom } = row;
        let kind = match connection.is_empty() {
            true => CaptureKind::Http,
            false => CaptureKind::Queue { connection, exchange, pattern },
        };
        app.captures.restore(&name, kind.clone(), Timestamp(until), &by_whom, caught);
        listen(app, &name, &kind, None);
    }
    Ok(())
}

/// Stores a capture that was opened.
///
/// # Errors
/// [`JournalError`]; it would not outlive a restart then.
pub async fn store(app: &App, name: &str, kind: &CaptureKind, until: Timestamp, by: &str) -> Result<(), JournalError> {
    let (connection, exchange, pattern) = match kind {
        CaptureKind::Http => <(String, String, String)>::default(),
        CaptureKind::Queue { connection, exchange, pattern } => (connection.clone(), exchange.clone(), pattern.clone()),
    };
    let row = CaptureRow { name: name.to_owned(), connection, exchange, pattern, until: until.0, by_whom: by.to_owned() };
    app.store.add_capture(&row).await
}

/// Keeps an item; `false` when there is no such capture.
///
/// # Errors
/// [`JournalError`]: then the item is shown, and is lost at a restart.
pub async fn keep(app: &App, name: &str, line: String, headers: Map<String, Value>, body: &[u8]) -> Result<bool, JournalError> {
    let Some((caught, oldest)) = app.captures.catch(name, line, headers, body, SystemClock.now()) else { return Ok(false) };
    let number = |n: u64| i64::try_from(n).unwrap_or(i64::MAX);
    let row = CapturedRow {
        capture: name.to_owned(),
        n: number(caught.n),
        at: caught.at.0,
        line: caught.line,
        properties: Value::Object(caught.headers).to_string(),
        body: body.to_vec(),
    };
    app.store.add_captured(&row, number(oldest)).await?;
    Ok(true)
}

/// Fills a capture from an exchange for as long as it is open. `overheard` is what was bound to the exchange already; a tap that ends,
/// such as with a restart of the broker, is bound again.
pub fn listen(app: &Arc<App>, name: &str, kind: &CaptureKind, mut overheard: Option<Overheard>) {
    let CaptureKind::Queue { connection, exchange, pattern } = kind.clone() else { return };
    let (own, app_there) = (name.to_owned(), app.clone());
    let task = tokio::spawn(async move {
        let app = app_there;
        loop {
            let says = match overheard.take() {
                Some(mut overheard) => loop {
                    match overheard.next().await {
                        Ok((headers, body)) => {
                            let text = |key: &str| headers.get(key).and_then(Value::as_str).unwrap_or_default();
                            let line = format!("{} {}", text("exchange"), text("routing_key"));
                            if let Err(error) = keep(&app, &own, line, headers, &body).await {
                                tracing::warn!(capture = own, %error, "items of a capture could not be stored, and will be lost at a restart");
                            }
                        }
                        Err(says) => break says,
                    }
                },
                None => match bind(&app, &connection, &exchange, &pattern).await {
                    Ok(bound) => {
                        overheard = Some(bound);
                        String::new()
                    }
                    Err(says) => says,
                },
            };
            app.captures.ended(&own, &says);
            if overheard.is_none() {
                tokio::time::sleep(AGAIN).await;
            }
        }
    });
    app.captures.fill(name, task);
}

/// Binds a tap to an exchange.
///
/// # Errors
/// A sentence: the connection is not a broker, a secret is not set, or the broker refuses.
pub async fn bind(app: &App, connection: &str, exchange: &str, pattern: &str) -> Result<Overheard, String> {
    let (_, workspace) = app.engine.releases().current();
    let broker = workspace.connections.get(connection).and_then(|connection| connection.broker());
    let broker = broker.ok_or_else(|| format!("`{connection}` is not a broker connection"))?;
    Overheard::open(broker, &app.outside.access(broker)?, exchange, pattern).await
}
