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
//! A message is in memory only while something is to be done with it: one that waits long, or stands behind
//! more than [`Settings::loaded`] others, is dropped and loaded again when its turn comes.

mod commits;
mod entry;
pub(crate) mod facts;
mod gates;
mod share;
mod turns;

pub use commits::ended_at_birth;
use commits::stand;
use entry::running;
pub use gates::{flow_of_line, line_of};

use crate::gate::{Gate, HeldState, Moved, Terms};
use crate::journal::{Hold, Op, Part};
use crate::lane::{LaneKey, Lanes};
use crate::shard::{Shards, shard_of};
use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;
use wirewatch_core::act::Act;
use wirewatch_core::connection::Connection;
use wirewatch_core::course::Point;
use wirewatch_core::flow::{Flow, OnAside, Recording};
use wirewatch_core::machine::{ActRefused, End, Machine, Next, Outcome, Passed, Turn, Work};
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{Id, MessageId, Timestamp};

/// Bounds of the dispatcher.
#[derive(Debug, Clone, Copy)]
pub struct Settings {
    /// Places in memory: a message takes one for each [`PLACE`] of its document, and one at least.
    pub loaded: usize,
    /// A message that waits longer than this leaves memory.
    pub keep: Duration,
}

impl Default for Settings {
    /// Documents of 256 MB. With the usual few kilobytes that is two thousand messages, which keep two cores busy
    /// through any commit.
    fn default() -> Self {
        Self { loaded: 2048, keep: Duration::from_secs(5) }
    }
}

/// Bytes of a document that take one place in memory.
pub const PLACE: u64 = 128 << 10;

/// Places that a document of so many bytes takes.
fn places(bytes: u64) -> usize {
    usize::try_from(bytes.div_ceil(PLACE)).unwrap_or(usize::MAX).max(1)
}

/// The shard of a message, and its lane where its flow has an order.
fn place_of(machine: &Machine) -> (u16, Option<LaneKey>) {
    let (origin, key) = (machine.origin(), machine.order_key());
    let shard = shard_of(origin.id, &origin.flow, key.as_deref().unwrap_or_default());
    (shard, key.map(|key| (origin.flow.clone(), key)))
}

/// What the dispatcher wants done.
#[derive(Debug)]
pub enum Out {
    /// Commit the op, then call `committed` or `refused` with the id, if there is one.
    Commit(Option<MessageId>, Op),
    /// Perform the effect, then call `outcome`.
    Perform { id: MessageId, connection: Arc<Connection>, work: Arc<Work> },
    /// Load the message, then call `loaded`.
    Load(MessageId),
    /// Nothing of these shards runs here any more: they can be given away.
    Left { shards: Shards, to: i16 },
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

#[derive(Debug)]
struct Slot {
    shard: u16,
    /// Its flow, where that says how many may be under way.
    counted: Option<Arc<Flow>>,
    /// Places it takes in memory.
    places: usize,
    lane: Option<LaneKey>,
    in_lane: bool,
    /// In memory though it stands behind another in its lane.
    behind: bool,
    at: At,
}

#[derive(Debug)]
enum At {
    /// In no memory but the journal's; `true` when the gate has let it pass already.
    Away,
    Loading(Wake),
    Here(Box<Running>),
}

#[derive(Debug, Clone)]
enum Wake {
    Run,
    /// The gate let it pass: its place there is taken.
    Pass(String),
}

#[derive(Debug)]
struct Running {
    machine: Machine,
    logged: u32,
    phase: Phase,
    /// From pure steps, until something is committed.
    passed: Vec<Passed>,
    points: Vec<Point>,
    /// Messages that are made of it, to be committed, and as they run once they are.
    born: Vec<Part>,
    parts: Vec<Entered>,
}

#[derive(Debug, Clone, PartialEq)]
enum Phase {
    Parked,
    AtGate(String),
    /// The intent is being committed; the effect follows.
    Announcing,
    Performing {
        connection: String,
        since: Timestamp,
    },
    Committing,
    Due(Timestamp),
}

/// Why an act was not carried out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Unacted {
    /// An effect or a commit is under way.
    Busy,
    /// The message is in a shard of another process's.
    Elsewhere(u16),
    Refused(ActRefused),
}

/// Makes ids of messages.
pub type Mint = Box<dyn FnMut(Timestamp) -> Id + Send>;

/// Decides for all messages of one process.
pub struct Dispatcher {
    settings: Settings,
    mint: Mint,
    surroundings: Arc<Workspace>,
    /// How much is recorded of flows where a person has switched that.
    recordings: BTreeMap<String, Recording>,
    /// The shards whose messages run here.
    shards: Shards,
    /// Shards that are on their way to another process, and to which.
    leaving: Option<(Shards, i16)>,
    slots: HashMap<MessageId, Slot>,
    /// Places taken.
    loaded: usize,
    /// Of those, how many by messages behind others in their lanes.
    behind: usize,
    /// Of flows that say how many may be under way: how many are, and whether their intakes wait.
    under_way: BTreeMap<String, (u32, bool)>,
    lanes: Lanes,
    gates: HashMap<String, Gate>,
    due: BTreeSet<(Timestamp, MessageId)>,
    /// Messages to run that are not in memory.
    ready: VecDeque<MessageId>,
    out: VecDeque<Out>,
}

impl std::fmt::Debug for Dispatcher {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let Self { slots, loaded, behind, gates, due, ready, .. } = self;
        let mut all = f.debug_struct("Dispatcher");
        all.field("slots", slots).field("loaded", loaded).field("behind", behind).field("gates", gates);
        all.field("due", due).field("ready", ready).finish_non_exhaustive()
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
            slots: HashMap::new(),
            loaded: 0,
            behind: 0,
            under_way: BTreeMap::new(),
            lanes: Lanes::default(),
            gates: HashMap::new(),
            due: BTreeSet::new(),
            ready: VecDeque::new(),
            out: VecDeque::new(),
        }
    }

    /// Takes the surroundings of a new release: connections, retry policies, courses.
    /// How much is recorded of flows where that is switched.
    pub fn record(&mut self, switched: BTreeMap<String, Recording>) {
        self.recordings = switched;
    }

    pub fn set_surroundings(&mut self, workspace: Arc<Workspace>, now: Timestamp) {
        self.surroundings = workspace;
        for (name, gate) in &mut self.gates {
            if let Some(connection) = self.surroundings.connections.get(name) {
                gate.set_terms(Terms::of(connection));
            }
            gate.look_now(now);
        }
        self.tick(now);
    }

    /// The next thing to be done.
    pub fn poll(&mut self) -> Option<Out> {
        self.out.pop_front()
    }

    /// When to call `tick`, if nothing happens before.
    #[must_use]
    pub fn deadline(&self) -> Option<Timestamp> {
        let due = self.due.first().map(|(at, _)| *at);
        self.gates.values().filter_map(|gate| gate.deadline(self.settings.keep)).chain(due).min()
    }

    /// Whether more messages should be made from arrivals.
    #[must_use]
    pub fn has_room(&self) -> bool {
        self.loaded < self.settings.loaded && self.ready.len() < self.settings.loaded
    }

    /// Places taken in memory.
    #[must_use]
    pub fn places_taken(&self) -> usize {
        self.loaded
    }

    /// Messages known, in memory or not.
    #[must_use]
    pub fn len(&self) -> usize {
        self.slots.len()
    }

    /// Whether no message is known.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.slots.is_empty()
    }

    /// The connections that are held, and as [`line_of`] the flows that are paused.
    pub fn held(&self) -> impl Iterator<Item = (&str, &HeldState, usize)> {
        self.gates.iter().filter_map(|(name, gate)| Some((name.as_str(), gate.held()?, gate.waiting())))
    }

    /// The flows with as many messages under way as they may have, and how many that is.
    pub fn full(&self) -> impl Iterator<Item = (&Flow, u32)> {
        self.under_way.iter().filter(|(_, (_, full))| *full).filter_map(|(name, _)| {
            let flow = self.surroundings.flows.get(name)?;
            Some((flow.as_ref(), flow.in_flight?))
        })
    }

    /// Puts a message into the books.
    fn put(&mut self, id: MessageId, flow: &str, slot: Slot) {
        let counted = self.surroundings.flows.get(flow).filter(|flow| flow.in_flight.is_some()).cloned();
        if let Some(flow) = &counted {
            let (n, full) = self.under_way.entry(flow.name.clone()).or_default();
            *n += 1;
            *full |= flow.in_flight.is_some_and(|most| *n >= most);
        }
        if let Some(before) = self.slots.insert(id, Slot { counted, ..slot }) {
            self.uncount(&before);
        }
    }

    /// Takes a message out of the books.
    fn take_out(&mut self, id: MessageId) -> Option<Slot> {
        let slot = self.slots.remove(&id)?;
        self.uncount(&slot);
        Some(slot)
    }

    fn uncount(&mut self, slot: &Slot) {
        let Some(flow) = &slot.counted else { return };
        if let Some((n, full)) = self.under_way.get_mut(&flow.name) {
            *n = n.saturating_sub(1);
            // Not at the first that goes: intakes would open and close with every message.
            *full &= flow.in_flight.is_some_and(|most| *n > most - most.div_ceil(4));
        }
    }

    /// A hold from before a restart.
    pub fn restore_hold(&mut self, hold: Hold, now: Timestamp) {
        self.gate(&hold.connection).restore(hold.since, hold.says, hold.by, now);
    }

    /// A person holds a connection: nothing passes until a person frees it.
    pub fn hold(&mut self, connection: &str, by: &str, why: &str, now: Timestamp) {
        let held = self.gate(connection).hold(by, why, now);
        let hold = Hold { connection: connection.to_owned(), since: held.since, says: held.says.clone(), by: held.by.clone() };
        self.out.push_back(Out::Commit(None, Op::Hold(hold)));
    }

    /// A person frees a connection, whoever held it.
    pub fn free(&mut self, connection: &str, now: Timestamp) {
        if self.gate(connection).free() == Moved::Freed {
            self.out.push_back(Out::Commit(None, Op::Free { connection: connection.to_owned(), at: now, by_person: true }));
        }
        self.pump(connection, now);
    }

    /// What a message wanted committed is committed.
    pub fn committed(&mut self, id: MessageId, now: Timestamp) {
        let Some(running) = self.here(id) else { return };
        match running.phase.clone() {
            Phase::Committing => {
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

    /// What a message wanted committed cannot be stored.
    pub fn refused(&mut self, id: MessageId, says: &str, now: Timestamp) {
        let Some(running) = self.here(id) else { return };
        let origin = running.machine.origin().clone();
        let logged = running.logged;
        self.drop_from_memory(id);
        self.stop(origin, logged.saturating_sub(1), format!("the journal refused what came of it: {says}"), now);
        self.look_whether_left();
    }

    /// An effect has come to something.
    pub fn outcome(&mut self, id: MessageId, outcome: Outcome, now: Timestamp) {
        let Some(running) = self.here(id) else { return };
        let Phase::Performing { connection, since } = running.phase.clone() else { return };
        let held = match &outcome {
            Outcome::Held { says, .. } => Some(says.clone()),
            Outcome::Answer { .. } | Outcome::Again { .. } | Outcome::Refused { .. } | Outcome::InDoubt { .. } => None,
        };
        match self.gate(&connection).back(held.as_deref(), now) {
            Moved::Nothing => {}
            Moved::Held => {
                let (connection, says) = (connection.clone(), held.unwrap_or_default());
                let hold = Hold { connection, since: now, says, by: String::new() };
                self.out.push_back(Out::Commit(None, Op::Hold(hold)));
            }
            Moved::Freed => {
                let connection = connection.clone();
                self.out.push_back(Out::Commit(None, Op::Free { connection, at: now, by_person: false }));
            }
        }
        let took = u64::try_from(now.since(since).as_micros()).unwrap_or(u64::MAX);
        self.conclude(id, outcome, took, now);
        self.pump(&connection, now);
    }

    /// A person's act on a message. `entered` is the message loaded, when [`Self::has`] says that it is not here.
    ///
    /// # Errors
    /// [`Unacted`]; nothing has changed then.
    pub fn act(
        &mut self,
        id: MessageId,
        entered: Option<Entered>,
        act: Act,
        by: &str,
        why: &str,
        now: Timestamp,
    ) -> Result<(), Unacted> {
        if matches!(self.slots.get(&id), Some(Slot { at: At::Loading(_), .. })) {
            return Err(Unacted::Busy);
        }
        if let (false, Some(entered)) = (self.has(id), entered) {
            let (shard, lane) = place_of(&entered.machine);
            if !self.shards.has(shard) {
                return Err(Unacted::Elsewhere(shard));
            }
            let in_lane = self.slots.get(&id).is_some_and(|slot| slot.in_lane);
            let places = places(entered.machine.origin().size());
            self.forget_waits(id);
            let at = At::Here(Box::new(running(entered)));
            let flow = match &at {
                At::Here(running) => running.machine.origin().flow.clone(),
                At::Away | At::Loading(_) => unreachable!("it was just put there"),
            };
            self.put(id, &flow, Slot { shard, counted: None, places, lane, in_lane, behind: false, at });
            self.loaded += places;
        }
        let Some(running) = self.here(id) else { return Err(Unacted::Busy) };
        if matches!(running.phase, Phase::Performing { .. } | Phase::Committing | Phase::Announcing) {
            return Err(Unacted::Busy);
        }
        let reopened = running.machine.next().state().is_final();
        match running.machine.act(act, by, why, now) {
            Err(refused) => {
                if running.phase == Phase::Parked {
                    self.drop_from_memory(id);
                }
                Err(Unacted::Refused(refused))
            }
            Ok(turn) => {
                self.forget_waits(id);
                self.commit_turn(id, turn, 0, reopened, now);
                Ok(())
            }
        }
    }

    /// Whether the message is in memory, so that an act needs no loading.
    #[must_use]
    pub fn has(&self, id: MessageId) -> bool {
        matches!(self.slots.get(&id), Some(Slot { at: At::Here(_), .. }))
    }

    /// A person frees a connection: the next message looks whether it is of use again.
    pub fn look_now(&mut self, connection: &str, now: Timestamp) {
        self.gate(connection).look_now(now);
        self.pump(connection, now);
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

    fn here(&mut self, id: MessageId) -> Option<&mut Running> {
        match self.slots.get_mut(&id).map(|slot| &mut slot.at) {
            Some(At::Here(running)) => Some(running),
            Some(At::Away | At::Loading(_)) | None => None,
        }
    }

    /// Goes on with a message that is in memory and whose turn it is.
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
                    Some(outcome) => self.conclude(id, outcome, 0, now),
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
                let untold = (running.logged == 0).then(|| Op::Change(Box::new(stand(&running.machine, now))));
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
        let keeps_place = in_lane && running.machine.flow().on_aside == OnAside::Wait;
        match running.machine.next() {
            Next::End(End::Aside(_)) if keeps_place => {
                // It keeps its place: those behind it wait until a person has looked.
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
                    // Back at the tail of its lane: it must not take room from those before it.
                    self.drop_from_memory(id);
                }
            }
        }
    }
}
