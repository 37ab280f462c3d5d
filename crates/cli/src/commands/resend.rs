use super::bulk;
use super::discard::{Target, one};
use crate::api::ClientArgs;
use crate::error::CommandError;

/// Resend messages as they are
///
/// Completed steps are skipped unless their request has changed; then you are asked.
#[derive(Debug, clap::Args)]
pub struct ResendArgs {
    #[command(flatten)]
    target: Target,
    /// Completed steps whose request has changed: ask, keep their answers, or run them again (`again` runs all steps again)
    #[arg(long, default_value = "ask", value_parser = ["ask", "keep", "again"])]
    answers: String,
    /// Why: stored with the act
    #[arg(long, default_value = "")]
    why: String,
}

pub async fn run(client: &ClientArgs, args: &ResendArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    match &args.target.reason {
        Some(reason) => bulk::all_with(&client, "resend", reason, &args.why, &args.answers, &args.target).await,
        None => one(&client, "resend", &args.why, &args.answers, &args.target).await,
    }
}
