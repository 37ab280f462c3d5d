use crate::api::ClientArgs;
use crate::error::CommandError;
use crate::terminal::outln;
use crate::ui::{self, BAD, BOLD, DIM, clock, paint, span, tone};
use wirewatch_service::view::words::{FigureRange, ProblemKind};
use wirewatch_service::view::{Assignment, Figures, OrderCounts, Status};

/// Show the state of the service: what is unfinished, on hold or failed
#[derive(Debug, clap::Args)]
pub struct StatusArgs {
    /// Print as JSON
    #[arg(long)]
    json: bool,
}

pub async fn run(client: &ClientArgs, args: &StatusArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    let status: Status = client.get("/api/status", &[]).await?;
    if args.json {
        ui::json(&status);
        return Ok(());
    }
    let figures: Figures = client.get("/api/figures", &[("range", FigureRange::Hour.to_string())]).await?;
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
    hour(&figures);
    if figures.acknowledgments > 0 {
        let since = figures.acknowledgments_since.as_deref().map(|since| format!(", the oldest for {}", span(since, None)));
        let all = ui::count(figures.acknowledgments as usize, "acknowledgment");
        outln!("{all} to partners not delivered yet{}", since.unwrap_or_default());
    }
    for warning in &status.warnings {
        outln!("{} {warning}", paint(BAD, "!"));
    }
    if status.unfinished.is_empty() {
        outln!("no unfinished messages");
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
    for paused in &status.paused {
        outln!(
            "{} by {} for {}: {} ({} waiting)",
            paint(BAD, format!("{} is paused", paused.flow)),
            paused.by,
            span(&paused.since, None),
            paused.says,
            ui::count(paused.waiting, "message")
        );
    }
    if let Some(newest) = status.arrivals_failed.first() {
        outln!(
            "{}, the newest {}: {}",
            paint(BAD, format!("{} failed in the last day", ui::count(status.arrivals_failed.len(), "arrival"))),
            newest.name,
            newest.says
        );
        outln!("{}", paint(DIM, "to see them: wirewatch arrivals --verdict failed"));
    }
    let others = status.assignments.iter().filter(|one| one.kind != ProblemKind::Reason);
    for Assignment { kind, name, to, note, at, .. } in others {
        let note = if note.is_empty() { String::new() } else { format!(": {note}") };
        outln!("{}", paint(DIM, format!("{} is assigned to {to} since {}{note}", super::assign::words(*kind, name), clock(at))));
    }
    if !status.reasons.is_empty() {
        outln!();
        super::reasons::show(&status.reasons, &status.assignments);
    }
    Ok(())
}

/// Prints the orders of the last hour.
fn hour(figures: &Figures) {
    let OrderCounts { orders, open, trouble, median_us, p95_us } = figures.orders;
    let took = |us: Option<i64>| us.map_or_else(|| "–".to_owned(), ui::took);
    outln!(
        "{} in the last hour ({} the hour before), median {}, 95th percentile {}; {open} in progress, {trouble} in trouble",
        ui::count(orders as usize, "order"),
        figures.before.orders,
        took(median_us),
        took(p95_us)
    );
}
