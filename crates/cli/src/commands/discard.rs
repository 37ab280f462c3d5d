use super::bulk;
use crate::api::{Client, ClientArgs, api_path, message_path};
use crate::error::CommandError;
use crate::terminal::{errln, outln};
use crate::{show, ui};
use wirewatch_service::view::words::{AnswerRule, MessageAct};
use wirewatch_service::view::{ActRequest, ActResult, Arrival, BulkRequest, Why};

/// Which messages: some by id, or all that failed for one reason.
#[derive(Debug, clap::Args)]
pub struct Target {
    /// Messages, by id or key
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

impl Target {
    /// Returns how an act on all with one reason is done.
    pub fn manner(&self) -> bulk::Manner {
        bulk::Manner { preview: self.preview, detach: self.detach, json: self.json }
    }
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
        Some(reason) => {
            let request = BulkRequest { why: args.why.clone(), ..bulk::request(MessageAct::Discard, reason) };
            bulk::all_with(&client, &request, args.target.manner()).await
        }
        None => {
            let request = ActRequest { why: args.why.clone(), ..request(MessageAct::Discard, &args.target) };
            each(&client, &request, &args.target).await
        }
    }
}

async fn arrivals(client: &Client, args: &DiscardArgs) -> Result<(), CommandError> {
    let mut discarded: Vec<Arrival> = Vec::new();
    for arrival in &args.target.messages {
        let why = Why { why: args.why.clone() };
        discarded.push(client.post(&api_path!("arrivals/{}/discard", arrival), &why).await?);
    }
    if args.target.json {
        ui::json(&discarded);
    } else {
        outln!("{} discarded", ui::count(discarded.len(), "arrival"));
    }
    Ok(())
}

/// Returns an act on the messages of a target, one by one.
pub fn request(act: MessageAct, target: &Target) -> ActRequest {
    let (why, document, answers) = (String::new(), String::new(), AnswerRule::Ask);
    ActRequest { act, why, answers, release: None, document, preview: target.preview }
}

/// Acts on each message of a target.
pub async fn each(client: &Client, request: &ActRequest, target: &Target) -> Result<(), CommandError> {
    let mut results: Vec<ActResult> = Vec::new();
    for message in &target.messages {
        results.push(client.post(&format!("{}/acts", message_path(message)), request).await?);
    }
    report(request.act, &results, target)
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
        results.iter().filter_map(|result| result.plan.as_ref()).for_each(show::plan);
        outln!("would {act} {}; nothing was done", ui::count(results.len(), "message"));
        return Ok(());
    }
    for result in &failed {
        errln!("{}  {}", result.message.id, result.says);
    }
    for result in results {
        if let Some(plan) = result.plan.as_ref().filter(|plan| !(plan.says.is_empty() && plan.changes.is_empty())) {
            show::release(plan);
        }
    }
    outln!("{} {}", ui::count(results.len() - failed.len(), "message"), bulk::past(act));
    if failed.is_empty() { Ok(()) } else { Err(CommandError::Found) }
}
