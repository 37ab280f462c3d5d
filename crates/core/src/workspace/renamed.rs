//! Words of workspace files that were called otherwise in earlier versions, so that a finding can say what they are called now.

/// Keys: what they were called, and what they are called now.
const KEYS: [(&str, &str); 9] = [
    ("sign_in", "auth"),
    ("wait", "timeout"),
    ("look_at", "probe"),
    ("former", "old_paths"),
    ("largest", "max_body"),
    ("topic", "routing_key"),
    ("key", "routing_key"),
    ("on_aside", "after_failure"),
    ("kind", "replicated"),
];

/// Values of keys.
const VALUES: [(&str, &str); 3] = [("aside", "failed"), ("held", "on-hold"), ("free", "resumed")];

/// Folders.
const FOLDERS: [(&str, &str); 2] = [("outlines", "schemas"), ("courses", "milestones")];

fn new_name(table: &[(&str, &'static str)], old: &str, mut is_known: impl FnMut(&str) -> bool) -> Option<&'static str> {
    table.iter().find(|(word, new)| *word == old && is_known(new)).map(|(_, new)| *new)
}

/// The present name of a key, where that is one of the `known` ones.
pub(super) fn key(old: &str, known: &[&str]) -> Option<&'static str> {
    new_name(&KEYS, old, |new| known.contains(&new))
}

/// Returns the present word for a retired value, if it is one of the `known` ones.
pub(super) fn value(old: &str, known: &[&str]) -> Option<&'static str> {
    new_name(&VALUES, old, |new| known.contains(&new))
}

/// The present name of a folder.
pub(super) fn folder(old: &str) -> Option<&'static str> {
    new_name(&FOLDERS, old, |_| true)
}
