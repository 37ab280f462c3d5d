//! Which message may run, what is committed, what is performed, who waits for what. No I/O and no clock.
//!
//! Call a handler (`enter`, `recover`, `loaded`, `committed`, `refused`, `outcome`, `act`, `tick`) after what
//! happened, then take every [`Out`] with [`Dispatcher::poll`], and wake it again at [`Dispatcher::deadline`].
//!
//! ```text
//! enter ─▶ parked (lane) ─▶ at gate ─▶ performing ─outcome▶ committing ─committed▶ at gate | due | gone
//!              ▲                ▲                                                      │
//!              └── lane frees ──┴──────────────── due time, connection free ───────────┘
//! ```
//!
//! A message is in memory only while something is to be done with it: one that waits long, or is behind
//! more than [`Settings::loaded`] others, is dropped and loaded again when its turn comes.

mod acts;
mod books;
mod commits;
mod entry;
pub(crate) mod facts;
mod gates;
mod pickups;
mod share;
mod slot;
mod steps;
mod turns;

pub use acts::{Acting, Unacted};
pub use commits::ended_at_birth;
use commits::present_state;
pub use slot::PLACE;
use slot::{At, Phase, Slot};
use steps::InARow;

use crate::blame::Judged;
use crate::gate::{Gate, Moved, Terms};
use crate::journal::{Hold, Op, Recovered};
use crate::lane::Lanes;
use crate::shard::Shards;
use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;
use wirewatch_core::connection::Connection;
use wirewatch_core::flow::{AfterFailure, Recording};
use wirewatch_core::machine::{End, Machine, Next, Outcome, Turn, Work};
use wirewatch_core::reason::ReasonCode;
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{Id, MessageId, Timestamp};

/// Bounds of the dispatcher.
#[derive(Debug, Clone, Copy)]
pub struct Settings {
    /// Memory places: a message takes one for each [`PLACE`] bytes of its document, at least one.
    pub loaded: usize,
    /// A message that waits longer than this leaves memory.
    pub keep: Duration,
    /// A step is put on hold after this many messages in a row failed there for the same reason.
    pub alike: u32,
}

impl Default for Settings {
    /// 256 MB of documents. With documents of a few kilobytes that is 2,000 messages, enough to keep two cores busy during a
    /// commit.
    fn default() -> Self {
        Self { loaded: 2048, keep: Duration::from_secs(5), alike: 20 }
    }
}

/// An action that the dispatcher asks for.
#[derive(Debug)]
pub enum Out {
    /// Commit the op, then call `committed` or `refused` with the id, if there is one.
    Commit(Option<MessageId>, Op),
    /// Perform the effect, then call `outcome`.
    Perform { id: MessageId, connection: Arc<Connection>, work: Arc<Work> },
    /// Load the message, then call `loaded`.
    Load(MessageId),
    /// Count that this process picks the message up, then load it and call `loaded`.
    PickUp(MessageId),
    /// Load the message without running it, then call `suspected`.
    Suspect(MessageId),
    /// No message of these shards runs here any more: they can be given to the other process.
    Left { shards: Shards, to: i16 },
    /// No message runs here any more, as [`Dispatcher::drain`] asked.
    Drained,
}

/// A message as it comes into memory.
#[derive(Debug)]
pub struct Entered {
    pub machine: Machine,
    /// The turn that began it; `None` when it was rebuilt from a log.
    pub began: Option<Turn>,
    /// Entries in its log.
    pub logged: u32,
}

/// Progress of a planned stop.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Draining {
    No,
    UnderWay,
    Over,
}

/// Makes ids of messages.
pub type Mint = Box<dyn FnMut(Timestamp) -> Id + Send>;

/// Decides for all messages of one process.
pub struct Dispatcher {
    settings: Settings,
    mint: Mint,
    surroundings: Arc<Workspace>,
    /// Recording depth of flows for which a person has changed it.
    recordings: BTreeMap<String, Recording>,
    /// The shards whose messages run in this process.
    shards: Shards,
    /// Shards that are on their way to another process, and to which.
    leaving: Option<(Shards, i16)>,
    draining: Draining,
    /// Shards that this process is about to own, and the messages created in them before their unfinished messages are loaded.
    expected: Shards,
    early: Vec<Recovered>,
    slots: HashMap<MessageId, Slot>,
    /// Memory places in use.
    loaded: usize,
    /// Places used by messages that wait behind another message of their lane.
    behind: usize,
    /// For flows with `in_flight`: how many messages are under way, and whether the flow's intakes are closed.
    under_way: BTreeMap<String, (u32, bool)>,
    lanes: Lanes,
    gates: HashMap<String, Gate>,
    /// Steps where the last message failed, by the names of their gates.
    failing: HashMap<String, InARow>,
    due: BTreeSet<(Timestamp, MessageId)>,
    /// Messages to run that are not in memory.
    ready: VecDeque<MessageId>,
    /// Messages that may be the reason why a process ended, by pick-up count, and the one that runs alone now.
    suspects: BTreeSet<(u16, MessageId)>,
    alone: Option<MessageId>,
    out: VecDeque<Out>,
}

impl std::fmt::Debug for Dispatcher {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Self { slots, loaded, behind, gates, due, ready, suspects, alone, .. } = self;
        let mut all = f.debug_struct("Dispatcher");
        all.field("slots", slots).field("loaded", loaded).field("behind", behind).field("gates", gates);
        all.field("due", due).field("ready", ready).field("suspects", suspects).field("alone", alone);
        all.finish_non_exhaustive()
    }
}

impl Dispatcher {
    /// A dispatcher with nothing in it, for the messages of these shards.
    #[must_use]
    pub fn new(settings: Settings, surroundings: Arc<Workspace>, shards: Shards, mint: Mint) -> Self {
        Self {
            settings,
            mint,
            surroundings,
            recordings: BTreeMap::new(),
            shards,
            leaving: None,
            draining: Draining::No,
            expected: Shards::NONE,
            early: Vec::new(),
            slots: HashMap::new(),
            loaded: 0,
            behind: 0,
            under_way: BTreeMap::new(),
            lanes: Lanes::default(),
            gates: HashMap::new(),
            failing: HashMap::new(),
            due: BTreeSet::new(),
            ready: VecDeque::new(),
            suspects: BTreeSet::new(),
            alone: None,
            out: VecDeque::new(),
        }
    }

    /// Sets the recording depth of flows for which a person has changed it.
    pub fn record(&mut self, switched: BTreeMap<String, Recording>) {
        self.recordings = switched;
    }

    /// Takes the surroundings of a new release: connections, retry policies, plans.
    pub fn set_surroundings(&mut self, workspace: Arc<Workspace>, now: Timestamp) {
        self.surroundings = workspace;
        for (name, gate) in &mut self.gates {
            if let Some(connection) = self.surroundings.connections.get(name) {
                gate.set_terms(Terms::of(connection));
            }
            gate.probe_now(now);
        }
        self.free_steps_that_are_gone(now);
        self.tick(now);
    }

    /// Returns the next action.
    pub fn poll(&mut self) -> Option<Out> {
        self.out.pop_front()
    }

    /// Returns when to call `tick` if nothing happens before.
    #[must_use]
    pub fn deadline(&self) -> Option<Timestamp> {
        let due = self.due.first().map(|(at, _)| *at);
        self.gates.values().filter_map(|gate| gate.deadline(self.settings.keep)).chain(due).min()
    }

    /// The commit that a message asked for has succeeded.
    pub fn committed(&mut self, id: MessageId, now: Timestamp) {
        self.clear(id);
        let Some(running) = self.here(id) else { return };
        match running.phase.clone() {
            Phase::Committing | Phase::Reopening => {
                running.phase = Phase::Parked;
                let parts = std::mem::take(&mut running.parts);
                match self.is_leaving(id) {
                    true => self.let_go(id),
                    false => self.follow(id, now),
                }
                parts.into_iter().for_each(|part| self.enter(part, now));
            }
            Phase::Announcing => self.send_out(id, now),
            Phase::Parked | Phase::AtGate(_) | Phase::Performing { .. } | Phase::Due(_) => {}
        }
        self.look_whether_left();
        self.load_more();
    }

    /// The commit that a message asked for was refused: its content cannot be stored.
    pub fn refused(&mut self, id: MessageId, says: &str, now: Timestamp) {
        let Some(running) = self.here(id) else { return };
        let origin = running.machine.origin().clone();
        let (logged, reopening) = (running.logged, running.phase == Phase::Reopening);
        if let (Phase::Announcing, Next::Perform(work)) = (&running.phase, running.machine.next()) {
            let connection = work.effect.connection().to_owned();
            self.gate(&connection).unused();
        }
        self.drop_from_memory(id);
        if reopening {
            // The message had ended and stays so: nothing of the act is stored.
            self.leave_lane(id, now);
            self.take_out(id);
        } else {
            let says = format!("the outcome could not be stored: {says}");
            self.stop(origin, logged.saturating_sub(1), ReasonCode::NotStored, says, now);
        }
        self.look_whether_left();
    }

    /// An effect has an outcome.
    pub fn outcome(&mut self, id: MessageId, outcome: Outcome, now: Timestamp) {
        let Some(running) = self.here(id) else { return };
        let Phase::Performing { connection, since } = running.phase.clone() else { return };
        let Judged { outcome, held } = self.gate(&connection).judge(id, outcome);
        self.came_back(&connection, held.as_deref(), now);
        let took = u64::try_from(now.since(since).as_micros()).unwrap_or(u64::MAX);
        let step = self.step_asking(id);
        let then = self.conclude(id, outcome, took, now);
        if let (Some(step), Some(then)) = (step, then) {
            self.count_alike(id, &step, &then, now);
        }
        self.pump(&connection, now);
    }

    /// A message that passed the gate has an outcome. `held` is the reason to hold the connection, if there is one.
    fn came_back(&mut self, gate: &str, held: Option<&str>, now: Timestamp) {
        let connection = gate.to_owned();
        let op = match self.gate(gate).back(held, now) {
            Moved::Nothing => return,
            Moved::Held => {
                Op::Hold(Hold { connection, since: now, says: held.unwrap_or_default().to_owned(), by: String::new() })
            }
            Moved::Resumed => Op::Resume { connection, at: now, by_person: false },
        };
        self.out.push_back(Out::Commit(None, op));
    }

    /// Time has passed.
    pub fn tick(&mut self, now: Timestamp) {
        while let Some((at, id)) = self.due.first().copied() {
            if at > now {
                break;
            }
            self.due.pop_first();
            match self.slots.get(&id).map(|slot| &slot.at) {
                Some(At::Away) => self.ready.push_back(id),
                Some(At::Here(_)) => self.start(id, now),
                Some(At::Loading(_)) | None => {}
            }
        }
        let keep = self.settings.keep;
        let idle: Vec<MessageId> = self.gates.values_mut().flat_map(|gate| gate.sweep(keep, now)).collect();
        for id in idle {
            self.drop_from_memory(id);
        }
        let waiting: Vec<String> =
            self.gates.iter().filter(|(_, gate)| gate.waiting() > 0).map(|(name, _)| name.clone()).collect();
        for connection in waiting {
            self.pump(&connection, now);
        }
        self.load_more();
    }

    /// Continues a message that is in memory and whose turn it is.
    fn start(&mut self, id: MessageId, now: Timestamp) {
        self.no_longer_behind(id);
        if self.stands_still(id, now) {
            return;
        }
        let Some(running) = self.here(id) else { return };
        match running.machine.next().clone() {
            Next::Perform(work) if running.machine.in_doubt() => {
                let rule = self.rule(work.effect.connection());
                match Outcome::after_a_crash(rule) {
                    Some(outcome) => drop(self.conclude(id, outcome, 0, now)),
                    None => self.queue_at_gate(id, work.effect.connection(), false, now),
                }
            }
            Next::Perform(work) => self.queue_at_gate(id, work.effect.connection(), false, now),
            Next::WaitFor(connection) => self.queue_at_gate(id, &connection, true, now),
            Next::WaitUntil(due) if due <= now => {
                running.machine.woken(now);
                self.start(id, now);
            }
            Next::Pause(due) if due <= now => {
                let turn = running.machine.woken(now);
                self.commit_turn(id, turn, 0, false, now);
            }
            Next::Part(ways) => self.make_parts(id, &ways, now),
            Next::WaitUntil(due) | Next::Pause(due) => {
                running.phase = Phase::Due(due);
                // A message that pauses before anything else has happened to it was last committed as one that moves.
                let untold = (running.logged == 0).then(|| Op::Change(Box::new(present_state(&running.machine, now))));
                self.out.extend(untold.map(|change| Out::Commit(None, change)));
                self.due.insert((due, id));
                if due.since(now) > self.settings.keep {
                    self.drop_from_memory(id);
                }
            }
            // Begun and ended by pure steps alone: nothing of it is committed yet.
            Next::End(_) if running.logged == 0 => {
                let next = running.machine.next().clone();
                let turn = Turn { entry: None, passed: Vec::new(), points: Vec::new(), next };
                self.commit_turn(id, turn, 0, false, now);
            }
            Next::End(_) => self.follow(id, now),
        }
    }

    /// Goes on after a commit.
    fn follow(&mut self, id: MessageId, now: Timestamp) {
        let in_lane = self.slots.get(&id).is_some_and(|slot| slot.in_lane);
        let Some(running) = self.here(id) else { return };
        let keeps_place = in_lane && running.machine.flow().after_failure == AfterFailure::Wait;
        match running.machine.next() {
            Next::End(End::Failed(_)) if keeps_place => {
                // It keeps its place in the lane: messages behind it wait until a person has acted.
                self.drop_from_memory(id);
            }
            Next::End(_) => {
                self.drop_from_memory(id);
                self.leave_lane(id, now);
                self.take_out(id);
            }
            Next::Perform(_) | Next::WaitUntil(_) | Next::WaitFor(_) | Next::Pause(_) | Next::Part(_) => {
                if self.is_its_turn(id) {
                    self.start(id, now);
                } else {
                    // It is at the tail of its lane again and must not take memory from the messages before it.
                    self.drop_from_memory(id);
                }
            }
        }
    }
}
