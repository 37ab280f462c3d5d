//! Shards that move between processes: unfinished messages are taken over, and messages of given-away shards are let go.

use super::slot::{At, Phase, Slot, Wake};
use super::{Dispatcher, Draining, Out};
use crate::journal::{Hold, Recovered};
use crate::shard::{Shards, shard_of};
use std::collections::HashSet;
use wirewatch_core::before::Before;
use wirewatch_core::{MessageId, Timestamp};

impl Dispatcher {
    /// Returns the shards whose messages run here.
    #[must_use]
    pub fn shards(&self) -> Shards {
        self.shards
    }

    /// Announces shards that this process is about to own. Messages created in them from now on wait for [`Self::gain`], since
    /// those found then are older.
    pub fn expect(&mut self, shards: Shards) {
        self.expected = self.expected.with(shards);
    }

    /// Makes these shards this process's own, with their unfinished messages in the order of ids.
    pub fn gain(&mut self, shards: Shards, found: &[Recovered], now: Timestamp) {
        if self.draining != Draining::No {
            return;
        }
        self.shards = self.shards.with(shards);
        self.expected = self.expected.without(shards);
        found.iter().for_each(|one| self.take_up(one, Some(one.picked_up), now));
        let (ours, others): (Vec<_>, Vec<_>) =
            std::mem::take(&mut self.early).into_iter().partition(|one| shards.has(shard_of(one.id, &one.flow, &one.order_key)));
        self.early = others;
        ours.iter().for_each(|one| self.take_up(one, None, now));
    }

    /// A message of our shards that another process has made, and never run.
    pub fn handed(&mut self, found: &Recovered, now: Timestamp) {
        if self.draining == Draining::No {
            self.take_up(found, None, now);
        }
    }

    /// Prepares to give these shards away. What is under way runs to its next commit; [`Out::Left`] follows when no message of
    /// them runs here.
    pub fn leave(&mut self, shards: Shards, to: i16) {
        self.let_idle_go(shards);
        self.leaving = Some((shards, to));
        self.look_whether_left();
        self.load_more();
    }

    /// Prepares a planned stop. What is under way runs to its next commit, nothing new begins; [`Out::Drained`] follows when no
    /// message runs here.
    pub fn drain(&mut self) {
        if self.draining == Draining::No {
            self.draining = Draining::UnderWay;
            self.let_idle_go(self.shards);
            self.look_whether_left();
        }
    }

    /// Shards go, with all of their messages that are not under way.
    fn let_idle_go(&mut self, shards: Shards) {
        self.shards = self.shards.without(shards);
        let busy = |slot: &Slot| match &slot.at {
            At::Here(running) => {
                matches!(running.phase, Phase::Performing { .. } | Phase::Committing | Phase::Reopening | Phase::Announcing)
            }
            At::Away | At::Loading(_) => false,
        };
        let idle: HashSet<MessageId> =
            self.slots.iter().filter(|(_, slot)| shards.has(slot.shard) && !busy(slot)).map(|(id, _)| *id).collect();
        self.due.retain(|(_, id)| !idle.contains(id));
        self.ready.retain(|id| !idle.contains(id));
        self.suspects.retain(|(_, id)| !idle.contains(id));
        for gate in self.gates.values_mut() {
            gate.forget_all(&idle);
        }
        for id in idle {
            self.let_go(id);
        }
    }

    /// Returns whether the message's shard is being given away, so that it must not run further here.
    pub(super) fn is_leaving(&self, id: MessageId) -> bool {
        self.slots.get(&id).is_some_and(|slot| !self.shards.has(slot.shard))
    }

    /// Forgets a message that another process continues. Its whole lane moves with it, so no other message gets its turn here.
    pub(super) fn let_go(&mut self, id: MessageId) {
        self.drop_from_memory(id);
        let Some(slot) = self.take_out(id) else { return };
        if let Some(lane) = slot.lane.filter(|_| slot.in_lane) {
            self.lanes.leave(&lane, id);
        }
        // The requested load still arrives and releases its memory places then.
        if let At::Loading(Wake::Pass(connection)) = slot.at {
            self.gate(&connection).unused();
        }
    }

    pub(super) fn look_whether_left(&mut self) {
        if let Some((shards, to)) = self.leaving
            && !self.slots.values().any(|slot| shards.has(slot.shard))
        {
            self.leaving = None;
            self.out.push_back(Out::Left { shards, to });
        }
        if self.draining == Draining::UnderWay && self.slots.is_empty() {
            self.draining = Draining::Over;
            self.out.push_back(Out::Drained);
        }
    }

    /// Applies a hold that a person set at another process, or that a step got there.
    pub fn held_elsewhere(&mut self, hold: &Hold, now: Timestamp) {
        let known = self.gates.get(&hold.connection).and_then(|gate| gate.held()).is_some_and(|held| held.by == hold.by);
        match hold.by.as_str() {
            _ if known => {}
            // The process that holds it probes it; this one probes later.
            "" => drop(self.gate(&hold.connection).back(Some(&hold.says), now)),
            by => drop(self.gate(&hold.connection).hold(by, &hold.says, now)),
        }
    }

    /// Applies the end of a hold at another process.
    pub fn resumed_elsewhere(&mut self, name: &str, now: Timestamp) {
        let step = matches!(Before::of(name), Before::Step { .. });
        let held = self.gates.get(name).and_then(|gate| gate.held());
        if held.is_some_and(|held| step || !held.by.is_empty()) {
            self.gate(name).resume();
            self.pump(name, now);
        }
    }
}
