use crate::api::ClientArgs;
use crate::error::CommandError;
use crate::terminal::outln;
use crate::ui::{self, BAD, GOOD, cell, clock, number, span, styled, table};
use serde_json::json;
use std::time::Duration;
use wirewatch_service::view::words::RecordingDepth;
use wirewatch_service::view::{Overview, PausedFlow, RecordRequest, RecordedFlow, ResumedFlow, Why};

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
            let row = |line: &wirewatch_service::view::FlowLine| {
                let count = |of: fn(&wirewatch_service::view::FlowStep) -> i64| line.steps.iter().map(of).sum::<i64>();
                let unfinished = count(|step| step.running + step.waiting + step.retrying);
                let held = line.steps.iter().find_map(|step| step.on_hold.as_ref());
                let state = match (&line.paused, held) {
                    (Some(paused), _) => {
                        styled(BAD, format!("paused by {} {}: {}", paused.by, span(&paused.since, None), paused.says))
                    }
                    (None, Some(held)) => {
                        styled(BAD, format!("{} held for {}: {}", held.step, span(&held.since, None), held.says))
                    }
                    (None, None) => styled(GOOD, "runs"),
                };
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
        FlowAct::Pause { flow, why } => {
            let _: Vec<PausedFlow> = client.post(&format!("/api/flows/{flow}/pause"), &Why { why: why.clone() }).await?;
            outln!("{flow} is paused: new documents are received and wait");
        }
        FlowAct::Resume { flow } => {
            let resumed: ResumedFlow = client.post(&format!("/api/flows/{flow}/resume"), &json!({})).await?;
            outln!("{flow} is resumed");
            for step in resumed.trying {
                outln!("step {step}: one waiting message is tried now; the others follow when it succeeds");
            }
        }
        FlowAct::Record { flow, depth, time, back } => {
            let seconds = if *back { 0 } else { u32::try_from(time.as_secs()).unwrap_or(u32::MAX) };
            let request = RecordRequest { depth: depth.unwrap_or(RecordingDepth::Calls), seconds };
            let recorded: Option<RecordedFlow> = client.post(&format!("/api/flows/{flow}/record"), &request).await?;
            match recorded {
                Some(recorded) => outln!("{flow}: recording `{}` until {}", recorded.depth, clock(&recorded.until)),
                None => outln!("{flow}: recording as its file says"),
            }
        }
    }
    Ok(())
}
