use crate::api::ClientArgs;
use crate::error::CommandError;
use crate::terminal::outln;
use crate::ui::{self, DIM, cell, number, span, styled};
use wirewatch_service::view::words::ProblemKind;
use wirewatch_service::view::{Assignment, Reason};

/// List why messages failed, with the number of messages for each reason
#[derive(Debug, clap::Args)]
pub struct ReasonsArgs {
    /// Print as JSON
    #[arg(long)]
    json: bool,
}

pub async fn run(client: &ClientArgs, args: &ReasonsArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    let reasons: Vec<Reason> = client.get("/api/reasons", &[]).await?;
    if args.json {
        ui::json(&reasons);
    } else if reasons.is_empty() {
        outln!("no message needs attention");
    } else {
        let assignments: Vec<Assignment> = client.get("/api/assignments", &[]).await?;
        show(&reasons, &assignments);
    }
    Ok(())
}

/// Prints reasons as a table, with who works on each.
pub fn show(reasons: &[Reason], assignments: &[Assignment]) {
    let assigned = |reason: &Reason| {
        let found = assignments.iter().find(|one| one.kind == ProblemKind::Reason && one.name == reason.id);
        found.map(|one| one.to.clone()).unwrap_or_default()
    };
    let row = |reason: &Reason| {
        vec![
            number(reason.messages),
            cell(&reason.id),
            cell(&reason.flow),
            cell(&reason.step),
            cell(reason.code.to_string()),
            styled(DIM, reason.first_seen.as_deref().map(|first| span(first, None)).unwrap_or_default()),
            cell(assigned(reason)),
            cell(&reason.says),
        ]
    };
    let rows: Vec<_> = reasons.iter().map(row).collect();
    ui::table(&["FAILED", "REASON", "FLOW", "STEP", "CODE", "FIRST SEEN", "ASSIGNED TO", "FIRST OF THEM"], &rows);
}
