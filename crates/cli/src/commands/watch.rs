use crate::api::{ClientArgs, Which};
use crate::error::CommandError;
use crate::follow::{Told, follow};
use crate::terminal::{errln, outln};
use crate::ui::{BOLD, DIM, WAIT, exact, paint, span, tone};
use wirewatch_core::before::Before;
use wirewatch_service::view::LiveEvent;

/// Follow messages live
///
/// One line for each change of a message, each arrival, and each connection, flow or step that is put on hold or resumed.
#[derive(Debug, clap::Args)]
pub struct WatchArgs {
    #[command(flatten)]
    which: Which,
    /// End after so many lines
    #[arg(long, value_name = "N")]
    lines: Option<usize>,
    /// Print each event as a line of JSON
    #[arg(long)]
    json: bool,
}

impl WatchArgs {
    /// Whether an event is asked for. Arrivals and holds belong to no flow, state or key.
    fn wants(&self, event: &LiveEvent) -> bool {
        let is = |wanted: &str, given: &str| wanted.is_empty() || wanted == given;
        is(&self.which.flow, &event.flow)
            && is(&self.which.partner, &event.partner)
            && is(&self.which.state, &event.state)
            && is(&self.which.key, &event.key)
    }
}

pub async fn run(client: &ClientArgs, args: &WatchArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    let mut left = args.lines.unwrap_or(usize::MAX);
    follow(&client, |told| {
        match told {
            Told::Ready => errln!("{}", paint(DIM, "watching; Ctrl-C ends")),
            Told::Reset => errln!("{}", paint(WAIT, "more happened than can be told; see `wirewatch messages`")),
            Told::Broken => errln!("{}", paint(WAIT, "the service is away; waiting for it")),
            Told::Event(event, data) if args.wants(&event) => {
                if args.json {
                    outln!("{data}")
                } else {
                    outln!("{}", line(&event))
                }
                left -= 1;
            }
            Told::Event(..) => {}
        }
        left > 0
    })
    .await
}

/// One event on one line.
pub fn line(event: &LiveEvent) -> String {
    let at = paint(DIM, exact(&event.at));
    let state = paint(tone(&event.state), format!("{:<9}", event.state));
    match event.kind.as_str() {
        "arrival" => {
            let says = if event.says.is_empty() { String::new() } else { format!("  {}", event.says) };
            format!("{at}  {state}  {}  file {} by {}{says}", event.id, paint(BOLD, &event.key), event.step)
        }
        "hold" => format!("{at}  {state}  {}  {}", paint(BOLD, Before::of(&event.step).says()), event.says),
        _ => {
            let mut line = format!("{at}  {state}  {}  {} {}", event.id, event.flow, paint(BOLD, &event.key));
            if !event.step.is_empty() {
                line.push_str(&format!(" at {}", event.step));
            }
            if !event.result.is_empty() {
                line.push_str(&format!(" as {}", paint(BOLD, &event.result)));
            }
            if let Some(due) = &event.due {
                line.push_str(&format!("  try {} in {}", event.tries + 1, span(&event.at, Some(due))));
            }
            if event.took_us > 0 {
                line.push_str(&paint(DIM, format!("  {:.1} ms", event.took_us as f64 / 1000.0)));
            }
            if !event.says.is_empty() {
                line.push_str(&format!("  {}", event.says));
            }
            line
        }
    }
}
