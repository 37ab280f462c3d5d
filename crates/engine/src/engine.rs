//! The engine: one task with the dispatcher, one that commits in groups, one that unfolds; the rest is performed aside.

use crate::custody::{self, Waiting};
use crate::dispatcher::{Dispatcher, Entered, Out, Settings, Unacted};
use crate::enter::{Broken, enter};
use crate::journal::{Down, Errand, Hold, Journal, NotActed, Op, OpResult, Recovered, Settle};
use crate::links::Links;
use crate::loader;
use crate::neighbours::{self, Looked};
use crate::releases::Releases;
use crate::shard::Shards;
use crate::take::{Ready, Source, TakenReport, Taking};
use crate::unfold::{self, retrying};
use crate::writer::{self, Submitted, Tell, What};
use crate::{Clock, HeldState};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{mpsc, oneshot, watch};
use tokio::task::JoinSet;
use wirewatch_core::act::Act;
use wirewatch_core::machine::{Outcome, Work};
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{ArrivalId, Id, MessageId, Timestamp};

/// How often a lease that another has is asked for.
const LEASE: Duration = Duration::from_millis(500);

/// A running engine. Cloning shares it; it ends when its runtime does.
pub struct Engine<J, L, C> {
    shared: Arc<Shared<J, L, C>>,
    end: watch::Receiver<bool>,
}

impl<J, L, C> Clone for Engine<J, L, C> {
    fn clone(&self) -> Self {
        Self { shared: self.shared.clone(), end: self.end.clone() }
    }
}

impl<J, L, C> std::fmt::Debug for Engine<J, L, C> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Engine").finish_non_exhaustive()
    }
}

/// Places that take nothing at present (see [`place_of`](wirewatch_core::flow::place_of)), each with why.
type Closed = BTreeMap<String, Why>;

/// Why a place takes nothing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Why {
    /// A person holds the connection.
    Held,
    /// A flow that takes from it has as many messages under way as it may.
    Full { flow: String, most: u32 },
}

impl std::fmt::Display for Why {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Held => f.write_str("held by a person"),
            Self::Full { flow, most } => write!(f, "the flow {flow} has {most} messages under way, as many as it may"),
        }
    }
}

/// A connection that is held, with the messages that wait for it.
#[derive(Debug, Clone)]
pub struct Held {
    pub connection: String,
    pub state: HeldState,
    pub waiting: usize,
}

/// An act that was not carried out.
#[derive(Debug, thiserror::Error)]
pub enum ActError {
    #[error(transparent)]
    Not(#[from] NotActed),
    #[error(transparent)]
    Down(#[from] Down),
}

/// What the tasks of an engine share.
pub(crate) struct Shared<J, L, C> {
    pub journal: Arc<J>,
    pub links: Arc<L>,
    pub clock: C,
    pub releases: Releases,
    inputs: mpsc::UnboundedSender<Input>,
    submitted: mpsc::UnboundedSender<Submitted>,
    arrivals: mpsc::UnboundedSender<ArrivalId>,
    custody: mpsc::UnboundedSender<Waiting>,
    room: watch::Receiver<bool>,
    /// Places that take nothing at present, and why.
    closed: watch::Receiver<Closed>,
    /// How often the other processes were looked at.
    looked: watch::Receiver<Looked>,
}

enum Input {
    Enter(Vec<Result<Entered, Broken>>),
    Loaded(Vec<Result<Entered, Broken>>),
    Committed(Vec<(MessageId, OpResult)>),
    Outcome(MessageId, Outcome),
    Act {
        id: MessageId,
        entered: Option<Box<Entered>>,
        act: Act,
        by: String,
        why: String,
        reply: oneshot::Sender<Acted>,
    },
    /// Shards are this process's now, with what is unfinished in them.
    Gain(Shards, Vec<Recovered>),
    /// Messages that another process has made for this one.
    Handed(Vec<Recovered>),
    Leave(Shards, i16),
    HeldElsewhere(Hold),
    FreedElsewhere(String),
    Surroundings(Arc<Workspace>),
    LookNow(String),
    Hold {
        connection: String,
        by: String,
        why: String,
    },
    Free(String),
    Held(oneshot::Sender<Vec<Held>>),
}

enum Acted {
    Done,
    NeedsLoading,
    Elsewhere(u16),
    Not(NotActed),
}

impl<J: Journal, L: Links, C: Clock + Clone> Engine<J, L, C> {
    /// Takes up what is unfinished and starts working.
    ///
    /// # Errors
    /// [`Down`] when the journal cannot be read; nothing runs then.
    pub async fn start(journal: Arc<J>, links: Arc<L>, clock: C, releases: Releases, settings: Settings) -> Result<Self, Down> {
        let (inputs, input) = mpsc::unbounded_channel();
        let (submitted, to_commit) = mpsc::unbounded_channel();
        let (arrivals, to_unfold) = mpsc::unbounded_channel();
        let (custody, to_take) = mpsc::unbounded_channel();
        let (room_out, room) = watch::channel(true);
        let (closed_out, closed) = watch::channel(Closed::new());
        let ids = journal.clone();
        let shards = journal.shards();
        let mint = Box::new(move |now| ids.mint_message(now));
        let mut dispatcher = Dispatcher::new(settings, releases.current().1, shards, mint);
        for hold in journal.holds().await? {
            dispatcher.restore_hold(hold, clock.now());
        }
        dispatcher.gain(shards, &unfinished(&*journal, shards).await?, clock.now());
        let (looked_out, looked) = watch::channel(Looked::default());
        let (left_out, left) = mpsc::unbounded_channel();
        for row in journal.unfoldings().await? {
            let _ = arrivals.send(row.arrival);
        }
        let shared = Arc::new(Shared {
            journal: journal.clone(),
            links,
            clock,
            releases,
            inputs,
            submitted,
            arrivals,
            custody,
            room,
            closed,
            looked,
        });
        let back = shared.inputs.clone();
        let mut tasks = JoinSet::new();
        tasks.spawn(writer::run(journal, to_commit, move |done| drop(back.send(Input::Committed(done)))));
        tasks.spawn(unfold::run(shared.clone(), to_unfold));
        tasks.spawn(custody::run(shared.clone(), to_take));
        closed_out.send_replace(closed_places(&dispatcher));
        let (load, to_load) = mpsc::unbounded_channel();
        tasks.spawn(loader::run(shared.clone(), to_load));
        let outward = Outward { room: room_out, closed: closed_out, left: left_out, load };
        tasks.spawn(run(shared.clone(), dispatcher, input, outward));
        tasks.spawn(neighbours::run(shared.clone(), shards, left, looked_out));
        let (ended, end) = watch::channel(false);
        tokio::spawn(async move {
            tasks.join_next().await;
            let _ = ended.send(true);
        });
        Ok(Self { shared, end })
    }

    /// Ends when one of the engine's tasks has, which only a mistake of ours can bring about: nothing is lost, and
    /// nothing moves any more.
    pub async fn ended(&self) {
        let _ = self.end.clone().wait_for(|ended| *ended).await;
    }

    /// Begins to read an arrival that is to be taken into custody.
    #[must_use]
    pub fn read(&self, source: Source) -> Taking<J, L, C> {
        Taking::new(self.shared.clone(), source)
    }

    /// Takes arrivals that were read into custody, together with those of everybody else who waits. Each has its
    /// report, or the journal was away and nothing of it is taken.
    pub async fn take(&self, batch: Vec<Ready>) -> Vec<Result<TakenReport, Down>> {
        let answers: Vec<_> = batch.into_iter().map(|ready| self.give(ready)).collect();
        let mut reports = Vec::with_capacity(answers.len());
        for answer in answers {
            reports.push(answer.await);
        }
        reports
    }

    /// Gives one arrival to be taken, at once; what is given first is taken first. The report comes with what is returned.
    pub fn give(&self, ready: Ready) -> impl Future<Output = Result<TakenReport, Down>> + Send + use<J, L, C> {
        let (tell, answer) = oneshot::channel();
        let _ = self.shared.custody.send(Waiting { ready, tell });
        async { answer.await.unwrap_or_else(|_| Err(Down("the engine has ended".to_owned()))) }
    }

    /// Ends when all of these places take what comes.
    pub async fn open(&self, places: &[&str]) {
        let is_open = |closed: &Closed| places.iter().all(|place| !closed.contains_key(*place));
        let _ = self.shared.closed.clone().wait_for(is_open).await;
    }

    /// Ends when one of these places takes nothing.
    pub async fn shut(&self, places: &[&str]) {
        let is_shut = |closed: &Closed| places.iter().any(|place| closed.contains_key(*place));
        let _ = self.shared.closed.clone().wait_for(is_shut).await;
    }

    /// Why one of these places takes nothing at present; `None` while all do.
    #[must_use]
    pub fn closed(&self, places: &[&str]) -> Option<Why> {
        let closed = self.shared.closed.borrow();
        places.iter().find_map(|place| closed.get(*place).cloned())
    }

    /// Settles an arrival that stands aside; committed when this returns.
    ///
    /// # Errors
    /// [`Down`] when the engine has ended; it may be settled or not.
    pub async fn settle(&self, settle: Settle) -> Result<(), Down> {
        let (tell, answer) = oneshot::channel();
        self.shared.submit(Op::Settle(Box::new(settle)), Tell::One(tell));
        match answer.await {
            Ok(OpResult::Committed) => Ok(()),
            Ok(OpResult::Refused(says)) => Err(Down(says)),
            Err(_) => Err(Down("the engine has ended".to_owned())),
        }
    }

    /// Carries out a person's act on a message; committed when this returns or shortly after.
    ///
    /// # Errors
    /// [`ActError`]; nothing has changed then.
    pub async fn act(&self, id: MessageId, act: Act, by: &str, why: &str) -> Result<(), ActError> {
        self.shared.act(id, act, by, why, true).await
    }

    /// Ends when this process has the lease of that name, which it then keeps, and has seen all that whoever had it before
    /// has handed over.
    pub async fn lease(&self, name: &str) {
        while !retrying(|| self.shared.journal.lease(name)).await {
            tokio::time::sleep(LEASE).await;
        }
        // Among others, a look that had begun before may have missed the last of it.
        let before = *self.shared.looked.borrow();
        let seen = if before.any { before.times + 2 } else { 1 };
        if self.shared.looked.clone().wait_for(|looked| looked.times >= seen).await.is_err() {
            std::future::pending().await
        }
    }

    /// A new release: messages that come from now on run its logic, and its connections apply to all.
    pub fn release(&self, no: i64, workspace: Arc<Workspace>) {
        self.shared.releases.replace(no, workspace.clone());
        let _ = self.shared.inputs.send(Input::Surroundings(workspace));
    }

    /// The releases.
    #[must_use]
    pub fn releases(&self) -> &Releases {
        &self.shared.releases
    }

    /// Lets the next message look whether a held connection is of use again.
    pub fn look_now(&self, connection: &str) {
        let _ = self.shared.inputs.send(Input::LookNow(connection.to_owned()));
    }

    /// Holds a connection in the name of a person: nothing passes until [`Self::free`].
    pub fn hold(&self, connection: &str, by: &str, why: &str) {
        let (connection, by, why) = (connection.to_owned(), by.to_owned(), why.to_owned());
        let _ = self.shared.inputs.send(Input::Hold { connection, by, why });
    }

    /// Frees a held connection, whoever held it.
    pub fn free(&self, connection: &str) {
        let _ = self.shared.inputs.send(Input::Free(connection.to_owned()));
    }

    /// The connections that are held.
    pub async fn held(&self) -> Vec<Held> {
        let (reply, answer) = oneshot::channel();
        let _ = self.shared.inputs.send(Input::Held(reply));
        answer.await.unwrap_or_default()
    }

    /// A fresh id.
    #[must_use]
    pub fn mint(&self) -> Id {
        self.shared.journal.mint(self.shared.clock.now())
    }
}

impl<J: Journal, L: Links, C: Clock + Clone> Shared<J, L, C> {
    /// Carries out an act here, or, if `elsewhere`, at the process whose message it is.
    pub async fn act(&self, id: MessageId, act: Act, by: &str, why: &str, elsewhere: bool) -> Result<(), ActError> {
        let mut entered = None;
        loop {
            let (reply, answer) = oneshot::channel();
            let (by, why) = (by.to_owned(), why.to_owned());
            let input = Input::Act { id, entered: entered.take(), act: act.clone(), by: by.clone(), why: why.clone(), reply };
            let _ = self.inputs.send(input);
            match answer.await.map_err(|_| Down("the engine has ended".to_owned()))? {
                Acted::Done => return Ok(()),
                Acted::Not(not) => return Err(not.into()),
                Acted::Elsewhere(shard) if elsewhere => {
                    let errand = Errand { id: self.journal.mint(self.clock.now()), message: id, shard, act, by, why };
                    return Ok(self.journal.ask(&errand).await??);
                }
                Acted::Elsewhere(_) => return Err(NotActed::Busy.into()),
                Acted::NeedsLoading => {
                    let stored = self.journal.load(&[id]).await?.pop().ok_or(NotActed::Unknown(id))?;
                    let loaded = enter(stored, &self.releases, &*self.journal).await?;
                    entered = Some(Box::new(loaded.map_err(|broken| NotActed::Broken(broken.says))?));
                }
            }
        }
    }
}

impl<J, L, C> Shared<J, L, C> {
    pub fn submit(&self, op: Op, tell: Tell) {
        let _ = self.submitted.send(Submitted { what: What::Op(op), tell });
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

    /// What people hold elsewhere is held here, too.
    pub fn held_elsewhere(&self, hold: Hold) {
        let _ = self.inputs.send(Input::HeldElsewhere(hold));
    }

    /// And is free here when it is there.
    pub fn freed_elsewhere(&self, connection: String) {
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

    pub fn unfold(&self, arrival: ArrivalId) {
        let _ = self.arrivals.send(arrival);
    }

    /// Whether the dispatcher has room for more messages.
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

/// What the engine's loop tells outward.
struct Outward {
    room: watch::Sender<bool>,
    closed: watch::Sender<Closed>,
    /// Shards that were given away.
    left: mpsc::UnboundedSender<Shards>,
    /// Messages to load.
    load: mpsc::UnboundedSender<MessageId>,
}

async fn run<J: Journal, L: Links, C: Clock + Clone>(
    shared: Arc<Shared<J, L, C>>,
    mut dispatcher: Dispatcher,
    mut input: mpsc::UnboundedReceiver<Input>,
    outward: Outward,
) {
    let mut batch = Vec::new();
    loop {
        carry_out(&shared, &mut dispatcher, &outward);
        outward.closed.send_if_modified(|known| {
            let now = closed_places(&dispatcher);
            let changed = now != *known;
            *known = now;
            changed
        });
        outward.room.send_if_modified(|known| std::mem::replace(known, dispatcher.has_room()) != dispatcher.has_room());
        let deadline = dispatcher.deadline();
        let wake = async {
            match deadline {
                Some(at) => shared.clock.until(at).await,
                None => std::future::pending().await,
            }
        };
        tokio::select! {
            biased;
            got = input.recv_many(&mut batch, 256) => if got == 0 { return },
            () = wake => dispatcher.tick(shared.clock.now()),
        }
        for input in batch.drain(..) {
            handle(&mut dispatcher, input, shared.clock.now());
        }
    }
}

fn closed_places(dispatcher: &Dispatcher) -> Closed {
    let held = dispatcher.held().filter(|(_, state, _)| !state.by.is_empty()).map(|(name, _, _)| (name.to_owned(), Why::Held));
    let full = dispatcher.full().flat_map(|(flow, most)| {
        let why = Why::Full { flow: flow.name.clone(), most };
        flow.intakes.iter().map(move |intake| (intake.place(), why.clone()))
    });
    // What a person says counts before what follows from the work.
    full.chain(held).collect()
}

fn handle(dispatcher: &mut Dispatcher, input: Input, now: Timestamp) {
    match input {
        Input::Enter(all) => {
            for one in all {
                match one {
                    Ok(entered) => dispatcher.enter(entered, now),
                    Err(broken) => dispatcher.broken_at_birth(broken.origin, broken.says, now),
                }
            }
        }
        Input::Loaded(all) => {
            for one in all {
                match one {
                    Ok(entered) => dispatcher.loaded(entered, now),
                    Err(broken) => dispatcher.broken(broken.origin, broken.logged, broken.says, now),
                }
            }
        }
        Input::Committed(all) => {
            for (id, result) in all {
                match result {
                    OpResult::Committed => dispatcher.committed(id, now),
                    OpResult::Refused(says) => dispatcher.refused(id, &says, now),
                }
            }
        }
        Input::Outcome(id, outcome) => dispatcher.outcome(id, outcome, now),
        Input::Act { id, entered, act, by, why, reply } => {
            let acted = if entered.is_none() && !dispatcher.has(id) {
                Acted::NeedsLoading
            } else {
                match dispatcher.act(id, entered.map(|entered| *entered), act, &by, &why, now) {
                    Ok(()) => Acted::Done,
                    Err(Unacted::Busy) => Acted::Not(NotActed::Busy),
                    Err(Unacted::Elsewhere(shard)) => Acted::Elsewhere(shard),
                    Err(Unacted::Refused(refused)) => Acted::Not(NotActed::Refused(refused)),
                }
            };
            let _ = reply.send(acted);
        }
        Input::Gain(shards, found) => dispatcher.gain(shards, &found, now),
        Input::Handed(found) => found.iter().for_each(|one| dispatcher.recover(one, now)),
        Input::Leave(shards, to) => dispatcher.leave(shards, to),
        Input::HeldElsewhere(hold) => dispatcher.held_elsewhere(&hold, now),
        Input::FreedElsewhere(connection) => dispatcher.freed_elsewhere(&connection, now),
        Input::Surroundings(workspace) => dispatcher.set_surroundings(workspace, now),
        Input::Hold { connection, by, why } => dispatcher.hold(&connection, &by, &why, now),
        Input::Free(connection) => dispatcher.free(&connection, now),
        Input::LookNow(connection) => dispatcher.look_now(&connection, now),
        Input::Held(reply) => {
            let held = dispatcher.held().map(|(connection, state, waiting)| Held {
                connection: connection.to_owned(),
                state: state.clone(),
                waiting,
            });
            let _ = reply.send(held.collect());
        }
    }
}

/// Whether another message told people of the same cause. Where the journal is away it is told, rather twice than never.
async fn told_by_another<J: Journal, L, C: Clock>(shared: &Shared<J, L, C>, work: &Work) -> bool {
    let Some(claim) = &work.once else { return false };
    match shared.journal.claim(claim, work.key, shared.clock.now()).await {
        Ok(first) => !first,
        Err(down) => {
            tracing::warn!(%down, "whether it was told before is not known");
            false
        }
    }
}

fn carry_out<J: Journal, L: Links, C: Clock + Clone>(
    shared: &Arc<Shared<J, L, C>>,
    dispatcher: &mut Dispatcher,
    outward: &Outward,
) {
    while let Some(out) = dispatcher.poll() {
        match out {
            Out::Commit(id, op) => shared.submit(op, id.map_or(Tell::Nobody, Tell::Dispatcher)),
            Out::Perform { id, connection, work } => {
                let shared = shared.clone();
                tokio::spawn(async move {
                    let outcome = match told_by_another(&shared, &work).await {
                        true => Outcome::Answer { status: 0, body: "another message with the same cause has told it".into() },
                        false => shared.links.perform(&connection, &work).await,
                    };
                    let _ = shared.inputs.send(Input::Outcome(id, outcome));
                });
            }
            Out::Load(id) => drop(outward.load.send(id)),
            Out::Left { shards, to } => {
                let (tell, given) = oneshot::channel();
                let _ = shared.submitted.send(Submitted { what: What::GiveAway { shards, to }, tell: Tell::One(tell) });
                let left = outward.left.clone();
                tokio::spawn(async move {
                    let _ = given.await;
                    let _ = left.send(shards);
                });
            }
        }
    }
}
