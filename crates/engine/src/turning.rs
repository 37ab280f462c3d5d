//! The engine's loop: inputs go into the dispatcher, its actions go out.

use crate::Clock;
use crate::dispatcher::{Dispatcher, Out, Unacted};
use crate::engine::Held;
use crate::enter::Broken;
use crate::journal::{Journal, NotActed, Op, OpResult};
use crate::links::Links;
use crate::loader::Wanted;
use crate::shard::Shards;
use crate::shared::{Acted, Closed, Input, Loaded, Shared, Why};
use crate::writer::{Submitted, Tell, What};
use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;
use tokio::sync::{mpsc, oneshot, watch};
use wirewatch_core::connection::Connection;
use wirewatch_core::machine::{Claim, Outcome, Work};
use wirewatch_core::{MessageId, Timestamp};

/// State that the engine's loop publishes.
pub(crate) struct Outward {
    pub room: watch::Sender<bool>,
    pub closed: watch::Sender<Closed>,
    /// Shards that were given away.
    pub left: mpsc::UnboundedSender<Shards>,
    /// Messages to load.
    pub load: mpsc::UnboundedSender<Wanted>,
}

/// Replies to people that are sent once what they did is committed: an act that was answered survives a crash.
#[derive(Default)]
struct Replies {
    /// Acts, by the message whose commit completes them.
    acts: BTreeMap<MessageId, VecDeque<oneshot::Sender<Acted>>>,
    /// Holds and resumes that are not handed to the writer yet, by connection.
    holds: BTreeMap<String, VecDeque<oneshot::Sender<OpResult>>>,
    /// The process drains.
    drained: Option<oneshot::Sender<()>>,
}

impl Replies {
    /// Answers the act that a commit completes, if there is one.
    fn committed(&mut self, id: MessageId, result: &OpResult) {
        let Some(waiting) = self.acts.get_mut(&id) else { return };
        let reply = waiting.pop_front();
        if waiting.is_empty() {
            self.acts.remove(&id);
        }
        let acted = match result {
            OpResult::Committed => Acted::Done,
            OpResult::Refused(says) => Acted::Not(NotActed::NotStored(says.clone())),
        };
        // Whoever asked may have gone.
        let _ = reply.map(|reply| reply.send(acted));
    }

    /// Returns who is told the result of a commit.
    fn tell(&mut self, id: Option<MessageId>, op: &Op) -> Tell {
        let held = match op {
            Op::Hold(hold) => Some(&hold.connection),
            Op::Resume { connection, by_person: true, .. } => Some(connection),
            _ => None,
        };
        match (id, held.and_then(|connection| self.holds.get_mut(connection)?.pop_front())) {
            (Some(id), _) => Tell::Dispatcher(id),
            (None, Some(reply)) => Tell::One(reply),
            (None, None) => Tell::Nobody,
        }
    }
}

/// Runs until no more input can arrive.
pub(crate) async fn run<J: Journal, L: Links, C: Clock + Clone>(
    shared: Arc<Shared<J, L, C>>,
    mut dispatcher: Dispatcher,
    mut input: mpsc::UnboundedReceiver<Input>,
    outward: Outward,
) {
    let mut batch = Vec::new();
    let mut replies = Replies::default();
    loop {
        carry_out(&shared, &mut dispatcher, &outward, &mut replies);
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
            handle(&mut dispatcher, &mut replies, input, shared.clock.now());
        }
    }
}

/// Returns the places that accept nothing at present.
pub(crate) fn closed_places(dispatcher: &Dispatcher) -> Closed {
    let held = dispatcher.held().filter(|(_, state, _)| !state.by.is_empty()).map(|(name, _, _)| (name.to_owned(), Why::Held));
    let full = dispatcher.full().flat_map(|(flow, most)| {
        let why = Why::Full { flow: flow.name.clone(), most };
        flow.intakes.iter().map(move |intake| (intake.place(), why.clone()))
    });
    // A person's hold takes precedence over a limit.
    full.chain(held).collect()
}

fn handle(dispatcher: &mut Dispatcher, replies: &mut Replies, input: Input, now: Timestamp) {
    match input {
        Input::Enter(all) => {
            for one in all {
                match one {
                    Ok(entered) => dispatcher.enter(entered, now),
                    Err(broken) => dispatcher.broken_at_birth(broken, now),
                }
            }
        }
        Input::Loaded(all) => {
            for one in all {
                match one {
                    Ok(entered) => dispatcher.loaded(entered, now),
                    Err(broken) => dispatcher.broken(broken, now),
                }
            }
        }
        Input::Suspected(all) => {
            for (origin, logged) in all {
                dispatcher.suspected(origin, logged, now);
            }
        }
        Input::Committed(all) => {
            for (id, result) in all {
                replies.committed(id, &result);
                match result {
                    OpResult::Committed => dispatcher.committed(id, now),
                    OpResult::Refused(says) => dispatcher.refused(id, &says, now),
                }
            }
        }
        Input::Outcome(id, outcome) => dispatcher.outcome(id, outcome, now),
        Input::Act { id, loaded: None, reply, .. } if !dispatcher.has(id) => drop(reply.send(Acted::NeedsLoading)),
        Input::Act { id, loaded, acting, reply } => {
            let done = match loaded {
                Some(Loaded::Broken(broken)) => {
                    let (Broken { origin, logged, .. }, found) = *broken;
                    dispatcher.discard_broken(origin, logged, &found, &acting.by, &acting.why, now)
                }
                Some(Loaded::Entered(entered)) => dispatcher.act(id, Some(*entered), &acting, now),
                None => dispatcher.act(id, None, &acting, now),
            };
            let refused = match done {
                Ok(()) => return replies.acts.entry(id).or_default().push_back(reply),
                Err(Unacted::Busy) => Acted::Not(NotActed::Busy),
                Err(Unacted::Elsewhere(shard)) => Acted::Elsewhere(shard),
                Err(Unacted::Refused(refused)) => Acted::Not(NotActed::Refused(refused)),
            };
            let _ = reply.send(refused);
        }
        Input::Expect(shards) => dispatcher.expect(shards),
        Input::Gain(shards, found) => dispatcher.gain(shards, &found, now),
        Input::Handed(found) => found.iter().for_each(|one| dispatcher.handed(one, now)),
        Input::Leave(shards, to) => dispatcher.leave(shards, to),
        Input::Drain(reply) => {
            replies.drained = Some(reply);
            dispatcher.drain();
        }
        Input::HeldElsewhere(hold) => dispatcher.held_elsewhere(&hold, now),
        Input::FreedElsewhere(connection) => dispatcher.resumed_elsewhere(&connection, now),
        Input::Record(switched) => dispatcher.record(switched),
        Input::Surroundings(workspace) => dispatcher.set_surroundings(workspace, now),
        Input::Hold { connection, by, why, reply } => {
            dispatcher.hold(&connection, &by, &why, now);
            replies.holds.entry(connection).or_default().push_back(reply);
        }
        Input::Free(connection, reply) => {
            dispatcher.resume(&connection, now);
            replies.holds.entry(connection).or_default().push_back(reply);
        }
        Input::LookNow(connection) => dispatcher.probe_now(&connection, now),
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

/// An effect under way. If a panic of ours ends it, its message gets that as its outcome and fails; otherwise it would wait for
/// ever and block its place at the connection.
struct Performing {
    id: MessageId,
    inputs: mpsc::UnboundedSender<Input>,
}

impl Drop for Performing {
    fn drop(&mut self) {
        if std::thread::panicking() {
            let says = "a fault in the service ended the request, which may have taken effect; see the service's log";
            let _ = self.inputs.send(Input::Outcome(self.id, Outcome::InDoubt { says: says.to_owned() }));
        }
    }
}

/// Notifies people of a cause once. While the journal is away they are notified all the same: twice is better than never.
async fn tell_once<J: Journal, L: Links, C: Clock>(
    shared: &Shared<J, L, C>,
    claim: &Claim,
    connection: &Connection,
    work: &Work,
) -> Outcome {
    let known = match shared.journal.claim(claim, work.key, shared.clock.now()).await {
        Ok(first) => !first,
        Err(down) => {
            tracing::warn!(%down, "cannot find out whether this cause was reported before");
            false
        }
    };
    if known {
        return Outcome::Answer { status: 0, body: "the same cause was reported before".into() };
    }
    let outcome = shared.links.perform(connection, work).await;
    let notified = match &outcome {
        Outcome::Answer { .. } => true,
        Outcome::Refused { .. } => false,
        // It is retried, and keeps its claim on the cause until then.
        Outcome::Again { .. } | Outcome::Held { .. } | Outcome::InDoubt { .. } => return outcome,
    };
    if let Err(down) = shared.journal.settle_claim(claim, work.key, notified).await {
        tracing::warn!(%down, notified, "cannot store that a cause was reported");
    }
    outcome
}

fn carry_out<J: Journal, L: Links, C: Clock + Clone>(
    shared: &Arc<Shared<J, L, C>>,
    dispatcher: &mut Dispatcher,
    outward: &Outward,
    replies: &mut Replies,
) {
    while let Some(out) = dispatcher.poll() {
        match out {
            Out::Commit(id, op) => {
                let tell = replies.tell(id, &op);
                shared.submit(op, tell);
            }
            Out::Perform { id, connection, work } => {
                let shared = shared.clone();
                let performing = Performing { id, inputs: shared.inputs.clone() };
                tokio::spawn(async move {
                    let _performing = performing;
                    let outcome = match &work.once {
                        Some(claim) => tell_once(&shared, claim, &connection, &work).await,
                        None => shared.links.perform(&connection, &work).await,
                    };
                    let _ = shared.inputs.send(Input::Outcome(id, outcome));
                });
            }
            Out::Load(id) => drop(outward.load.send(Wanted::Again(id))),
            Out::PickUp(id) => drop(outward.load.send(Wanted::PickedUp(id))),
            Out::Suspect(id) => drop(outward.load.send(Wanted::Suspect(id))),
            Out::Drained => {
                // Behind everything that was submitted before, as shards are given away: of none.
                let (tell, given) = oneshot::channel();
                let _ = shared
                    .submitted
                    .send(Submitted { what: What::GiveAway { shards: Shards::NONE, to: 0 }, tell: Tell::One(tell) });
                if let Some(reply) = replies.drained.take() {
                    tokio::spawn(async move {
                        let _ = given.await;
                        let _ = reply.send(());
                    });
                }
            }
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
    // What is left changed nothing, such as the resume of what is not on hold.
    replies.holds.clear();
}
