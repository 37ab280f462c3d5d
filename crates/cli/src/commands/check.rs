use crate::error::CommandError;
use crate::local;
use crate::terminal::outln;
use crate::ui;
use std::path::PathBuf;
use wirewatch_core::workspace::{Workspace, environments};
use wirewatch_core::{Finding, Severity};

/// Check the files of a workspace: each error with its place and what to change
///
/// Needs no running service. Exit code 1 when there are errors.
#[derive(Debug, clap::Args)]
pub struct CheckArgs {
    /// Workspace folder
    #[arg(default_value = ".", value_name = "DIR")]
    folder: PathBuf,
    /// Check it in this environment; when left out, without an environment and in each of them
    #[arg(long = "env", value_name = "NAME")]
    environment: Option<String>,
    /// Print findings as JSON
    #[arg(long)]
    json: bool,
}

pub fn run(args: &CheckArgs) -> Result<(), CommandError> {
    let (files, left_out) = local::folder(&args.folder)?;
    let mut findings = left_out;
    findings.extend(Workspace::read_in(&files, args.environment.as_deref()).findings);
    if args.environment.is_none() {
        // Findings of an environment alone; those it shares with the workspace itself are left out here.
        let each = environments::names(&files).flat_map(|name| Workspace::read_in(&files, Some(name)).findings);
        let own: Vec<Finding> =
            each.filter(|finding| finding.severity == Severity::Error && !findings.contains(finding)).collect();
        findings.extend(own);
    }
    let errors = findings.iter().filter(|finding| finding.severity == Severity::Error).count();
    if args.json {
        ui::json(&findings);
    } else {
        ui::findings(&findings);
        let warnings = findings.iter().filter(|one| one.severity == Severity::Warning && one.accepted.is_none()).count();
        outln!("{} checked: {}, {}", ui::count(files.len(), "file"), ui::count(errors, "error"), ui::count(warnings, "warning"));
    }
    if errors == 0 { Ok(()) } else { Err(CommandError::Found) }
}
