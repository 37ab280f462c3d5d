//! Acts on many messages: started by `resend`, `amend --replace` and `discard`, done by the service in the background.

use crate::api::{Client, ClientArgs, api_path};
use crate::error::CommandError;
use crate::show;
use crate::terminal::{errln, outln};
use crate::ui::{self, BAD, DIM, cell, clock, number, paint, styled, tone};
use indicatif::{ProgressBar, ProgressStyle};
use std::time::Duration;
use wirewatch_service::view::words::{AnswerRule, BulkState, MessageAct};
use wirewatch_service::view::{BulkAct, BulkPreview, BulkRequest, CorrectedMessage, CorrectionView};

/// Interval at which the progress is read.
const ASK: Duration = Duration::from_millis(200);

/// List acts on many messages; follow or stop one
///
/// `resend --reason`, `amend --replace` and `discard --reason` start them. The service does them in the background, also when the command that
/// started one has ended, and continues them after a restart.
#[derive(Debug, clap::Args)]
pub struct BulkArgs {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, clap::Subcommand)]
enum Command {
    /// List them, newest first
    List {
        /// Print as JSON
        #[arg(long)]
        json: bool,
    },
    /// Show one: how far it is, which messages could not be acted on, and the states of the others now
    Show {
        id: String,
        /// Print as JSON
        #[arg(long)]
        json: bool,
    },
    /// Follow one until it has ended
    Follow {
        id: String,
        /// Print as JSON
        #[arg(long)]
        json: bool,
    },
    /// Stop one; what was done stays done
    Stop { id: String },
}

pub async fn run(client: &ClientArgs, args: &BulkArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    match &args.command {
        Command::List { json } => list(&client, *json).await,
        Command::Show { id, json } => {
            let one: BulkAct = client.get(&api_path!("bulk-acts/{}", id), &[]).await?;
            if *json {
                ui::json(&one)
            } else {
                show(&one)
            }
            Ok(())
        }
        Command::Follow { id, json } => {
            let one: BulkAct = client.get(&api_path!("bulk-acts/{}", id), &[]).await?;
            report(&follow(&client, one).await?, *json)
        }
        Command::Stop { id } => {
            let one: BulkAct = client.post(&api_path!("bulk-acts/{}/stop", id), &()).await?;
            outln!("stopped; {} of {} {}", one.done, ui::count(one.total as usize, "message"), past(one.act));
            Ok(())
        }
    }
}

/// Returns an act on all messages that failed for `reason`.
pub fn request(act: MessageAct, reason: &str) -> BulkRequest {
    let (reason, answers) = (reason.to_owned(), AnswerRule::Ask);
    BulkRequest { reason, messages: Vec::new(), act, why: String::new(), answers, release: None, correction: None }
}

/// How an act on many messages is done and printed.
#[derive(Debug, Clone, Copy)]
pub struct Manner {
    /// Only show it.
    pub preview: bool,
    /// Do not follow it.
    pub detach: bool,
    pub json: bool,
}

/// Previews an act on many messages, or does it and follows it to its end.
pub async fn all_with(client: &Client, request: &BulkRequest, manner: Manner) -> Result<(), CommandError> {
    if manner.preview {
        let preview: BulkPreview = client.post("/api/bulk-acts/preview", request).await?;
        if manner.json {
            ui::json(&preview);
            return Ok(());
        }
        if request.act == MessageAct::Amend {
            return corrected(&preview, request);
        }
        show::messages(&preview.messages);
        let more = preview.total - preview.messages.len();
        if more > 0 {
            outln!("and {more} more");
        }
        outln!("would {} {}; nothing was done", request.act, ui::count(preview.total, "message"));
        return Ok(());
    }
    let started: BulkAct = client.post("/api/bulk-acts", request).await?;
    if manner.detach {
        if manner.json {
            ui::json(&started);
        } else {
            outln!("started for {}; to follow it: wirewatch bulk follow {}", messages(started.total), started.id);
        }
        return Ok(());
    }
    report(&follow(client, started).await?, manner.json)
}

/// Prints the messages on which a correction was tried.
///
/// # Errors
/// Exit 1 when one of them would not be corrected.
fn corrected(preview: &BulkPreview, request: &BulkRequest) -> Result<(), CommandError> {
    let row = |one: &CorrectedMessage| {
        let next = one.next.as_ref().map(|next| match &next.request {
            Some(request) => format!("then {}", request.line),
            None => format!("then {}", next.state),
        });
        let fields = if one.fields.is_empty() { "not corrected".to_owned() } else { one.fields.join(", ") };
        let state = if one.fields.is_empty() { styled(BAD, fields) } else { cell(fields) };
        vec![cell(&one.message), cell(&one.key), state, cell(next.unwrap_or_else(|| one.says.clone()))]
    };
    ui::table(&["MESSAGE", "KEY", "REPLACED IN", "NEXT"], &preview.corrected.iter().map(row).collect::<Vec<_>>());
    let more = preview.total - preview.corrected.len();
    if more > 0 {
        outln!("{}", paint(DIM, format!("and {more} more, not tried yet")));
    }
    if let Some(correction) = &request.correction {
        outln!("would replace {} in {}; nothing was done", replacement(correction), ui::count(preview.total, "message"));
    }
    if preview.corrected.iter().all(|one| one.says.is_empty()) { Ok(()) } else { Err(CommandError::Found) }
}

/// Returns a correction in words.
fn replacement(CorrectionView { replace, with, field }: &CorrectionView) -> String {
    let field = field.as_ref().map(|field| format!(" in {field}")).unwrap_or_default();
    format!("`{replace}` with `{with}`{field}")
}

/// Shows the progress on a terminal until the act has ended. Ctrl-C leaves it to the service.
async fn follow(client: &Client, mut one: BulkAct) -> Result<BulkAct, CommandError> {
    let bar = ProgressBar::new(one.total as u64);
    let style = ProgressStyle::with_template("{wide_bar} {pos} of {len}  {msg}  {eta} left");
    bar.set_style(style.expect("the template is well-formed"));
    let path = api_path!("bulk-acts/{}", one.id);
    while one.state == BulkState::Running {
        bar.set_position((one.done + one.refused) as u64);
        if one.refused > 0 {
            bar.set_message(format!("{} not {}", one.refused, past(one.act)));
        }
        tokio::select! {
            () = tokio::time::sleep(ASK) => one = client.get(&path, &[]).await?,
            _ = tokio::signal::ctrl_c() => {
                bar.finish_and_clear();
                errln!("the service continues; `wirewatch bulk follow {id}` follows it, `wirewatch bulk stop {id}` stops it", id = one.id);
                return Ok(one);
            }
        }
    }
    bar.finish_and_clear();
    Ok(one)
}

/// Prints the result.
///
/// # Errors
/// Exit 1 when some messages refused.
fn report(one: &BulkAct, json: bool) -> Result<(), CommandError> {
    if json {
        ui::json(one);
    } else {
        refusals(one);
        let end = if one.state == BulkState::Stopped { "; stopped before its end" } else { "" };
        outln!("{} {}{end}", messages(one.done), past(one.act));
    }
    if one.refusals.is_empty() { Ok(()) } else { Err(CommandError::Found) }
}

/// Prints the messages that refused on standard error.
fn refusals(one: &BulkAct) {
    for refusal in &one.refusals {
        errln!("{}  {}  {}", refusal.message, refusal.key, refusal.says);
    }
    let more = one.refused - one.refusals.len() as i64;
    if more > 0 {
        errln!("and {more} more that were not {}", past(one.act));
    }
}

fn show(one: &BulkAct) {
    let of = if one.says.is_empty() { "messages that were named" } else { &one.says };
    let why = if one.why.is_empty() { String::new() } else { format!(": {}", one.why) };
    outln!("{}  {}  {of}", ui::paint(ui::BOLD, one.act), one.id);
    outln!("by {} at {}{why}", one.by, clock(&one.started));
    if let Some(correction) = &one.correction {
        outln!("replaced {}", replacement(correction));
    }
    outln!("{}: {} of {} {}, {} not", one.state, one.done, messages(one.total), past(one.act), one.refused);
    for (state, n) in &one.states {
        outln!("  {n:>6}  {} now", ui::paint(tone(state), state));
    }
    refusals(one);
}

async fn list(client: &Client, json: bool) -> Result<(), CommandError> {
    let all: Vec<BulkAct> = client.get("/api/bulk-acts", &[]).await?;
    if json {
        ui::json(&all);
    } else if all.is_empty() {
        outln!("no act on many messages in the last 30 days");
    } else {
        let row = |one: &BulkAct| {
            let state = one.state;
            let cells = [cell(&one.id), cell(clock(&one.started)), cell(one.act.as_str()), styled(tone(state), state.as_str())];
            let numbers = [one.total, one.done, one.refused].map(number);
            cells.into_iter().chain(numbers).chain([cell(&one.by), cell(&one.says)]).collect::<Vec<_>>()
        };
        let rows: Vec<_> = all.iter().map(row).collect();
        ui::table(&["BULK ACT", "STARTED", "ACT", "STATE", "MESSAGES", "DONE", "NOT DONE", "BY", "REASON"], &rows);
    }
    Ok(())
}

/// Returns an act as one word in the past tense.
pub fn past(act: MessageAct) -> &'static str {
    match act {
        MessageAct::Resend => "resent",
        MessageAct::Amend => "amended",
        MessageAct::Discard => "discarded",
    }
}

fn messages(n: i64) -> String {
    ui::count(n as usize, "message")
}
