//! Acts of people on messages, connections and flows.

use super::entry::running;
use super::slot::{At, Phase, Slot, place_of, places};
use super::{Dispatcher, Entered, Out};
use crate::gate::{HoldInfo, Moved};
use crate::journal::{Change, Hold, Op, Recovered};
use crate::shard::shard_of;
use std::sync::Arc;
use wirewatch_core::act::Act;
use wirewatch_core::machine::{ActRefused, LogEntry, Logged, Origin, State};
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{MessageId, Timestamp};

/// Why an act was not carried out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Unacted {
    /// An effect or a commit is under way.
    Busy,
    /// The message is in a shard of another process's.
    Elsewhere(u16),
    Refused(ActRefused),
}

/// A person's act on a message.
#[derive(Debug, Clone)]
pub struct Acting {
    pub act: Act,
    /// The release that the act names, or the current one: what
    /// [`Machine::act`](wirewatch_core::machine::Machine::act) may choose.
    pub offered: (i64, Arc<Workspace>),
    pub by: String,
    /// Reason given; may be empty.
    pub why: String,
}

impl Dispatcher {
    /// Returns every hold by name (see [`wirewatch_core::before::Before`]), with the number of messages that wait for it.
    pub fn held(&self) -> impl Iterator<Item = (&str, &HoldInfo, usize)> {
        self.gates.iter().filter_map(|(name, gate)| Some((name.as_str(), gate.held()?, gate.waiting())))
    }

    /// Restores a hold from before a restart.
    pub fn restore_hold(&mut self, hold: Hold, now: Timestamp) {
        self.gate(&hold.connection).restore(hold.since, hold.says, hold.by, now);
    }

    /// Puts a connection on hold for a person: nothing passes until a person resumes it.
    pub fn hold(&mut self, connection: &str, by: &str, why: &str, now: Timestamp) {
        let held = self.gate(connection).hold(by, why, now);
        let hold = Hold { connection: connection.to_owned(), since: held.since, says: held.says.clone(), by: held.by.clone() };
        self.out.push_back(Out::Commit(None, Op::Hold(hold)));
    }

    /// Resumes a connection, whoever put it on hold.
    pub fn resume(&mut self, connection: &str, now: Timestamp) {
        if self.gate(connection).resume() == Moved::Resumed {
            self.out.push_back(Out::Commit(None, Op::Resume { connection: connection.to_owned(), at: now, by_person: true }));
        }
        self.pump(connection, now);
    }

    /// Probes a connection on hold: the next message is sent at once.
    pub fn probe_now(&mut self, connection: &str, now: Timestamp) {
        self.gate(connection).probe_now(now);
        self.pump(connection, now);
    }

    /// Discards a message that can no longer run. `found` is its state among the unfinished messages.
    ///
    /// # Errors
    /// [`Unacted`]; nothing has changed then.
    pub fn discard_broken(
        &mut self,
        origin: Arc<Origin>,
        logged: u32,
        found: &Recovered,
        by: &str,
        why: &str,
        now: Timestamp,
    ) -> Result<(), Unacted> {
        let (id, shard) = (origin.id, shard_of(found.id, &found.flow, &found.order_key));
        if !self.shards.has(shard) {
            return Err(Unacted::Elsewhere(shard));
        }
        match self.slots.get(&id).map(|slot| &slot.at) {
            Some(At::Away) => {}
            None if found.state == State::Failed => {}
            // It is being loaded, or about to be reported as broken.
            Some(At::Loading(_) | At::Here(_)) | None => return Err(Unacted::Busy),
        }
        let entry = LogEntry { at: now, what: Logged::Act { act: Act::Discard, by: by.to_owned(), why: why.to_owned() } };
        let (key, order_key) = (found.key.clone(), found.order_key.clone());
        let change = Change { key, order_key, state: State::Discarded, ..Change::blank(origin, now) };
        let change = Change { entry: Some((logged, entry)), ..change };
        self.out.push_back(Out::Commit(Some(id), Op::Change(Box::new(change))));
        self.forget_waits(id);
        self.leave_lane(id, now);
        self.take_out(id);
        self.load_more();
        Ok(())
    }

    /// Carries out a person's act on a message: what it changes is committed with the message's id. `entered` is the loaded message when
    /// [`Self::has`] says that it is not in memory.
    ///
    /// # Errors
    /// [`Unacted`]; nothing has changed then.
    pub fn act(&mut self, id: MessageId, entered: Option<Entered>, acting: &Acting, now: Timestamp) -> Result<(), Unacted> {
        let Acting { act, offered, by, why } = acting;
        if matches!(self.slots.get(&id), Some(Slot { at: At::Loading(_), .. })) {
            return Err(Unacted::Busy);
        }
        if let (false, Some(entered)) = (self.has(id), entered) {
            let (shard, lane) = place_of(&entered.machine);
            if !self.shards.has(shard) {
                return Err(Unacted::Elsewhere(shard));
            }
            let in_lane = self.slots.get(&id).is_some_and(|slot| slot.in_lane);
            let places = places(entered.machine.origin().size());
            self.forget_waits(id);
            let flow = entered.machine.origin().flow.clone();
            let at = At::Here(Box::new(running(entered)));
            self.put(
                id,
                &flow,
                Slot { shard, counted: None, places, lane, in_lane, behind: false, picked_up: None, uncleared: false, at },
            );
            self.loaded += places;
        }
        let Some(running) = self.here(id) else { return Err(Unacted::Busy) };
        if matches!(running.phase, Phase::Performing { .. } | Phase::Committing | Phase::Reopening | Phase::Announcing) {
            return Err(Unacted::Busy);
        }
        let reopened = running.machine.next().state().is_final();
        match running.machine.act(act.clone(), offered, by, why, now) {
            Err(refused) => {
                if running.phase == Phase::Parked {
                    self.drop_from_memory(id);
                }
                Err(Unacted::Refused(refused))
            }
            Ok(turn) => {
                self.forget_waits(id);
                self.commit_turn(id, turn, 0, reopened, now);
                Ok(())
            }
        }
    }
}
