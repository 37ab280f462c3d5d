use super::bulk;
use super::discard::{Target, one};
use crate::api::ClientArgs;
use crate::error::CommandError;

/// Send messages again, as they are
///
/// What outside systems answered before is kept where the request is the same; where it differs you are asked.
#[derive(Debug, clap::Args)]
pub struct ResendArgs {
    #[command(flatten)]
    target: Target,
    /// What to do with steps that were done before: ask where the request differs, keep their answers, or do them again
    #[arg(long, default_value = "ask", value_parser = ["ask", "keep", "again"])]
    answers: String,
    /// Why, for the record
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
