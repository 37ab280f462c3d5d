//! The gate before a connection, a flow or a step: how many effects at a time, on hold while it does not respond, opened slowly
//! again.
//!
//! ```text
//!        outcome held                    probe time: one message passes
//! open ───────────────▶ held(wait) ────────────────────────────────────▶ probing
//!  ▲                        ▲  held again: wait doubles                     │
//!  └────────────────────────┴───────────────────────────────────────────────┘ any other outcome: open, window 1
//! ```
//!
//! A person may hold it too; then nothing looks, and no outcome frees it, until a person does. Before a flow or a step nothing
//! is performed: what passes there comes to the gate of a connection. A step on hold lets one through at a time, by the
//! clock, whatever became of the last. Who looks is in turn the last and the first that waits, since what is wrong may be wrong
//! with one message or the messages of one sender alone; [`crate::blame`] says what counts against the connection.

use crate::blame::{Blame, Judged};
use std::collections::{HashSet, VecDeque};
use std::time::Duration;
use wirewatch_core::connection::Connection;
use wirewatch_core::machine::Outcome;
use wirewatch_core::{MessageId, Timestamp};

/// Time from the beginning of a hold to the first probe, and the longest time between probes; it doubles each time.
type Looks = (Duration, Duration);

/// Probing a connection costs one attempt.
const AT_CONNECTION: Looks = (Duration::from_millis(500), Duration::from_secs(15));
/// A message that probes a step fails if it was too early.
const AT_STEP: Looks = (Duration::from_secs(10), Duration::from_secs(900));

/// A hold.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HoldInfo {
    pub since: Timestamp,
    pub says: String,
    /// The person who set it; empty when the connection did not respond.
    pub by: String,
    /// When the next message is sent as a probe; without meaning while a person holds the connection.
    pub probe_at: Timestamp,
}

impl HoldInfo {
    fn by_person(&self) -> bool {
        !self.by.is_empty()
    }
}

/// Limits of a gate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Terms {
    /// Effects at a time.
    pub in_flight: u32,
    /// From one effect to the next, at least.
    pub apart: Duration,
}

impl Terms {
    /// Returns the limits of a connection.
    #[must_use]
    pub fn of(connection: &Connection) -> Self {
        let apart = connection.per_minute.map_or(Duration::ZERO, |calls| Duration::from_secs(60) / calls.max(1));
        Self { in_flight: connection.in_flight, apart }
    }
}

/// A gate.
#[derive(Debug)]
pub struct Gate {
    /// Effects are performed behind it, and each message that passes is reported with [`back`](Gate::back). Otherwise it only
    /// stops messages.
    performs: bool,
    limit: u32,
    apart: Duration,
    /// When the next message may pass, by `apart`.
    next_at: Timestamp,
    /// Effects at a time at present; it grows again one by one after a hold.
    window: u32,
    in_flight: u32,
    waiting: VecDeque<MessageId>,
    held: Option<HoldInfo>,
    wait: Duration,
    /// The message that probes during a hold, and how many probes there were.
    looking: Option<MessageId>,
    looked: u32,
    blame: Blame,
    /// Waiting messages have been dropped from memory since the hold began.
    swept: bool,
}

/// Effect of an outcome on a gate.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Moved {
    Nothing,
    Held,
    Resumed,
}

impl Gate {
    /// An open gate before a connection.
    #[must_use]
    pub fn new(terms: Terms) -> Self {
        Self {
            performs: true,
            limit: terms.in_flight,
            apart: terms.apart,
            next_at: Timestamp(0),
            window: terms.in_flight,
            in_flight: 0,
            waiting: VecDeque::new(),
            held: None,
            wait: AT_CONNECTION.0,
            looking: None,
            looked: 0,
            blame: Blame::default(),
            swept: false,
        }
    }

    /// An open gate before a flow or a step.
    #[must_use]
    pub fn before_steps() -> Self {
        Self { performs: false, wait: AT_STEP.0, ..Self::new(Terms { in_flight: 1, apart: Duration::ZERO }) }
    }

    fn looks(&self) -> Looks {
        if self.performs { AT_CONNECTION } else { AT_STEP }
    }

    /// Follows changed terms.
    pub fn set_terms(&mut self, terms: Terms) {
        let limit = terms.in_flight;
        self.apart = terms.apart;
        self.window = if self.window == self.limit { limit } else { self.window.min(limit) };
        self.limit = limit;
    }

    /// Returns the hold, if there is one.
    #[must_use]
    pub fn held(&self) -> Option<&HoldInfo> {
        self.held.as_ref()
    }

    /// Returns whether this message is stopped here: the gate is on hold, and the message does not probe it.
    #[must_use]
    pub fn stops(&self, id: MessageId) -> bool {
        self.held.is_some() && self.looking != Some(id)
    }

    /// Messages waiting before the gate.
    #[must_use]
    pub fn waiting(&self) -> usize {
        self.waiting.len()
    }

    /// Restores a hold from before a restart. Unless a person set it, the next message probes at once.
    pub fn restore(&mut self, since: Timestamp, says: String, by: String, now: Timestamp) {
        self.held = Some(HoldInfo { since, says, by, probe_at: now });
    }

    /// Puts the gate on hold for a person. Messages under way still report their outcomes.
    pub fn hold(&mut self, by: &str, why: &str, now: Timestamp) -> &HoldInfo {
        let since = self.held.as_ref().map_or(now, |held| held.since);
        self.swept = false;
        self.held.insert(HoldInfo { since, says: why.to_owned(), by: by.to_owned(), probe_at: now })
    }

    /// Ends the hold: one message passes, then one more with each success.
    pub fn resume(&mut self) -> Moved {
        self.looking = None;
        self.window = 1;
        self.held.take().map_or(Moved::Nothing, |_| Moved::Resumed)
    }

    /// Returns the waiting messages once the hold has lasted `keep`: they can leave memory.
    pub fn sweep(&mut self, keep: Duration, now: Timestamp) -> Vec<MessageId> {
        match &self.held {
            Some(held) if !self.swept && now.since(held.since) >= keep => {
                self.swept = true;
                self.waiting.iter().copied().collect()
            }
            _ => Vec::new(),
        }
    }

    /// Queues a message. `first` puts it before the others: it has waited longest.
    pub fn queue(&mut self, id: MessageId, first: bool) {
        if first { self.waiting.push_front(id) } else { self.waiting.push_back(id) }
    }

    /// Removes a message from the queue.
    pub fn forget(&mut self, id: MessageId) {
        self.waiting.retain(|other| *other != id);
    }

    /// Removes these messages from the queue.
    pub fn forget_all(&mut self, ids: &HashSet<MessageId>) {
        self.waiting.retain(|other| !ids.contains(other));
    }

    /// The next message that may pass now; call until `None`.
    pub fn pass(&mut self, now: Timestamp) -> Option<MessageId> {
        if self.next_at > now || self.held.is_none() && self.in_flight >= self.window {
            return None;
        }
        let longer = self.longer();
        let looks = self.looks_now(now);
        let id = match &mut self.held {
            None => self.waiting.pop_front()?,
            Some(_) if !looks => return None,
            Some(held) => {
                // The first message may be the one that caused the hold of a connection; a step is on hold after many, so there
                // the order is reversed.
                let last = (self.looked % 2 == 1) != self.performs;
                let id = if last { self.waiting.pop_back()? } else { self.waiting.pop_front()? };
                (self.looking, self.looked) = (Some(id), self.looked + 1);
                if !self.performs {
                    self.wait = longer;
                    held.probe_at = now.after(self.wait);
                }
                id
            }
        };
        self.in_flight += u32::from(self.performs);
        self.next_at = now.after(self.apart);
        Some(id)
    }

    /// Returns when to call [`pass`](Self::pass) again without any event, if ever.
    #[must_use]
    pub fn deadline(&self, keep: Duration) -> Option<Timestamp> {
        if self.waiting.is_empty() {
            return None;
        }
        // Where there is room and a message waits, that moment is now, whatever made the room.
        let Some(held) = &self.held else {
            return (self.in_flight < self.window).then_some(self.next_at);
        };
        let probe = (self.may_look() && !held.by_person()).then_some(held.probe_at.max(self.next_at));
        let sweep = (!self.swept).then(|| held.since.after(keep));
        probe.into_iter().chain(sweep).min()
    }

    /// Decides whether an outcome counts against the message or the connection. [`Self::back`] must follow.
    pub fn judge(&mut self, id: MessageId, outcome: Outcome) -> Judged {
        self.blame.judge(id, outcome, self.held.is_some())
    }

    /// Reports a message that had passed. `held` is the reason to hold the connection, if there is one.
    pub fn back(&mut self, held: Option<&str>, now: Timestamp) -> Moved {
        self.in_flight = self.in_flight.saturating_sub(1);
        let longer = self.longer();
        match (held, &mut self.held) {
            (Some(says), None) => {
                self.wait = self.looks().0;
                let probe_at = now.after(self.wait);
                self.held = Some(HoldInfo { since: now, says: says.to_owned(), by: String::new(), probe_at });
                (self.looking, self.looked, self.swept) = (None, 0, false);
                Moved::Held
            }
            (_, Some(known)) if known.by_person() => Moved::Nothing,
            (Some(says), Some(known)) => {
                // Messages that were under way when the hold began report as well; only the probe moves the time of the next
                // probe.
                if self.performs && self.looking.is_some() {
                    self.wait = longer;
                    known.probe_at = now.after(self.wait);
                    known.says = says.to_owned();
                    self.looking = None;
                }
                Moved::Nothing
            }
            (None, Some(_)) => {
                self.held = None;
                self.looking = None;
                self.window = 1;
                Moved::Resumed
            }
            (None, None) => {
                self.window = (self.window + 1).min(self.limit);
                Moved::Nothing
            }
        }
    }

    /// A message that passed did nothing at the connection after all.
    pub fn unused(&mut self) {
        self.in_flight = self.in_flight.saturating_sub(1);
        self.looking = None;
    }

    fn longer(&self) -> Duration {
        (self.wait * 2).min(self.looks().1)
    }

    /// Returns whether another probe may start before the last has its outcome.
    fn may_look(&self) -> bool {
        !self.performs || self.looking.is_none()
    }

    fn looks_now(&self, now: Timestamp) -> bool {
        self.may_look() && self.held.as_ref().is_some_and(|held| !held.by_person() && held.probe_at <= now)
    }

    /// Lets the next message probe at once.
    pub fn probe_now(&mut self, now: Timestamp) {
        if let Some(held) = &mut self.held {
            held.probe_at = now;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use wirewatch_core::Id;

    fn freely(in_flight: u32) -> Terms {
        Terms { in_flight, apart: Duration::ZERO }
    }

    fn at(ms: i64) -> Timestamp {
        Timestamp::from_millis(ms)
    }

    #[test]
    fn a_held_gate_lets_one_look_and_opens_one_by_one() {
        let mut gate = Gate::new(freely(4));
        (1..=9).for_each(|id| gate.queue(Id(id), false));
        let first: Vec<_> = std::iter::from_fn(|| gate.pass(at(0))).collect();
        assert_eq!(first, [Id(1), Id(2), Id(3), Id(4)]);
        assert_eq!(gate.back(Some("refused"), at(1)), Moved::Held);
        for _ in 0..3 {
            assert_eq!(gate.back(Some("refused"), at(2)), Moved::Nothing);
        }
        assert_eq!(gate.pass(at(400)), None, "held");
        assert_eq!(gate.deadline(Duration::from_secs(5)), Some(at(501)));
        assert_eq!((gate.pass(at(501)), gate.pass(at(501))), (Some(Id(9)), None), "one looks: the last that waits");
        assert_eq!(gate.back(Some("refused"), at(502)), Moved::Nothing);
        assert_eq!(gate.deadline(Duration::from_secs(5)), Some(at(1502)), "the wait doubled");
        assert_eq!(gate.pass(at(1502)), Some(Id(5)), "then the first");
        assert_eq!(gate.back(None, at(1503)), Moved::Resumed);
        assert_eq!((gate.pass(at(1503)), gate.pass(at(1503))), (Some(Id(6)), None), "opened by one");
        gate.back(None, at(1504));
        assert_eq!((gate.pass(at(1504)), gate.pass(at(1504)), gate.pass(at(1504))), (Some(Id(7)), Some(Id(8)), None));
    }

    #[test]
    fn calls_are_kept_apart_whatever_waits_and_comes_back() {
        let mut gate = Gate::new(Terms { in_flight: 4, apart: Duration::from_millis(500) });
        (1..=3).for_each(|id| gate.queue(Id(id), false));
        assert_eq!((gate.pass(at(0)), gate.pass(at(0))), (Some(Id(1)), None));
        gate.back(None, at(10));
        assert_eq!((gate.pass(at(499)), gate.deadline(Duration::from_secs(5))), (None, Some(at(500))));
        assert_eq!((gate.pass(at(700)), gate.pass(at(700))), (Some(Id(2)), None));
        assert_eq!(gate.back(Some("503"), at(701)), Moved::Held);
        assert_eq!(gate.deadline(Duration::from_secs(5)), Some(at(1201)), "the look comes later than the next call may");
    }

    #[test]
    fn what_a_person_holds_stays_held_until_a_person_frees_it() {
        let mut gate = Gate::new(freely(2));
        (1..=5).for_each(|id| gate.queue(Id(id), false));
        assert_eq!((gate.pass(at(0)), gate.pass(at(0))), (Some(Id(1)), Some(Id(2))));
        gate.hold("ada", "they move house", at(1));
        assert_eq!(gate.back(None, at(2)), Moved::Nothing, "one that went well frees nothing");
        assert_eq!(gate.back(Some("refused"), at(2)), Moved::Nothing);
        gate.probe_now(at(3));
        assert_eq!((gate.pass(at(60_000)), gate.held().unwrap().says.as_str()), (None, "they move house"));
        assert_eq!(gate.deadline(Duration::from_secs(5)), Some(at(5001)), "only the sweep is due");
        assert_eq!(gate.resume(), Moved::Resumed);
        assert_eq!((gate.pass(at(60_001)), gate.pass(at(60_001))), (Some(Id(3)), None), "opened by one");
        assert_eq!(gate.resume(), Moved::Nothing);
    }

    #[test]
    fn a_person_may_hold_what_is_held_already_and_its_beginning_stays() {
        let mut gate = Gate::new(freely(2));
        gate.queue(Id(1), false);
        gate.pass(at(0));
        gate.back(Some("refused"), at(1));
        assert_eq!(gate.hold("ada", "asked to wait", at(9)).since, at(1));
        gate.queue(Id(2), false);
        assert_eq!(gate.pass(at(100_000)), None, "nothing looks");
    }
}
