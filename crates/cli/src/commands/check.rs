use crate::error::CommandError;
use crate::ui;
use std::path::PathBuf;
use wirewatch_core::Severity;
use wirewatch_core::workspace::Workspace;
use wirewatch_service::read_workspace;

/// Check a workspace: every finding with its place and the nearest name
///
/// Needs no running service. Exit code 1 when there are errors.
#[derive(Debug, clap::Args)]
pub struct CheckArgs {
    /// Workspace folder
    #[arg(default_value = ".", value_name = "DIR")]
    folder: PathBuf,
    /// Print findings as JSON
    #[arg(long)]
    json: bool,
}

pub fn run(args: &CheckArgs) -> Result<(), CommandError> {
    let files =
        read_workspace(&args.folder).map_err(|error| CommandError::Failed(format!("{}: {error}", args.folder.display())))?;
    let findings = Workspace::read(&files).findings;
    let errors = findings.iter().filter(|finding| finding.severity == Severity::Error).count();
    if args.json {
        ui::json(&findings);
    } else {
        ui::findings(&findings);
        let warnings = findings.len() - errors;
        println!(
            "{} checked: {}, {}",
            ui::count(files.len(), "file"),
            ui::count(errors, "error"),
            ui::count(warnings, "warning")
        );
    }
    if errors == 0 { Ok(()) } else { Err(CommandError::Found) }
}
