use super::bulk;
use crate::api::{Client, ClientArgs};
use crate::error::CommandError;
use crate::terminal::{errln, outln};
use crate::{show, ui};
use wirewatch_service::view::words::{AnswerRule, BulkActKind, MessageAct};
use wirewatch_service::view::{ActRequest, ActResult, Arrival, Why};

/// Which messages: some by id, or all that failed for one reason.
#[derive(Debug, clap::Args)]
pub struct Target {
    /// Ids of messages
    #[arg(required_unless_present = "reason", conflicts_with = "reason")]
    pub messages: Vec<String>,
    /// All messages that failed for this reason: an id of `wirewatch reasons`
    #[arg(long, value_name = "REASON")]
    pub reason: Option<String>,
    /// Show the messages concerned; do nothing
    #[arg(long)]
    pub preview: bool,
    /// Do not wait for the end: the service continues in the background
    #[arg(long, requires = "reason", conflicts_with = "preview")]
    pub detach: bool,
    /// Print the outcome as JSON
    #[arg(long)]
    pub json: bool,
}

/// Discard messages, or failed arrivals
///
/// Discarded messages stay in the history, with who discarded them and why.
#[derive(Debug, clap::Args)]
pub struct DiscardArgs {
    #[command(flatten)]
    target: Target,
    /// The ids are those of failed arrivals
    #[arg(long, conflicts_with_all = ["reason", "preview"])]
    arrivals: bool,
    /// Why: stored with the act
    #[arg(long)]
    why: String,
}

pub async fn run(client: &ClientArgs, args: &DiscardArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    match &args.target.reason {
        _ if args.arrivals => arrivals(&client, args).await,
        Some(reason) => bulk::all_with(&client, BulkActKind::Discard, reason, &args.why, AnswerRule::Ask, &args.target).await,
        None => one(&client, MessageAct::Discard, &args.why, AnswerRule::Ask, &args.target).await,
    }
}

async fn arrivals(client: &Client, args: &DiscardArgs) -> Result<(), CommandError> {
    let mut settled: Vec<Arrival> = Vec::new();
    for arrival in &args.target.messages {
        let why = Why { why: args.why.clone() };
        settled.push(client.post(&format!("/api/arrivals/{arrival}/discard"), &why).await?);
    }
    if args.target.json {
        ui::json(&settled);
    } else {
        outln!("{} discarded", ui::count(settled.len(), "arrival"));
    }
    Ok(())
}

/// An act on messages by id.
pub async fn one(client: &Client, act: MessageAct, why: &str, answers: AnswerRule, target: &Target) -> Result<(), CommandError> {
    let request = ActRequest { act, why: why.to_owned(), answers, document: String::new(), preview: target.preview };
    let mut results: Vec<ActResult> = Vec::new();
    for message in &target.messages {
        results.push(client.post(&format!("/api/messages/{message}/acts"), &request).await?);
    }
    report(act, &results, target)
}

fn report(act: MessageAct, results: &[ActResult], target: &Target) -> Result<(), CommandError> {
    if target.json {
        ui::json(&results);
        return Ok(());
    }
    let failed: Vec<&ActResult> = results.iter().filter(|result| !result.done).collect();
    if target.preview {
        let messages: Vec<_> = results.iter().map(|result| result.message.clone()).collect();
        show::messages(&messages);
        outln!("{} would be done to {}; nothing was done", act, ui::count(results.len(), "message"));
        return Ok(());
    }
    for result in &failed {
        errln!("{}  {}", result.message.id, result.says);
    }
    let past = match act {
        MessageAct::Resend => "resent",
        MessageAct::Amend => "amended",
        MessageAct::Discard => "discarded",
    };
    outln!("{} {past}", ui::count(results.len() - failed.len(), "message"));
    if failed.is_empty() { Ok(()) } else { Err(CommandError::Found) }
}
