//! The engine: one task runs the dispatcher, one commits in groups, one splits arrivals; effects run in tasks of their own.

use crate::custody::{self, Waiting};
use crate::dispatcher::{Dispatcher, Settings};
use crate::journal::{Down, Journal, NotActed, Op, OpResult, Resolve};
use crate::links::Links;
use crate::loader;
use crate::neighbours::{self, Looked};
use crate::releases::Releases;
use crate::shared::{Closed, Input, Shared, Why, unfinished};
use crate::split::{self, retrying};
use crate::spool::{self, Call, Received, Spool};
use crate::take::{Ready, Source, TakenReport, Taking};
use crate::turning::{self, Outward, closed_places};
use crate::writer::{self, Stall, Tell};
use crate::{Clock, HoldInfo};
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{mpsc, oneshot, watch};
use tokio::task::JoinSet;
use wirewatch_core::act::Act;
use wirewatch_core::flow::Recording;
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{Id, MessageId, Timestamp};

/// Interval at which a lease of another process is requested again.
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

/// A connection on hold, with the number of messages that wait for it.
#[derive(Debug, Clone)]
pub struct Held {
    pub connection: String,
    pub state: HoldInfo,
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

impl<J: Journal, L: Links, C: Clock + Clone> Engine<J, L, C> {
    /// Takes up what is unfinished and starts working.
    ///
    /// # Errors
    /// [`Down`] when the journal cannot be read; nothing runs then.
    pub async fn start(journal: Arc<J>, links: Arc<L>, clock: C, releases: Releases, settings: Settings) -> Result<Self, Down> {
        let (inputs, input) = mpsc::unbounded_channel();
        let (submitted, to_commit) = mpsc::unbounded_channel();
        let (arrivals, to_split) = mpsc::unbounded_channel();
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
        for row in journal.splittings().await? {
            let _ = arrivals.send(row.arrival);
        }
        let (spool, spooling) = Spool::new();
        let stall = Stall::default();
        journal.spools().await?.into_iter().for_each(|id| spool.left(id));
        let shared = Arc::new(Shared {
            journal: journal.clone(),
            links,
            clock,
            releases,
            inputs,
            submitted,
            arrivals,
            custody,
            spool,
            room,
            closed,
            looked,
            stall: stall.clone(),
        });
        let back = shared.inputs.clone();
        let mut tasks = JoinSet::new();
        tasks.spawn(writer::run(journal, to_commit, stall.clone(), move |done| drop(back.send(Input::Committed(done)))));
        tasks.spawn(split::run(shared.clone(), to_split));
        tasks.spawn(custody::run(shared.clone(), to_take));
        tasks.spawn(spool::run(shared.clone(), spooling));
        closed_out.send_replace(closed_places(&dispatcher));
        let (load, to_load) = mpsc::unbounded_channel();
        tasks.spawn(loader::run(shared.clone(), to_load));
        let outward = Outward { room: room_out, closed: closed_out, left: left_out, load };
        tasks.spawn(turning::run(shared.clone(), dispatcher, input, outward));
        tasks.spawn(neighbours::run(shared.clone(), shards, left, looked_out));
        let (ended, end) = watch::channel(false);
        tokio::spawn(async move {
            tasks.join_next().await;
            let _ = ended.send(true);
        });
        Ok(Self { shared, end })
    }

    /// Resolves when one of the engine's tasks has ended unexpectedly. Nothing is lost, and nothing runs any more.
    pub async fn ended(&self) {
        let _ = self.end.clone().wait_for(|ended| *ended).await;
    }

    /// Why nothing can be committed at present, such as a full disk of the database; `None` while all is well.
    #[must_use]
    pub fn stalled(&self) -> Option<String> {
        self.shared.stall.says()
    }

    /// Runs what is under way to its end and begins nothing new. Resolves when all of it is committed.
    pub async fn drain(&self) {
        let (reply, drained) = oneshot::channel();
        let _ = self.shared.inputs.send(Input::Drain(reply));
        let _ = drained.await;
    }

    /// Begins to read an arrival.
    #[must_use]
    pub fn read(&self, source: Source) -> Taking<J, L, C> {
        Taking::new(self.shared.clone(), source)
    }

    /// Commits arrivals that were read, together with those of other intakes. Each gets its report, or [`Down`] if nothing of it
    /// was committed.
    pub async fn take(&self, batch: Vec<Ready>) -> Vec<Result<TakenReport, Down>> {
        let answers: Vec<_> = batch.into_iter().map(|ready| self.give(ready)).collect();
        let mut reports = Vec::with_capacity(answers.len());
        for answer in answers {
            reports.push(answer.await);
        }
        reports
    }

    /// Queues one arrival for its commit, in the order of the calls; the returned future yields the report.
    pub fn give(&self, ready: Ready) -> impl Future<Output = Result<TakenReport, Down>> + Send + use<J, L, C> {
        let (tell, answer) = oneshot::channel();
        let _ = self.shared.custody.send(Waiting { ready, tell });
        async { Ok(answer.await.map_err(|_| Down("the engine has ended".to_owned()))??) }
    }

    /// Stores a call durably: with its messages, or under load in the spool only.
    ///
    /// # Errors
    /// [`Down`] while the journal is away; nothing of the call is stored.
    pub async fn receive(&self, call: Call) -> Result<Received, Down> {
        Ok(spool::receive(&self.shared, call).await?)
    }

    /// Returns how many calls are in the spool, and when the first of them was received.
    #[must_use]
    pub fn spooled(&self) -> Option<(usize, Timestamp)> {
        self.shared.spool.waiting()
    }

    /// Resolves when all of these places accept arrivals.
    pub async fn open(&self, places: &[&str]) {
        let is_open = |closed: &Closed| places.iter().all(|place| !closed.contains_key(*place));
        let _ = self.shared.closed.clone().wait_for(is_open).await;
    }

    /// Resolves when one of these places does not accept arrivals.
    pub async fn shut(&self, places: &[&str]) {
        let is_shut = |closed: &Closed| places.iter().any(|place| closed.contains_key(*place));
        let _ = self.shared.closed.clone().wait_for(is_shut).await;
    }

    /// Returns why one of these places does not accept arrivals; `None` while all do.
    #[must_use]
    pub fn closed(&self, places: &[&str]) -> Option<Why> {
        let closed = self.shared.closed.borrow();
        places.iter().find_map(|place| closed.get(*place).cloned())
    }

    /// Resolves a failed arrival; committed when this returns.
    ///
    /// # Errors
    /// [`Down`] when the engine has ended; the arrival may be resolved or not.
    pub async fn resolve(&self, resolve: Resolve) -> Result<(), Down> {
        let (tell, answer) = oneshot::channel();
        self.shared.submit(Op::Resolve(Box::new(resolve)), Tell::One(tell));
        match answer.await {
            Ok(OpResult::Committed) => Ok(()),
            Ok(OpResult::Refused(says)) => Err(Down(says)),
            Err(_) => Err(Down("the engine has ended".to_owned())),
        }
    }

    /// Carries out a person's act on a message; committed when this returns. It waits as long as the journal is away.
    ///
    /// # Errors
    /// [`ActError`]; nothing has changed then.
    pub async fn act(&self, id: MessageId, act: Act, by: &str, why: &str) -> Result<(), ActError> {
        self.shared.act(id, act, by, why, true).await
    }

    /// Returns the release that an act names, or the current one: what [`Machine::act`](wirewatch_core::machine::Machine::act)
    /// may choose.
    ///
    /// # Errors
    /// [`ActError`] when there is no such release, or it cannot be read.
    pub async fn offered(&self, act: &Act) -> Result<(i64, Arc<Workspace>), ActError> {
        self.shared.offered(act).await
    }

    /// Resolves when this process has the lease of that name, which it then keeps, and has taken over what its previous owner
    /// handed over.
    pub async fn lease(&self, name: &str) {
        while !retrying(|| self.shared.journal.lease(name)).await {
            tokio::time::sleep(LEASE).await;
        }
        // A look at the other processes that began before may have missed the last of what was handed over.
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

    /// Sets the recording depth of flows for which a person has changed it; all others record as they declare.
    pub fn record(&self, switched: BTreeMap<String, Recording>) {
        let _ = self.shared.inputs.send(Input::Record(switched));
    }

    /// Probes a connection on hold with the next message.
    pub fn probe_now(&self, connection: &str) {
        let _ = self.shared.inputs.send(Input::LookNow(connection.to_owned()));
    }

    /// Puts a connection on hold for a person: nothing passes until [`Self::resume`]. The hold is stored when this returns.
    pub async fn hold(&self, connection: &str, by: &str, why: &str) {
        let (connection, by, why) = (connection.to_owned(), by.to_owned(), why.to_owned());
        let (reply, stored) = oneshot::channel();
        let _ = self.shared.inputs.send(Input::Hold { connection, by, why, reply });
        // Without a reply there was nothing to store, or the engine has ended.
        let _ = stored.await;
    }

    /// Resumes a connection, whoever put it on hold; stored when this returns.
    pub async fn resume(&self, connection: &str) {
        let (reply, stored) = oneshot::channel();
        let _ = self.shared.inputs.send(Input::Free(connection.to_owned(), reply));
        let _ = stored.await;
    }

    /// Returns the connections on hold.
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
