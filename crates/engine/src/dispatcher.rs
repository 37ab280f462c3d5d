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

pub(crate) mod facts;

use crate::gate::{Gate, HeldState, Moved};
use crate::journal::{Change, Op, Recovered};
use crate::lane::{LaneKey, Lanes};
use std::collections::{BTreeSet, HashMap, VecDeque};
use std::sync::Arc;
use std::time::Duration;
use wirewatch_core::act::Act;
use wirewatch_core::connection::{Connection, RepeatRule};
use wirewatch_core::course::Point;
use wirewatch_core::flow::{OnAside, Retry};
use wirewatch_core::machine::{ActRefused, End, LogEntry, Logged, Machine, Next, Origin, Outcome, Passed, State, Turn, Work};
use wirewatch_core::reason::Reason;
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{MessageId, Timestamp};

/// Bounds of the dispatcher.
#[derive(Debug, Clone, Copy)]
pub struct Settings {
    /// Messages in memory at a time.
    pub loaded: usize,
    /// A message that waits longer than this leaves memory.
    pub keep: Duration,
}

impl Default for Settings {
    /// Two thousand messages keep two cores busy through any commit; with the usual few kilobytes each
    /// they stay far below the byte budget.
    fn default() -> Self {
        Self { loaded: 2000, keep: Duration::from_secs(5) }
    }
}

/// What the dispatcher wants done.
#[derive(Debug)]
pub enum Out {
    /// Commit the op, then call `committed` or `refused` with the id, if there is one.
    Commit(Option<MessageId>, Op),
    /// Perform the effect, then call `outcome`.
    Perform { id: MessageId, connection: Arc<Connection>, work: Box<Work> },
    /// Load the message, then call `loaded`.
    Load(MessageId),
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

/// Decides for all messages of one process.
#[derive(Debug)]
pub struct Dispatcher {
    settings: Settings,
    surroundings: Arc<Workspace>,
    slots: HashMap<MessageId, Slot>,
    loaded: usize,
    /// Of those, how many stand behind others in their lanes.
    behind: usize,
    lanes: Lanes,
    gates: HashMap<String, Gate>,
    due: BTreeSet<(Timestamp, MessageId)>,
    /// Messages to run that are not in memory.
    ready: VecDeque<MessageId>,
    out: VecDeque<Out>,
}

impl Dispatcher {
    /// A dispatcher with nothing in it.
    #[must_use]
    pub fn new(settings: Settings, surroundings: Arc<Workspace>) -> Self {
        Self {
            settings,
            surroundings,
            slots: HashMap::new(),
            loaded: 0,
            behind: 0,
            lanes: Lanes::default(),
            gates: HashMap::new(),
            due: BTreeSet::new(),
            ready: VecDeque::new(),
            out: VecDeque::new(),
        }
    }

    /// Takes the surroundings of a new release: connections, retry policies, courses.
    pub fn set_surroundings(&mut self, workspace: Arc<Workspace>, now: Timestamp) {
        self.surroundings = workspace;
        for (name, gate) in &mut self.gates {
            if let Some(connection) = self.surroundings.connections.get(name) {
                gate.set_limit(connection.in_flight);
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

    /// The connections that are held.
    pub fn held(&self) -> impl Iterator<Item = (&str, &HeldState, usize)> {
        self.gates.iter().filter_map(|(name, gate)| Some((name.as_str(), gate.held()?, gate.waiting())))
    }

    /// A hold from before a restart.
    pub fn restore_hold(&mut self, connection: &str, says: String, since: Timestamp, now: Timestamp) {
        self.gate(connection).restore(since, says, now);
    }

    /// A message that was just committed to be.
    pub fn enter(&mut self, entered: Entered, now: Timestamp) {
        let id = entered.machine.origin().id;
        let flow = entered.machine.origin().flow.clone();
        let lane = entered.machine.order_key().map(|key| (flow, key));
        let first = lane.as_ref().is_none_or(|lane| self.lanes.enter(lane, id));
        // Those behind others in a lane get half of the memory at most: the ones before them must find room.
        let room = self.loaded < self.settings.loaded && (first || self.behind < self.settings.loaded / 2);
        let at = if room { At::Here(Box::new(running(entered))) } else { At::Away };
        let behind = room && !first;
        self.loaded += usize::from(room);
        self.behind += usize::from(behind);
        self.slots.insert(id, Slot { in_lane: lane.is_some(), lane, behind, at });
        match (first, room) {
            (true, true) => self.start(id, now),
            (true, false) => self.ready.push_back(id),
            (false, _) => {}
        }
    }

    /// An unfinished message found at the start. Call in the order of ids.
    pub fn recover(&mut self, found: &Recovered, now: Timestamp) {
        let lane = (!found.order_key.is_empty()).then(|| (found.flow.clone(), found.order_key.clone()));
        let aside = found.state == State::Aside;
        let passes = || {
            let flow = self.surroundings.flows.get(&found.flow);
            flow.is_some_and(|flow| flow.on_aside == OnAside::Pass)
        };
        if aside && (lane.is_none() || passes()) {
            return;
        }
        let first = lane.as_ref().is_none_or(|lane| self.lanes.enter(lane, found.id));
        self.slots.insert(found.id, Slot { in_lane: lane.is_some(), lane, behind: false, at: At::Away });
        if !first || aside {
            return;
        }
        match found.due.filter(|due| *due > now && found.state == State::Retrying) {
            Some(due) => {
                self.due.insert((due, found.id));
            }
            None => self.ready.push_back(found.id),
        }
        self.load_more();
    }

    /// A message asked for with [`Out::Load`] is here.
    pub fn loaded(&mut self, entered: Entered, now: Timestamp) {
        let id = entered.machine.origin().id;
        let Some(slot) = self.slots.get_mut(&id) else {
            self.loaded -= 1;
            return self.load_more();
        };
        let At::Loading(wake) = &slot.at else {
            self.loaded -= 1;
            return;
        };
        let wake = wake.clone();
        slot.at = At::Here(Box::new(running(entered)));
        match wake {
            Wake::Run => self.start(id, now),
            Wake::Pass(connection) => self.perform(id, &connection, now),
        }
    }

    /// A message that was just committed to be cannot even begin: its document cannot be read.
    pub fn broken_at_birth(&mut self, origin: Arc<Origin>, says: String, now: Timestamp) {
        self.loaded += 1;
        self.broken(origin, 0, says, now);
    }

    /// A message asked for cannot go on: its log does not fit, or its logic is gone.
    pub fn broken(&mut self, origin: Arc<Origin>, logged: u32, says: String, now: Timestamp) {
        let id = origin.id;
        if let Some(Slot { at: At::Loading(Wake::Pass(connection)), .. }) = self.slots.get(&id) {
            let connection = connection.clone();
            self.gate(&connection).unused();
        }
        self.loaded -= 1;
        let reason = Reason {
            flow: origin.flow.clone(),
            step: String::new(),
            connection: String::new(),
            code: "diverged".to_owned(),
            says,
        };
        let entry = LogEntry { at: now, what: Logged::Stopped { reason: reason.clone() } };
        let change =
            Change { entry: Some((logged, entry)), state: State::Aside, reason: Some(reason), ..Change::blank(origin, now) };
        self.leave_lane(id, now);
        self.slots.remove(&id);
        self.out.push_back(Out::Commit(None, Op::Change(Box::new(change))));
        self.load_more();
    }

    /// What a message wanted committed is committed.
    pub fn committed(&mut self, id: MessageId, now: Timestamp) {
        let Some(running) = self.here(id) else { return };
        match running.phase.clone() {
            Phase::Committing => {
                running.phase = Phase::Parked;
                self.follow(id, now);
            }
            Phase::Announcing => self.send_out(id, now),
            Phase::Parked | Phase::AtGate(_) | Phase::Performing { .. } | Phase::Due(_) => {}
        }
        self.load_more();
    }

    /// What a message wanted committed cannot be stored.
    pub fn refused(&mut self, id: MessageId, says: &str, now: Timestamp) {
        let Some(running) = self.here(id) else { return };
        let origin = running.machine.origin().clone();
        let logged = running.logged;
        self.drop_from_memory(id);
        self.loaded += 1;
        self.broken(origin, logged.saturating_sub(1), format!("the journal refused what came of it: {says}"), now);
    }

    /// An effect has come to something.
    pub fn outcome(&mut self, id: MessageId, outcome: Outcome, now: Timestamp) {
        let Some(running) = self.here(id) else { return };
        let Phase::Performing { connection, since } = running.phase.clone() else { return };
        let held = match &outcome {
            Outcome::Held { says, .. } => Some(says.clone()),
            Outcome::Answer { .. } | Outcome::Again { .. } | Outcome::Refused { .. } | Outcome::InDoubt { .. } => None,
        };
        let moved = self.gate(&connection).back(held.as_deref(), now);
        if moved != Moved::Nothing {
            self.out.push_back(Out::Commit(None, Op::Hold { connection: connection.clone(), says: held, at: now }));
        }
        let took = u64::try_from(now.since(since).as_micros()).unwrap_or(u64::MAX);
        self.conclude(id, outcome, took, now);
        self.pump(&connection, now);
    }

    /// A person's act on a message. `entered` is the message loaded, when [`Self::has`] says that it is not here.
    ///
    /// # Errors
    /// [`ActRefused`], or `None` while an effect or a commit is under way.
    pub fn act(
        &mut self,
        id: MessageId,
        entered: Option<Entered>,
        act: Act,
        by: &str,
        why: &str,
        now: Timestamp,
    ) -> Result<(), Option<ActRefused>> {
        if matches!(self.slots.get(&id), Some(Slot { at: At::Loading(_), .. })) {
            return Err(None);
        }
        if let (false, Some(entered)) = (self.has(id), entered) {
            let lane = entered.machine.order_key().map(|key| (entered.machine.origin().flow.clone(), key));
            let in_lane = self.slots.get(&id).is_some_and(|slot| slot.in_lane);
            self.forget_waits(id);
            self.slots.insert(id, Slot { lane, in_lane, behind: false, at: At::Here(Box::new(running(entered))) });
            self.loaded += 1;
        }
        let Some(running) = self.here(id) else { return Err(None) };
        if matches!(running.phase, Phase::Performing { .. } | Phase::Committing | Phase::Announcing) {
            return Err(None);
        }
        let reopened = running.machine.next().state().is_final();
        match running.machine.act(act, by, why, now) {
            Err(refused) => {
                if running.phase == Phase::Parked {
                    self.drop_from_memory(id);
                }
                Err(Some(refused))
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

    fn gate(&mut self, connection: &str) -> &mut Gate {
        if !self.gates.contains_key(connection) {
            let limit = self.surroundings.connections.get(connection).map_or(1, |known| known.in_flight);
            self.gates.insert(connection.to_owned(), Gate::new(limit));
        }
        self.gates.get_mut(connection).expect("it was just put there")
    }

    /// Goes on with a message that is in memory and whose turn it is.
    fn start(&mut self, id: MessageId, now: Timestamp) {
        self.no_longer_behind(id);
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
                running.machine.woken();
                self.start(id, now);
            }
            Next::WaitUntil(due) => {
                running.phase = Phase::Due(due);
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

    fn queue_at_gate(&mut self, id: MessageId, connection: &str, first: bool, now: Timestamp) {
        let keep = self.settings.keep;
        let gate = self.gate(connection);
        gate.queue(id, first);
        let long = gate.held().is_some_and(|held| now.since(held.since) > keep);
        let is_held = gate.held().is_some();
        if let Some(running) = self.here(id) {
            running.phase = Phase::AtGate(connection.to_owned());
            // People should see that it waits; those that were told so by an attempt are told already.
            if is_held && matches!(running.machine.next(), Next::Perform(_)) {
                let change = Change { state: State::Waiting, waits_for: connection.to_owned(), ..stand(running, now) };
                self.out.push_back(Out::Commit(None, Op::Change(Box::new(change))));
            }
        }
        if long {
            self.drop_from_memory(id);
        }
        self.pump(connection, now);
    }

    fn pump(&mut self, connection: &str, now: Timestamp) {
        while let Some(id) = self.gate(connection).pass(now) {
            match self.slots.get_mut(&id) {
                Some(slot) if matches!(slot.at, At::Away) => {
                    slot.at = At::Loading(Wake::Pass(connection.to_owned()));
                    self.loaded += 1;
                    self.out.push_back(Out::Load(id));
                }
                Some(Slot { at: At::Here(_), .. }) => self.perform(id, connection, now),
                Some(_) | None => self.gate(connection).unused(),
            }
        }
    }

    /// Performs what the message asks for; the gate has let it pass.
    fn perform(&mut self, id: MessageId, connection: &str, now: Timestamp) {
        let Some(running) = self.here(id) else { return };
        // Loaded again at the gate, it stands where its log left it: before the wait that has passed since.
        match running.machine.next() {
            Next::WaitFor(_) => drop(running.machine.woken()),
            Next::WaitUntil(due) if *due <= now => drop(running.machine.woken()),
            Next::WaitUntil(_) | Next::Perform(_) | Next::End(_) => {}
        }
        let Next::Perform(work) = running.machine.next().clone() else {
            self.gate(connection).unused();
            return self.start(id, now);
        };
        running.phase = Phase::Performing { connection: connection.to_owned(), since: now };
        if self.rule(connection) == RepeatRule::Never {
            let entry = Machine::intent(&work, now);
            let Some(running) = self.here(id) else { return };
            running.phase = Phase::Announcing;
            let change = Change { entry: Some((running.logged, entry)), ..stand(running, now) };
            running.logged += 1;
            self.out.push_back(Out::Commit(Some(id), Op::Change(Box::new(change))));
            return;
        }
        self.send_out(id, now);
    }

    fn send_out(&mut self, id: MessageId, now: Timestamp) {
        let Some(running) = self.here(id) else { return };
        let Next::Perform(work) = running.machine.next().clone() else { return };
        let name = work.effect.connection().to_owned();
        running.phase = Phase::Performing { connection: name.clone(), since: now };
        match self.surroundings.connections.get(&name).cloned() {
            Some(connection) => self.out.push_back(Out::Perform { id, connection, work }),
            None => {
                let says = format!("the workspace has no connection `{name}` any more");
                self.outcome(id, Outcome::Held { says, status: 0 }, now);
            }
        }
    }

    fn rule(&self, connection: &str) -> RepeatRule {
        self.surroundings.connections.get(connection).map_or(RepeatRule::Never, |known| known.repeat)
    }

    fn conclude(&mut self, id: MessageId, outcome: Outcome, took: u64, now: Timestamp) {
        let retry = self.retry(id);
        let Some(running) = self.here(id) else { return };
        let turn = running.machine.outcome(outcome, &retry, now);
        self.commit_turn(id, turn, took, false, now);
    }

    /// The retry policy in force: that of the step of the same name in the current release.
    fn retry(&mut self, id: MessageId) -> Retry {
        let surroundings = self.surroundings.clone();
        let Some(running) = self.here(id) else { return Retry::default() };
        let step = running.machine.step();
        let current = surroundings.flows.get(&running.machine.origin().flow).and_then(|flow| flow.step(step));
        current.or_else(|| running.machine.flow().step(step)).map(|(_, step)| step.retry).unwrap_or_default()
    }

    fn commit_turn(&mut self, id: MessageId, turn: Turn, took: u64, reopened: bool, now: Timestamp) {
        let surroundings = self.surroundings.clone();
        let Some(running) = self.here(id) else { return };
        let mut passed = std::mem::take(&mut running.passed);
        passed.extend(turn.passed);
        let mut points = std::mem::take(&mut running.points);
        points.extend(turn.points);
        let entry = turn.entry.map(|entry| (running.logged, entry));
        running.logged += u32::from(entry.is_some());
        running.phase = Phase::Committing;
        let facts = facts::of(&surroundings, &running.machine, &points, now);
        let change = Change { entry, passed, facts, took, reopened, ..stand(running, now) };
        self.out.push_back(Out::Commit(Some(id), Op::Change(Box::new(change))));
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
                self.slots.remove(&id);
            }
            Next::Perform(_) | Next::WaitUntil(_) | Next::WaitFor(_) => {
                if self.is_its_turn(id) {
                    self.start(id, now);
                }
            }
        }
    }

    /// Whether the message is at the head of its lane; one that comes back after its end goes to the tail.
    fn is_its_turn(&mut self, id: MessageId) -> bool {
        let Some(slot) = self.slots.get_mut(&id) else { return false };
        match &slot.lane {
            None => true,
            Some(lane) if slot.in_lane => self.lanes.is_first(lane, id),
            Some(lane) => {
                slot.in_lane = true;
                self.lanes.enter(lane, id)
            }
        }
    }

    fn leave_lane(&mut self, id: MessageId, now: Timestamp) {
        let Some(slot) = self.slots.get_mut(&id) else { return };
        let Some(lane) = slot.lane.clone().filter(|_| slot.in_lane) else { return };
        slot.in_lane = false;
        let Some(next) = self.lanes.leave(&lane, id) else { return };
        match self.slots.get(&next).map(|slot| &slot.at) {
            Some(At::Here(_)) => self.start(next, now),
            Some(At::Away) => self.ready.push_back(next),
            Some(At::Loading(_)) | None => {}
        }
    }

    fn no_longer_behind(&mut self, id: MessageId) {
        if let Some(slot) = self.slots.get_mut(&id)
            && std::mem::take(&mut slot.behind)
        {
            self.behind -= 1;
        }
    }

    fn drop_from_memory(&mut self, id: MessageId) {
        self.no_longer_behind(id);
        if let Some(slot) = self.slots.get_mut(&id)
            && matches!(slot.at, At::Here(_))
        {
            slot.at = At::Away;
            self.loaded -= 1;
        }
    }

    /// Takes a message out of every queue but its lane.
    fn forget_waits(&mut self, id: MessageId) {
        self.due.retain(|(_, other)| *other != id);
        self.ready.retain(|other| *other != id);
        for gate in self.gates.values_mut() {
            gate.forget(id);
        }
    }

    fn load_more(&mut self) {
        while self.loaded < self.settings.loaded
            && let Some(id) = self.ready.pop_front()
        {
            if let Some(slot) = self.slots.get_mut(&id)
                && matches!(slot.at, At::Away)
            {
                slot.at = At::Loading(Wake::Run);
                self.loaded += 1;
                self.out.push_back(Out::Load(id));
            }
        }
    }
}

fn running(entered: Entered) -> Running {
    let Entered { machine, began, logged } = entered;
    let (passed, mut points) = began.map_or_else(Default::default, |turn| (turn.passed, turn.points));
    // That it began was committed when it came to be.
    points.retain(|point| *point != Point::Begun);
    Running { machine, logged, phase: Phase::Parked, passed, points }
}

/// The change that says how a message stands, with nothing else in it.
fn stand(running: &Running, now: Timestamp) -> Change {
    let machine = &running.machine;
    let (key, result) = machine.keys();
    let next = machine.next();
    let mut change = Change {
        state: next.state(),
        step: machine.step().to_owned(),
        tries: machine.tries(),
        key,
        result,
        order_key: machine.order_key().unwrap_or_default(),
        ..Change::blank(machine.origin().clone(), now)
    };
    match next {
        Next::WaitUntil(due) => change.due = Some(*due),
        Next::WaitFor(connection) => change.waits_for.clone_from(connection),
        Next::End(End::Aside(reason)) => change.reason = Some(reason.clone()),
        Next::End(End::Skipped(says)) => change.says.clone_from(says),
        Next::Perform(_) | Next::End(End::Done | End::Discarded) => {}
    }
    change
}
