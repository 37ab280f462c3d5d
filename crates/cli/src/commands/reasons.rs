use crate::api::ClientArgs;
use crate::error::CommandError;
use crate::terminal::outln;
use crate::ui::{self, DIM, cell, number, span, styled};
use wirewatch_service::view::Reason;

/// List why messages failed, with the number of messages for each reason
#[derive(Debug, clap::Args)]
pub struct ReasonsArgs {
    /// Print as JSON
    #[arg(long)]
    json: bool,
}

pub async fn run(client: &ClientArgs, args: &ReasonsArgs) -> Result<(), CommandError> {
    let reasons: Vec<Reason> = client.client()?.get("/api/reasons", &[]).await?;
    if args.json {
        ui::json(&reasons);
    } else if reasons.is_empty() {
        outln!("no message needs attention");
    } else {
        show(&reasons);
    }
    Ok(())
}

/// Reasons as a table.
pub fn show(reasons: &[Reason]) {
    let row = |reason: &Reason| {
        vec![
            number(reason.messages),
            cell(&reason.id),
            cell(&reason.flow),
            cell(&reason.step),
            cell(reason.code.to_string()),
            styled(DIM, reason.oldest.as_deref().map(|oldest| span(oldest, None)).unwrap_or_default()),
            cell(&reason.says),
        ]
    };
    let rows: Vec<_> = reasons.iter().map(row).collect();
    ui::table(&["FAILED", "REASON", "FLOW", "STEP", "CODE", "FOR", "FIRST OF THEM"], &rows);
}
