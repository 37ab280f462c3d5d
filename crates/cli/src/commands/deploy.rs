use crate::api::ClientArgs;
use crate::error::CommandError;
use crate::local;
use crate::terminal::outln;
use crate::ui::{self, DIM, paint, tone};
use std::path::PathBuf;
use wirewatch_service::view::{EnvironmentView, FileView, Release, WorkspaceFiles};

/// Deploy a workspace: it becomes the current release
///
/// Shows what it changes. With errors in it nothing changes: the current release goes on running. A copy that is older
/// than what runs is refused, file by file.
#[derive(Debug, clap::Args)]
pub struct DeployArgs {
    /// Workspace folder
    #[arg(default_value = ".", value_name = "DIR")]
    folder: PathBuf,
    /// Show what it would change, and change nothing; exit code 1 when something differs
    #[arg(long)]
    check: bool,
    /// What the release is for; shown in the list of releases
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
        told(&release);
    }
    if args.check && !release.changes.is_empty() { Err(CommandError::Found) } else { Ok(()) }
}

/// What came of a release.
pub fn told(release: &Release) {
    changes(&release.changes);
    let place = place(release.environment.as_ref());
    match release.what.as_str() {
        "same" => outln!("release {} runs exactly this{place}; nothing to do", release.release),
        "would" => outln!("release {} runs{place} and would be followed by this; nothing was changed", release.release),
        _ => outln!("release {} runs now{place}", release.release),
    }
}

/// ` in Production`; nothing where it is not said.
pub fn place(environment: Option<&EnvironmentView>) -> String {
    environment.map_or(String::new(), |environment| format!(" in {}", environment.title))
}

/// Files that differ, one a line.
pub fn changes(changes: &[FileView]) {
    for FileView { file, what, added, removed } in changes {
        let style = match what.as_str() {
            "new" => tone("done"),
            "gone" => tone("failed"),
            _ => tone("retrying"),
        };
        let lines = paint(DIM, format!("+{added} -{removed}"));
        outln!("  {} {file}  {lines}", paint(style, format!("{what:<7}")));
    }
}
