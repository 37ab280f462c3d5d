//! What the engine asks of the place where everything is kept.

use crate::shard::Shards;
use crate::spool::Spooled;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::future::Future;
use std::ops::Range;
use std::sync::Arc;
use wirewatch_core::act::Act;
use wirewatch_core::before::Before;
use wirewatch_core::intake::{Decision, Known, LedgerKey, Splitting, Verdict};
use wirewatch_core::machine::{ActRefused, Claim, LogEntry, Logged, Origin, Passed, State};
use wirewatch_core::plan::Fact;
use wirewatch_core::reason::Reason;
use wirewatch_core::workspace::Files;
use wirewatch_core::{ArrivalId, Digest, Id, MessageId, Timestamp};

/// The journal cannot be reached at present; nothing was changed, or what was changed is found by trying again.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("the journal cannot be reached: {0}")]
pub struct Down(pub String);

/// One thing to commit. Ops of one group are committed together or not at all.
#[derive(Debug, Clone)]
pub enum Op {
    Change(Box<Change>),
    Split(Box<Split>),
    /// A connection is held.
    Hold(Hold),
    /// A connection is free again.
    Free {
        connection: String,
        at: Timestamp,
        /// A person said so; otherwise a hold of a person's stays.
        by_person: bool,
    },
    /// A failed arrival is resolved.
    Settle(Box<Settle>),
}

/// A person has dealt with a failed arrival. One that has not failed stays as it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Settle {
    pub arrival: ArrivalId,
    pub connection: String,
    pub partner: String,
    pub name: String,
    /// Who did what with it, in words for people.
    pub says: String,
    pub at: Timestamp,
}

/// What is held: by what a connection answered, by a person, or because message after message failed at a step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hold {
    /// The connection, or what else is held (see [`Before`]).
    pub connection: String,
    pub since: Timestamp,
    /// Why, in words for people.
    pub says: String,
    /// The person who holds it; empty when it is of no use by itself.
    pub by: String,
}

impl Hold {
    /// Whether it is one for all processes. Of connections each finds out for itself.
    #[must_use]
    pub fn is_everybodys(&self) -> bool {
        !self.by.is_empty() || matches!(Before::of(&self.connection), Before::Step { .. })
    }
}

/// What one turn of one message changes.
#[derive(Debug, Clone)]
pub struct Change {
    pub origin: Arc<Origin>,
    /// A log entry with its number in the message's log, from 0.
    pub entry: Option<(u32, LogEntry)>,
    pub state: State,
    /// The step it is at.
    pub step: String,
    pub tries: u16,
    pub due: Option<Timestamp>,
    /// The connection it waits for; empty when none.
    pub waits_for: String,
    pub reason: Option<Reason>,
    /// Why it was skipped or failed, in its own words; empty otherwise.
    pub says: String,
    pub key: String,
    pub result: String,
    pub order_key: String,
    pub passed: Vec<Passed>,
    pub facts: Vec<Fact>,
    pub at: Timestamp,
    /// How long the effect took, in microseconds; 0 when there was none.
    pub took: u64,
    /// The message had ended before: it is put among the unfinished again.
    pub reopened: bool,
    /// Messages that come to be with it.
    pub parts: Vec<Part>,
}

/// A message that is part of another, with its document as bytes.
#[derive(Debug, Clone)]
pub struct Part {
    pub message: NewMessage,
    pub document: Vec<u8>,
}

impl Change {
    /// A change that says nothing yet but that the message moves.
    #[must_use]
    pub fn blank(origin: Arc<Origin>, at: Timestamp) -> Self {
        Self {
            origin,
            entry: None,
            state: State::Running,
            step: String::new(),
            tries: 0,
            due: None,
            waits_for: String::new(),
            reason: None,
            says: String::new(),
            key: String::new(),
            result: String::new(),
            order_key: String::new(),
            passed: Vec::new(),
            facts: Vec::new(),
            at,
            took: 0,
            reopened: false,
            parts: Vec::new(),
        }
    }

    /// The step whose effect this is the outcome of, and which `took` is about.
    #[must_use]
    pub fn tried(&self) -> Option<&str> {
        match &self.entry.as_ref()?.1.what {
            Logged::Attempt { step, .. } => Some(step),
            Logged::Act { .. }
            | Logged::Intent { .. }
            | Logged::Stopped { .. }
            | Logged::Woken { .. }
            | Logged::Parted { .. } => None,
        }
    }
}

/// A batch of messages that an arrival becomes.
#[derive(Debug, Clone)]
pub struct Split {
    pub arrival: ArrivalId,
    /// Messages made before and after this batch.
    pub from: u32,
    pub to: u32,
    /// The last batch: the arrival is `taken` now.
    pub last: bool,
    pub messages: Vec<NewMessage>,
    pub at: Timestamp,
}

/// A message that comes to be.
#[derive(Debug, Clone)]
pub struct NewMessage {
    pub origin: Arc<Origin>,
    pub key: String,
    pub order_key: String,
    pub facts: Vec<Fact>,
    /// It has ended already, since its steps only compute: never among the unfinished.
    pub ended: Option<Box<Change>>,
}

/// What became of one op of a group.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum OpResult {
    Committed,
    /// This op alone cannot be stored, and never will be.
    Refused(String),
}

/// A message as kept: enough to go on with it.
#[derive(Debug, Clone)]
pub struct Stored {
    pub origin: Arc<Origin>,
    pub document: Vec<u8>,
    pub log: Vec<LogEntry>,
    /// Set where a record of it is damaged: it cannot go on, and the rest is what can still be read.
    pub damaged: Option<Damaged>,
}

impl Stored {
    /// A message at its beginning.
    #[must_use]
    pub fn new(origin: Origin, document: Vec<u8>) -> Self {
        Self { origin: Arc::new(origin), document, log: Vec::new(), damaged: None }
    }
}

/// A record that cannot be read any more.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{says}")]
pub struct Damaged {
    /// Which record, and what is wrong with it.
    pub says: String,
    /// How many entries the log of the message has, unreadable ones among them; 0 where it is of no message.
    pub logged: u32,
}

impl Damaged {
    /// Of a record that belongs to no message.
    #[must_use]
    pub fn new(says: impl Into<String>) -> Self {
        Self { says: says.into(), logged: 0 }
    }
}

/// An unfinished message found at the start.
#[derive(Debug, Clone)]
pub struct Recovered {
    pub id: MessageId,
    /// Bytes of its document.
    pub size: u64,
    pub flow: String,
    pub key: String,
    pub order_key: String,
    pub state: State,
    pub due: Option<Timestamp>,
    /// See [`Journal::pick_up`].
    pub picked_up: u16,
}

/// What came in and is about to be taken into custody.
#[derive(Debug, Clone)]
pub struct Incoming {
    pub id: ArrivalId,
    /// The connection it came by.
    pub connection: String,
    /// File name, or what a person called it.
    pub name: String,
    /// The sender's name for what happened, e.g. `purchase.placed`; empty when it gives none.
    pub event: String,
    /// The sender's id of this delivery, by which a repeat is recognised; empty when it gives none.
    pub delivery: String,
    /// See [`wirewatch_core::intake::Came::told`].
    pub told: Map<String, Value>,
    /// Tells our own unfinished archiving from a repeat; empty when there is no such thing.
    pub fingerprint: String,
    pub body: IncomingBody,
    pub size: u64,
    pub digest: Digest,
    pub received: Timestamp,
    /// The person who handed it in; empty when it came by itself.
    pub by: String,
}

/// An arrival read and ready to be taken.
#[derive(Clone)]
pub struct Arriving {
    /// The release whose logic its messages will run.
    pub release: i64,
    pub incoming: Incoming,
    /// What the ledger is asked about.
    pub keys: Vec<(LedgerKey, Digest)>,
    /// Called inside the transaction with what the ledger knows of each key; of one without keys, with what is known of
    /// its delivery.
    pub decide: Decide,
    /// Its messages, made ahead, if it is few and small ones and is taken as expected.
    pub born: Option<Born>,
}

/// Messages made before their arrival is taken. They hold if what is decided splits to the same; then they are
/// committed with the arrival, and nothing is left to split.
#[derive(Debug, Clone)]
pub struct Born {
    /// What is decided if nothing is known of the arrival.
    pub decision: Decision,
    pub messages: Vec<NewMessage>,
}

impl std::fmt::Debug for Arriving {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Arriving").field("incoming", &self.incoming).field("keys", &self.keys).finish_non_exhaustive()
    }
}

/// Where the bytes are.
#[derive(Debug, Clone)]
pub enum IncomingBody {
    /// Here; stored with the arrival.
    Whole(Vec<Piece>),
    /// Stored before, piece by piece, under the arrival's id.
    Stored,
}

/// A piece of a body as it is stored.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Piece {
    /// It is compressed.
    pub packed: bool,
    pub bytes: Vec<u8>,
}

/// What was taken.
#[derive(Debug, Clone)]
pub enum Taken {
    /// New in the journal.
    Now {
        verdict: Verdict,
        says: String,
        partner: String,
        /// Messages made in the same commit: sealed acknowledgments.
        messages: Vec<Stored>,
        splits: Splits,
    },
    /// The same file was taken before and only its archiving is left.
    Before(ArrivalId),
    /// Nothing of it was taken: the journal refuses it, and would again. What stands behind it is taken all the same.
    Refused(String),
}

/// How the messages of an arrival come to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Splits {
    /// There are none.
    Nothing,
    /// Those made ahead were committed with it.
    Born,
    /// Batch by batch, from its durable splitting.
    Later,
}

/// A durable splitting with its cursor.
#[derive(Debug, Clone)]
pub struct SplitRow {
    pub arrival: ArrivalId,
    pub release: i64,
    pub splitting: Splitting,
    pub cursor: u32,
}

/// What has come to this process from others, and how they stand.
#[derive(Debug, Clone, Default)]
pub struct Others {
    /// Other processes are at work.
    pub any: bool,
    /// The shards that are this process's.
    pub shards: Shards,
    /// Shards of this process that another should have, and which.
    pub due: Option<(Shards, i16)>,
    /// Splittings that were those of a process that has ended.
    pub splittings: Vec<ArrivalId>,
    /// And calls that it had kept.
    pub spools: Vec<Id>,
    /// Messages of this process's shards that others have made, in the order of their commits.
    pub handed: Vec<Recovered>,
    /// Acts that others ask for.
    pub remote_acts: Vec<RemoteAct>,
    /// What is held, at whichever process; `None` when that was not looked at.
    pub holds: Option<Vec<Hold>>,
}

/// A person's act on a message of another process's.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RemoteAct {
    pub id: Id,
    pub message: MessageId,
    pub shard: u16,
    pub act: Act,
    pub by: String,
    pub why: String,
}

/// Why an act was not carried out.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum NotActed {
    #[error(transparent)]
    Refused(ActRefused),
    /// An effect or a commit is under way: nothing may change beneath it.
    #[error("the message is being worked on at this moment; try again in a second")]
    Busy,
    #[error("there is no message {0}")]
    Unknown(MessageId),
    #[error("the message cannot be run again: {0}")]
    Broken(String),
}

/// Decides on an arrival, given what is known of its interchanges, or of its delivery.
pub type Decide = Arc<dyn Fn(&[Known]) -> Decision + Send + Sync>;

/// Keeps everything. Every method may be called again after [`Down`].
pub trait Journal: Send + Sync + 'static {
    /// Commits group `no` of this process. The results stand in the order of `ops`.
    ///
    /// After [`Down`] the same group is given again under the same number: when the first commit did
    /// succeed and only its answer was lost, nothing is written twice.
    fn commit(&self, no: u64, ops: &[Op]) -> impl Future<Output = Result<Vec<OpResult>, Down>> + Send;

    /// Takes arrivals into custody: for each, body, ledger, sealed acknowledgments and verdict in one commit, several
    /// arrivals in the same one where they do not depend on one another. What was taken stands in their order.
    ///
    /// After [`Down`] some of them may have been taken: [`taken`](Self::taken) tells of each.
    fn take(&self, batch: Vec<Arriving>) -> impl Future<Output = Result<Vec<Taken>, Down>> + Send;

    /// What a [`take`](Self::take) whose answer was lost has come to; `None` when nothing of it was committed.
    fn taken(&self, id: ArrivalId) -> impl Future<Output = Result<Option<Taken>, Down>> + Send;

    /// A body in pieces as they are stored. Whoever brings an arrival makes them: who commits does so for all, one group after
    /// another, and has the less to do.
    fn pieces(&self, body: &[u8]) -> Vec<Piece> {
        vec![Piece { packed: false, bytes: body.to_vec() }]
    }

    /// Keeps calls as they came, until [`unspool`](Self::unspool).
    ///
    /// After [`Down`] they may be kept: [`spooled`](Self::spooled) tells.
    fn spool(&self, spooled: &Spooled) -> impl Future<Output = Result<(), Down>> + Send;

    /// Calls that this process keeps under that id.
    fn spooled(&self, id: Id) -> impl Future<Output = Result<Option<Spooled>, Down>> + Send;

    /// All ids under which it does, the oldest first.
    fn spools(&self) -> impl Future<Output = Result<Vec<Id>, Down>> + Send;

    /// Each of the calls under these ids is taken: they are kept no longer.
    fn unspool(&self, ids: &[Id]) -> impl Future<Output = Result<(), Down>> + Send;

    /// Stores a piece of a body ahead of its arrival.
    fn store_piece(&self, id: ArrivalId, piece: u32, bytes: Vec<u8>) -> impl Future<Output = Result<(), Down>> + Send;

    /// Ranges of stored bodies, in the order asked for; what is not stored is left out of them.
    fn bodies(&self, wanted: &[(Id, Range<u64>)]) -> impl Future<Output = Result<Vec<Result<Vec<u8>, Damaged>>, Down>> + Send;

    /// Messages with document and log, in any order; ids that are not there are left out.
    fn load(&self, ids: &[MessageId]) -> impl Future<Output = Result<Vec<Stored>, Down>> + Send;

    /// Counts that these unfinished messages are taken up by a process that did not have them. The next change of a message
    /// sets its count back, and so does whoever gives its shard away.
    fn pick_up(&self, ids: &[MessageId]) -> impl Future<Output = Result<(), Down>> + Send;

    /// Unfinished messages of these shards behind `after`, by id, at most `limit`.
    fn unfinished(
        &self,
        shards: Shards,
        after: MessageId,
        limit: u32,
    ) -> impl Future<Output = Result<Vec<Recovered>, Down>> + Send;

    /// This process's splittings that are not done.
    fn splittings(&self) -> impl Future<Output = Result<Vec<SplitRow>, Down>> + Send;

    /// Those of them that are of these arrivals, by id.
    fn splitting(&self, arrivals: &[ArrivalId]) -> impl Future<Output = Result<Vec<SplitRow>, Down>> + Send;

    /// Connections that are held.
    fn holds(&self) -> impl Future<Output = Result<Vec<Hold>, Down>> + Send;

    /// Whether the effect with the key `teller` is the first with that cause, or was before; the cause is told of again
    /// when the last was told longer before `now` than `claim` says.
    fn claim(&self, claim: &Claim, teller: Digest, now: Timestamp) -> impl Future<Output = Result<bool, Down>> + Send;

    /// The effect with the key `teller` has told of the cause, so that nobody tells of it again in its time, a repeat of the same
    /// message included; or it never will (`told` is false), so that another may.
    fn settle_claim(&self, claim: &Claim, teller: Digest, told: bool) -> impl Future<Output = Result<(), Down>> + Send;

    /// The files of a release.
    fn release(&self, no: i64) -> impl Future<Output = Result<Option<Files>, Down>> + Send;

    /// A fresh id.
    fn mint(&self, now: Timestamp) -> Id;

    // What follows is about several processes that share a journal. As it stands here, there is one alone.

    /// The shards that are this process's, as far as it knows.
    fn shards(&self) -> Shards {
        Shards::ALL
    }

    /// Looks at the other processes: takes over what those that have ended leave behind, and what is meant for this one.
    fn others(&self) -> impl Future<Output = Result<Others, Down>> + Send {
        async { Ok(Others { shards: Shards::ALL, ..Others::default() }) }
    }

    /// The messages of these shards are about to be taken up: what this process commits for them from now on is its own.
    fn gained(&self, _shards: Shards) -> impl Future<Output = Result<(), Down>> + Send {
        async { Ok(()) }
    }

    /// Makes shards another process's. When this returns, nothing that this process commits is in them; they may still be
    /// its own where the other has ended.
    fn give_away(&self, _shards: Shards, _to: i16) -> impl Future<Output = Result<(), Down>> + Send {
        async { Ok(()) }
    }

    /// Has an act carried out by the process whose shard it is.
    fn ask(&self, remote_act: &RemoteAct) -> impl Future<Output = Result<Result<(), NotActed>, Down>> + Send {
        let unknown = NotActed::Unknown(remote_act.message);
        async { Ok(Err(unknown)) }
    }

    /// Tells who asked what came of it.
    fn answer(&self, _remote_act: Id, _answer: Result<(), NotActed>) -> impl Future<Output = Result<(), Down>> + Send {
        async { Ok(()) }
    }

    /// Takes a lease, or keeps it; `false` while another process has it.
    fn lease(&self, _name: &str) -> impl Future<Output = Result<bool, Down>> + Send {
        async { Ok(true) }
    }

    /// A fresh id for a message, in a shard of this process's.
    fn mint_message(&self, now: Timestamp) -> MessageId {
        self.mint(now)
    }
}
