//! Messages found unfinished, by how often they were taken up before and nothing came of it.
//!
//! A process that ends takes down what it had in memory, and one of those may be why it ended. So each is counted before it
//! is loaded, and its next commit sets the count back. Those that were counted before run one at a time, the least suspect
//! first: where a process is ended again and again from outside, it is another message each time that has its turn just then.
//! One that was counted [`MOST`] times is not run again: it is failed until a person has looked.

use super::slot::{At, Wake};
use super::{Dispatcher, Out};
use std::sync::Arc;
use wirewatch_core::machine::Origin;
use wirewatch_core::{MessageId, Timestamp};

/// So often a message is taken up, with nothing committed of it.
const MOST: u16 = 8;

impl Dispatcher {
    /// Loads a message whose turn it is, or puts it with those that run alone.
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
        slot.picked_up = None;
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
            slot.at = At::Loading(Wake::Run);
            self.loaded += slot.places;
            self.alone = Some(id);
            self.out.push_back(if times < MOST { Out::PickUp(id) } else { Out::Suspect(id) });
        }
    }

    /// A message asked for with [`Out::Suspect`]: it fails as it is.
    pub fn suspected(&mut self, origin: Arc<Origin>, logged: u32, now: Timestamp) {
        let says = "eight times the service took this message up again, and ended before anything came of it; \
                    look at its document before you resend it";
        self.cannot_go_on(origin, logged, "suspect", says.to_owned(), now);
    }
}
