//! Lanes: messages with the same key pass one after another, in the order the intake committed them.

use std::collections::{HashMap, VecDeque};
use wirewatch_core::MessageId;

/// Identity of a lane: the flow, and the value of its `in_order_by`.
pub type LaneKey = (String, String);

/// Every lane with messages in it.
#[derive(Debug, Default)]
pub struct Lanes {
    lanes: HashMap<LaneKey, VecDeque<MessageId>>,
}

impl Lanes {
    /// Adds a message, which must not be in the lane yet, at the tail; `true` when it is first and may run.
    pub fn enter(&mut self, key: &LaneKey, id: MessageId) -> bool {
        let lane = self.lanes.entry(key.clone()).or_default();
        lane.push_back(id);
        lane.len() == 1
    }

    /// Takes a message out; the one that may run now, when that changed.
    pub fn leave(&mut self, key: &LaneKey, id: MessageId) -> Option<MessageId> {
        let lane = self.lanes.get_mut(key)?;
        let was_first = lane.front() == Some(&id);
        if was_first {
            lane.pop_front();
        } else {
            lane.retain(|other| *other != id);
        }
        let next = lane.front().copied();
        if next.is_none() {
            self.lanes.remove(key);
        }
        next.filter(|_| was_first)
    }

    /// Returns whether the message is at the head of its lane.
    #[must_use]
    pub fn is_first(&self, key: &LaneKey, id: MessageId) -> bool {
        self.lanes.get(key).is_some_and(|lane| lane.front() == Some(&id))
    }
}
