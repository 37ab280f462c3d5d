use super::deploy::{changes, print_release};
use crate::api::{ClientArgs, api_path};
use crate::error::CommandError;
use crate::local;
use crate::terminal::outln;
use crate::ui::{self, BOLD, DIM, cell, clock, number, paint, styled, table, tone};
use std::path::{Component, Path, PathBuf};
use wirewatch_service::view::{Release, ReleaseFiles, ReleaseStory, ReleaseView, Why};

/// List the releases, show what one of them changed, or fetch its files
#[derive(Debug, clap::Args)]
pub struct ReleasesArgs {
    /// The release to show
    #[arg(value_name = "NUMBER")]
    release: Option<i64>,
    /// Write the files of the release into this folder, which must be empty or missing
    #[arg(long, value_name = "DIR", requires = "release", conflicts_with = "json")]
    to: Option<PathBuf>,
    /// Print as JSON
    #[arg(long)]
    json: bool,
}

/// Writes the files of a release into an empty folder.
///
/// # Errors
/// When the folder has files, a path leads out of it, or a file cannot be written.
fn write(files: &ReleaseFiles, to: &Path) -> Result<(), CommandError> {
    let inside = |name: &str| Path::new(name).components().all(|part| matches!(part, Component::Normal(_)));
    if let Some(name) = files.files.keys().find(|name| !inside(name)) {
        return Err(CommandError::Failed(format!("`{name}` is not a path inside a workspace; nothing was written")));
    }
    std::fs::create_dir_all(to).map_err(|error| local::failed(to, &error))?;
    if std::fs::read_dir(to).map_err(|error| local::failed(to, &error))?.next().is_some() {
        return Err(CommandError::Failed(format!("{} is not empty; nothing was written", to.display())));
    }
    for (name, text) in &files.files {
        let path = to.join(name);
        if let Some(folder) = path.parent() {
            std::fs::create_dir_all(folder).map_err(|error| local::failed(folder, &error))?;
        }
        local::write(&path, text)?;
    }
    outln!("release {}: {} written to {}", files.release, ui::count(files.files.len(), "file"), to.display());
    Ok(())
}

pub async fn list(client: &ClientArgs, args: &ReleasesArgs) -> Result<(), CommandError> {
    let client = client.client()?;
    if let Some(no) = args.release {
        if let Some(to) = &args.to {
            return write(&client.get(&api_path!("releases/{}/files", no), &[]).await?, to);
        }
        let story: ReleaseStory = client.get(&api_path!("releases/{}", no), &[]).await?;
        if args.json {
            ui::json(&story);
        } else {
            show(&story);
        }
        return Ok(());
    }
    let releases: Vec<ReleaseView> = client.get("/api/releases", &[]).await?;
    if args.json {
        ui::json(&releases);
        return Ok(());
    }
    let rows: Vec<Vec<_>> = releases
        .iter()
        .map(|release| {
            let state = if release.current { styled(tone("done"), "runs") } else { cell("") };
            let files = ui::count(release.changes.len(), "file");
            vec![
                number(release.release),
                state,
                styled(DIM, clock(&release.at)),
                cell(&release.by),
                cell(files),
                cell(&release.says),
            ]
        })
        .collect();
    table(&["RELEASE", "", "AT", "BY", "CHANGED", "NOTE"], &rows);
    Ok(())
}

fn show(story: &ReleaseStory) {
    let ReleaseStory { release, before, after } = story;
    let says = if release.says.is_empty() { String::new() } else { format!(": {}", release.says) };
    let runs = if release.current { ", and runs" } else { "" };
    outln!("{} by {} at {}{runs}{says}", paint(BOLD, format!("release {}", release.release)), release.by, clock(&release.at));
    changes(&release.changes);
    for change in &release.changes {
        let text = |side: &std::collections::BTreeMap<String, String>| side.get(&change.file).cloned().unwrap_or_default();
        let (old, new) = (text(before), text(after));
        outln!();
        outln!("{}", paint(BOLD, &change.file));
        ui::text_difference(&old, &new);
    }
}

/// Make an earlier release the current one again
///
/// It becomes a new release, so that the history stays complete.
#[derive(Debug, clap::Args)]
pub struct RollbackArgs {
    /// The release to go back to
    #[arg(value_name = "NUMBER")]
    release: i64,
    /// Why: stored with the act
    #[arg(long, value_name = "WORDS")]
    why: String,
    /// Print the outcome as JSON
    #[arg(long)]
    json: bool,
}

pub async fn rollback(client: &ClientArgs, args: &RollbackArgs) -> Result<(), CommandError> {
    let path = api_path!("releases/{}/rollback", args.release);
    let release: Release = client.client()?.post(&path, &Why { why: args.why.clone() }).await?;
    if args.json {
        ui::json(&release);
    } else {
        ui::findings(&release.findings);
        print_release(&release);
    }
    Ok(())
}
