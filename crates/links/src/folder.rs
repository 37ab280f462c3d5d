//! Folders: files written whole, and files taken in.

mod intake;

pub use intake::{Folder, run};

use rustix::fs::{CWD, RenameFlags, renameat_with};
use std::fs::File;
use std::io::{self, Write};
use std::path::Path;
use wirewatch_core::machine::{Body, Outcome};

/// Writes a file so that a reader sees it whole or not at all: under a hidden name, synced, renamed, the folder synced.
/// The same name with the same content again changes nothing for the reader.
pub async fn write(folder: &Path, name: &str, content: &[u8]) -> Outcome {
    let (folder, name, content) = (folder.to_owned(), name.to_owned(), content.to_owned());
    let written = tokio::task::spawn_blocking(move || {
        let hidden = folder.join(format!(".{name}.part"));
        let put = || -> io::Result<()> {
            let mut file = File::create(&hidden)?;
            file.write_all(&content)?;
            file.sync_all()?;
            std::fs::rename(&hidden, folder.join(&name))
        };
        if let Err(error) = put() {
            // What is left of it would only take room.
            let _ = std::fs::remove_file(&hidden);
            return Err(error);
        }
        File::open(&folder)?.sync_all()
    });
    match written.await {
        Ok(Ok(())) => Outcome::Answer { status: 0, body: Body::default() },
        Ok(Err(error)) => Outcome::Held { says: plain(&error), status: 0 },
        Err(panic) => Outcome::Held { says: panic.to_string(), status: 0 },
    }
}

/// A file error as a sentence with what to do.
fn plain(error: &io::Error) -> String {
    match error.kind() {
        io::ErrorKind::NotFound => "the folder does not exist; create it or correct the path".to_owned(),
        io::ErrorKind::PermissionDenied => "the service may not write here; give it the right to".to_owned(),
        io::ErrorKind::StorageFull => "the disk is full; make room".to_owned(),
        io::ErrorKind::ReadOnlyFilesystem => "the folder is read-only".to_owned(),
        _ => error.to_string(),
    }
}

/// Moves a file without ever replacing another. Durable once both folders are synced.
///
/// # Errors
/// The system's; `AlreadyExists` when the target is there.
pub fn move_aside(from: &Path, to: &Path) -> io::Result<()> {
    Ok(renameat_with(CWD, from, CWD, to, RenameFlags::NOREPLACE)?)
}

/// Whether files can be read and written there.
///
/// # Errors
/// A sentence with what to do.
pub async fn test(folder: &Path) -> Result<String, String> {
    let probe = write(folder, ".wirewatch-test", b"").await;
    let _ = tokio::fs::remove_file(folder.join(".wirewatch-test")).await;
    match probe {
        Outcome::Answer { .. } => Ok(format!("{} can be read and written", folder.display())),
        other => Err(format!("{}: {}", folder.display(), other.says())),
    }
}
