//! The way to a connection: queued at its gate, let pass, performed.

use super::slot::{At, Phase, Slot, Wake};
use super::{Dispatcher, Out, present_state};
use crate::gate::{Gate, Terms};
use crate::journal::{Change, Op};
use std::time::Duration;
use wirewatch_core::before::Before;
use wirewatch_core::connection::RepeatRule;
use wirewatch_core::machine::{Machine, Next, Outcome, State};
use wirewatch_core::{MessageId, Timestamp};

impl Dispatcher {
    /// Holds the message where it is if its flow is paused or its step is on hold; returns whether it does. A message that has
    /// ended is not held.
    pub(super) fn stands_still(&mut self, id: MessageId, now: Timestamp) -> bool {
        let Some(running) = self.here(id) else { return false };
        if matches!(running.machine.next(), Next::End(_)) {
            return false;
        }
        let (flow, step) = (&running.machine.origin().flow, running.machine.step());
        let names = [Before::Flow(flow).to_string(), Before::Step { flow, step }.to_string()];
        let Some(line) = names.into_iter().find(|name| self.gates.get(name).is_some_and(|gate| gate.stops(id))) else {
            return false;
        };
        let keep = self.settings.keep;
        let gate = self.gate(&line);
        gate.queue(id, false);
        let long = gate.held().is_some_and(|held| now.since(held.since) > keep);
        if let Some(running) = self.here(id) {
            running.phase = Phase::AtGate(line.clone());
            let change = Change { state: State::Waiting, waits_for: line, ..present_state(&running.machine, now) };
            self.out.push_back(Out::Commit(None, Op::Change(Box::new(change))));
        }
        self.clear(id);
        if long {
            self.drop_from_memory(id);
        }
        true
    }

    /// The gate of that name (see [`Before`]).
    pub(super) fn gate(&mut self, name: &str) -> &mut Gate {
        if !self.gates.contains_key(name) {
            let gate = match Before::of(name) {
                Before::Connection(_) => {
                    let known = self.surroundings.connections.get(name).map(|known| Terms::of(known));
                    Gate::new(known.unwrap_or(Terms { in_flight: 1, apart: Duration::ZERO }))
                }
                Before::Flow(_) | Before::Step { .. } => Gate::before_steps(),
            };
            self.gates.insert(name.to_owned(), gate);
        }
        self.gates.get_mut(name).expect("it was just put there")
    }

    pub(super) fn queue_at_gate(&mut self, id: MessageId, connection: &str, first: bool, now: Timestamp) {
        let keep = self.settings.keep;
        let gate = self.gate(connection);
        gate.queue(id, first);
        let long = gate.held().is_some_and(|held| now.since(held.since) > keep);
        let held = gate.held().map(|held| held.says.clone());
        let uncleared = held.is_some() && self.clear(id);
        if let Some(running) = self.here(id) {
            running.phase = Phase::AtGate(connection.to_owned());
            let waits_unseen = matches!(running.machine.next(), Next::Perform(_));
            // A message whose last attempt caused the hold is already stored as waiting.
            if let Some(held) = held.filter(|_| waits_unseen || uncleared) {
                let says = if waits_unseen { String::new() } else { held };
                let (state, waits_for) = (State::Waiting, connection.to_owned());
                let change = Change { state, waits_for, says, ..present_state(&running.machine, now) };
                self.out.push_back(Out::Commit(None, Op::Change(Box::new(change))));
            }
        }
        if long {
            self.drop_from_memory(id);
        }
        self.pump(connection, now);
    }

    pub(super) fn pump(&mut self, connection: &str, now: Timestamp) {
        while let Some(id) = self.gate(connection).pass(now) {
            if !matches!(Before::of(connection), Before::Connection(_)) {
                // No effect is performed at this gate: the message continues from here.
                match self.slots.get(&id).map(|slot| &slot.at) {
                    Some(At::Away) => self.ready.push_back(id),
                    Some(At::Here(_)) => self.start(id, now),
                    Some(At::Loading(_)) | None => {}
                }
                continue;
            }
            match self.slots.get_mut(&id) {
                Some(slot) if matches!(slot.at, At::Away) => {
                    slot.at = At::Loading(Wake::Pass(connection.to_owned()));
                    self.loaded += slot.places;
                    self.out.push_back(Out::Load(id));
                }
                Some(Slot { at: At::Here(_), .. }) => self.perform(id, connection, now),
                Some(_) | None => self.gate(connection).unused(),
            }
        }
        self.load_more();
    }

    /// Performs the effect of a message that has passed the gate.
    pub(super) fn perform(&mut self, id: MessageId, connection: &str, now: Timestamp) {
        if self.stands_still(id, now) {
            self.gate(connection).unused();
            return self.pump(connection, now);
        }
        let Some(running) = self.here(id) else { return };
        // A message that is loaded again here is in the state of its last log entry, before the wait that has passed since.
        match running.machine.next() {
            Next::WaitFor(_) => drop(running.machine.woken(now)),
            Next::WaitUntil(due) if *due <= now => drop(running.machine.woken(now)),
            Next::WaitUntil(_) | Next::Pause(_) | Next::Part(_) | Next::Perform(_) | Next::End(_) => {}
        }
        let Next::Perform(work) = running.machine.next().clone() else {
            self.gate(connection).unused();
            self.start(id, now);
            return self.pump(connection, now);
        };
        running.phase = Phase::Performing { connection: connection.to_owned(), since: now };
        if self.rule(connection) == RepeatRule::Never {
            let entry = Machine::intent(&work, now);
            let Some(running) = self.here(id) else { return };
            running.phase = Phase::Announcing;
            let change = Change { entry: Some((running.logged, entry)), ..present_state(&running.machine, now) };
            running.logged += 1;
            self.out.push_back(Out::Commit(Some(id), Op::Change(Box::new(change))));
            return;
        }
        self.send_out(id, now);
    }

    pub(super) fn send_out(&mut self, id: MessageId, now: Timestamp) {
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

    pub(super) fn rule(&self, connection: &str) -> RepeatRule {
        self.surroundings.connections.get(connection).map_or(RepeatRule::Never, |known| known.repeat)
    }
}
