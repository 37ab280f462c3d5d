//! Where a private database lies: its server does not run as root, and must be able to enter every folder above its data.

use crate::postgres::StartError;
use std::fs;
use std::io;
use std::os::unix::fs::{DirBuilderExt, PermissionsExt};
use std::path::{Path, PathBuf};

/// Where data lies that cannot lie where it was asked for: places that everybody can enter.
const ELSEWHERE: [&str; 2] = ["/var/lib/wirewatch", "/var/tmp/wirewatch"];
/// The file in the folder that was asked for which says where its data lies.
const MOVED_TO: &str = "moved-to";

/// Where the data of `folder` lies instead, where that was settled before.
#[must_use]
pub fn moved(folder: &Path) -> Option<PathBuf> {
    let path = PathBuf::from(fs::read_to_string(folder.join(MOVED_TO)).ok()?.trim());
    path.is_dir().then_some(path)
}

/// The folder itself where `enters` says that the server's user can, otherwise one elsewhere that is found again.
///
/// # Errors
/// [`StartError::Unreachable`] where no place is left.
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
