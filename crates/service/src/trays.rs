//! Trays: temporary addresses that keep what arrives, to look at before there is a flow for it. Bounded in number, bytes and
//! time. What they keep is in memory for whoever looks, and in the database for the next start ([`tapped`] does both).

pub mod tapped;

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

impl Caught {
    /// The bytes that it takes: of the body, and of what was told beside it.
    fn size(&self) -> usize {
        let told = |(name, value): (&String, &Value)| name.len() + value.as_str().map_or(16, str::len);
        self.body.len() + self.line.len() + self.told.iter().map(told).sum::<usize>()
    }
}

impl Trays {
    /// Opens a tray under a name; `None` when too many are open.
    pub fn open(&self, name: &str, kind: TrayKind, until: Timestamp, by: &str, now: Timestamp) -> Option<()> {
        let mut open = self.open.lock().expect("no holder panics");
        open.retain(|_, tray| tray.until > now);
        if open.len() >= TRAYS {
            return None;
        }
        open.insert(name.to_owned(), Tray::new(kind, until, by));
        Some(())
    }

    /// Gives a tray the task that fills it; it ends with the tray.
    pub fn fill(&self, name: &str, task: JoinHandle<()>) {
        match self.open.lock().expect("no holder panics").get_mut(name) {
            Some(tray) => tray.task = Some(task),
            None => task.abort(),
        }
    }

    /// Keeps what arrived, and gives it with the number of the oldest that is kept; `None` when there is no such tray (any more).
    pub fn catch(
        &self,
        name: &str,
        line: String,
        told: Map<String, Value>,
        body: &[u8],
        now: Timestamp,
    ) -> Option<(Caught, u64)> {
        let mut open = self.open.lock().expect("no holder panics");
        let tray = open.get_mut(name).filter(|tray| tray.until > now)?;
        let caught = Caught { n: tray.arrived + 1, at: now, line, told, body: body.into() };
        Some((caught.clone(), tray.keep(caught)))
    }

    /// Opens a tray of an earlier start again, with what it kept, the oldest first.
    pub fn restore(&self, name: &str, kind: TrayKind, until: Timestamp, by: &str, caught: Vec<Caught>) {
        let mut tray = Tray::new(kind, until, by);
        for one in caught {
            tray.keep(one);
        }
        self.open.lock().expect("no holder panics").insert(name.to_owned(), tray);
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

impl Tray {
    fn new(kind: TrayKind, until: Timestamp, by: &str) -> Self {
        let (by, says) = (by.to_owned(), String::new());
        Self { kind, until, by, arrived: 0, caught: VecDeque::new(), bytes: 0, says, task: None }
    }

    /// Keeps one more, and as many before it as there is room for; gives the number of the oldest.
    fn keep(&mut self, caught: Caught) -> u64 {
        self.arrived = caught.n;
        self.bytes += caught.size();
        self.caught.push_back(caught);
        while self.caught.len() > KEPT || (self.bytes > KEPT_BYTES && self.caught.len() > 1) {
            self.bytes -= self.caught.pop_front().map_or(0, |oldest| oldest.size());
        }
        self.caught.front().map_or(1, |oldest| oldest.n)
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
            assert!(trays.catch("t", "POST /".into(), Map::new(), b"{}", NOW).is_some());
        }
        let (arrived, numbers) = kept(&trays);
        assert_eq!((arrived, numbers.len(), numbers[0]), (105, KEPT, 6));
        assert!(trays.catch("t", String::new(), Map::new(), b"", Timestamp(9_000_001)).is_none(), "its time is over");
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
        let told = Map::from_iter([("x-long".to_owned(), Value::from("x".repeat(KEPT_BYTES)))]);
        trays.catch("t", String::new(), told, b"", NOW);
        assert_eq!(kept(&trays), (4, vec![4]), "headers count too");
        (1..TRAYS).for_each(|n| open(&trays, &n.to_string()).unwrap());
        assert!(open(&trays, "one too many").is_none());
        assert!(trays.close("t") && !trays.close("t"));
        assert!(open(&trays, "in its place").is_some());
    }
}
