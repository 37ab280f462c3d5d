//! From a turn of a machine to the change that is committed.

use super::entry::passed_at_birth;
use super::slot::{At, Phase, Slot};
use super::{Dispatcher, Entered, Out, facts};
use crate::journal::{Change, NewMessage, Op, Part};
use wirewatch_core::flow::{Retry, Way};
use wirewatch_core::machine::{End, LogEntry, Logged, Machine, Next, Outcome, Then, Turn};
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{MessageId, Timestamp};

impl Dispatcher {
    /// Gives the message the outcome of its effect and commits the result. Returns what was decided, or `None` if the message no
    /// longer waits for it.
    pub(super) fn conclude(&mut self, id: MessageId, outcome: Outcome, took: u64, now: Timestamp) -> Option<Then> {
        let retry = self.retry(id);
        let flow = self.here(id).map(|running| running.machine.origin().flow.clone());
        let recording = flow.and_then(|flow| self.recordings.get(&flow).copied());
        let running = self.here(id)?;
        running.machine.record(recording);
        let turn = running.machine.outcome(outcome, &retry, now);
        let then = match &turn.entry {
            Some(LogEntry { what: Logged::Attempt { then, .. }, .. }) => Some(then.clone()),
            _ => None,
        };
        self.commit_turn(id, turn, took, false, now);
        then
    }

    /// The retry policy in force: that of the step of the same name in the current release.
    pub(super) fn retry(&mut self, id: MessageId) -> Retry {
        let surroundings = self.surroundings.clone();
        let Some(running) = self.here(id) else { return Retry::default() };
        let step = running.machine.step();
        let current = surroundings.flows.get(&running.machine.origin().flow).and_then(|flow| flow.step(step));
        current.or_else(|| running.machine.flow().step(step)).map(|(_, step)| step.retry).unwrap_or_default()
    }

    /// Creates the messages of the branches of an `also`, committed together with the log entry that records them.
    pub(super) fn make_parts(&mut self, id: MessageId, ways: &[Way], now: Timestamp) {
        let Some(Slot { at: At::Here(running), .. }) = self.slots.get_mut(&id) else { return };
        let mut parts = Vec::with_capacity(ways.len());
        let mut born = Vec::with_capacity(ways.len());
        for way in ways {
            let (origin, document) = running.machine.part(way, (self.mint)(now));
            let (machine, began) = Machine::begin(running.machine.logic().clone(), origin.clone(), document.clone());
            let document = document.to_bytes();
            let (key, order_key) = (machine.keys().0, machine.order_key().unwrap_or_default());
            // A branch does not begin an order: the message that it belongs to did.
            born.push(Part { message: NewMessage { origin, key, order_key, facts: Vec::new(), ended: None }, document });
            parts.push(Entered { machine, began: Some(began), logged: 0 });
        }
        (running.born, running.parts) = (born, parts);
        let turn = running.machine.parted(now);
        self.commit_turn(id, turn, 0, false, now);
    }

    pub(super) fn commit_turn(&mut self, id: MessageId, turn: Turn, took: u64, reopened: bool, now: Timestamp) {
        let surroundings = self.surroundings.clone();
        let Some(running) = self.here(id) else { return };
        let mut passed = std::mem::take(&mut running.passed);
        passed.extend(turn.passed);
        let mut points = std::mem::take(&mut running.points);
        points.extend(turn.points);
        let entry = turn.entry.map(|entry| (running.logged, entry));
        running.logged += u32::from(entry.is_some());
        running.phase = if reopened { Phase::Reopening } else { Phase::Committing };
        let facts = facts::of(&surroundings, &running.machine, &points, now);
        let parts = std::mem::take(&mut running.born);
        let change = Change { entry, passed, facts, took, reopened, parts, ..present_state(&running.machine, now) };
        self.out.push_back(Out::Commit(Some(id), Op::Change(Box::new(change))));
    }
}

/// Returns the change to commit for a message that only computes and so ends at once; it is never stored as unfinished. `None`
/// for every other message: one in a lane waits for its turn, one that failed has not ended.
pub fn ended_at_birth(surroundings: &Workspace, entered: &Entered, now: Timestamp) -> Option<Box<Change>> {
    let Entered { machine, began, logged: 0 } = entered else { return None };
    if !matches!(machine.next(), Next::End(End::Done | End::Skipped(_))) || machine.order_key().is_some() {
        return None;
    }
    let (passed, points) = passed_at_birth(began.clone());
    let facts = facts::of(surroundings, machine, &points, now);
    Some(Box::new(Change { passed, facts, ..present_state(machine, now) }))
}

/// Returns a change with the present state of a message and nothing else.
pub(super) fn present_state(machine: &Machine, now: Timestamp) -> Change {
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
        Next::WaitUntil(due) | Next::Pause(due) => change.due = Some(*due),
        Next::WaitFor(connection) => change.waits_for.clone_from(connection),
        Next::End(End::Failed(reason)) => {
            change.says.clone_from(&reason.says);
            change.reason = Some(reason.clone());
        }
        Next::End(End::Skipped(says)) => change.says.clone_from(says),
        Next::Perform(_) | Next::Part(_) | Next::End(End::Done | End::Discarded) => {}
    }
    change
}
