use crate::api::ClientArgs;
use crate::error::CommandError;
use crate::ui;
use std::path::PathBuf;
use wirewatch_service::read_workspace;
use wirewatch_service::view::{Release, WorkspaceFiles};

/// Make a workspace the current release
///
/// With errors in it nothing changes: the current release goes on running.
#[derive(Debug, clap::Args)]
pub struct DeployArgs {
    /// Workspace folder
    #[arg(default_value = ".", value_name = "DIR")]
    folder: PathBuf,
    /// Print the outcome as JSON
    #[arg(long)]
    json: bool,
}

pub async fn run(client: &ClientArgs, args: &DeployArgs) -> Result<(), CommandError> {
    let files =
        read_workspace(&args.folder).map_err(|error| CommandError::Failed(format!("{}: {error}", args.folder.display())))?;
    let release: Release = client.client()?.post("/api/releases", &WorkspaceFiles { files }).await?;
    if args.json {
        ui::json(&release);
        return Ok(());
    }
    ui::findings(&release.findings);
    match release.what.as_str() {
        "same" => println!("release {} runs exactly this; nothing to do", release.release),
        _ => println!("release {} runs now", release.release),
    }
    Ok(())
}
