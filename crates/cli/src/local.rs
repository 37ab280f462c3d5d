//! Documents and workspace folders that commands read from this machine.

use crate::error::CommandError;
use crate::ui;
use std::fs::File;
use std::io::Read;
use std::path::Path;
use wirewatch_core::nearest::nearest;
use wirewatch_core::workspace::{Files, Workspace};
use wirewatch_core::{Finding, Severity};
use wirewatch_service::{read_folder, read_workspace};

/// A file, or standard input for `-`.
pub fn open(file: &Path) -> Result<Box<dyn Read>, CommandError> {
    if file.as_os_str() == "-" {
        return Ok(Box::new(std::io::stdin().lock()));
    }
    Ok(Box::new(File::open(file).map_err(|error| failed(file, &error))?))
}

/// All bytes of a file, or of standard input for `-`.
pub fn bytes(file: &Path) -> Result<Vec<u8>, CommandError> {
    let mut bytes = Vec::new();
    open(file)?.read_to_end(&mut bytes).map_err(|error| failed(file, &error))?;
    Ok(bytes)
}

/// Returns the error of a file, with its name.
pub fn failed(file: &Path, error: &std::io::Error) -> CommandError {
    let name = if file.as_os_str() == "-" { "standard input".into() } else { file.display().to_string() };
    CommandError::Failed(format!("{name}: {error}"))
}

/// The files of a workspace folder.
pub fn files(folder: &Path) -> Result<Files, CommandError> {
    read_workspace(folder).map_err(|error| CommandError::Failed(format!("{}: {error}", folder.display())))
}

/// As [`files`], with a warning for each file and folder that does not belong to the workspace.
pub fn folder(folder: &Path) -> Result<(Files, Vec<Finding>), CommandError> {
    read_folder(folder).map_err(|error| CommandError::Failed(format!("{}: {error}", folder.display())))
}

/// A workspace folder, read and checked; its errors are shown.
pub fn workspace(folder: &Path) -> Result<Workspace, CommandError> {
    let checked = Workspace::read(&files(folder)?);
    checked.workspace.ok_or_else(|| {
        let errors: Vec<_> = checked.findings.into_iter().filter(|one| one.severity == Severity::Error).collect();
        ui::findings(&errors);
        CommandError::Failed(format!("the workspace {} has errors", folder.display()))
    })
}

/// Reads a workspace folder whose file `path` is being written: its unfilled targets are printed and are not an error. Returns
/// whether there were any.
pub fn draft(folder: &Path, path: &str) -> Result<(Workspace, bool), CommandError> {
    let checked = Workspace::read_draft(&files(folder)?, None, path);
    let errors: Vec<_> = checked.findings.into_iter().filter(|one| one.severity == Severity::Error).collect();
    ui::findings(&errors);
    let workspace =
        checked.workspace.ok_or_else(|| CommandError::Failed(format!("the workspace {} has errors", folder.display())))?;
    Ok((workspace, !errors.is_empty()))
}

/// A name that a workspace does not have, with the nearest that it has.
pub fn unknown<'n>(folder: &Path, what: &str, name: &str, known: impl Iterator<Item = &'n str>) -> CommandError {
    let help = nearest(name, known).map_or(String::new(), |near| format!("; did you mean `{near}`?"));
    CommandError::Usage(format!("{} has no {what} `{name}`{help}", folder.display()))
}

/// Writes a file of the workspace, creating its folder.
pub fn write(file: &Path, text: &str) -> Result<(), CommandError> {
    if let Some(folder) = file.parent() {
        std::fs::create_dir_all(folder).map_err(|error| failed(folder, &error))?;
    }
    std::fs::write(file, text).map_err(|error| failed(file, &error))
}

/// Writes a file that must not exist yet; `never` says in the error what would be overwritten.
pub fn write_new(file: &Path, text: &str, never: &str) -> Result<(), CommandError> {
    if file.exists() {
        return Err(CommandError::Failed(format!("{} exists already; {never}", file.display())));
    }
    write(file, text)
}
