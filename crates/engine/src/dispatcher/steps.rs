//! Steps on hold: where message after message fails for the same reason, the next ones wait until one that is tried succeeds.

use super::{Dispatcher, Out};
use crate::gate::Moved;
use crate::journal::Op;
use wirewatch_core::before::Before;
use wirewatch_core::machine::{Next, Then};
use wirewatch_core::{MessageId, Timestamp};

/// Messages in a row that failed at a step for the same reason.
#[derive(Debug)]
pub(super) struct InARow {
    reason: i64,
    times: u32,
    /// The last: one that is sent again and again is one.
    last: MessageId,
}

impl Dispatcher {
    /// Returns the gate before the step whose effect the message performs. Steps on failure have none: their message has failed
    /// already.
    pub(super) fn step_asking(&mut self, id: MessageId) -> Option<String> {
        let machine = &self.here(id)?.machine;
        let Next::Perform(work) = machine.next() else { return None };
        let asks = !machine.is_failing();
        asks.then(|| Before::Step { flow: &machine.origin().flow, step: &work.step }.to_string())
    }

    /// Counts the outcome of a message at a step. [`Settings::alike`](super::Settings::alike) like failures in a row put the step
    /// on hold, a success ends the hold.
    pub(super) fn count_alike(&mut self, id: MessageId, step: &str, then: &Then, now: Timestamp) {
        match then {
            Then::RetryAt(_) | Then::WaitFor(_) => {}
            Then::Go => {
                self.failing.remove(step);
                if self.gates.contains_key(step) {
                    self.came_back(step, None, now);
                    self.pump(step, now);
                }
            }
            Then::Failed(reason) => {
                let first = InARow { reason: reason.id(), times: 1, last: id };
                let row = self.failing.entry(step.to_owned()).or_insert(first);
                if row.reason != reason.id() {
                    *row = InARow { reason: reason.id(), times: 1, last: id };
                } else if row.last != id {
                    (row.times, row.last) = (row.times + 1, id);
                }
                if row.times >= self.settings.alike {
                    let says = format!("{} messages in a row failed; the last one: {}", row.times, reason.says);
                    self.came_back(step, Some(&says), now);
                }
            }
        }
    }

    /// Ends the holds of steps that the workspace no longer has: no outcome would ever end them.
    pub(super) fn free_steps_that_are_gone(&mut self, now: Timestamp) {
        let gone = |name: &str| match Before::of(name) {
            Before::Step { flow, step } => self.surroundings.flows.get(flow).is_none_or(|flow| flow.step(step).is_none()),
            Before::Connection(_) | Before::Flow(_) => false,
        };
        let held = self.gates.iter().filter(|(name, gate)| gate.held().is_some() && gone(name));
        for name in held.map(|(name, _)| name.clone()).collect::<Vec<_>>() {
            self.failing.remove(&name);
            if self.gate(&name).resume() == Moved::Resumed {
                self.out.push_back(Out::Commit(None, Op::Resume { connection: name.clone(), at: now, by_person: false }));
            }
            self.pump(&name, now);
        }
    }
}
