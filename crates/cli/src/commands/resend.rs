use super::bulk;
use super::discard::{Target, one};
use crate::api::ClientArgs;
use crate::error::CommandError;
use wirewatch_service::view::words::{AnswerRule, BulkActKind, MessageAct};

/// Resend messages unchanged
///
/// Completed steps are skipped unless their request has changed; then you are asked.
#[derive(Debug, clap::Args)]
pub struct ResendArgs {
    #[command(flatten)]
    target: Target,
    /// Completed steps whose request has changed: ask, keep their answers, or run again (`again` runs every step again)
    #[arg(long, default_value = "ask", value_parser = super::words(AnswerRule::ALL))]
    answers: AnswerRule,
    /// Why: stored with the act
    #[arg(long, default_value = "")]
    why: String,
}

pub async fn run(client: &ClientArgs, args: &ResendArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    match &args.target.reason {
        Some(reason) => bulk::all_with(&client, BulkActKind::Resend, reason, &args.why, args.answers, &args.target).await,
        None => one(&client, MessageAct::Resend, &args.why, args.answers, &args.target).await,
    }
}
