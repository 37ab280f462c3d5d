use crate::api::ClientArgs;
use crate::error::CommandError;
use crate::local;
use crate::terminal::{errln, outln};
use crate::ui::{self, BAD, DIM, GOOD, WAIT, paint};
use std::path::PathBuf;
use std::sync::Arc;
use wirewatch_core::Severity;
use wirewatch_core::workspace::{Checked, Workspace};
use wirewatch_service::view::words::{FileChangeKind, ReleaseOutcome};
use wirewatch_service::view::{EnvironmentView, FileView, Release, WorkspaceFiles};

/// Deploy a workspace: it becomes the current release
///
/// Shows what changes. Nothing changes with errors in the workspace, with a case that fails, or with a file that is older than its
/// copy in the current release.
#[derive(Debug, clap::Args)]
pub struct DeployArgs {
    /// Workspace folder
    #[arg(default_value = ".", value_name = "DIR")]
    folder: PathBuf,
    /// Show what it would change, and change nothing; exit code 1 when something differs
    #[arg(long)]
    check: bool,
    /// Description, shown in the list of releases
    #[arg(long, value_name = "WORDS", default_value = "", hide_default_value = true)]
    why: String,
    /// Take back what newer releases changed where this copy is older than they are
    #[arg(long)]
    take_back: bool,
    /// Deploy without running the cases of the workspace
    #[arg(long)]
    skip_cases: bool,
    /// Print the outcome as JSON
    #[arg(long)]
    json: bool,
}

pub async fn run(client: &ClientArgs, args: &DeployArgs) -> Result<(), CommandError> {
    let (files, left_out) = local::folder(&args.folder)?;
    if !(args.skip_cases || args.check) {
        let Checked { workspace, findings } = Workspace::read(&files);
        // With errors in the workspace the cases say nothing: the service reports the errors.
        let sound = findings.iter().all(|finding| finding.severity != Severity::Error);
        if let Some(workspace) = workspace.filter(|_| sound) {
            cases(&Arc::new(workspace))?;
        }
    }
    let given = WorkspaceFiles { files, why: args.why.clone(), take_back: args.take_back, only_tell: args.check };
    let mut release: Release = client.client()?.post("/api/releases", &given).await?;
    release.findings.splice(0..0, left_out);
    if args.json {
        ui::json(&release);
    } else {
        ui::findings(&release.findings);
        print_release(&release);
    }
    if args.check && !release.changes.is_empty() { Err(CommandError::Found) } else { Ok(()) }
}

/// Runs the cases of a workspace.
///
/// # Errors
/// When one of them fails: nothing is deployed then.
fn cases(workspace: &Arc<Workspace>) -> Result<(), CommandError> {
    let (passed, failed) = super::cases::tally(workspace);
    if failed.is_empty() {
        return Ok(());
    }
    for name in &failed {
        errln!("{}  {name}", paint(BAD, "failed"));
    }
    let says = "nothing was deployed; `wirewatch cases` shows the differences, --skip-cases deploys anyway";
    Err(CommandError::Failed(format!(
        "{}: {passed} passed, {} failed; {says}",
        ui::count(passed + failed.len(), "case"),
        failed.len()
    )))
}

/// Prints the result of a release.
pub fn print_release(release: &Release) {
    changes(&release.changes);
    let place = place(release.environment.as_ref());
    match release.what {
        ReleaseOutcome::Same => outln!("release {}{place} has exactly these files; nothing to deploy", release.release),
        ReleaseOutcome::Preview => {
            outln!("release {} runs{place}; this would become the next release; nothing was changed", release.release)
        }
        ReleaseOutcome::New => outln!("release {} runs now{place}", release.release),
    }
}

/// Returns ` in Production`, or nothing without an environment.
pub fn place(environment: Option<&EnvironmentView>) -> String {
    environment.map_or(String::new(), |environment| format!(" in {}", environment.title))
}

/// Files that differ, one a line.
pub fn changes(changes: &[FileView]) {
    for FileView { file, what, added, removed } in changes {
        let style = match what {
            FileChangeKind::New => GOOD,
            FileChangeKind::Changed => WAIT,
            FileChangeKind::Gone => BAD,
        };
        let lines = paint(DIM, format!("+{added} -{removed}"));
        outln!("  {} {file}  {lines}", paint(style, format!("{what:<7}")));
    }
}
