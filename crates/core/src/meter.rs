//! Throughput and durations of steps: the last minute, in slots of five seconds.

use crate::Timestamp;
use hdrhistogram::Histogram;
use std::collections::{BTreeMap, VecDeque};

const SLOT_US: i64 = 5_000_000;
/// Longest duration that is distinguished.
const LONGEST_US: u64 = 3_600_000_000;
/// Whole slots of a minute; one more is being filled.
pub const SLOTS: usize = 12;

/// A counted point of a flow.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Point {
    /// A message was created.
    Begun,
    /// A message passed the step of this name.
    Step(String),
    /// A message ended.
    Done,
}

/// A point of a flow.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct FlowStep {
    pub flow: String,
    pub point: Point,
}

/// Figures of a step for the last minute.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Figures {
    pub passed: u64,
    /// The same in spans of five seconds, oldest first; the last one is still being filled.
    pub slots: [u64; SLOTS],
    /// Half of the spans were no longer than this, in microseconds; `None` when nothing was timed.
    pub median_us: Option<u64>,
    /// Nineteen of twenty spans were no longer than this, in microseconds.
    pub slow_us: Option<u64>,
}

/// Counts of every step. Times may come a little out of order; those older than the minute are passed over.
#[derive(Debug, Default)]
pub struct Meter {
    steps: BTreeMap<FlowStep, VecDeque<Slot>>,
}

#[derive(Debug)]
struct Slot {
    /// Number of the slot since 1970.
    number: i64,
    passed: u64,
    spans: Option<Histogram<u32>>,
}

impl Meter {
    /// Counts one passing of `step` at `at`, with how long it took where it was timed.
    pub fn count(&mut self, step: FlowStep, took_us: Option<u64>, at: Timestamp) {
        let number = at.0.div_euclid(SLOT_US);
        let slots = self.steps.entry(step).or_default();
        let newest = slots.back().map_or(number, |slot| slot.number);
        if number + (SLOTS as i64) < newest {
            return;
        }
        let place = slots.partition_point(|slot| slot.number < number);
        if slots.get(place).is_none_or(|slot| slot.number != number) {
            slots.insert(place, Slot { number, passed: 0, spans: None });
        }
        let slot = &mut slots[place];
        slot.passed += 1;
        if let Some(took) = took_us {
            // One significant figure: within 10 %, in a kilobyte or two.
            let spans = slot.spans.get_or_insert_with(|| Histogram::new(1).expect("one significant figure is allowed"));
            // Durations above an hour count as an hour, which bounds the memory.
            let _ = spans.record(took.min(LONGEST_US));
        }
        let newest = newest.max(number);
        while slots.front().is_some_and(|slot| slot.number + (SLOTS as i64) < newest) {
            slots.pop_front();
        }
    }

    /// Returns the figures of every step for the minute before `now`; steps without messages are left out.
    #[must_use]
    pub fn read(&self, now: Timestamp) -> BTreeMap<FlowStep, Figures> {
        let oldest = now.0.div_euclid(SLOT_US) - SLOTS as i64;
        let read = |slots: &VecDeque<Slot>| {
            let mut spans: Histogram<u32> = Histogram::new(1).expect("one significant figure is allowed");
            let mut figures = Figures::default();
            for slot in slots.iter().filter(|slot| slot.number > oldest) {
                figures.passed += slot.passed;
                // Those of a moment in the future, by another process's clock, count as the newest.
                let place = usize::try_from(slot.number - oldest - 1).unwrap_or(0).min(SLOTS - 1);
                figures.slots[place] += slot.passed;
                if let Some(more) = &slot.spans {
                    // Both resize themselves, so adding cannot fail.
                    let _ = spans.add(more);
                }
            }
            if !spans.is_empty() {
                figures.median_us = Some(spans.value_at_quantile(0.5));
                figures.slow_us = Some(spans.value_at_quantile(0.95));
            }
            figures
        };
        self.steps.iter().map(|(step, slots)| (step.clone(), read(slots))).filter(|(_, figures)| figures.passed > 0).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn step(step: &str) -> FlowStep {
        FlowStep { flow: "orders".into(), point: Point::Step(step.into()) }
    }

    fn at(seconds: i64) -> Timestamp {
        Timestamp(seconds * 1_000_000)
    }

    #[test]
    fn a_minute_is_counted_and_then_forgotten() {
        let mut meter = Meter::default();
        (0..30).for_each(|second| meter.count(step("book"), Some(1000), at(1000 + second)));
        assert_eq!(meter.read(at(1030))[&step("book")].passed, 30);
        assert_eq!(meter.read(at(1030))[&step("book")].slots, [0, 0, 0, 0, 0, 5, 5, 5, 5, 5, 5, 0], "five seconds each");
        assert_eq!(meter.read(at(1070))[&step("book")].passed, 15, "the first half is more than a minute ago");
        assert_eq!(meter.read(at(1200)), BTreeMap::new());
    }

    #[test]
    fn spans_have_a_middle_and_a_slow_end_and_need_not_be_timed() {
        let mut meter = Meter::default();
        (1..=100).for_each(|n| meter.count(step("book"), Some(n * 1000), at(1000)));
        meter.count(step("to-order"), None, at(1000));
        let read = meter.read(at(1001));
        let (median, slow) = (read[&step("book")].median_us.unwrap(), read[&step("book")].slow_us.unwrap());
        assert!((45_000..=56_000).contains(&median), "{median}");
        assert!((90_000..=106_000).contains(&slow), "{slow}");
        assert_eq!(
            read[&step("to-order")],
            Figures { passed: 1, slots: read[&step("to-order")].slots, median_us: None, slow_us: None }
        );
    }

    #[test]
    fn late_times_find_their_slot_and_too_late_ones_change_nothing() {
        let mut meter = Meter::default();
        meter.count(step("book"), None, at(1000));
        meter.count(step("book"), None, at(990));
        meter.count(step("book"), None, at(800));
        assert_eq!(meter.read(at(1000))[&step("book")].passed, 2);
        assert_eq!(meter.read(at(1052))[&step("book")].passed, 1, "the late one leaves first");
    }
}
