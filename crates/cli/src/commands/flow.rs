use crate::api::{ClientArgs, api_path};
use crate::error::CommandError;
use crate::terminal::Tone;
use crate::terminal::outln;
use crate::ui::{self, BAD, BOLD, GOOD, cell, clock, number, paint, span, styled, table};
use serde_json::json;
use std::time::Duration;
use wirewatch_service::view::words::RecordingDepth;
use wirewatch_service::view::{
    FlowIntake, FlowLine, FlowStep, FlowStory, Overview, PausedFlow, RecordRequest, RecordedFlow, ResumedFlow, Why,
};

/// List the flows; pause or resume one, or record more of it for a time
///
/// Arrivals of a paused flow are stored and wait; none of its messages continues until it is resumed.
#[derive(Debug, clap::Args)]
pub struct FlowArgs {
    #[command(subcommand)]
    act: FlowAct,
}

#[derive(Debug, clap::Subcommand)]
enum FlowAct {
    /// List the flows with their states
    List {
        /// Print as JSON
        #[arg(long)]
        json: bool,
    },
    /// Show one flow: its steps, intakes with their newest arrival, why messages failed, and its versions
    Show {
        flow: String,
        /// Print as JSON
        #[arg(long)]
        json: bool,
    },
    /// Pause a flow: its messages wait until it is resumed
    Pause {
        flow: String,
        /// Why, for the others
        #[arg(long, value_name = "WORDS")]
        why: String,
    },
    /// Resume a flow; at its steps on hold, one message tries
    Resume { flow: String },
    /// Record more, or less, of this flow's calls for a time
    Record {
        flow: String,
        /// Every answer (`calls`), or those of what failed (`failures`)
        #[arg(value_parser = super::words(RecordingDepth::ALL), required_unless_present = "back")]
        depth: Option<RecordingDepth>,
        /// Duration, a week at most
        #[arg(long = "for", default_value = "1h", value_name = "SPAN", value_parser = super::span)]
        time: Duration,
        /// Return to what the flow declares
        #[arg(long, conflicts_with = "depth")]
        back: bool,
    },
}

pub async fn run(client: &ClientArgs, args: &FlowArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    match &args.act {
        FlowAct::List { json } => {
            let lines: Overview = client.get("/api/overview", &[]).await?;
            if *json {
                ui::json(&lines.lines);
                return Ok(());
            }
            let row = |line: &FlowLine| {
                let count = |of: fn(&FlowStep) -> i64| line.steps.iter().map(of).sum::<i64>();
                let unfinished = count(|step| step.running + step.waiting + step.retrying);
                let (tone, state) = state(line);
                let state = styled(tone, state);
                let recorded = line.recorded.as_ref();
                let recorded = recorded.map_or_else(String::new, |one| format!("{} until {}", one.depth, clock(&one.until)));
                vec![
                    cell(&line.flow),
                    cell(&line.title),
                    number(unfinished),
                    number(count(|step| step.failed)),
                    state,
                    cell(recorded),
                ]
            };
            let rows: Vec<_> = lines.lines.iter().map(row).collect();
            table(&["FLOW", "TITLE", "UNFINISHED", "FAILED", "STATE", "RECORDED"], &rows);
        }
        FlowAct::Show { flow, json } => {
            let story: FlowStory = client.get(&api_path!("flows/{}", flow), &[]).await?;
            if *json {
                ui::json(&story);
            } else {
                show(&story);
            }
        }
        FlowAct::Pause { flow, why } => {
            let _: Vec<PausedFlow> = client.post(&api_path!("flows/{}/pause", flow), &Why { why: why.clone() }).await?;
            outln!("{flow} is paused: new documents are received and wait");
        }
        FlowAct::Resume { flow } => {
            let resumed: ResumedFlow = client.post(&api_path!("flows/{}/resume", flow), &json!({})).await?;
            outln!("{flow} is resumed");
            for step in resumed.trying {
                outln!("step {step}: one waiting message is tried now; the others follow when it succeeds");
            }
        }
        FlowAct::Record { flow, depth, time, back } => {
            let seconds = if *back { 0 } else { u32::try_from(time.as_secs()).unwrap_or(u32::MAX) };
            let request = RecordRequest { depth: depth.unwrap_or(RecordingDepth::Calls), seconds };
            let recorded: Option<RecordedFlow> = client.post(&api_path!("flows/{}/record", flow), &request).await?;
            match recorded {
                Some(recorded) => outln!("{flow}: recording `{}` until {}", recorded.depth, clock(&recorded.until)),
                None => outln!("{flow}: recording as its file says"),
            }
        }
    }
    Ok(())
}

/// Returns whether a flow runs, or why it does not.
fn state(line: &FlowLine) -> (Tone, String) {
    let held = line.steps.iter().find_map(|step| step.on_hold.as_ref());
    match (&line.paused, held) {
        (Some(paused), _) => (BAD, format!("paused by {} {}: {}", paused.by, span(&paused.since, None), paused.says)),
        (None, Some(held)) => (BAD, format!("{} on hold for {}: {}", held.step, span(&held.since, None), held.says)),
        (None, None) => (GOOD, "runs".to_owned()),
    }
}

fn show(story: &FlowStory) {
    let FlowStory { line, notes, intakes, reasons, versions, acts, connections: _ } = story;
    let (tone, state) = state(line);
    outln!("{}  {}  {}", paint(BOLD, &line.title), line.flow, paint(tone, state));
    if !notes.is_empty() {
        outln!("{notes}");
    }
    if !intakes.is_empty() {
        outln!();
        let row = |intake: &FlowIntake| {
            let queue = intake.queue.as_ref().map(|queue| format!(" (queue {queue})")).unwrap_or_default();
            let newest = intake.received.as_ref().map_or_else(|| "none".to_owned(), |at| clock(at));
            let from = format!("{}{queue}", intake.connection);
            vec![cell(from), cell(&intake.takes), cell(newest), cell(intake.sample.as_deref().unwrap_or_default())]
        };
        table(&["INTAKE", "TAKES", "NEWEST ARRIVAL", "ITS ID"], &intakes.iter().map(row).collect::<Vec<_>>());
    }
    outln!();
    let row = |step: &FlowStep| {
        let name = if step.step.is_empty() { "(intake)" } else { &step.step };
        let what = if step.way.is_empty() { step.what.clone() } else { format!("{} ({})", step.what, step.way) };
        let connection = cell(step.connection.as_deref().unwrap_or_default());
        let counts = [step.running, step.waiting, step.retrying, step.failed].map(number);
        [cell(name), cell(what), connection].into_iter().chain(counts).collect::<Vec<_>>()
    };
    let headings = ["STEP", "WHAT", "CONNECTION", "RUNNING", "WAITING", "RETRYING", "FAILED"];
    table(&headings, &line.steps.iter().map(row).collect::<Vec<_>>());
    if !reasons.is_empty() {
        outln!("\n{}", paint(BOLD, "Why messages failed"));
        for reason in reasons {
            outln!("  {} at {}: {}", reason.messages, reason.step, reason.says);
        }
    }
    outln!("\n{}", paint(BOLD, "Versions"));
    for version in versions {
        let files: Vec<&str> = version.changes.iter().map(|change| change.file.as_str()).collect();
        let says = if version.says.is_empty() { String::new() } else { format!(": {}", version.says) };
        outln!("  release {}  {}  by {}  {}{says}", version.release, clock(&version.at), version.by, files.join(", "));
    }
    for act in acts {
        outln!("  {}  {} by {}: {}", clock(&act.at), act.act, act.by, act.why);
    }
}
