//! How messages enter: just created, found at the start, or loaded again.

use super::slot::{At, Phase, Running, Slot, Wake, place_of, places};
use super::{Dispatcher, Entered, Out};
use crate::enter::Broken;
use crate::journal::{Change, Op, Recovered};
use crate::shard::shard_of;
use std::sync::Arc;
use wirewatch_core::Timestamp;
use wirewatch_core::flow::AfterFailure;
use wirewatch_core::machine::{LogEntry, Logged, Origin, Passed, State, Turn};
use wirewatch_core::plan::Point;
use wirewatch_core::reason::{Reason, ReasonCode};

impl Dispatcher {
    /// Enters a message whose creation was just committed. A message of another process's shard is left to that process.
    pub fn enter(&mut self, entered: Entered, now: Timestamp) {
        let id = entered.machine.origin().id;
        let places = places(entered.machine.origin().size());
        let flow = entered.machine.origin().flow.clone();
        let (shard, lane) = place_of(&entered.machine);
        if self.expected.has(shard) && !self.shards.has(shard) {
            let machine = &entered.machine;
            self.early.push(Recovered {
                id,
                size: machine.origin().size(),
                flow,
                key: machine.keys().0,
                order_key: machine.order_key().unwrap_or_default(),
                state: machine.next().state(),
                due: None,
                picked_up: 0,
            });
            return;
        }
        if !self.shards.has(shard) || self.slots.contains_key(&id) {
            return;
        }
        let first = lane.as_ref().is_none_or(|lane| self.lanes.enter(lane, id));
        // Messages behind others in a lane get at most half of the memory, so that the ones before them always find room.
        let room = self.loaded < self.settings.loaded && (first || self.behind + places <= self.settings.loaded / 2);
        let at = if room { At::Here(Box::new(running(entered))) } else { At::Away };
        let behind = room && !first;
        self.loaded += if room { places } else { 0 };
        self.behind += if behind { places } else { 0 };
        let slot =
            Slot { shard, counted: None, places, in_lane: lane.is_some(), lane, behind, picked_up: None, uncleared: false, at };
        self.put(id, &flow, slot);
        match (first, room) {
            (true, true) => self.start(id, now),
            (true, false) => self.ready.push_back(id),
            (false, _) => {}
        }
    }

    /// Adds an unfinished message found at the start or taken over from another process, in the order of ids. A known message, or
    /// one of a shard that is not ours, is ignored.
    pub(super) fn take_up(&mut self, found: &Recovered, picked_up: Option<u16>, now: Timestamp) {
        let shard = shard_of(found.id, &found.flow, &found.order_key);
        if !self.shards.has(shard) || self.slots.contains_key(&found.id) {
            return;
        }
        let lane = (!found.order_key.is_empty()).then(|| (found.flow.clone(), found.order_key.clone()));
        let failed = found.state == State::Failed;
        let passes = || {
            let flow = self.surroundings.flows.get(&found.flow);
            flow.is_some_and(|flow| flow.after_failure == AfterFailure::Pass)
        };
        if failed && (lane.is_none() || passes()) {
            return;
        }
        let first = lane.as_ref().is_none_or(|lane| self.lanes.enter(lane, found.id));
        let places = places(found.size);
        let slot = Slot {
            shard,
            counted: None,
            places,
            in_lane: lane.is_some(),
            lane,
            behind: false,
            picked_up,
            uncleared: false,
            at: At::Away,
        };
        self.put(found.id, &found.flow, slot);
        if !first || failed {
            return;
        }
        match found.due.filter(|due| *due > now && matches!(found.state, State::Retrying | State::Waiting)) {
            Some(due) => {
                self.due.insert((due, found.id));
            }
            None => self.ready.push_back(found.id),
        }
        self.load_more();
    }

    /// A message requested with [`Out::Load`] has been loaded.
    pub fn loaded(&mut self, entered: Entered, now: Timestamp) {
        let id = entered.machine.origin().id;
        let places = places(entered.machine.origin().size());
        let Some(slot) = self.slots.get_mut(&id) else {
            self.loaded -= places;
            return self.load_more();
        };
        let At::Loading(wake) = &slot.at else {
            self.loaded -= places;
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
    pub fn broken_at_birth(&mut self, broken: Broken, now: Timestamp) {
        let Broken { origin, code, says, .. } = broken;
        if self.shards.has(shard_of(origin.id, &origin.flow, "")) {
            self.stop(origin, 0, code, says, now);
        }
    }

    /// A requested message cannot run: its log does not fit, its logic is gone, or a record of it is damaged.
    pub fn broken(&mut self, broken: Broken, now: Timestamp) {
        let Broken { origin, logged, code, says } = broken;
        self.cannot_go_on(origin, logged, code, says, now);
    }

    /// Fails a message that was requested and cannot run.
    pub(super) fn cannot_go_on(&mut self, origin: Arc<Origin>, logged: u32, code: ReasonCode, says: String, now: Timestamp) {
        self.loaded -= places(origin.size());
        match self.slots.get(&origin.id) {
            // Another process has taken it over meanwhile.
            None => return self.load_more(),
            Some(Slot { at: At::Loading(Wake::Pass(connection)), .. }) => {
                let connection = connection.clone();
                self.gate(&connection).unused();
            }
            Some(_) => {}
        }
        self.stop(origin, logged, code, says, now);
    }

    /// Fails a message that cannot run any more.
    pub(super) fn stop(&mut self, origin: Arc<Origin>, logged: u32, code: ReasonCode, says: String, now: Timestamp) {
        let id = origin.id;
        let reason = Reason { flow: origin.flow.clone(), step: String::new(), connection: String::new(), code, says };
        let entry = LogEntry { at: now, what: Logged::Stopped { reason: reason.clone() } };
        let change =
            Change { entry: Some((logged, entry)), state: State::Failed, reason: Some(reason), ..Change::blank(origin, now) };
        let waits = self.surroundings.flows.get(&change.origin.flow).is_some_and(|flow| flow.after_failure == AfterFailure::Wait);
        match self.slots.get_mut(&id) {
            // It keeps its place in the lane: messages behind it wait until a person has acted. If its shard moves, the other
            // process keeps the place.
            Some(slot) if slot.in_lane && waits && self.shards.has(slot.shard) => slot.at = At::Away,
            _ => {
                self.leave_lane(id, now);
                self.take_out(id);
            }
        }
        self.out.push_back(Out::Commit(None, Op::Change(Box::new(change))));
        self.load_more();
    }
}

pub(super) fn running(entered: Entered) -> Running {
    let Entered { machine, began, logged } = entered;
    let (passed, points) = passed_at_birth(began);
    Running { machine, logged, phase: Phase::Parked, passed, points, born: Vec::new(), parts: Vec::new() }
}

/// Returns what a message has passed in its first turn. The beginning itself is recorded when the message is created.
pub(super) fn passed_at_birth(began: Option<Turn>) -> (Vec<Passed>, Vec<Point>) {
    let (passed, mut points) = began.map_or_else(Default::default, |turn| (turn.passed, turn.points));
    points.retain(|point| *point != Point::Begun);
    (passed, points)
}
