//! Files that cannot be read or archived, for people to see.

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use wirewatch_core::Timestamp;

/// Files shown of one connection, at most.
const SHOWN: usize = 100;

/// Faults of files by connection and name; an empty name is the folder itself. Clones share them.
#[derive(Debug, Clone, Default)]
pub struct Faults(Arc<Mutex<BTreeMap<String, BTreeMap<String, Fault>>>>);

/// Fault of one file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fault {
    pub since: Timestamp,
    pub says: String,
}

impl Faults {
    /// Returns the faults at a connection, by file.
    #[must_use]
    pub fn at(&self, connection: &str) -> Vec<(String, Fault)> {
        let known = self.0.lock().expect("no holder panics");
        known.get(connection).into_iter().flatten().map(|(file, fault)| (file.clone(), fault.clone())).collect()
    }

    /// Replaces the faults of a connection with those of a scan; known faults keep their time. New ones are logged.
    pub(super) fn found(&self, connection: &str, found: Vec<(String, String)>, now: Timestamp) {
        let mut known = self.0.lock().expect("no holder panics");
        let before = known.remove(connection).unwrap_or_default();
        let mut after = BTreeMap::new();
        for (file, says) in found.into_iter().take(SHOWN) {
            let same = before.get(&file).filter(|fault| fault.says == says);
            if same.is_none() {
                tracing::warn!(connection, file, says, "a file cannot be received or archived");
            }
            let since = same.map_or(now, |fault| fault.since);
            after.insert(file, Fault { since, says });
        }
        if !after.is_empty() {
            known.insert(connection.to_owned(), after);
        }
    }

    /// Records that no flow takes files from there any more.
    pub fn forget(&self, connection: &str) {
        self.0.lock().expect("no holder panics").remove(connection);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fault_keeps_its_time_until_it_changes_or_goes() {
        let faults = Faults::default();
        let found = |says: &str, at| faults.found("drop", vec![("a.edi".into(), says.into())], Timestamp(at));
        found("no right to read it", 1);
        found("no right to read it", 2);
        assert_eq!(faults.at("drop"), [("a.edi".to_owned(), Fault { since: Timestamp(1), says: "no right to read it".into() })]);
        found("it is gone", 3);
        assert_eq!(faults.at("drop")[0].1.since, Timestamp(3));
        faults.found("drop", Vec::new(), Timestamp(4));
        assert!(faults.at("drop").is_empty());
    }
}
