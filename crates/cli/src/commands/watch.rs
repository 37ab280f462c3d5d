use crate::api::{ClientArgs, Which};
use crate::error::CommandError;
use crate::follow::{StreamItem, follow};
use crate::terminal::{errln, outln};
use crate::ui::{BOLD, DIM, WAIT, exact, paint, span, tone};
use wirewatch_core::before::Before;
use wirewatch_service::view::LiveEvent;
use wirewatch_service::view::words::EventKind;

/// Follow messages live
///
/// One line for each change of a message, each arrival, and each connection, flow or step that is put on hold or resumed.
#[derive(Debug, clap::Args)]
pub struct WatchArgs {
    #[command(flatten)]
    which: Which,
    /// Stop after N lines
    #[arg(long, value_name = "N")]
    lines: Option<usize>,
    /// Print each event as a line of JSON
    #[arg(long)]
    json: bool,
}

impl WatchArgs {
    /// Returns whether an event passes the filters. Arrivals and holds have no flow, state or key.
    fn wants(&self, event: &LiveEvent) -> bool {
        let is = |wanted: &str, given: &str| wanted.is_empty() || wanted == given;
        is(&self.which.flow, &event.flow)
            && is(&self.which.partner, event.partner.as_deref().unwrap_or_default())
            && is(&self.which.state, &event.state)
            && is(&self.which.key, &event.key)
    }
}

pub async fn run(client: &ClientArgs, args: &WatchArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    let mut left = args.lines.unwrap_or(usize::MAX);
    follow(&client, |item| {
        match item {
            StreamItem::Ready => errln!("{}", paint(DIM, "watching; Ctrl-C ends")),
            StreamItem::Reset => {
                errln!("{}", paint(WAIT, "some events were left out because there were too many; see `wirewatch messages`"))
            }
            StreamItem::Broken => errln!("{}", paint(WAIT, "the service cannot be reached; waiting for it")),
            StreamItem::Event(event, data) if args.wants(&event) => {
                if args.json {
                    outln!("{data}")
                } else {
                    outln!("{}", line(&event))
                }
                left -= 1;
            }
            StreamItem::Event(..) => {}
        }
        left > 0
    })
    .await
}

/// Returns an event as one line.
pub fn line(event: &LiveEvent) -> String {
    let at = paint(DIM, exact(&event.at));
    let state = paint(tone(&event.state), format!("{:<9}", event.state));
    let id = event.id.as_deref().unwrap_or_default();
    match event.kind {
        EventKind::Arrival => {
            let says = if event.says.is_empty() { String::new() } else { format!("  {}", event.says) };
            format!("{at}  {state}  {id}  file {} by {}{says}", paint(BOLD, &event.key), event.step)
        }
        EventKind::Hold => format!("{at}  {state}  {}  {}", paint(BOLD, Before::of(&event.step).says()), event.says),
        EventKind::Message => {
            let mut line = format!("{at}  {state}  {id}  {} {}", event.flow, paint(BOLD, &event.key));
            if !event.step.is_empty() {
                line.push_str(&format!(" at {}", event.step));
            }
            if let Some(result) = &event.result {
                line.push_str(&format!(" as {}", paint(BOLD, result)));
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
