//! Messages that were in a process's memory when it ended, time after time.

use crate::desk::{Desk, NOW, Wants, commit, found, id};
use wirewatch_core::flow::Retry;
use wirewatch_core::machine::{Outcome, State};
use wirewatch_engine::{Entered, Recovered, Settings, Shards, shard_of};

fn picked_up(n: i64, times: u16) -> Recovered {
    Recovered { picked_up: times, ..found(n, "keyed", State::Running) }
}

/// A process that finds these at its start.
fn started(found: &[Recovered]) -> Desk {
    let mut desk = Desk::open(Settings::default());
    desk.dispatcher.gain(Shards::NONE, found, NOW);
    desk
}

fn loaded(desk: &mut Desk, n: i64) {
    let entered = desk.entered(n, "keyed");
    desk.dispatcher.loaded(entered, NOW);
}

#[test]
fn what_is_found_is_counted_once_and_what_was_counted_before_runs_one_by_one() {
    let mut desk = started(&[picked_up(1, 0), picked_up(2, 1), picked_up(3, 0), picked_up(4, 7), picked_up(5, 2)]);
    assert_eq!(desk.wants(), [Wants::PickUp(1), Wants::PickUp(2), Wants::PickUp(3)], "one suspect among the others");
    loaded(&mut desk, 2);
    assert_eq!(desk.wants(), [Wants::Perform(2)]);
    loaded(&mut desk, 1);
    desk.answered(2);
    assert_eq!(desk.wants(), [commit(2, State::Done), Wants::Perform(1)], "nothing of it is durable yet");
    desk.dispatcher.committed(id(2), NOW);
    assert_eq!(desk.wants(), [Wants::PickUp(5)], "now the next that is least suspect");
    // A message that waits for long leaves memory: it did no harm, so it is not a suspect when it is loaded again.
    desk.dispatcher.hold("keyed", "ada", "counting", NOW);
    loaded(&mut desk, 3);
    desk.now = NOW.after(Settings::default().keep * 2);
    desk.wants();
    desk.dispatcher.resume("keyed", desk.now);
    desk.answered(1);
    desk.dispatcher.committed(id(1), desk.now);
    assert_eq!(desk.wants(), [commit(1, State::Done), Wants::Load(3)]);
}

#[test]
fn one_that_leaves_memory_makes_room_for_the_next_suspect() {
    let mut desk = started(&[picked_up(1, 1), picked_up(2, 1)]);
    assert_eq!(desk.wants(), [Wants::PickUp(1)]);
    desk.dispatcher.broken(super::diverged(Desk::origin(1, "keyed"), 1, "the log does not fit".to_owned()), NOW);
    assert_eq!(desk.wants(), [crate::failed(1, "the log does not fit"), Wants::PickUp(2)]);
}

#[test]
fn one_that_was_taken_up_eight_times_fails_unrun() {
    let mut desk = started(&[picked_up(1, 8)]);
    assert_eq!(desk.wants(), [Wants::Suspect(1)]);
    desk.dispatcher.handed(&picked_up(2, 0), NOW);
    assert_eq!(desk.wants(), [Wants::Load(2)], "it holds up nobody");
    desk.dispatcher.suspected(Desk::origin(1, "keyed"), 0, NOW);
    let says = "suspect: the service picked this message up eight times and stopped each time before a step was complete; look at its document before you resend it";
    assert_eq!(desk.wants(), [Wants::Commit(1, State::Failed, says.to_owned())]);
    assert_eq!(desk.dispatcher.len(), 1);
}

#[test]
fn waiting_for_a_connection_on_hold_is_no_reason_for_suspicion() {
    let mut desk = started(&[picked_up(1, 7), picked_up(2, 7)]);
    desk.dispatcher.hold("keyed", "ada", "counting", NOW);
    assert_eq!(desk.wants(), [Wants::PickUp(1)]);
    // It was stored as waiting before the process ended: only its count changes.
    let mut entered = desk.entered(1, "keyed");
    let held = Outcome::Held { says: "counting".to_owned(), status: 0 };
    entered.machine.outcome(held, &Retry::default(), NOW);
    desk.dispatcher.loaded(Entered { began: None, logged: 1, ..entered }, NOW);
    let waits = Wants::Commit(1, State::Waiting, "counting".to_owned());
    assert_eq!(desk.wants(), [waits, Wants::PickUp(2)], "the next suspect does not wait for the hold to end");
}

#[test]
fn a_suspect_that_goes_elsewhere_is_not_waited_for_and_what_is_handed_over_is_none() {
    let mut desk = started(&[picked_up(1, 1), picked_up(2, 1), picked_up(3, 1)]);
    desk.wants();
    let shards: Shards = [1, 2].map(|n| shard_of(id(n), "keyed", "")).into_iter().collect();
    assert!(!shards.has(shard_of(id(3), "keyed", "")));
    desk.dispatcher.leave(shards, 2);
    assert_eq!(desk.wants(), [Wants::Left, Wants::PickUp(3)]);
    desk.dispatcher.handed(&picked_up(4, 0), NOW);
    assert_eq!(desk.wants(), [Wants::Load(4)], "nobody has run it");
}
