//! Folders: writes files atomically, and receives files.

mod faults;
mod intake;
mod roots;
mod scan;

pub use faults::{Fault, Faults};
pub use intake::{Folder, run};
pub use roots::Roots;

use rustix::fs::{CWD, RenameFlags, renameat_with};
use std::fs::File;
use std::io::{self, Write};
use std::path::{Component, Path};
use wirewatch_core::Digest;
use wirewatch_core::machine::{Body, Outcome};

/// Writes a file so that a reader sees all of it or nothing: written under a hidden name, synced, renamed, the folder synced.
/// Writing the same name and content again changes nothing for the reader. A name that the system rejects refuses this message;
/// every other error concerns the folder.
pub async fn write(folder: &Path, name: &str, content: &[u8]) -> Outcome {
    let (folder, name, content) = (folder.to_owned(), name.to_owned(), content.to_owned());
    let mut parts = Path::new(&name).components();
    if !matches!((parts.next(), parts.next()), (Some(Component::Normal(_)), None)) || name.contains('\0') {
        return refused(format!("{name:?} is not a file name"));
    }
    let shown = name.clone();
    let written = tokio::task::spawn_blocking(move || {
        let hidden = folder.join(hidden_name(&name));
        let put = || -> io::Result<()> {
            let mut file = File::create(&hidden)?;
            file.write_all(&content)?;
            file.sync_all()?;
            std::fs::rename(&hidden, folder.join(&name))
        };
        if let Err(error) = put() {
            // The incomplete file would only take space.
            let _ = std::fs::remove_file(&hidden);
            return Err(error);
        }
        File::open(&folder)?.sync_all()
    });
    match written.await {
        Ok(Ok(())) => Outcome::Answer { status: 0, body: Body::default() },
        Ok(Err(error)) => match error.kind() {
            io::ErrorKind::InvalidFilename => refused(format!("{shown:?} is too long for a file name")),
            io::ErrorKind::InvalidInput => refused(format!("{shown:?} cannot be used as a file name: {error}")),
            io::ErrorKind::IsADirectory | io::ErrorKind::DirectoryNotEmpty => {
                refused(format!("{shown:?} is a folder there, so no file of that name can be written"))
            }
            _ => Outcome::Held { says: plain(&error), status: 0 },
        },
        Err(panic) => Outcome::Held { says: panic.to_string(), status: 0 },
    }
}

/// Returns the name of a file until it is complete: one per file, so that the remains of a crash are overwritten.
fn hidden_name(name: &str) -> String {
    let plain = format!(".{name}.part");
    // The hidden name must not exceed the system's limit if the name itself does not.
    if plain.len() <= 255 { plain } else { format!(".{}.part", Digest::of(&[name.as_bytes()])) }
}

fn refused(says: String) -> Outcome {
    Outcome::Refused { says, status: 0, body: Body::default() }
}

/// A file error as a sentence with what to do.
fn plain(error: &io::Error) -> String {
    match error.kind() {
        io::ErrorKind::NotFound => "the folder does not exist; create it or correct the path".to_owned(),
        io::ErrorKind::PermissionDenied => "the service has no permission to write here; grant it".to_owned(),
        io::ErrorKind::StorageFull => "the disk is full; make room".to_owned(),
        io::ErrorKind::ReadOnlyFilesystem => "the folder is read-only".to_owned(),
        _ => error.to_string(),
    }
}

/// Moves a file without ever replacing another. Durable once both folders are synced.
///
/// # Errors
/// The system's; `AlreadyExists` when the target is there.
pub fn move_away(from: &Path, to: &Path) -> io::Result<()> {
    Ok(renameat_with(CWD, from, CWD, to, RenameFlags::NOREPLACE)?)
}

/// Checks that files can be read and written there.
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
