use crate::api::ClientArgs;
use crate::error::CommandError;
use crate::local;
use crate::terminal::outln;
use crate::ui::{self, BAD, DIM, GOOD, WAIT, paint};
use std::path::PathBuf;
use wirewatch_service::view::words::{FileChangeKind, ReleaseOutcome};
use wirewatch_service::view::{EnvironmentView, FileView, Release, WorkspaceFiles};

/// Deploy a workspace: it becomes the current release
///
/// Shows what changes. With errors in the workspace nothing changes: the current release stays. A stale copy of a file that is
/// newer in the current release is refused.
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
    /// Print the outcome as JSON
    #[arg(long)]
    json: bool,
}

pub async fn run(client: &ClientArgs, args: &DeployArgs) -> Result<(), CommandError> {
    let (files, left_out) = local::folder(&args.folder)?;
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

/// Prints the result of a release.
pub fn print_release(release: &Release) {
    changes(&release.changes);
    let place = place(release.environment.as_ref());
    match release.what {
        ReleaseOutcome::Same => outln!("release {} runs exactly this{place}; nothing to do", release.release),
        ReleaseOutcome::Preview => {
            outln!("release {} runs{place}; this would become the next one; nothing was changed", release.release)
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
