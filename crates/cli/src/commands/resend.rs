use super::bulk;
use super::discard::{Target, each, request};
use crate::api::ClientArgs;
use crate::error::CommandError;
use wirewatch_service::view::words::{AnswerRule, MessageAct};
use wirewatch_service::view::{ActRequest, BulkRequest};

/// Resend messages unchanged
///
/// The messages run the current release. Completed steps are skipped unless their request has changed; then you are asked.
#[derive(Debug, clap::Args)]
pub struct ResendArgs {
    #[command(flatten)]
    target: Target,
    /// Completed steps whose request has changed: ask, keep their answers, or run again (`again` runs every step again)
    #[arg(long, default_value = "ask", value_parser = super::words(AnswerRule::ALL))]
    answers: AnswerRule,
    /// Number of the release to run [default: the current one if the completed steps fit it, else the one that it ran before]
    #[arg(long, value_name = "N")]
    release: Option<i64>,
    /// Why: stored with the act
    #[arg(long, default_value = "")]
    why: String,
}

pub async fn run(client: &ClientArgs, args: &ResendArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    match &args.target.reason {
        Some(reason) => {
            let act = MessageAct::Resend;
            let request =
                BulkRequest { why: args.why.clone(), answers: args.answers, release: args.release, ..bulk::request(act, reason) };
            bulk::all_with(&client, &request, args.target.manner()).await
        }
        None => {
            let act = MessageAct::Resend;
            let request =
                ActRequest { why: args.why.clone(), answers: args.answers, release: args.release, ..request(act, &args.target) };
            each(&client, &request, &args.target).await
        }
    }
}
