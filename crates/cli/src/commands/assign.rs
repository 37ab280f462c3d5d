use crate::api::{ClientArgs, segment};
use crate::error::CommandError;
use crate::terminal::outln;
use crate::ui::{self, cell, clock};
use wirewatch_service::view::words::ProblemKind;
use wirewatch_service::view::{Assignment, AssignmentRequest, Status};

/// Say who works on what needs attention
///
/// Everybody sees it: on the Overview page, in `wirewatch reasons` and in `wirewatch status`. An assignment ends when its problem
/// is over. Without arguments, the assignments are listed.
#[derive(Debug, clap::Args)]
pub struct AssignArgs {
    /// What needs attention: the id of a reason, the name of a connection or a paused flow, FLOW/STEP of a step on hold, or
    /// `arrivals` for the failed arrivals
    #[arg(value_name = "PROBLEM")]
    problem: Option<String>,
    /// What kind of problem it is; found out when left out
    #[arg(long, value_parser = super::words(ProblemKind::ALL))]
    kind: Option<ProblemKind>,
    /// Who works on it [default: you]
    #[arg(long, value_name = "PERSON")]
    to: Option<String>,
    /// A note for the others
    #[arg(long, default_value = "")]
    note: String,
    /// Take the assignment back: nobody works on it
    #[arg(long, requires = "problem", conflicts_with_all = ["to", "note"])]
    remove: bool,
    /// Print as JSON
    #[arg(long)]
    json: bool,
}

pub async fn run(client: &ClientArgs, args: &AssignArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    let Some(problem) = &args.problem else {
        let all: Vec<Assignment> = client.get("/api/assignments", &[]).await?;
        show(&all, args.json);
        return Ok(());
    };
    let status: Status = client.get("/api/status", &[]).await?;
    let (kind, name) = match args.kind {
        Some(ProblemKind::Arrivals) => (ProblemKind::Arrivals, String::new()),
        Some(kind) => (kind, problem.clone()),
        None => found(&status, problem)?,
    };
    if args.remove {
        let path = format!("/api/assignments?kind={kind}&name={}", segment(&name));
        client.delete(&path).await?;
        outln!("{} is assigned to nobody", words(kind, &name));
        return Ok(());
    }
    let request = AssignmentRequest { kind, name, to: args.to.clone(), note: args.note.clone() };
    let assigned: Assignment = client.put("/api/assignments", &request).await?;
    if args.json {
        ui::json(&assigned);
    } else {
        outln!("{} is assigned to {}", words(kind, &assigned.name), assigned.to);
    }
    Ok(())
}

fn show(all: &[Assignment], json: bool) {
    if json {
        ui::json(&all);
    } else if all.is_empty() {
        outln!("nothing that needs attention is assigned to anybody");
    } else {
        let row = |one: &Assignment| {
            let Assignment { kind, name, to, note, at, .. } = one;
            vec![cell(words(*kind, name)), cell(to), cell(clock(at)), cell(note)]
        };
        ui::table(&["PROBLEM", "ASSIGNED TO", "SINCE", "NOTE"], &all.iter().map(row).collect::<Vec<_>>());
    }
}

/// Finds out which problem a name means.
///
/// # Errors
/// Exit 2 when problems of two kinds have the name, exit 1 when none has.
fn found(status: &Status, name: &str) -> Result<(ProblemKind, String), CommandError> {
    let Status { reasons, on_hold, steps_on_hold, paused, arrivals_failed, .. } = status;
    let reasons = reasons.iter().map(|one| (ProblemKind::Reason, one.id.clone()));
    let connections = on_hold.iter().map(|one| (ProblemKind::Connection, one.connection.clone()));
    let steps = steps_on_hold.iter().map(|one| (ProblemKind::Step, format!("{}/{}", one.flow, one.step)));
    let flows = paused.iter().map(|one| (ProblemKind::Flow, one.flow.clone()));
    let mut all: Vec<_> = reasons.chain(connections).chain(steps).chain(flows).filter(|(_, known)| known == name).collect();
    if name == ProblemKind::Arrivals.as_str() && !arrivals_failed.is_empty() {
        all.push((ProblemKind::Arrivals, String::new()));
    }
    match (all.pop(), all.is_empty()) {
        (Some(one), true) => Ok(one),
        (Some(_), false) => Err(CommandError::Usage(format!("`{name}` names problems of two kinds; say which with --kind"))),
        (None, _) => Err(CommandError::Failed(format!("`{name}` does not need attention; `wirewatch status` lists what does"))),
    }
}

/// Returns a problem in words.
pub fn words(kind: ProblemKind, name: &str) -> String {
    match kind {
        ProblemKind::Reason => format!("reason {name}"),
        ProblemKind::Connection => format!("connection {name}"),
        ProblemKind::Step => format!("step {name}"),
        ProblemKind::Flow => format!("flow {name}"),
        ProblemKind::Arrivals => "failed arrivals".to_owned(),
    }
}
