use crate::api::ClientArgs;
use crate::error::CommandError;
use crate::terminal::{errln, outln};
use crate::ui;
use serde_json::json;
use wirewatch_service::access::Link;

/// Print a link that opens the web console, signed in; it works once
#[derive(Debug, clap::Args)]
pub struct ConsoleArgs {
    /// Print as JSON
    #[arg(long)]
    json: bool,
}

pub async fn run(client: &ClientArgs, args: &ConsoleArgs) -> Result<(), CommandError> {
    let link: Link = client.client()?.post("/api/links", &json!({})).await?;
    if args.json {
        ui::json(&link);
        return Ok(());
    }
    outln!("{}", link.url);
    errln!("Open it in a browser within {} minutes; it works once, and the browser stays signed in.", link.seconds / 60);
    Ok(())
}
