//! The files of a workspace: any other file is neither read nor released.

use super::{Files, renamed};
use crate::finding::{Finding, Severity};
use crate::nearest::nearest;

/// The folders of a workspace and the ending of the files in each.
pub(super) const KINDS: [(&str, &str); 12] = [
    ("authorities", ".pem"),
    ("env", ".toml"),
    ("connections", ".toml"),
    ("standards", ".toml"),
    ("guides", ".toml"),
    ("schemas", ".schema.json"),
    ("tables", ".csv"),
    ("functions", ".toml"),
    ("partners", ".toml"),
    ("maps", ".toml"),
    ("flows", ".toml"),
    ("milestones", ".toml"),
];
/// Folders for documents of any name.
const DOCUMENTS: [&str; 3] = ["cases", "kits", "samples"];
/// Files at the root.
const BESIDE: [&str; 3] = ["workspace.toml", "README.md", ".gitignore"];
/// Files of a state folder, which never belong to a workspace.
const OF_THE_STATE: [&str; 2] = ["secrets.key", "token.json"];

/// Place of a path in a workspace.
enum Place {
    Known,
    /// In a folder of a kind, without its ending.
    Ending(&'static str, &'static str),
    OfTheState,
    Nowhere,
}

fn place(path: &str) -> Place {
    let (folder, rest) = path.split_once('/').unwrap_or(("", path));
    let name = path.rsplit('/').next().unwrap_or(path);
    let climbs = path.contains(['\\', '\0']) || path.split('/').any(|part| ["", ".", ".."].contains(&part));
    match KINDS.iter().find(|(kind, _)| *kind == folder) {
        _ if climbs => Place::Nowhere,
        _ if OF_THE_STATE.contains(&name) => Place::OfTheState,
        Some((_, ending)) if rest.ends_with(ending) => Place::Known,
        Some((kind, ending)) => Place::Ending(kind, ending),
        None if DOCUMENTS.contains(&folder) || BESIDE.contains(&path) => Place::Known,
        None => Place::Nowhere,
    }
}

/// Returns whether a workspace has a file at this path below its root.
#[must_use]
pub fn has_place(path: &str) -> bool {
    matches!(place(path), Place::Known)
}

/// Returns whether a workspace has a folder of this name at its root.
#[must_use]
pub fn has_folder(name: &str) -> bool {
    KINDS.iter().any(|(kind, _)| *kind == name) || DOCUMENTS.contains(&name)
}

/// A warning of a file or folder that no workspace has, and that is left out; `None` of one that it has. A folder's path ends
/// with `/`.
#[must_use]
pub fn left_out(path: &str) -> Option<Finding> {
    let finding = |says: String| Finding::at(Severity::Warning, "workspace::stranger", path, "", 0..0, says);
    Some(match place(path) {
        Place::Known => return None,
        Place::Ending(kind, ending) => finding(format!("files under {kind}/ end with {ending}; this one is not read")),
        Place::OfTheState => finding("this file belongs to a state folder, not to a workspace: it is not read".to_owned()),
        Place::Nowhere => {
            let found = finding(format!("a {} at this place is not read", if path.ends_with('/') { "folder" } else { "file" }));
            let folder = path.split('/').next().unwrap_or_default();
            if let Some(new) = renamed::folder(folder) {
                return Some(Finding::at(
                    Severity::Error,
                    "workspace::renamed",
                    path,
                    "",
                    0..0,
                    format!("the folder {folder}/ was renamed to {new}/"),
                ));
            }
            let near = nearest(folder, KINDS.iter().map(|(kind, _)| *kind)).filter(|near| *near != folder);
            match near {
                Some(near) => found.help(format!("did you mean {near}/?")),
                None => found,
            }
        }
    })
}

/// The files that a workspace has among `files`, and a warning of each of the others.
#[must_use]
pub fn known(files: &Files) -> (Files, Vec<Finding>) {
    let findings = files.keys().filter_map(|path| left_out(path)).collect();
    let known = files.iter().filter(|(path, _)| has_place(path)).map(|(path, text)| (path.clone(), text.clone())).collect();
    (known, findings)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_belongs_to_no_workspace_is_left_out_and_reported() {
        let reported =
            |path: &str| left_out(path).map(|one| one.says + &one.help.map_or(String::new(), |help| format!(" ({help})")));
        for path in
            ["workspace.toml", "README.md", "maps/a/b.toml", "cases/x/given.edi", "samples/a.bin", "schemas/a.schema.json"]
        {
            assert_eq!((reported(path), has_place(path)), (None, true), "{path}");
        }
        let cases = [
            ("state/secrets.key", "this file belongs to a state folder, not to a workspace: it is not read"),
            ("samples/secrets.key", "this file belongs to a state folder, not to a workspace: it is not read"),
            ("cases/token.json", "this file belongs to a state folder, not to a workspace: it is not read"),
            ("map/a.toml", "a file at this place is not read (did you mean maps/?)"),
            ("state/", "a folder at this place is not read"),
            ("maps/a.txt", "files under maps/ end with .toml; this one is not read"),
            ("cases/../state/x", "a file at this place is not read"),
            ("maps//a.toml", "a file at this place is not read"),
            ("/etc/passwd", "a file at this place is not read"),
            ("", "a file at this place is not read"),
        ];
        for (path, says) in cases {
            assert_eq!((reported(path).as_deref(), has_place(path)), (Some(says), false), "{path}");
        }
        let files = Files::from(["maps/a.toml", "state/secrets.key"].map(|path| (path.to_owned(), String::new())));
        let (variables, reported) = known(&files);
        assert_eq!((variables.len(), reported.len(), variables.contains_key("maps/a.toml")), (1, 1, true));
    }
}
