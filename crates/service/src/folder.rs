//! Reads a workspace folder from disk.

use std::io;
use std::path::Path;
use wirewatch_core::Finding;
use wirewatch_core::workspace::{Files, has_folder, stranger};

/// Largest file of a workspace; a sample that is larger belongs elsewhere.
const MAX_FILE: u64 = 4 << 20;
/// Deepest nesting of its folders.
const DEEPEST: usize = 16;

/// Reads the files of the workspace at `root`: those of known kinds only.
///
/// # Errors
/// The system's, or `InvalidData` with the path for a file that is not text or too large, or folders nested too deep.
pub fn read_workspace(root: &Path) -> io::Result<Files> {
    Ok(read_folder(root)?.0)
}

/// The same, and a warning of each file and folder that is left out; hidden ones are left out without one.
///
/// # Errors
/// As [`read_workspace`].
pub fn read_folder(root: &Path) -> io::Result<(Files, Vec<Finding>)> {
    let mut read = Read { root, files: Files::new(), left_out: Vec::new() };
    read.folder(root, 0)?;
    read.left_out.sort_by(|a, b| a.file.cmp(&b.file));
    Ok((read.files, read.left_out))
}

struct Read<'r> {
    root: &'r Path,
    files: Files,
    left_out: Vec<Finding>,
}

impl Read<'_> {
    fn folder(&mut self, folder: &Path, depth: usize) -> io::Result<()> {
        let failed = |path: &Path, error: io::Error| io::Error::new(error.kind(), format!("{}: {error}", path.display()));
        let wrong = |path: &Path, says: String| failed(path, io::Error::new(io::ErrorKind::InvalidData, says));
        if depth > DEEPEST {
            return Err(wrong(
                folder,
                format!("folders are nested more than {DEEPEST} deep; is there a symbolic link to a parent?"),
            ));
        }
        for entry in std::fs::read_dir(folder).map_err(|error| failed(folder, error))? {
            let path = entry?.path();
            if path.file_name().is_none_or(|name| name.to_string_lossy().starts_with('.')) {
                continue;
            }
            let name = path.strip_prefix(self.root).unwrap_or(&path).to_string_lossy().replace('\\', "/");
            let about = path.metadata().map_err(|error| failed(&path, error))?;
            if about.is_dir() {
                match depth > 0 || has_folder(&name) {
                    true => self.folder(&path, depth + 1)?,
                    false => self.left_out.extend(stranger(&format!("{name}/"))),
                }
                continue;
            }
            if let Some(finding) = stranger(&name) {
                self.left_out.push(finding);
                continue;
            }
            if !about.is_file() {
                return Err(wrong(&path, "this is not a regular file".to_owned()));
            }
            if about.len() > MAX_FILE {
                return Err(wrong(&path, format!("larger than {MAX_FILE} bytes")));
            }
            self.files.insert(name, std::fs::read_to_string(&path).map_err(|error| failed(&path, error))?);
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_belongs_to_a_workspace_is_read() {
        let root = tempfile::tempdir().unwrap();
        let write = |path: &str, bytes: &[u8]| {
            let path = root.path().join(path);
            std::fs::create_dir_all(path.parent().unwrap()).unwrap();
            std::fs::write(path, bytes).unwrap();
        };
        write("workspace.toml", b"format = 1\n");
        write("maps/deep/a.toml", b"");
        write("maps/notes.txt", b"");
        write("state/secrets.key", b"00");
        write("samples/state/token.json", b"{}");
        write("photos/bee.png", &[0xFF, 0xD8]);
        write(".git/config", b"");
        let (files, left_out) = read_folder(root.path()).unwrap();
        assert_eq!(files.keys().collect::<Vec<_>>(), ["maps/deep/a.toml", "workspace.toml"]);
        let left_out: Vec<&str> = left_out.iter().map(|one| one.file.as_str()).collect();
        assert_eq!(left_out, ["maps/notes.txt", "photos/", "samples/state/token.json", "state/"]);
        write("maps/pipe.toml", &[0xFF]);
        assert!(read_folder(root.path()).unwrap_err().to_string().contains("pipe.toml: stream did not contain valid UTF-8"));
        std::fs::remove_file(root.path().join("maps/pipe.toml")).unwrap();
        std::os::unix::fs::symlink(root.path().join("maps"), root.path().join("maps/again")).unwrap();
        assert!(read_folder(root.path()).unwrap_err().to_string().contains("is there a symbolic link to a parent?"));
    }
}
