//! Which messages are known, which are in memory, and how much memory they take.

use super::Dispatcher;
use super::slot::{At, Running, Slot};
use wirewatch_core::MessageId;
use wirewatch_core::flow::Flow;

impl Dispatcher {
    /// Returns whether there is room for more messages from arrivals.
    #[must_use]
    pub fn has_room(&self) -> bool {
        self.loaded < self.settings.loaded && self.ready.len() < self.settings.loaded
    }

    /// Returns the memory places in use.
    #[must_use]
    pub fn places_taken(&self) -> usize {
        self.loaded
    }

    /// Messages known, in memory or not.
    #[must_use]
    pub fn len(&self) -> usize {
        self.slots.len()
    }

    /// Returns whether no message is known.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.slots.is_empty()
    }

    /// The flows with as many messages under way as they may have, and how many that is.
    pub fn full(&self) -> impl Iterator<Item = (&Flow, u32)> {
        self.under_way.iter().filter(|(_, (_, full))| *full).filter_map(|(name, _)| {
            let flow = self.surroundings.flows.get(name)?;
            Some((flow.as_ref(), flow.in_flight?))
        })
    }

    /// Returns whether the message is in memory, so that an act needs no loading.
    #[must_use]
    pub fn has(&self, id: MessageId) -> bool {
        matches!(self.slots.get(&id), Some(Slot { at: At::Here(_), .. }))
    }

    /// The message, if it is in memory.
    pub(super) fn here(&mut self, id: MessageId) -> Option<&mut Running> {
        match self.slots.get_mut(&id).map(|slot| &mut slot.at) {
            Some(At::Here(running)) => Some(running),
            Some(At::Away | At::Loading(_)) | None => None,
        }
    }

    /// Puts a message into the books.
    pub(super) fn put(&mut self, id: MessageId, flow: &str, slot: Slot) {
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
    pub(super) fn take_out(&mut self, id: MessageId) -> Option<Slot> {
        let slot = self.slots.remove(&id)?;
        self.uncount(&slot);
        Some(slot)
    }

    fn uncount(&mut self, slot: &Slot) {
        let Some(flow) = &slot.counted else { return };
        if let Some((n, full)) = self.under_way.get_mut(&flow.name) {
            *n = n.saturating_sub(1);
            // The intakes open again only after a quarter has ended; otherwise they would open and close with every message.
            *full &= flow.in_flight.is_some_and(|most| *n > most - most.div_ceil(4));
        }
    }
}
