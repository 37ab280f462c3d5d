//! What the engine needs of the journal, where everything is stored.

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

/// One thing to commit. The ops of a group are committed together or not at all.
#[derive(Debug, Clone)]
pub enum Op {
    Change(Box<Change>),
    Split(Box<Split>),
    /// Something is put on hold.
    Hold(Hold),
    /// A hold ends.
    Resume {
        connection: String,
        at: Timestamp,
        /// A person ended it; otherwise a hold set by a person stays.
        by_person: bool,
    },
    /// A failed arrival is resolved.
    Resolve(Box<Resolve>),
}

/// A person has dealt with a failed arrival. One that has not failed stays as it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Resolve {
    pub arrival: ArrivalId,
    pub connection: String,
    pub partner: String,
    pub name: String,
    /// An act of a person, in words for people.
    pub says: String,
    pub at: Timestamp,
}

/// A hold: because a connection did not respond, because a person set it, or because message after message failed at a step.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hold {
    /// The connection, or what else is on hold (see [`Before`]).
    pub connection: String,
    pub since: Timestamp,
    /// The reason, in words for people.
    pub says: String,
    /// The person who set it; empty when the connection did not respond.
    pub by: String,
}

impl Hold {
    /// Returns whether the hold applies to all processes. A connection that does not respond is found out by each process for
    /// itself.
    #[must_use]
    pub fn is_everybodys(&self) -> bool {
        !self.by.is_empty() || matches!(Before::of(&self.connection), Before::Step { .. })
    }
}

/// The changes of one turn of one message.
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
    /// Why it was skipped or failed; empty otherwise.
    pub says: String,
    pub key: String,
    pub result: String,
    pub order_key: String,
    pub passed: Vec<Passed>,
    pub facts: Vec<Fact>,
    pub at: Timestamp,
    /// Duration of the effect in microseconds; 0 when there was none.
    pub took: u64,
    /// The message had ended before: it is put among the unfinished again.
    pub reopened: bool,
    /// Messages that are created with it.
    pub parts: Vec<Part>,
}

/// A message that is part of another, with its document as bytes.
#[derive(Debug, Clone)]
pub struct Part {
    pub message: NewMessage,
    pub document: Vec<u8>,
}

impl Change {
    /// Returns a change that only says that the message is running.
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

    /// Returns the step whose effect `took` is about.
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
    /// True for the last batch: the arrival becomes `received`.
    pub last: bool,
    pub messages: Vec<NewMessage>,
    pub at: Timestamp,
}

/// A message to be created.
#[derive(Debug, Clone)]
pub struct NewMessage {
    pub origin: Arc<Origin>,
    pub key: String,
    pub order_key: String,
    pub facts: Vec<Fact>,
    /// Result of a message that has no effects and has ended already; never stored as unfinished.
    pub ended: Option<Box<Change>>,
}

/// Result of one op of a group.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum OpResult {
    Committed,
    /// The op alone cannot be stored, now or later.
    Refused(String),
}

/// A message as stored: enough to continue it.
#[derive(Debug, Clone)]
pub struct Stored {
    pub origin: Arc<Origin>,
    pub document: Vec<u8>,
    pub log: Vec<LogEntry>,
    /// Set if a record of it is damaged: it cannot run, and the other fields hold what can still be read.
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
    /// Entries in the message's log, unreadable ones included; 0 for a record of no message.
    pub logged: u32,
}

impl Damaged {
    /// Returns the damage of a record that belongs to no message.
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

/// An arrival about to be stored.
#[derive(Debug, Clone)]
pub struct Incoming {
    pub id: ArrivalId,
    /// The connection by which it was received.
    pub connection: String,
    /// File name, or what a person called it.
    pub name: String,
    /// The sender's name for what happened, e.g. `purchase.placed`; empty when it gives none.
    pub event: String,
    /// The sender's id of this delivery, by which a repeat is recognised; empty when it gives none.
    pub delivery: String,
    /// See [`wirewatch_core::intake::Provenance::properties`].
    pub properties: Map<String, Value>,
    /// Tells our own unfinished archiving from a duplicate; empty when there is nothing to archive.
    pub fingerprint: String,
    pub body: IncomingBody,
    pub size: u64,
    pub digest: Digest,
    pub received: Timestamp,
    /// The person who submitted it; empty when it was received by a connection.
    pub by: String,
}

/// An arrival that was read and is ready to be committed.
#[derive(Clone)]
pub struct Arriving {
    /// The release whose logic its messages run.
    pub release: i64,
    pub incoming: Incoming,
    /// The ledger entries to look up.
    pub keys: Vec<(LedgerKey, Digest)>,
    /// Called inside the transaction with what the ledger knows of each key; of one without keys, with what is known of
    /// its delivery.
    pub decide: Decide,
    /// Messages, created ahead, if they are few and small.
    pub born: Option<Born>,
}

/// Messages created before their arrival is committed. They are valid if the decision splits the arrival as expected; then they
/// are committed with it, and nothing is left to split.
#[derive(Debug, Clone)]
pub struct Born {
    /// The decision that was expected: nothing is known of the arrival.
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
    /// Here, to be stored with the arrival.
    Whole(Vec<Piece>),
    /// Stored before, piece by piece, under the arrival's id.
    Stored,
}

/// A piece of a body as it is stored.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Piece {
    /// The bytes are compressed.
    pub packed: bool,
    pub bytes: Vec<u8>,
}

/// Result of committing an arrival.
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
    /// The same file was stored before, and only its archiving is left.
    Before(ArrivalId),
    /// The journal refuses it, now and later. Arrivals behind it are committed all the same.
    Refused(String),
}

/// How the messages of an arrival are created.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Splits {
    /// Without messages.
    Nothing,
    /// With the messages created ahead.
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

/// Work taken over from other processes, and the state of the others.
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
    /// Spooled calls, too.
    pub spools: Vec<Id>,
    /// Messages of this process's shards that others have made, in the order of their commits.
    pub handed: Vec<Recovered>,
    /// Acts that other processes request.
    pub remote_acts: Vec<RemoteAct>,
    /// All holds, at every process; `None` when they were not read.
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
    #[error("the message is being processed; try again in a second")]
    Busy,
    #[error("there is no message {0}")]
    Unknown(MessageId),
    #[error("the message cannot be run again: {0}")]
    Broken(String),
    /// Its content cannot be stored.
    #[error("the act could not be stored, and nothing was done: {0}")]
    NotStored(String),
}

/// Decides on an arrival, given what is known of its interchanges, or of its delivery.
pub type Decide = Arc<dyn Fn(&[Known]) -> Decision + Send + Sync>;

/// Keeps everything. Every method may be called again after [`Down`].
pub trait Journal: Send + Sync + 'static {
    /// Commits group `no` of this process. The results are in the order of `ops`.
    ///
    /// After [`Down`] the same group is submitted again under the same number: if the first commit had succeeded and only its
    /// answer was lost, nothing is written twice.
    fn commit(&self, no: u64, ops: &[Op]) -> impl Future<Output = Result<Vec<OpResult>, Down>> + Send;

    /// Stores arrivals: for each, body, ledger, sealed acknowledgments and verdict in one commit; several arrivals share a commit
    /// where they do not depend on one another. Results are in the order of the arrivals.
    ///
    /// After [`Down`] some of them may be stored: [`taken`](Self::taken) answers for each.
    fn take(&self, batch: Vec<Arriving>) -> impl Future<Output = Result<Vec<Taken>, Down>> + Send;

    /// Returns the result of a [`take`](Self::take) whose answer was lost; `None` when nothing of it was committed.
    fn taken(&self, id: ArrivalId) -> impl Future<Output = Result<Option<Taken>, Down>> + Send;

    /// A body in pieces as they are stored. Whoever brings an arrival makes them: who commits does so for all, one group after
    /// another, and has the less to do.
    fn pieces(&self, body: &[u8]) -> Vec<Piece> {
        vec![Piece { packed: false, bytes: body.to_vec() }]
    }

    /// Stores calls unread, until [`unspool`](Self::unspool).
    ///
    /// After [`Down`] they may be stored: [`spooled`](Self::spooled) answers.
    fn spool(&self, spooled: &Spooled) -> impl Future<Output = Result<(), Down>> + Send;

    /// Returns the calls that this process has spooled under that id.
    fn spooled(&self, id: Id) -> impl Future<Output = Result<Option<Spooled>, Down>> + Send;

    /// All ids under which it does, the oldest first.
    fn spools(&self) -> impl Future<Output = Result<Vec<Id>, Down>> + Send;

    /// Removes these rows from the spool: each of their calls is stored as an arrival.
    fn unspool(&self, ids: &[Id]) -> impl Future<Output = Result<(), Down>> + Send;

    /// Stores a piece of a body ahead of its arrival.
    fn store_piece(&self, id: ArrivalId, piece: u32, bytes: Vec<u8>) -> impl Future<Output = Result<(), Down>> + Send;

    /// Returns ranges of stored bodies in the order of the request; ranges that are not stored are left out.
    fn bodies(&self, wanted: &[(Id, Range<u64>)]) -> impl Future<Output = Result<Vec<Result<Vec<u8>, Damaged>>, Down>> + Send;

    /// Messages with document and log, in any order; ids that are not there are left out.
    fn load(&self, ids: &[MessageId]) -> impl Future<Output = Result<Vec<Stored>, Down>> + Send;

    /// Counts that a process which did not have these unfinished messages picks them up. The next change of a message resets its
    /// count, and so does giving its shard away.
    fn pick_up(&self, ids: &[MessageId]) -> impl Future<Output = Result<(), Down>> + Send;

    /// Returns unfinished messages of these shards after `after`, by id, at most `limit`.
    fn unfinished(
        &self,
        shards: Shards,
        after: MessageId,
        limit: u32,
    ) -> impl Future<Output = Result<Vec<Recovered>, Down>> + Send;

    /// Returns this process's unfinished splittings.
    fn splittings(&self) -> impl Future<Output = Result<Vec<SplitRow>, Down>> + Send;

    /// Returns those of these arrivals, by id.
    fn splitting(&self, arrivals: &[ArrivalId]) -> impl Future<Output = Result<Vec<SplitRow>, Down>> + Send;

    /// Returns every hold.
    fn holds(&self) -> impl Future<Output = Result<Vec<Hold>, Down>> + Send;

    /// Claims the right to tell people of a cause: `true` if the effect with the key `teller` is the first with that cause, or
    /// was before, or if the last telling is longer ago than `claim` says.
    fn claim(&self, claim: &Claim, teller: Digest, now: Timestamp) -> impl Future<Output = Result<bool, Down>> + Send;

    /// Records that the effect `teller` has reported the cause, so that no other effect reports it again within its time; or, with
    /// `notified` false, that it never will, so that another may.
    fn settle_claim(&self, claim: &Claim, teller: Digest, notified: bool) -> impl Future<Output = Result<(), Down>> + Send;

    /// The files of a release.
    fn release(&self, no: i64) -> impl Future<Output = Result<Option<Files>, Down>> + Send;

    /// A fresh id.
    fn mint(&self, now: Timestamp) -> Id;

    // The rest concerns several processes that share a journal. The defaults are those of a single process.

    /// The shards that are this process's, as far as it knows.
    fn shards(&self) -> Shards {
        Shards::ALL
    }

    /// Reads the state of the other processes: takes over what those that have ended left behind, and what was handed to this
    /// one.
    fn others(&self) -> impl Future<Output = Result<Others, Down>> + Send {
        async { Ok(Others { shards: Shards::ALL, ..Others::default() }) }
    }

    /// Announces that messages of these shards are about to be loaded: what this process commits for them from now on is its own.
    fn gained(&self, _shards: Shards) -> impl Future<Output = Result<(), Down>> + Send {
        async { Ok(()) }
    }

    /// Gives shards to another process. When this returns, this process commits nothing of them any more; they may still be its
    /// own if the other has ended.
    fn give_away(&self, _shards: Shards, _to: i16) -> impl Future<Output = Result<(), Down>> + Send {
        async { Ok(()) }
    }

    /// Has an act carried out by the process that owns the message's shard.
    fn ask(&self, remote_act: &RemoteAct) -> impl Future<Output = Result<Result<(), NotActed>, Down>> + Send {
        let unknown = NotActed::Unknown(remote_act.message);
        async { Ok(Err(unknown)) }
    }

    /// Reports the result of a requested act.
    fn answer(&self, _remote_act: Id, _answer: Result<(), NotActed>) -> impl Future<Output = Result<(), Down>> + Send {
        async { Ok(()) }
    }

    /// Takes or renews a lease; `false` while another process has it.
    fn lease(&self, _name: &str) -> impl Future<Output = Result<bool, Down>> + Send {
        async { Ok(true) }
    }

    /// A fresh id for a message, in a shard of this process's.
    fn mint_message(&self, now: Timestamp) -> MessageId {
        self.mint(now)
    }
}
