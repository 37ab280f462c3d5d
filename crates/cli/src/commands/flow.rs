use crate::api::ClientArgs;
use crate::error::CommandError;
use crate::ui::{self, cell, number, span, styled, table, tone};
use serde_json::json;
use wirewatch_service::view::{PausedFlow, Strands, Why};

/// List the flows; pause one, or let it go on
///
/// What comes in for a paused flow is taken and waits; nothing of it goes on until it is resumed.
#[derive(Debug, clap::Args)]
pub struct FlowArgs {
    #[command(subcommand)]
    act: FlowAct,
}

#[derive(Debug, clap::Subcommand)]
enum FlowAct {
    /// List the flows and how they stand
    List {
        /// Print as JSON
        #[arg(long)]
        json: bool,
    },
    /// Let nothing of this flow go on until it is resumed
    Pause {
        flow: String,
        /// Why, for the others
        #[arg(long, value_name = "WORDS")]
        why: String,
    },
    /// Let this flow go on
    Resume { flow: String },
}

pub async fn run(client: &ClientArgs, args: &FlowArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    match &args.act {
        FlowAct::List { json } => {
            let strands: Strands = client.get("/api/strands", &[]).await?;
            if *json {
                ui::json(&strands.strands);
                return Ok(());
            }
            let row = |strand: &wirewatch_service::view::Strand| {
                let count = |of: fn(&wirewatch_service::view::Knot) -> i64| strand.knots.iter().map(of).sum::<i64>();
                let unfinished = count(|knot| knot.moving + knot.waiting + knot.retrying);
                let state = match &strand.paused {
                    Some(paused) => {
                        styled(tone("held"), format!("paused by {} {}: {}", paused.by, span(&paused.since, None), paused.says))
                    }
                    None => styled(tone("free"), "runs"),
                };
                vec![cell(&strand.flow), cell(&strand.title), number(unfinished), number(count(|knot| knot.aside)), state]
            };
            let rows: Vec<_> = strands.strands.iter().map(row).collect();
            table(&["FLOW", "TITLE", "UNFINISHED", "ASIDE", "STATE"], &rows);
        }
        FlowAct::Pause { flow, why } => {
            let _: Vec<PausedFlow> = client.post(&format!("/api/flows/{flow}/pause"), &Why { why: why.clone() }).await?;
            println!("{flow} is paused: what comes in is taken and waits");
        }
        FlowAct::Resume { flow } => {
            let _: Vec<PausedFlow> = client.post(&format!("/api/flows/{flow}/resume"), &json!({})).await?;
            println!("{flow} goes on");
        }
    }
    Ok(())
}
