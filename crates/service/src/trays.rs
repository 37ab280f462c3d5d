//! Trays: temporary addresses that keep what arrives, to look at before there is a flow for it. Kept in memory, bounded in
//! number, bytes and time; nothing of them outlives the service.

use serde_json::{Map, Value};
use std::collections::{BTreeMap, VecDeque};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::task::JoinHandle;
use wirewatch_core::Timestamp;

/// Trays at a time, and what one keeps: the newest so many, of so many bytes together.
const TRAYS: usize = 20;
const KEPT: usize = 100;
const KEPT_BYTES: usize = 16 << 20;
/// How long a tray is open, when nothing is said, and at most.
pub const OPEN: Duration = Duration::from_secs(3600);
pub const LONGEST: Duration = Duration::from_secs(24 * 3600);

/// Every open tray, by name. Cloning shares them.
#[derive(Debug, Clone, Default)]
pub struct Trays {
    open: Arc<Mutex<BTreeMap<String, Tray>>>,
}

/// One tray.
#[derive(Debug)]
pub struct Tray {
    pub kind: TrayKind,
    pub until: Timestamp,
    pub by: String,
    /// Things that arrived, those no longer kept included.
    pub arrived: u64,
    pub caught: VecDeque<Caught>,
    bytes: usize,
    /// Why nothing more arrives; empty while it does.
    pub says: String,
    task: Option<JoinHandle<()>>,
}

/// Where a tray stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TrayKind {
    /// An address that anybody may call.
    Http,
    /// Beside the queues of an exchange.
    Queue { connection: String, exchange: String, pattern: String },
}

/// Something that arrived in a tray.
#[derive(Debug, Clone)]
pub struct Caught {
    /// Counted from 1 in its tray.
    pub n: u64,
    pub at: Timestamp,
    /// The request's first line, or exchange and routing key.
    pub line: String,
    /// Headers of a call; what a broker told of a message.
    pub told: Map<String, Value>,
    pub body: Arc<[u8]>,
}

impl Trays {
    /// Opens a tray under a name; `None` when too many are open.
    pub fn open(&self, name: &str, kind: TrayKind, until: Timestamp, by: &str, now: Timestamp) -> Option<()> {
        let mut open = self.open.lock().expect("no holder panics");
        open.retain(|_, tray| tray.until > now);
        if open.len() >= TRAYS {
            return None;
        }
        let tray = Tray {
            kind,
            until,
            by: by.to_owned(),
            arrived: 0,
            caught: VecDeque::new(),
            bytes: 0,
            says: String::new(),
            task: None,
        };
        open.insert(name.to_owned(), tray);
        Some(())
    }

    /// Gives a tray the task that fills it; it ends with the tray.
    pub fn fill(&self, name: &str, task: JoinHandle<()>) {
        match self.open.lock().expect("no holder panics").get_mut(name) {
            Some(tray) => tray.task = Some(task),
            None => task.abort(),
        }
    }

    /// Keeps what arrived; `false` when there is no such tray (any more).
    pub fn catch(&self, name: &str, line: String, told: Map<String, Value>, body: &[u8], now: Timestamp) -> bool {
        let mut open = self.open.lock().expect("no holder panics");
        let Some(tray) = open.get_mut(name).filter(|tray| tray.until > now) else { return false };
        tray.arrived += 1;
        tray.bytes += body.len();
        tray.caught.push_back(Caught { n: tray.arrived, at: now, line, told, body: body.into() });
        while tray.caught.len() > KEPT || (tray.bytes > KEPT_BYTES && tray.caught.len() > 1) {
            tray.bytes -= tray.caught.pop_front().map_or(0, |oldest| oldest.body.len());
        }
        true
    }

    /// Says why nothing more arrives.
    pub fn ended(&self, name: &str, says: &str) {
        if let Some(tray) = self.open.lock().expect("no holder panics").get_mut(name) {
            says.clone_into(&mut tray.says);
        }
    }

    /// Reads one tray; `None` when there is none of that name.
    pub fn read<T>(&self, name: &str, now: Timestamp, read: impl FnOnce(&Tray) -> T) -> Option<T> {
        self.open.lock().expect("no holder panics").get(name).filter(|tray| tray.until > now).map(read)
    }

    /// Reads every tray.
    pub fn all<T>(&self, now: Timestamp, read: impl Fn(&str, &Tray) -> T) -> Vec<T> {
        let mut open = self.open.lock().expect("no holder panics");
        open.retain(|_, tray| tray.until > now);
        open.iter().map(|(name, tray)| read(name, tray)).collect()
    }

    /// Closes a tray; `false` when there was none.
    pub fn close(&self, name: &str) -> bool {
        self.open.lock().expect("no holder panics").remove(name).is_some()
    }
}

impl Drop for Tray {
    fn drop(&mut self) {
        if let Some(task) = &self.task {
            task.abort();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const NOW: Timestamp = Timestamp(1_000_000);

    fn open(trays: &Trays, name: &str) -> Option<()> {
        trays.open(name, TrayKind::Http, Timestamp(9_000_000), "ada", NOW)
    }

    fn kept(trays: &Trays) -> (u64, Vec<u64>) {
        trays.read("t", NOW, |tray| (tray.arrived, tray.caught.iter().map(|one| one.n).collect())).unwrap()
    }

    #[test]
    fn a_tray_keeps_the_newest_and_goes_when_its_time_is_over() {
        let trays = Trays::default();
        open(&trays, "t").unwrap();
        for _ in 0..KEPT + 5 {
            assert!(trays.catch("t", "POST /".into(), Map::new(), b"{}", NOW));
        }
        let (arrived, numbers) = kept(&trays);
        assert_eq!((arrived, numbers.len(), numbers[0]), (105, KEPT, 6));
        assert!(!trays.catch("t", String::new(), Map::new(), b"", Timestamp(9_000_001)), "its time is over");
        assert!(trays.all(Timestamp(9_000_001), |name, _| name.to_owned()).is_empty());
    }

    #[test]
    fn a_tray_is_bounded_in_bytes_and_trays_in_number() {
        let trays = Trays::default();
        open(&trays, "t").unwrap();
        for _ in 0..3 {
            trays.catch("t", String::new(), Map::new(), &vec![0; KEPT_BYTES / 2], NOW);
        }
        assert_eq!(kept(&trays), (3, vec![2, 3]));
        (1..TRAYS).for_each(|n| open(&trays, &n.to_string()).unwrap());
        assert!(open(&trays, "one too many").is_none());
        assert!(trays.close("t") && !trays.close("t"));
        assert!(open(&trays, "in its place").is_some());
    }
}
