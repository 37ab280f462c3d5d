use crate::api::{ClientArgs, api_path};
use crate::error::CommandError;
use crate::terminal::outln;
use crate::ui;
use serde_json::json;
use wirewatch_service::view::Handed;

/// Accept a duplicate or failed arrival on purpose
///
/// Its bytes are received once more as a new arrival; no second acknowledgment is made.
#[derive(Debug, clap::Args)]
pub struct AcceptArgs {
    /// Id of the arrival
    arrival: String,
    /// Why: stored with the act
    #[arg(long)]
    why: String,
    /// Print the outcome as JSON
    #[arg(long)]
    json: bool,
}

pub async fn run(client: &ClientArgs, args: &AcceptArgs) -> Result<(), CommandError> {
    let path = api_path!("arrivals/{}/accept", args.arrival);
    let handed: Handed = client.client()?.post(&path, &json!({ "why": args.why })).await?;
    if args.json {
        ui::json(&handed);
    } else {
        outln!("accepted as arrival {}: {} {}", handed.arrival, handed.verdict, handed.says);
    }
    Ok(())
}
