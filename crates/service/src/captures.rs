//! Captures: temporary addresses that keep what arrives, to look at before there is a flow for it. Bounded in number, bytes and
//! time. What they keep is in memory for readers and in the database for the next start ([`tapped`] writes both).

pub mod tapped;

use serde_json::{Map, Value};
use std::collections::{BTreeMap, VecDeque};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::task::JoinHandle;
use wirewatch_core::Timestamp;

/// Captures at a time, and what one keeps: the newest items, up to this number and these bytes.
const CAPTURES: usize = 20;
const MAX_ITEMS: usize = 100;
const MAX_BYTES: usize = 16 << 20;
/// Default and longest lifetime of a capture.
pub const OPEN: Duration = Duration::from_secs(3600);
pub const LONGEST: Duration = Duration::from_secs(24 * 3600);

/// Every open capture, by name. Cloning shares them.
#[derive(Debug, Clone, Default)]
pub struct Captures {
    open: Arc<Mutex<BTreeMap<String, Capture>>>,
}

/// A capture.
#[derive(Debug)]
pub struct Capture {
    pub kind: CaptureKind,
    pub until: Timestamp,
    pub by: String,
    /// Items that arrived, including those already dropped.
    pub arrived: u64,
    pub caught: VecDeque<Caught>,
    bytes: usize,
    /// Why nothing more arrives; empty while it does.
    pub says: String,
    task: Option<JoinHandle<()>>,
}

/// The source of a capture.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CaptureKind {
    /// An address that anybody may call.
    Http,
    /// Beside the queues of an exchange.
    Queue { connection: String, exchange: String, pattern: String },
}

/// Something that arrived in a capture.
#[derive(Debug, Clone)]
pub struct Caught {
    /// Counted from 1 in its capture.
    pub n: u64,
    pub at: Timestamp,
    /// The request's first line, or exchange and routing key.
    pub line: String,
    /// Headers of a call, or properties of a message at a broker.
    pub headers: Map<String, Value>,
    pub body: Arc<[u8]>,
}

impl Caught {
    /// Returns the bytes that it takes, headers included.
    fn size(&self) -> usize {
        let headers = |(name, value): (&String, &Value)| name.len() + value.as_str().map_or(16, str::len);
        self.body.len() + self.line.len() + self.headers.iter().map(headers).sum::<usize>()
    }
}

impl Captures {
    /// Opens a capture under a name; `None` when too many are open.
    pub fn open(&self, name: &str, kind: CaptureKind, until: Timestamp, by: &str, now: Timestamp) -> Option<()> {
        let mut open = self.open.lock().expect("no holder panics");
        open.retain(|_, capture| capture.until > now);
        if open.len() >= CAPTURES {
            return None;
        }
        open.insert(name.to_owned(), Capture::new(kind, until, by));
        Some(())
    }

    /// Gives a capture the task that fills it; it ends with the capture.
    pub fn fill(&self, name: &str, task: JoinHandle<()>) {
        match self.open.lock().expect("no holder panics").get_mut(name) {
            Some(capture) => capture.task = Some(task),
            None => task.abort(),
        }
    }

    /// Keeps an item; returns it with the number of the oldest stored item, or `None` when there is no such capture.
    pub fn catch(
        &self,
        name: &str,
        line: String,
        headers: Map<String, Value>,
        body: &[u8],
        now: Timestamp,
    ) -> Option<(Caught, u64)> {
        let mut open = self.open.lock().expect("no holder panics");
        let capture = open.get_mut(name).filter(|capture| capture.until > now)?;
        let caught = Caught { n: capture.arrived + 1, at: now, line, headers, body: body.into() };
        Some((caught.clone(), capture.keep(caught)))
    }

    /// Restores a capture of an earlier start with its items, oldest first.
    pub fn restore(&self, name: &str, kind: CaptureKind, until: Timestamp, by: &str, caught: Vec<Caught>) {
        let mut capture = Capture::new(kind, until, by);
        for one in caught {
            capture.keep(one);
        }
        self.open.lock().expect("no holder panics").insert(name.to_owned(), capture);
    }

    /// Says why nothing more arrives.
    pub fn ended(&self, name: &str, says: &str) {
        if let Some(capture) = self.open.lock().expect("no holder panics").get_mut(name) {
            says.clone_into(&mut capture.says);
        }
    }

    /// Reads one capture; `None` when there is none of that name.
    pub fn read<T>(&self, name: &str, now: Timestamp, read: impl FnOnce(&Capture) -> T) -> Option<T> {
        self.open.lock().expect("no holder panics").get(name).filter(|capture| capture.until > now).map(read)
    }

    /// Reads every capture.
    pub fn all<T>(&self, now: Timestamp, read: impl Fn(&str, &Capture) -> T) -> Vec<T> {
        let mut open = self.open.lock().expect("no holder panics");
        open.retain(|_, capture| capture.until > now);
        open.iter().map(|(name, capture)| read(name, capture)).collect()
    }

    /// Closes a capture; `false` when there was none.
    pub fn close(&self, name: &str) -> bool {
        self.open.lock().expect("no holder panics").remove(name).is_some()
    }
}

impl Capture {
    fn new(kind: CaptureKind, until: Timestamp, by: &str) -> Self {
        let (by, says) = (by.to_owned(), String::new());
        Self { kind, until, by, arrived: 0, caught: VecDeque::new(), bytes: 0, says, task: None }
    }

    /// Keeps one more, and as many before it as there is room for; gives the number of the oldest.
    fn keep(&mut self, caught: Caught) -> u64 {
        self.arrived = caught.n;
        self.bytes += caught.size();
        self.caught.push_back(caught);
        while self.caught.len() > MAX_ITEMS || (self.bytes > MAX_BYTES && self.caught.len() > 1) {
            self.bytes -= self.caught.pop_front().map_or(0, |oldest| oldest.size());
        }
        self.caught.front().map_or(1, |oldest| oldest.n)
    }
}

impl Drop for Capture {
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

    fn open(captures: &Captures, name: &str) -> Option<()> {
        captures.open(name, CaptureKind::Http, Timestamp(9_000_000), "ada", NOW)
    }

    fn stored(captures: &Captures) -> (u64, Vec<u64>) {
        captures.read("t", NOW, |capture| (capture.arrived, capture.caught.iter().map(|one| one.n).collect())).unwrap()
    }

    #[test]
    fn a_capture_keeps_the_newest_and_goes_when_its_time_is_over() {
        let captures = Captures::default();
        open(&captures, "t").unwrap();
        for _ in 0..MAX_ITEMS + 5 {
            assert!(captures.catch("t", "POST /".into(), Map::new(), b"{}", NOW).is_some());
        }
        let (arrived, numbers) = stored(&captures);
        assert_eq!((arrived, numbers.len(), numbers[0]), (105, MAX_ITEMS, 6));
        assert!(captures.catch("t", String::new(), Map::new(), b"", Timestamp(9_000_001)).is_none(), "its time is over");
        assert!(captures.all(Timestamp(9_000_001), |name, _| name.to_owned()).is_empty());
    }

    #[test]
    fn a_capture_is_bounded_in_bytes_and_captures_in_number() {
        let captures = Captures::default();
        open(&captures, "t").unwrap();
        for _ in 0..3 {
            captures.catch("t", String::new(), Map::new(), &vec![0; MAX_BYTES / 2], NOW);
        }
        assert_eq!(stored(&captures), (3, vec![2, 3]));
        let headers = Map::from_iter([("x-long".to_owned(), Value::from("x".repeat(MAX_BYTES)))]);
        captures.catch("t", String::new(), headers, b"", NOW);
        assert_eq!(stored(&captures), (4, vec![4]), "headers count too");
        (1..CAPTURES).for_each(|n| open(&captures, &n.to_string()).unwrap());
        assert!(open(&captures, "one too many").is_none());
        assert!(captures.close("t") && !captures.close("t"));
        assert!(open(&captures, "in its place").is_some());
    }
}
