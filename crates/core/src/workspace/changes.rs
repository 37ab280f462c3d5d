//! Changes of a release, and whether it would take back what a newer release has changed.

use super::Files;
use serde::{Deserialize, Serialize};
use similar::{ChangeTag, TextDiff};
use std::collections::BTreeSet;

/// Change of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum What {
    New,
    Changed,
    Gone,
}

/// A file that differs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FileChange {
    pub file: String,
    pub what: What,
    /// Lines.
    pub added: usize,
    pub removed: usize,
}

/// The files that differ, by path.
#[must_use]
pub fn changes(from: &Files, to: &Files) -> Vec<FileChange> {
    differing(from, to)
        .map(|file| {
            let (before, after) = (from.get(file), to.get(file));
            let text = |side: Option<&String>| side.map_or("", String::as_str).to_owned();
            let (old, new) = (text(before), text(after));
            let (mut added, mut removed) = (0, 0);
            for change in TextDiff::from_lines(&old, &new).iter_all_changes() {
                match change.tag() {
                    ChangeTag::Insert => added += 1,
                    ChangeTag::Delete => removed += 1,
                    ChangeTag::Equal => {}
                }
            }
            let what = match (before, after) {
                (None, _) => What::New,
                (_, None) => What::Gone,
                (Some(_), Some(_)) => What::Changed,
            };
            FileChange { file: file.to_owned(), what, added, removed }
        })
        .collect()
}

/// A file that is as it was before a release changed it: its copy is older than that release.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TakenBack {
    pub file: String,
    /// The newest release that has it so.
    pub as_in: i64,
    /// The release after it, which changed it.
    pub changed_by: i64,
}

/// Returns the files of `given` that would take back what a release has changed. `releases` are the last ones by number, the
/// current one last.
#[must_use]
pub fn taken_back(releases: &[(i64, Files)], given: &Files) -> Vec<TakenBack> {
    let Some((_, current)) = releases.last() else { return Vec::new() };
    let back = |file: &str| {
        let at = releases.iter().rposition(|(_, files)| files.get(file) == given.get(file))?;
        let (as_in, changed_by) = (releases[at].0, releases.get(at + 1)?.0);
        Some(TakenBack { file: file.to_owned(), as_in, changed_by })
    };
    differing(current, given).filter_map(back).collect()
}

fn differing<'a>(from: &'a Files, to: &'a Files) -> impl Iterator<Item = &'a str> {
    let paths: BTreeSet<&str> = from.keys().chain(to.keys()).map(String::as_str).collect();
    paths.into_iter().filter(|path| from.get(*path) != to.get(*path))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn files(all: &[(&str, &str)]) -> Files {
        all.iter().map(|(path, text)| ((*path).to_owned(), (*text).to_owned())).collect()
    }

    #[test]
    fn each_file_that_differs_is_reported_with_its_lines() {
        let (from, to) =
            (files(&[("a", "1\n2\n"), ("b", "x\n"), ("c", "")]), files(&[("a", "1\n3\n4\n"), ("c", ""), ("d", "y\n")]));
        let found: Vec<_> = changes(&from, &to).into_iter().map(|one| (one.file, one.what, one.added, one.removed)).collect();
        let expected =
            [("a".to_owned(), What::Changed, 2, 1), ("b".to_owned(), What::Gone, 0, 1), ("d".to_owned(), What::New, 1, 0)];
        assert_eq!(found, expected);
    }

    #[test]
    fn a_copy_from_before_a_release_would_take_its_change_back() {
        let first = files(&[("a", "1"), ("b", "1")]);
        let second = files(&[("a", "2"), ("b", "1"), ("c", "1")]);
        let releases = [(1, first.clone()), (2, second)];
        let mine = Files::from([("b".to_owned(), "mine".to_owned())].into_iter().collect::<Files>());
        let stale: Files = first.into_iter().chain(mine).collect();
        let back: Vec<_> = taken_back(&releases, &stale).into_iter().map(|one| (one.file, one.as_in, one.changed_by)).collect();
        assert_eq!(back, [("a".to_owned(), 1, 2), ("c".to_owned(), 1, 2)], "c is new in release 2");
        let fresh = files(&[("a", "3"), ("b", "mine"), ("c", "1")]);
        assert!(taken_back(&releases, &fresh).is_empty());
    }

    proptest! {
        /// Files built on the current release with new texts only take nothing back.
        #[test]
        fn new_texts_never_take_back(
            history in prop::collection::vec(prop::collection::btree_map("[a-d]", "[x-z]", 0..4), 1..5),
            edits in prop::collection::btree_map("[a-f]", "new [0-9]", 0..4),
        ) {
            let releases: Vec<(i64, Files)> = (1..).zip(history).collect();
            let mut given = releases.last().unwrap().1.clone();
            given.extend(edits.clone());
            prop_assert!(taken_back(&releases, &given).is_empty());
            let found: Vec<String> = changes(&releases.last().unwrap().1, &given).into_iter().map(|one| one.file).collect();
            prop_assert_eq!(found, edits.into_keys().collect::<Vec<_>>());
        }
    }
}
