//! Counts how often an unfinished message was picked up without a commit following.
//!
//! A process that crashes loses what it had in memory, and one of those messages may be the reason. So each message is counted
//! before it is loaded, and its next commit resets the count. Messages with a count run one at a time, the lowest count first:
//! when a process is killed again and again from outside, it is a different message each time that is running. A message that
//! waits for a connection on hold has run as far as it can, so its count is reset too. A message counted [`MOST`] times is not
//! run again: it fails until a person has looked at it.

use super::slot::{At, Wake};
use super::{Dispatcher, Out};
use std::sync::Arc;
use wirewatch_core::machine::Origin;
use wirewatch_core::reason::ReasonCode;
use wirewatch_core::{MessageId, Timestamp};

/// Pick-ups without a commit after which a message fails.
const MOST: u16 = 8;

impl Dispatcher {
    /// Loads a message whose turn it is, or queues it with those that run alone.
    pub(super) fn load(&mut self, id: MessageId) {
        let Some(slot) = self.slots.get_mut(&id).filter(|slot| matches!(slot.at, At::Away)) else { return };
        let out = match slot.picked_up {
            Some(times @ 1..) => {
                self.suspects.insert((times, id));
                return;
            }
            Some(0) => Out::PickUp(id),
            None => Out::Load(id),
        };
        slot.uncleared = slot.picked_up.take().is_some();
        slot.at = At::Loading(Wake::Run);
        self.loaded += slot.places;
        self.out.push_back(out);
    }

    /// Loads the next of those that run alone, once nothing more of the last is in memory, or something of it is committed.
    pub(super) fn load_alone(&mut self) {
        let in_memory = |id: &MessageId| self.slots.get(id).is_some_and(|slot| !matches!(slot.at, At::Away));
        self.alone = self.alone.filter(in_memory);
        while self.alone.is_none()
            && let Some((times, id)) = self.suspects.pop_first()
        {
            let Some(slot) = self.slots.get_mut(&id).filter(|slot| matches!(slot.at, At::Away)) else { continue };
            if slot.picked_up.take().is_none() {
                continue;
            }
            slot.uncleared = true;
            slot.at = At::Loading(Wake::Run);
            self.loaded += slot.places;
            self.alone = Some(id);
            self.out.push_back(if times < MOST { Out::PickUp(id) } else { Out::Suspect(id) });
        }
    }

    /// Marks the message as cleared. Returns whether a commit has to reset its count.
    pub(super) fn clear(&mut self, id: MessageId) -> bool {
        self.alone = self.alone.filter(|alone| *alone != id);
        self.slots.get_mut(&id).is_some_and(|slot| std::mem::take(&mut slot.uncleared))
    }

    /// Fails a message requested with [`Out::Suspect`], without running it.
    pub fn suspected(&mut self, origin: Arc<Origin>, logged: u32, now: Timestamp) {
        let says = "the service picked this message up eight times and stopped each time before a step was complete; \
                look at its document before you resend it";
        self.cannot_go_on(origin, logged, ReasonCode::Suspect, says.to_owned(), now);
    }
}
