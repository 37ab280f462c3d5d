//! State that the engine's tasks share, and the inputs of its loop.

use crate::Clock;
use crate::custody::Waiting;
use crate::dispatcher::{Acting, Entered};
use crate::engine::{ActError, Held};
use crate::enter::{Broken, enter};
use crate::journal::{Down, Hold, Journal, NotActed, Op, OpResult, Recovered, RemoteAct};
use crate::links::Links;
use crate::neighbours::Looked;
use crate::releases::Releases;
use crate::shard::Shards;
use crate::spool::Spool;
use crate::writer::{Stall, Submitted, Tell, What};
use std::collections::BTreeMap;
use std::sync::Arc;
use tokio::sync::{mpsc, oneshot, watch};
use wirewatch_core::act::Act;
use wirewatch_core::flow::Recording;
use wirewatch_core::machine::{ActRefused, Origin, Outcome};
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{ArrivalId, Id, MessageId};

/// Places that accept nothing at present (see [`place_of`](wirewatch_core::flow::place_of)), each with the reason.
pub(crate) type Closed = BTreeMap<String, Why>;

/// Why a place accepts nothing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Why {
    /// A person has put the connection on hold.
    Held,
    /// A flow that takes from it has reached its `in_flight`.
    Full { flow: String, most: u32 },
}

impl std::fmt::Display for Why {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Held => f.write_str("held by a person"),
            Self::Full { flow, most } => write!(f, "the flow {flow} has {most} unfinished messages, the most it may have"),
        }
    }
}

/// State that the engine's tasks share.
pub(crate) struct Shared<J, L, C> {
    pub journal: Arc<J>,
    pub links: Arc<L>,
    pub clock: C,
    pub releases: Releases,
    pub(crate) inputs: mpsc::UnboundedSender<Input>,
    pub(crate) submitted: mpsc::UnboundedSender<Submitted>,
    pub(crate) arrivals: mpsc::UnboundedSender<ArrivalId>,
    pub(crate) custody: mpsc::UnboundedSender<Waiting>,
    pub(crate) spool: Spool,
    pub(crate) room: watch::Receiver<bool>,
    /// Places that accept nothing at present, with the reason.
    pub(crate) closed: watch::Receiver<Closed>,
    /// Result of the last look at the other processes.
    pub(crate) looked: watch::Receiver<Looked>,
    pub(crate) stall: Stall,
}

/// Inputs of the dispatcher.
pub(crate) enum Input {
    Enter(Vec<Result<Entered, Broken>>),
    Loaded(Vec<Result<Entered, Broken>>),
    /// Messages that were loaded and are not to be run, with how many entries their logs have.
    Suspected(Vec<(Arc<Origin>, u32)>),
    Committed(Vec<(MessageId, OpResult)>),
    Outcome(MessageId, Outcome),
    Act {
        id: MessageId,
        loaded: Option<Loaded>,
        acting: Acting,
        reply: oneshot::Sender<Acted>,
    },
    /// Shards are this process's now, with what is unfinished in them.
    Gain(Shards, Vec<Recovered>),
    /// Shards that this process owns once their unfinished messages are read.
    Expect(Shards),
    /// Messages that another process has made for this one.
    Handed(Vec<Recovered>),
    Leave(Shards, i16),
    /// The process is to end: the answer comes when nothing is under way and all of it is committed.
    Drain(oneshot::Sender<()>),
    HeldElsewhere(Hold),
    FreedElsewhere(String),
    Surroundings(Arc<Workspace>),
    Record(BTreeMap<String, Recording>),
    LookNow(String),
    Hold {
        connection: String,
        by: String,
        why: String,
        /// The hold is stored.
        reply: oneshot::Sender<OpResult>,
    },
    Free(String, oneshot::Sender<OpResult>),
    Held(oneshot::Sender<Vec<Held>>),
}

/// A message that was loaded for an act.
pub(crate) enum Loaded {
    Entered(Box<Entered>),
    /// A message that can no longer run, and its state among the unfinished: it can only be discarded.
    Broken(Box<(Broken, Recovered)>),
}

/// Result of an act.
pub(crate) enum Acted {
    Done,
    NeedsLoading,
    Elsewhere(u16),
    Not(NotActed),
}

impl<J: Journal, L: Links, C: Clock + Clone> Shared<J, L, C> {
    /// Carries out an act here, or with `elsewhere` at the process that owns the message.
    pub async fn act(&self, id: MessageId, act: Act, by: &str, why: &str, elsewhere: bool) -> Result<(), ActError> {
        let mut loaded = None;
        let offered = self.offered(&act).await?;
        let acting = Acting { act, offered, by: by.to_owned(), why: why.to_owned() };
        loop {
            let (reply, answer) = oneshot::channel();
            let input = Input::Act { id, loaded: loaded.take(), acting: acting.clone(), reply };
            let _ = self.inputs.send(input);
            match answer.await.map_err(|_| Down("the engine has ended".to_owned()))? {
                Acted::Done => return Ok(()),
                Acted::Not(not) => return Err(not.into()),
                Acted::Elsewhere(shard) if elsewhere => {
                    let Acting { act, by, why, .. } = acting;
                    let remote_act = RemoteAct { id: self.journal.mint(self.clock.now()), message: id, shard, act, by, why };
                    return Ok(self.journal.ask(&remote_act).await??);
                }
                Acted::Elsewhere(_) => return Err(NotActed::Busy.into()),
                Acted::NeedsLoading => {
                    let stored = self.journal.load(&[id]).await?.pop().ok_or(NotActed::Unknown(id))?;
                    loaded = Some(match enter(stored, &self.releases, &*self.journal).await? {
                        Ok(entered) => Loaded::Entered(Box::new(entered)),
                        Err(broken) if acting.act == Act::Discard => {
                            let found = self.journal.unfinished(Shards::ALL, Id(id.0 - 1), 1).await?.pop();
                            let found = found.filter(|found| found.id == id).ok_or(NotActed::Broken(broken.says.clone()))?;
                            Loaded::Broken(Box::new((broken, found)))
                        }
                        Err(broken) => return Err(NotActed::Broken(broken.says).into()),
                    });
                }
            }
        }
    }
}

impl<J: Journal, L, C> Shared<J, L, C> {
    /// Returns the release that an act names, or the current one.
    pub async fn offered(&self, act: &Act) -> Result<(i64, Arc<Workspace>), ActError> {
        let Some(release) = act.release() else { return Ok(self.releases.current()) };
        let missing = || NotActed::Refused(ActRefused::NoLogic { release, what: "files".to_owned() });
        Ok((release, self.releases.get(release, &*self.journal).await?.ok_or_else(missing)?))
    }
}

impl<J, L, C> Shared<J, L, C> {
    pub fn submit(&self, op: Op, tell: Tell) {
        let _ = self.submitted.send(Submitted { what: What::Op(op), tell });
    }

    /// Takes up shards soon.
    pub fn expect(&self, shards: Shards) {
        let _ = self.inputs.send(Input::Expect(shards));
    }

    /// Takes up shards with what is unfinished in them.
    pub fn gain(&self, shards: Shards, found: Vec<Recovered>) {
        let _ = self.inputs.send(Input::Gain(shards, found));
    }

    /// Takes up messages that another process has made for this one.
    pub fn handed(&self, found: Vec<Recovered>) {
        let _ = self.inputs.send(Input::Handed(found));
    }

    /// Lets go of shards that another process should have.
    pub fn leave(&self, shards: Shards, to: i16) {
        let _ = self.inputs.send(Input::Leave(shards, to));
    }

    /// Applies a hold that was set at another process.
    pub fn held_elsewhere(&self, hold: Hold) {
        let _ = self.inputs.send(Input::HeldElsewhere(hold));
    }

    /// Applies the end of a hold at another process.
    pub fn resumed_elsewhere(&self, connection: String) {
        let _ = self.inputs.send(Input::FreedElsewhere(connection));
    }

    pub fn enter(&self, entered: Vec<Result<Entered, Broken>>) {
        if !entered.is_empty() {
            let _ = self.inputs.send(Input::Enter(entered));
        }
    }

    pub fn loaded(&self, loaded: Vec<Result<Entered, Broken>>) {
        let _ = self.inputs.send(Input::Loaded(loaded));
    }

    pub fn suspected(&self, suspects: Vec<(Arc<Origin>, u32)>) {
        if !suspects.is_empty() {
            let _ = self.inputs.send(Input::Suspected(suspects));
        }
    }

    pub fn split(&self, arrival: ArrivalId) {
        let _ = self.arrivals.send(arrival);
    }

    /// Returns whether the dispatcher has room for more messages.
    pub fn has_room(&self) -> bool {
        *self.room.borrow()
    }

    /// Ends when the dispatcher has room for more messages.
    pub async fn room(&self) {
        let _ = self.room.clone().wait_for(|room| *room).await;
    }
}

/// Everything that is unfinished in these shards, by id.
pub(crate) async fn unfinished<J: Journal>(journal: &J, shards: Shards) -> Result<Vec<Recovered>, Down> {
    let mut all: Vec<Recovered> = Vec::new();
    loop {
        let after = all.last().map_or(Id(0), |last| last.id);
        let found = journal.unfinished(shards, after, 5000).await?;
        if found.is_empty() {
            return Ok(all);
        }
        all.extend(found);
    }
}
