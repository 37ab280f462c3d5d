//! The folders below which folders of connections may be.

use std::path::{Component, Path, PathBuf};

/// The allowed roots: the service's files folder, and those that the operator allowed.
#[derive(Debug, Clone)]
pub struct Roots {
    files: PathBuf,
    allowed: Vec<PathBuf>,
}

impl Roots {
    /// Relative paths start at `files`; absolute ones must lie there or below one of `allowed`.
    #[must_use]
    pub fn new(files: PathBuf, allowed: Vec<PathBuf>) -> Self {
        Self { files, allowed }
    }

    /// Resolves a connection's `path` to a folder; symbolic links are followed.
    ///
    /// # Errors
    /// A sentence with what to do, when it is outside the roots.
    pub fn folder(&self, path: &str) -> Result<PathBuf, String> {
        let folder = self.files.join(path);
        let inside = |root: &PathBuf| real(root).is_some_and(|root| real(&folder).is_some_and(|real| real.starts_with(root)));
        if std::iter::once(&self.files).chain(&self.allowed).any(inside) {
            return Ok(folder);
        }
        let files = self.files.display();
        Err(format!(
            "{path} is not below the service's files folder ({files}); move it there, or have the operator start the service \
                with --allow-folder"
        ))
    }
}

/// Resolves links and `..`; missing parts are taken literally. `None` for a `..` after a missing part, whose meaning could change
/// later.
fn real(path: &Path) -> Option<PathBuf> {
    let path = std::path::absolute(path).ok()?;
    let exists = path.ancestors().find_map(|part| Some((part.canonicalize().ok()?, path.strip_prefix(part).ok()?)));
    let (real, rest) = exists?;
    let plain = rest.components().all(|part| matches!(part, Component::Normal(_) | Component::CurDir));
    plain.then(|| real.join(rest))
}

#[cfg(test)]
mod tests {
    use super::Roots;

    #[test]
    fn folders_lie_below_the_files_folder_or_one_that_was_allowed() {
        let place = tempfile::tempdir().unwrap();
        let at = |name: &str| place.path().join(name);
        for name in ["files/in", "shared/partner", "secret"] {
            std::fs::create_dir_all(at(name)).unwrap();
        }
        std::os::unix::fs::symlink(at("secret"), at("files/link")).unwrap();
        let text = |name: &str| at(name).to_string_lossy().into_owned();
        let roots = Roots::new(at("files"), vec![at("shared")]);
        let allowed = |path: &str| roots.folder(path).is_ok();
        for path in ["in", "in/../in", "new/deep", "", ".", &text("shared/partner"), &text("shared/new")] {
            assert!(allowed(path), "{path}");
        }
        for path in
            ["..", "../secret", "in/../../secret", "new/../../secret", "link", "link/x", "/", "/etc", &text("sharedother")]
        {
            assert!(!allowed(path), "{path}");
        }
        let says = roots.folder("/etc").unwrap_err();
        assert!(says.starts_with("/etc is not below") && says.contains("--allow-folder"), "{says}");
    }
}
