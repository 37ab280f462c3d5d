use crate::api::ClientArgs;
use crate::error::CommandError;
use crate::terminal::outln;
use crate::ui::{self, BAD, BOLD, DIM, clock, paint, span, tone};
use wirewatch_service::view::Status;

/// Show the state of the service: what is unfinished, on hold or failed
#[derive(Debug, clap::Args)]
pub struct StatusArgs {
    /// Print as JSON
    #[arg(long)]
    json: bool,
}

pub async fn run(client: &ClientArgs, args: &StatusArgs) -> Result<(), CommandError> {
    let status: Status = client.client()?.get("/api/status", &[]).await?;
    if args.json {
        ui::json(&status);
        return Ok(());
    }
    outln!(
        "{}  {}",
        paint(BOLD, format!("{}{}", status.title, super::deploy::place(status.environment.as_ref()))),
        paint(DIM, format!("release {}, running since {}", status.release, clock(&status.since)))
    );
    if status.processes.len() > 1 {
        for process in &status.processes {
            let here = if process.answers { ", which answers here" } else { "" };
            outln!("  {} has {} of 64 shards{here}", process.process, process.shards);
        }
    }
    for warning in &status.warnings {
        outln!("{} {warning}", paint(BAD, "!"));
    }
    if status.unfinished.is_empty() {
        outln!("nothing is unfinished");
    }
    for (state, n) in &status.unfinished {
        outln!("  {n:>6} {}", paint(tone(state), state));
    }
    for held in &status.on_hold {
        let waiting = ui::count(held.waiting, "message");
        outln!(
            "{} for {}: {} ({waiting} waiting)",
            paint(BAD, format!("{} is on hold", held.connection)),
            span(&held.since, None),
            held.says
        );
    }
    for held in &status.steps_on_hold {
        outln!(
            "{} for {}: {} ({} waiting; one tries at {})",
            paint(BAD, format!("step {} of {} is on hold", held.step, held.flow)),
            span(&held.since, None),
            held.says,
            ui::count(held.waiting, "message"),
            clock(&held.next_try)
        );
    }
    if !status.reasons.is_empty() {
        outln!();
        super::reasons::show(&status.reasons);
    }
    Ok(())
}
