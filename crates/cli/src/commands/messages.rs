use crate::api::ClientArgs;
use crate::error::CommandError;
use crate::{show, ui};
use wirewatch_service::view::Messages;

/// List messages, newest first
#[derive(Debug, clap::Args)]
pub struct MessagesArgs {
    /// Only this flow
    #[arg(long, default_value = "")]
    flow: String,
    /// Only this partner
    #[arg(long, default_value = "")]
    partner: String,
    /// Only this state: moving, waiting, retrying, aside, done, skipped or discarded
    #[arg(long, default_value = "")]
    state: String,
    /// Only this reason id, as `wirewatch reasons` shows it
    #[arg(long, default_value = "")]
    reason: String,
    /// Only this key, e.g. a purchase order number, or the number in the target
    #[arg(long, default_value = "")]
    key: String,
    /// Only messages received at or after this moment, e.g. 2026-11-23T07:00:00Z
    #[arg(long, default_value = "", value_name = "MOMENT")]
    since: String,
    /// Only messages received before this moment
    #[arg(long, default_value = "", value_name = "MOMENT")]
    until: String,
    /// The page behind this message
    #[arg(long, default_value = "", value_name = "MESSAGE")]
    before: String,
    /// Messages of a page
    #[arg(long, default_value_t = 30)]
    limit: u32,
    /// Print as JSON
    #[arg(long)]
    json: bool,
}

pub async fn run(client: &ClientArgs, args: &MessagesArgs) -> Result<(), CommandError> {
    let query = [
        ("flow", args.flow.clone()),
        ("partner", args.partner.clone()),
        ("state", args.state.clone()),
        ("reason", args.reason.clone()),
        ("key", args.key.clone()),
        ("since", args.since.clone()),
        ("until", args.until.clone()),
        ("before", args.before.clone()),
        ("limit", args.limit.to_string()),
    ];
    let page: Messages = client.client()?.get("/api/messages", &query).await?;
    if args.json {
        ui::json(&page);
    } else if page.messages.is_empty() {
        println!("no messages");
    } else {
        show::messages(&page.messages);
        if let Some(next) = &page.next {
            anstream::println!("{}", ui::paint(ui::DIM, format!("older ones: --before {next}")));
        }
    }
    Ok(())
}
