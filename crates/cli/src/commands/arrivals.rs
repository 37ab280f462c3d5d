use crate::api::{ClientArgs, Page};
use crate::error::CommandError;
use crate::terminal::outln;
use crate::{show, ui};
use wirewatch_service::view::Arrivals;

/// List arrivals, newest first
#[derive(Debug, clap::Args)]
pub struct ArrivalsArgs {
    /// Only this connection
    #[arg(long, default_value = "")]
    connection: String,
    /// Only this partner
    #[arg(long, default_value = "")]
    partner: String,
    /// Only this verdict: received, splitting, duplicate, rejected, failed or resolved
    #[arg(long, default_value = "")]
    verdict: String,
    #[command(flatten)]
    page: Page,
}

pub async fn run(client: &ClientArgs, args: &ArrivalsArgs) -> Result<(), CommandError> {
    let query = [
        ("connection", args.connection.clone()),
        ("partner", args.partner.clone()),
        ("verdict", args.verdict.clone()),
        ("before", args.page.before.clone()),
        ("limit", args.page.limit.to_string()),
    ];
    let page: Arrivals = client.client()?.get("/api/arrivals", &query).await?;
    if args.page.json {
        ui::json(&page);
    } else if page.arrivals.is_empty() {
        outln!("no arrivals");
    } else {
        show::arrivals(&page.arrivals);
        if let Some(next) = &page.next {
            outln!("{}", ui::paint(ui::DIM, format!("older: --before {next}")));
        }
    }
    Ok(())
}
