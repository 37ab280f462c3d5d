//! A small journal in memory, and engines over it.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;
use std::sync::atomic::{AtomicI64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::sync::{Notify, Semaphore};
use wirewatch_core::connection::Connection;
use wirewatch_core::intake::{Splitting, Verdict};
use wirewatch_core::machine::{Outcome, Work};
use wirewatch_core::workspace::{Files, Workspace};
use wirewatch_core::{ArrivalId, Id, MessageId, Timestamp};
use wirewatch_engine::{
    Arriving, Damaged, Down, Engine, Hold, Journal, Links, Op, OpResult, Recovered, Releases, Settings, Shards, SplitRow, Splits,
    Spooled, Stored, SystemClock, Taken,
};

/// An empty journal, optionally with one splitting that breaks its reader. It stores everything, except when it is away or
/// refuses.
#[derive(Default)]
pub struct Small {
    pub breaks: bool,
    pub next: Mutex<Vec<Next>>,
    pub releases: BTreeMap<i64, Files>,
    /// The releases that were requested.
    pub asked: Mutex<Vec<i64>>,
    /// Batches are received only when this semaphore allows it.
    pub gate: Option<Arc<Semaphore>>,
    /// Groups are committed only when this semaphore allows it.
    pub commits: Option<Arc<Semaphore>>,
    /// Duration of receiving one batch.
    pub takes: Duration,
    /// The arrivals received, in order.
    pub took: Mutex<Vec<ArrivalId>>,
    /// The arrivals received earlier.
    pub before: BTreeSet<ArrivalId>,
    pub spools: Mutex<BTreeMap<Id, Spooled>>,
    /// Number of calls that were read again.
    pub read_back: AtomicUsize,
    /// A message that is unfinished.
    pub found: Option<(Recovered, Stored)>,
    /// Requests and commits, in short form.
    pub notes: Mutex<Vec<String>>,
    /// Notified of each batch, and when no call is stored any more.
    pub passed: Notify,
    pub emptied: Notify,
    pub minted: AtomicI64,
}

/// The fate of the next batch.
pub enum Next {
    Away,
    Refused,
    /// It is done, and the answer is lost.
    Lost,
}

impl Journal for Small {
    async fn commit(&self, _: u64, ops: &[Op]) -> Result<Vec<OpResult>, Down> {
        if let Some(commits) = &self.commits {
            self.notes.lock().unwrap().push(format!("commit {}", ops.len()));
            self.passed.notify_one();
            commits.acquire().await.unwrap().forget();
        }
        for op in ops {
            if let Op::Change(change) = op {
                let reason = change.reason.as_ref().map(|reason| reason.code.to_string()).unwrap_or_default();
                self.notes.lock().unwrap().push(format!("{} {reason}", change.state.as_str()));
                self.passed.notify_one();
            }
        }
        Ok(vec![OpResult::Committed; ops.len()])
    }
    async fn take(&self, batch: Vec<Arriving>) -> Result<Vec<Taken>, Down> {
        let taken = || Taken::Now {
            verdict: Verdict::Received,
            says: String::new(),
            partner: String::new(),
            messages: Vec::new(),
            splits: Splits::Nothing,
        };
        if let Some(gate) = &self.gate {
            gate.acquire().await.unwrap().forget();
        }
        if !self.takes.is_zero() {
            tokio::time::sleep(self.takes).await;
        }
        match self.next.lock().unwrap().pop() {
            Some(Next::Away | Next::Lost) => return Err(Down("away".into())),
            Some(Next::Refused) => return Ok(batch.iter().map(|_| Taken::Refused("too odd".into())).collect()),
            None => {}
        }
        self.took.lock().unwrap().extend(batch.iter().map(|arriving| arriving.incoming.id));
        self.passed.notify_one();
        Ok(batch.iter().map(|_| taken()).collect())
    }
    async fn taken(&self, id: ArrivalId) -> Result<Option<Taken>, Down> {
        Ok(self.before.contains(&id).then_some(Taken::Before(id)))
    }
    async fn spool(&self, spooled: &Spooled) -> Result<(), Down> {
        let next = self.next.lock().unwrap().pop();
        if !matches!(next, Some(Next::Away)) {
            self.spools.lock().unwrap().insert(spooled.id, spooled.clone());
        }
        if next.is_some() { Err(Down("away".into())) } else { Ok(()) }
    }
    async fn spooled(&self, id: Id) -> Result<Option<Spooled>, Down> {
        let spooled = self.spools.lock().unwrap().get(&id).cloned();
        self.read_back.fetch_add(spooled.as_ref().map_or(0, |spooled| spooled.calls.len()), Ordering::Relaxed);
        Ok(spooled)
    }
    async fn spools(&self) -> Result<Vec<Id>, Down> {
        Ok(self.spools.lock().unwrap().keys().copied().collect())
    }
    async fn unspool(&self, ids: &[Id]) -> Result<(), Down> {
        let mut spools = self.spools.lock().unwrap();
        spools.retain(|id, _| !ids.contains(id));
        if spools.is_empty() {
            self.emptied.notify_one();
        }
        Ok(())
    }
    async fn store_piece(&self, _: ArrivalId, _: u32, _: Vec<u8>) -> Result<(), Down> {
        match self.next.lock().unwrap().pop() {
            Some(_) => Err(Down("away".into())),
            None => Ok(()),
        }
    }
    async fn bodies(&self, _: &[(Id, Range<u64>)]) -> Result<Vec<Result<Vec<u8>, Damaged>>, Down> {
        Ok(Vec::new())
    }
    async fn load(&self, ids: &[MessageId]) -> Result<Vec<Stored>, Down> {
        self.notes.lock().unwrap().push(format!("load {}", ids.len()));
        Ok(self.found.iter().map(|(_, stored)| stored.clone()).collect())
    }
    async fn pick_up(&self, ids: &[MessageId]) -> Result<(), Down> {
        self.notes.lock().unwrap().push(format!("pick up {}", ids.len()));
        Ok(())
    }
    async fn unfinished(&self, _: Shards, after: MessageId, _: u32) -> Result<Vec<Recovered>, Down> {
        Ok(self.found.iter().map(|(found, _)| found.clone()).filter(|found| found.id > after).collect())
    }
    async fn splittings(&self) -> Result<Vec<SplitRow>, Down> {
        let row = SplitRow { arrival: Id(1), release: 1, splitting: Splitting::default(), cursor: 0 };
        Ok(if self.breaks { vec![row] } else { Vec::new() })
    }
    async fn splitting(&self, _: &[ArrivalId]) -> Result<Vec<SplitRow>, Down> {
        panic!("a mistake");
    }
    async fn holds(&self) -> Result<Vec<Hold>, Down> {
        Ok(Vec::new())
    }
    async fn settle_claim(&self, _: &wirewatch_core::machine::Claim, _: wirewatch_core::Digest, _: bool) -> Result<(), Down> {
        Ok(())
    }

    async fn claim(&self, _: &wirewatch_core::machine::Claim, _: wirewatch_core::Digest, _: Timestamp) -> Result<bool, Down> {
        unreachable!()
    }
    async fn release(&self, no: i64) -> Result<Option<Files>, Down> {
        self.asked.lock().unwrap().push(no);
        Ok(self.releases.get(&no).cloned())
    }
    fn mint(&self, _: Timestamp) -> Id {
        Id(self.minted.fetch_add(1, Ordering::Relaxed) + 2)
    }
}

pub struct Nowhere;

impl Links for Nowhere {
    async fn perform(&self, _: &Connection, _: &Work) -> Outcome {
        unreachable!("nothing is sent")
    }
}

/// The files of a workspace with nothing in it.
pub fn empty(title: &str) -> Files {
    Files::from([("workspace.toml".to_owned(), format!("format = 1\ntitle = \"{title}\"\n"))])
}

pub fn read(files: &Files) -> Arc<Workspace> {
    Arc::new(Workspace::read(files).workspace.expect("sound"))
}

pub type SmallEngine = Engine<Small, Nowhere, SystemClock>;

pub async fn engine(journal: Small) -> SmallEngine {
    engine_of(Arc::new(journal), &empty("Empty")).await
}

/// An engine with these files.
pub async fn engine_of(journal: Arc<Small>, files: &Files) -> SmallEngine {
    let releases = Releases::new(1, read(files));
    Engine::start(journal, Arc::new(Nowhere), SystemClock, releases, Settings::default()).await.unwrap()
}
