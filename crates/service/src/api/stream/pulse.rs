//! From rows of the feed to pulses: what happened in a fifth of a second, each message once.

use super::follow::{FeedItem, Position};
use crate::view::words::EventKind;
use crate::view::{LiveEvent, PassedCount, Pulse, sure_time};
use futures_util::stream::{self, Stream, StreamExt};
use std::collections::{BTreeMap, HashMap};
use std::time::Duration;
use tokio::time::{Instant, timeout, timeout_at};
use wirewatch_core::Id;
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::Event;

/// Pulses come at most this often.
const BEAT: Duration = Duration::from_millis(200);
/// Interval of empty pulses, which show that the stream is alive.
const ALIVE: Duration = Duration::from_secs(4);
/// Most changes in one pulse; all of them are counted.
const MOST: usize = 100;

/// An item for a client that draws.
#[derive(Debug)]
pub enum Beat {
    Ready,
    Reset,
    /// A pulse with the position after it, unless nothing happened.
    Pulse(Pulse, Option<Position>),
}

/// Groups items into pulses.
pub fn pulses(items: impl Stream<Item = FeedItem> + Send + 'static) -> impl Stream<Item = Beat> + Send {
    let state = (Box::pin(items), Vec::new());
    stream::unfold(state, |(mut items, mut pending)| async move {
        if let Some(beat) = pending.pop() {
            return Some((beat, (items, pending)));
        }
        let mut gathered = Gathered::default();
        match timeout(ALIVE, items.next()).await {
            Err(_) => {}
            Ok(None) => return None,
            Ok(Some(FeedItem::Ready)) => return Some((Beat::Ready, (items, pending))),
            Ok(Some(FeedItem::Reset)) => return Some((Beat::Reset, (items, pending))),
            Ok(Some(FeedItem::Row { row, skip })) => {
                gathered.add(&row.events[skip..]);
                gathered.position = Some(Position::of(&row, row.events.len().saturating_sub(1)));
                let until = Instant::now() + BEAT;
                while let Ok(Some(more)) = timeout_at(until, items.next()).await {
                    match more {
                        FeedItem::Row { row, skip } => {
                            gathered.add(&row.events[skip..]);
                            gathered.position = Some(Position::of(&row, row.events.len().saturating_sub(1)));
                        }
                        // What was gathered before the reset is sent first; the client then forgets it.
                        FeedItem::Reset => {
                            pending.push(Beat::Reset);
                            break;
                        }
                        FeedItem::Ready => {}
                    }
                }
            }
        }
        Some((gathered.beat(), (items, pending)))
    })
}

#[derive(Default)]
struct Gathered {
    changes: Vec<LiveEvent>,
    /// Index in `changes` of each message.
    places: HashMap<Id, usize>,
    left_out: usize,
    passed: BTreeMap<(String, String), u64>,
    position: Option<Position>,
}

impl Gathered {
    fn add(&mut self, events: &[Event]) {
        for event in events {
            let mut count = |step: &str| *self.passed.entry((event.flow.clone(), step.to_owned())).or_default() += 1;
            if event.began() {
                count("");
            }
            event.passed.iter().for_each(|step| count(step));
            self.change(event);
        }
    }

    fn change(&mut self, event: &Event) {
        let change = LiveEvent::from(event);
        match self.places.get(&event.id).filter(|_| change.kind == EventKind::Message) {
            Some(&place) => {
                let known = &mut self.changes[place];
                let began = known.began;
                let mut passed = std::mem::take(&mut known.passed);
                passed.extend(change.passed.iter().cloned());
                *known = LiveEvent { began, passed, ..change };
            }
            // Holds are few and always sent.
            None if self.changes.len() >= MOST && change.kind != EventKind::Hold => self.left_out += 1,
            None => {
                self.places.insert(event.id, self.changes.len());
                self.changes.push(change);
            }
        }
    }

    fn beat(self) -> Beat {
        let passed = self.passed.into_iter().map(|((flow, step), messages)| PassedCount { flow, step, messages });
        let pulse =
            Pulse { at: sure_time(SystemClock.now()), changes: self.changes, left_out: self.left_out, passed: passed.collect() };
        Beat::Pulse(pulse, self.position)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn event(id: i64, state: &str, step: &str, passed: &[&str]) -> Event {
        let value = json!({
            "at": 1, "kind": "message", "id": wirewatch_core::Id(id), "flow": "orders", "partner": "", "step": step, "state": state, "key": "",
            "result": "", "says": "", "tries": 0, "due": 0, "took": 0, "passed": passed,
        });
        serde_json::from_value(value).unwrap()
    }

    fn pulse_of(gathered: Gathered) -> Pulse {
        match gathered.beat() {
            Beat::Pulse(pulse, _) => pulse,
            Beat::Ready | Beat::Reset => panic!("a pulse"),
        }
    }

    #[test]
    fn a_message_is_reported_once_in_its_newest_state_with_all_steps_it_passed() {
        let mut gathered = Gathered::default();
        gathered.add(&[event(1, "running", "", &[]), event(2, "running", "", &[])]);
        gathered.add(&[event(1, "retrying", "book", &["to-order"]), event(1, "done", "book", &["book"])]);
        let pulse = pulse_of(gathered);
        let changes: Vec<_> = pulse.changes.iter().map(|one| (one.state.as_str(), one.began, one.passed.join(" "))).collect();
        assert_eq!(changes, [("done", true, "to-order book".to_owned()), ("running", true, String::new())]);
        let passed: Vec<_> = pulse.passed.iter().map(|one| (one.step.as_str(), one.messages)).collect();
        assert_eq!(passed, [("", 2), ("book", 1), ("to-order", 1)]);
    }

    #[test]
    fn too_many_are_counted_but_not_reported() {
        let mut gathered = Gathered::default();
        let many: Vec<Event> = (1..=150).map(|id| event(id, "running", "", &[])).collect();
        gathered.add(&many);
        gathered.add(&[event(7, "done", "book", &["book"])]);
        let pulse = pulse_of(gathered);
        assert_eq!((pulse.changes.len(), pulse.left_out), (MOST, 50));
        assert_eq!(pulse.changes[6].state, "done", "one that was reported already is reported in its current state");
        assert_eq!(pulse.passed[0].messages, 150);
    }
}
