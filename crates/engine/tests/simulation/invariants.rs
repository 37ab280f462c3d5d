//! Invariants after any run.

use crate::world::{World, logics};
use std::collections::{BTreeMap, BTreeSet};
use wirewatch_core::machine::{Logged, Machine, Outcome, State, Then};
use wirewatch_core::reason::{Reason, ReasonCode};
use wirewatch_core::{Document, MessageId};

/// Panics at the first broken promise of a run.
pub fn check(world: &World) {
    nothing_is_stuck(world);
    what_is_done_took_effect(world);
    every_way_is_gone_once(world);
    whoever_fails_was_reported_of(world);
    keys_take_effect_once(world);
    blind_effects_are_never_repeated_by_themselves(world);
    lanes_keep_their_order(world);
    the_log_reports_everything(world);
    room_is_given_back(world);
}

/// No message keeps a place in memory that it no longer needs. Messages behind a failed one may.
fn room_is_given_back(world: &World) {
    if world.rows.values().all(|row| row.state.is_final() || row.order_key.is_empty()) {
        for process in &world.processes {
            assert_eq!(process.dispatcher.places_taken(), 0);
        }
    }
}

/// At the end, every message has ended, failed, or waits behind a failed one.
fn nothing_is_stuck(world: &World) {
    for (id, row) in &world.rows {
        let behind_one_that_failed = world.rows.values().any(|other| other.is_in_lane_of(row) && other.state == State::Failed);
        assert!(row.state.is_final() || row.state == State::Failed || behind_one_that_failed, "{id} is stuck, {:?}", row.state);
    }
}

/// A message in state `done` has taken effect at every step.
fn what_is_done_took_effect(world: &World) {
    for (id, row) in world.rows.iter().filter(|(_, row)| row.state == State::Done) {
        let steps: BTreeSet<&str> =
            world.taken.iter().filter(|taken| taken.message == *id).map(|taken| taken.step.as_str()).collect();
        let expected: &[&str] = match (row.origin.flow.as_str(), row.origin.meta.get("part")) {
            ("ordered", _) => &["first", "second"],
            ("blind", _) => &["tell"],
            (_, None) => &["last"],
            (_, Some(part)) if part["way"] == "one" => &["tell-one"],
            (_, Some(_)) => &["tell-two"],
        };
        assert!(expected.iter().all(|step| steps.contains(step)), "{id} is done, but only {steps:?} took effect");
    }
}

/// A message that passed its `also` has one part for each branch, and every part has a branch.
fn every_way_is_gone_once(world: &World) {
    let mut ways: BTreeMap<(String, String), usize> = BTreeMap::new();
    for part in world.rows.values().filter_map(|row| row.origin.meta.get("part")) {
        let of = part["of"].as_str().expect("an id").to_owned();
        *ways.entry((of, part["way"].as_str().expect("a way").to_owned())).or_default() += 1;
    }
    for (id, row) in &world.rows {
        let parted = row.log.iter().filter(|entry| matches!(entry.what, Logged::Parted { .. })).count();
        for way in ["one", "two"] {
            let made = ways.get(&(id.to_string(), way.to_owned())).copied().unwrap_or(0);
            assert_eq!(made, parted, "{id} went by way {way}");
        }
        assert!(parted <= 1 + acts(world, *id), "{id} parted {parted} times");
    }
}

/// In a flow with `on_failure`, no message failed because of an effect without trying to notify.
fn whoever_fails_was_reported_of(world: &World) {
    for (id, row) in world.rows.iter().filter(|(_, row)| row.state == State::Failed && row.origin.flow == "winding") {
        // A message that cannot be run any more does not notify anybody itself.
        let unrun = |reason: &Reason| matches!(reason.code, ReasonCode::Suspect | ReasonCode::NotStored);
        if row.log.last().is_some_and(|entry| matches!(&entry.what, Logged::Stopped { reason } if unrun(reason))) {
            continue;
        }
        let reported = row.log.iter().rev().find_map(|entry| match &entry.what {
            Logged::Attempt { step, .. } => Some(step == "alarm"),
            Logged::Act { .. } => Some(false),
            _ => None,
        });
        assert_eq!(reported, Some(true), "{id} failed and nobody was notified");
    }
}

/// Nothing takes effect twice at a receiver that ignores repeats, unless a person decided so.
fn keys_take_effect_once(world: &World) {
    let mut times: BTreeMap<(MessageId, &str), usize> = BTreeMap::new();
    for taken in world.taken.iter().filter(|taken| taken.connection == "keyed") {
        *times.entry((taken.message, taken.step.as_str())).or_default() += 1;
    }
    for ((id, step), times) in times {
        // Each failure is notified.
        if step == "alarm" {
            continue;
        }
        let acts = acts(world, id);
        assert!(times <= 1 + acts, "{step} of {id} took effect {times} times with {acts} acts");
    }
}

/// At a receiver that does not ignore repeats, an effect happens a second time only after an answer that allows it, or after an
/// act.
fn blind_effects_are_never_repeated_by_themselves(world: &World) {
    let mut times: BTreeMap<MessageId, usize> = BTreeMap::new();
    for taken in world.taken.iter().filter(|taken| taken.connection == "blind") {
        *times.entry(taken.message).or_default() += 1;
    }
    for (id, times) in times {
        let acts = acts(world, id);
        assert!(times <= 1 + acts, "tell of {id} took effect {times} times with {acts} acts");
    }
}

fn acts(world: &World, id: MessageId) -> usize {
    world.rows[&id].log.iter().filter(|entry| matches!(entry.what, Logged::Act { .. })).count()
}

/// No message performs while an earlier one of its lane has not ended.
fn lanes_keep_their_order(world: &World) {
    assert!(world.overtaken.is_empty(), "overtaken: {:?}", world.overtaken);
}

/// The machine rebuilt from the log has the state of the row.
fn the_log_reports_everything(world: &World) {
    for (id, row) in &world.rows {
        let document = Document::json(row.document.as_bytes()).expect("JSON");
        let machine =
            Machine::rebuild(logics(&row.origin, &row.log), row.origin.clone(), document, &row.log, true).expect("the log fits");
        if !matches!(row.state, State::Waiting | State::Running) {
            assert_eq!(machine.next().state(), row.state, "{id}");
        }
        for pair in row.log.windows(2) {
            let done = matches!(&pair[0].what, Logged::Attempt { outcome: Outcome::Answer { .. }, then: Then::Go, .. });
            if let (true, Logged::Attempt { step: a, .. }, Logged::Attempt { step: b, .. }) = (done, &pair[0].what, &pair[1].what)
            {
                assert_ne!(a, b, "{id}: step {a} was tried again after its answer");
            }
        }
    }
}
