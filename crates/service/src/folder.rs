//! Reads a workspace folder from disk.

use std::io;
use std::path::Path;
use wirewatch_core::workspace::Files;

/// Largest file of a workspace; a sample that is larger belongs elsewhere.
const LARGEST: u64 = 4 << 20;

/// Every text file below `root`, hidden ones and build folders left out.
///
/// # Errors
/// The system's, or `InvalidData` for a file that is no text or too large, with its path.
pub fn read_workspace(root: &Path) -> io::Result<Files> {
    let mut files = Files::new();
    collect(root, root, &mut files)?;
    Ok(files)
}

fn collect(root: &Path, folder: &Path, files: &mut Files) -> io::Result<()> {
    let told = |path: &Path, error: io::Error| io::Error::new(error.kind(), format!("{}: {error}", path.display()));
    for entry in std::fs::read_dir(folder).map_err(|error| told(folder, error))? {
        let path = entry?.path();
        if path.file_name().is_none_or(|name| name.to_string_lossy().starts_with('.')) {
            continue;
        }
        if path.is_dir() {
            collect(root, &path, files)?;
            continue;
        }
        if path.metadata()?.len() > LARGEST {
            return Err(told(&path, io::Error::new(io::ErrorKind::InvalidData, format!("larger than {LARGEST} bytes"))));
        }
        let text = std::fs::read_to_string(&path).map_err(|error| told(&path, error))?;
        let name = path.strip_prefix(root).unwrap_or(&path).to_string_lossy().replace('\\', "/");
        files.insert(name, text);
    }
    Ok(())
}
