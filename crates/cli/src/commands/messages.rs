use crate::api::{ClientArgs, Page, Which};
use crate::error::CommandError;
use crate::terminal::outln;
use crate::{show, ui};
use wirewatch_service::view::Messages;
use wirewatch_service::view::words::ListOrder;

/// List messages
#[derive(Debug, clap::Args)]
pub struct MessagesArgs {
    #[command(flatten)]
    which: Which,
    /// Only this reason id, as `wirewatch reasons` shows it
    #[arg(long, default_value = "")]
    reason: String,
    /// Only messages received at or after this moment, e.g. 2026-11-23T07:00:00Z
    #[arg(long, default_value = "", value_name = "MOMENT")]
    since: String,
    /// Only messages received before this moment
    #[arg(long, default_value = "", value_name = "MOMENT")]
    until: String,
    /// Order by time of arrival
    #[arg(long, default_value_t = ListOrder::Newest, value_parser = super::words(ListOrder::ALL))]
    order: ListOrder,
    #[command(flatten)]
    page: Page,
}

pub async fn run(client: &ClientArgs, args: &MessagesArgs) -> Result<(), CommandError> {
    let query = [
        ("flow", args.which.flow.clone()),
        ("partner", args.which.partner.clone()),
        ("state", args.which.state.clone()),
        ("reason", args.reason.clone()),
        ("key", args.which.key.clone()),
        ("key_prefix", args.which.key_prefix.clone()),
        ("order", args.order.to_string()),
        ("since", args.since.clone()),
        ("until", args.until.clone()),
        ("before", args.page.before.clone()),
        ("limit", args.page.limit.to_string()),
    ];
    let page: Messages = client.client()?.get("/api/messages", &query).await?;
    if args.page.json {
        ui::json(&page);
    } else if page.messages.is_empty() {
        outln!("no messages");
    } else {
        show::messages(&page.messages);
        if let Some(next) = &page.next {
            outln!("{}", ui::paint(ui::DIM, format!("next page: --before {next}")));
        }
    }
    Ok(())
}
