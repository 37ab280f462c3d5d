//! Makes a flow of what a capture recorded, as files in a workspace folder.

use crate::api::{Client, api_path};
use crate::error::CommandError;
use crate::local;
use crate::terminal::outln;
use crate::ui::{self, GOOD, paint};
use std::path::{Path, PathBuf};
use wirewatch_service::view::{FirstFlow, FirstFlowRequest, ProposedFile};

#[derive(Debug, clap::Args)]
pub struct FlowArgs {
    /// The capture
    name: String,
    /// The item to begin with; its body becomes the flow's case
    n: u64,
    /// Name of the flow, and of its other files
    #[arg(long)]
    flow: String,
    /// The workspace folder they are written to
    #[arg(long, value_name = "DIR", default_value = ".")]
    workspace: PathBuf,
    /// Print the files as JSON, and write nothing
    #[arg(long)]
    json: bool,
}

pub async fn run(client: &Client, args: &FlowArgs) -> Result<(), CommandError> {
    let request = FirstFlowRequest { flow: args.flow.clone() };
    let made: FirstFlow = client.post(&api_path!("captures/{}/{}/flow", args.name, args.n), &request).await?;
    if args.json {
        ui::json(&made);
        return Ok(());
    }
    let running = local::files(&args.workspace)?;
    for file in &made.files {
        fits(&args.workspace, file, running.get(&file.file))?;
    }
    for ProposedFile { file, before, after } in &made.files {
        local::write(&args.workspace.join(file), after)?;
        outln!("{} {file}", paint(GOOD, if before.is_some() { "±" } else { "+" }));
    }
    let folder = args.workspace.display();
    outln!("next: `wirewatch check {folder}`, add steps to flows/{}.toml, `wirewatch deploy {folder}`", args.flow);
    Ok(())
}

/// Returns an error if a file cannot be written without losing something: nothing is written then.
fn fits(folder: &Path, proposed: &ProposedFile, own: Option<&String>) -> Result<(), CommandError> {
    let file = folder.join(&proposed.file);
    match (&proposed.before, own) {
        (None, _) if file.exists() => {
            Err(CommandError::Failed(format!("{} exists already; choose another name", file.display())))
        }
        (None, _) => Ok(()),
        (Some(before), Some(own)) if own == before => Ok(()),
        (Some(_), None) => Err(CommandError::Failed(format!(
            "{} is missing: {} is not the folder of the workspace that runs",
            file.display(),
            folder.display()
        ))),
        (Some(before), Some(_)) => {
            let added = proposed.after.strip_prefix(before.trim_end_matches('\n')).unwrap_or(&proposed.after).trim();
            let says = format!("{} is not as in the running release; add by hand:\n{added}", file.display());
            Err(CommandError::Failed(says))
        }
    }
}
