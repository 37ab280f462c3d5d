//! Lanes and memory: which message has its turn, and which is loaded.

use super::Dispatcher;
use super::slot::At;
use wirewatch_core::{MessageId, Timestamp};

impl Dispatcher {
    /// Returns whether the message is at the head of its lane. A message that runs again after its end goes to the tail.
    pub(super) fn is_its_turn(&mut self, id: MessageId) -> bool {
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

    pub(super) fn leave_lane(&mut self, id: MessageId, now: Timestamp) {
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

    pub(super) fn no_longer_behind(&mut self, id: MessageId) {
        if let Some(slot) = self.slots.get_mut(&id)
            && std::mem::take(&mut slot.behind)
        {
            self.behind -= slot.places;
        }
    }

    pub(super) fn drop_from_memory(&mut self, id: MessageId) {
        self.no_longer_behind(id);
        if let Some(slot) = self.slots.get_mut(&id)
            && matches!(slot.at, At::Here(_))
        {
            slot.at = At::Away;
            self.loaded -= slot.places;
        }
    }

    /// Takes a message out of every queue but its lane.
    pub(super) fn forget_waits(&mut self, id: MessageId) {
        self.due.retain(|(_, other)| *other != id);
        self.ready.retain(|other| *other != id);
        self.suspects.retain(|(_, other)| *other != id);
        for gate in self.gates.values_mut() {
            gate.forget(id);
        }
    }

    pub(super) fn load_more(&mut self) {
        while self.loaded < self.settings.loaded
            && let Some(id) = self.ready.pop_front()
        {
            self.load(id);
        }
        self.load_alone();
    }
}
