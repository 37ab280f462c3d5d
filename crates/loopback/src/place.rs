//! Location of a private database: its server does not run as root, and must be able to enter every folder above its data.

use crate::postgres::StartError;
use std::fs;
use std::io;
use std::os::unix::fs::{DirBuilderExt, PermissionsExt};
use std::path::{Path, PathBuf};

/// Alternative locations that every user can enter.
const ELSEWHERE: [&str; 2] = ["/var/lib/wirewatch", "/var/tmp/wirewatch"];
/// File in the requested folder with the location of its data.
const MOVED_TO: &str = "moved-to";

/// Returns the location chosen earlier for the data of `folder`, if it is elsewhere.
#[must_use]
pub fn moved(folder: &Path) -> Option<PathBuf> {
    let path = PathBuf::from(fs::read_to_string(folder.join(MOVED_TO)).ok()?.trim());
    path.is_dir().then_some(path)
}

/// Returns the folder itself if the server's user can enter it (`enters`), otherwise a location elsewhere that is found again.
///
/// # Errors
/// [`StartError::Unreachable`] when there is no usable location.
pub(crate) fn settle(folder: &Path, enters: impl Fn(&Path) -> bool) -> Result<PathBuf, StartError> {
    if let Some(path) = moved(folder).filter(|path| enters(path)) {
        return Ok(path);
    }
    if enters(folder) {
        return Ok(folder.to_owned());
    }
    let name = folder.display().to_string().trim_matches('/').replace('/', "-");
    for place in ELSEWHERE {
        let Ok(path) = make(Path::new(place), &name) else { continue };
        if enters(&path) && fs::write(folder.join(MOVED_TO), path.display().to_string()).is_ok() {
            return Ok(path);
        }
        let _ = fs::remove_dir(&path);
    }
    Err(StartError::Unreachable(folder.to_owned()))
}

/// A new folder below `place`, which everybody can enter.
fn make(place: &Path, name: &str) -> io::Result<PathBuf> {
    if !place.is_dir() {
        fs::DirBuilder::new().recursive(true).create(place)?;
        fs::set_permissions(place, fs::Permissions::from_mode(0o755))?;
    }
    for n in 1.. {
        let path = place.join(if n == 1 { name.to_owned() } else { format!("{name}-{n}") });
        match fs::DirBuilder::new().mode(0o700).create(&path) {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists && n < 1000 => {}
            other => return other.map(|()| path),
        }
    }
    Err(io::ErrorKind::AlreadyExists.into())
}
