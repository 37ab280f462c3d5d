use crate::api::ClientArgs;
use crate::error::CommandError;
use crate::terminal::outln;
use crate::ui;
use serde_json::json;
use wirewatch_service::view::Handed;

/// Let an arrival through that was recognised as a repeat, on purpose
///
/// Its bytes come in once more as a new arrival; no second acknowledgment is made.
#[derive(Debug, clap::Args)]
pub struct LetThroughArgs {
    /// Id of the arrival
    arrival: String,
    /// Why, for the record
    #[arg(long)]
    why: String,
    /// Print the outcome as JSON
    #[arg(long)]
    json: bool,
}

pub async fn run(client: &ClientArgs, args: &LetThroughArgs) -> Result<(), CommandError> {
    let path = format!("/api/arrivals/{}/let-through", args.arrival);
    let handed: Handed = client.client()?.post(&path, &json!({ "why": args.why })).await?;
    if args.json {
        ui::json(&handed);
    } else {
        outln!("let through as arrival {}: {} {}", handed.arrival, handed.verdict, handed.says);
    }
    Ok(())
}
