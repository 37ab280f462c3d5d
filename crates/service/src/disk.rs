//! Free space on the disks that the service writes to.

use std::path::{Path, PathBuf};

/// Bytes that must be free, so that small files can still be written.
const LEAST: u64 = 16 << 20;

/// Returns a sentence for each folder whose disk is full or cannot be read.
pub fn full<'a>(folders: impl IntoIterator<Item = &'a PathBuf>) -> Vec<String> {
    folders.into_iter().filter_map(|folder| judged(folder, free(folder))).collect()
}

fn free(folder: &Path) -> Result<u64, String> {
    let about = rustix::fs::statvfs(folder).map_err(|error| error.to_string())?;
    Ok(about.f_bavail.saturating_mul(about.f_frsize))
}

fn judged(folder: &Path, free: Result<u64, String>) -> Option<String> {
    let folder = folder.display();
    match free {
        Ok(free) if free < LEAST => Some(format!("the disk of {folder} is full: {} MB are free; make room", free >> 20)),
        Ok(_) => None,
        Err(says) => Some(format!("{folder} cannot be used: {says}")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_full_disk_and_a_folder_that_is_gone_are_reported_with_their_path() {
        let folder = Path::new("/srv/state");
        assert_eq!(judged(folder, Ok(LEAST)), None);
        let says = judged(folder, Ok(3 << 20)).unwrap();
        assert_eq!(says, "the disk of /srv/state is full: 3 MB are free; make room");
        let here = tempfile::tempdir().unwrap();
        assert!(full([&here.path().to_owned()]).is_empty());
        assert!(full([&here.path().join("gone")])[0].contains("gone cannot be used"));
    }
}
