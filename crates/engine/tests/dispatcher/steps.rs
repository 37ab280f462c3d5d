//! Steps where message after message fails for the same reason.

use crate::desk::{Desk, NOW, Wants, commit, files, id, read};
use std::time::Duration;
use wirewatch_core::machine::State;
use wirewatch_engine::Settings;

const STEP: &str = "step keyed tell";

fn refused(n: i64, says: &str) -> Wants {
    Wants::Commit(n, State::Failed, format!("refused-422: {says}"))
}

fn held(says: &str) -> Wants {
    Wants::Hold(STEP.to_owned(), says.to_owned())
}

/// Three equal failures in a row put a step on hold; one message runs at a time.
fn desk(messages: i64) -> Desk {
    let mut desk = Desk::open(Settings { alike: 3, ..Settings::default() });
    (1..=messages).for_each(|n| desk.enter(n, "keyed"));
    assert_eq!(desk.wants(), [Wants::Perform(1)]);
    desk
}

/// Held at its third message; the others wait before the step.
fn held_desk(messages: i64) -> Desk {
    let mut desk = desk(messages);
    desk.refused(1, "no such item 7");
    assert_eq!(desk.wants(), [refused(1, "no such item 7"), Wants::Perform(2)]);
    desk.refused(2, "no such item 8");
    assert_eq!(desk.wants(), [refused(2, "no such item 8"), Wants::Perform(3)]);
    desk.refused(3, "no such item 9");
    let mut wants = vec![refused(3, "no such item 9"), held("3 messages in a row failed; the last one: no such item 9")];
    wants.extend((4..=messages).map(|n| commit(n, State::Waiting)));
    assert_eq!(desk.wants(), wants);
    desk
}

fn later(desk: &mut Desk, seconds: u64) -> Vec<Wants> {
    desk.now = desk.now.after(Duration::from_secs(seconds));
    desk.dispatcher.tick(desk.now);
    desk.wants()
}

#[test]
fn many_that_fail_alike_hold_their_step_and_one_that_goes_well_frees_it() {
    let mut desk = held_desk(6);
    desk.enter(7, "keyed");
    assert_eq!(desk.wants(), [commit(7, State::Waiting)], "so does what comes later");
    desk.enter(8, "in-line");
    assert_eq!(desk.wants(), [Wants::Perform(8)], "another flow at the same connection continues");
    desk.answered(8);
    desk.dispatcher.committed(id(8), desk.now);
    desk.wants();
    // On hold for longer than messages stay in memory: they are loaded again when they probe.
    assert_eq!(later(&mut desk, 9), []);
    assert_eq!(later(&mut desk, 1), [Wants::Load(4)], "one looks after ten seconds");
    let fourth = desk.entered(4, "keyed");
    desk.dispatcher.loaded(fourth, desk.now);
    assert_eq!(desk.wants(), [Wants::Perform(4)]);
    desk.refused(4, "no such item 9");
    assert_eq!(desk.wants(), [refused(4, "no such item 9")], "it was too early");
    assert_eq!(later(&mut desk, 19), []);
    assert_eq!(later(&mut desk, 1), [Wants::Load(7)], "the next waits twice as long, and is the newest");
    let seventh = desk.entered(7, "keyed");
    desk.dispatcher.loaded(seventh, desk.now);
    desk.answered(7);
    assert_eq!(
        desk.wants(),
        [Wants::Perform(7), commit(7, State::Done), Wants::Free(STEP.to_owned()), Wants::Load(5), Wants::Load(6)]
    );
    assert_eq!(desk.dispatcher.held().count(), 0);
}

#[test]
fn other_reasons_successes_and_the_same_message_again_do_not_count() {
    let mut desk = desk(7);
    for (n, says) in [(1, "no such item"), (2, "no such item"), (3, "no such unit"), (4, "no such unit")] {
        desk.refused(n, says);
        assert_eq!(desk.wants(), [refused(n, says), Wants::Perform(n + 1)], "{n}");
    }
    desk.answered(5);
    desk.dispatcher.committed(id(5), desk.now);
    assert_eq!(desk.wants(), [commit(5, State::Done), Wants::Perform(6)]);
    desk.refused(6, "no such unit");
    assert_eq!(desk.wants(), [refused(6, "no such unit"), Wants::Perform(7)], "one went well between");
    for _ in 0..4 {
        desk.refused(7, "no such unit");
        assert_eq!(desk.wants(), [refused(7, "no such unit")], "one message, however often it is sent again");
        let again = desk.entered(7, "keyed");
        desk.dispatcher.enter(again, desk.now);
        assert_eq!(desk.wants(), [Wants::Perform(7)]);
    }
}

#[test]
fn a_person_or_a_release_has_one_look_at_once() {
    let mut desk = held_desk(6);
    desk.dispatcher.probe_now(STEP, desk.now);
    assert_eq!(desk.wants(), [Wants::Perform(4)], "one, not all");
    desk.refused(4, "no such item 9");
    assert_eq!(desk.wants(), [refused(4, "no such item 9")]);
    desk.dispatcher.set_surroundings(read(&files()), desk.now);
    assert_eq!(desk.wants(), [Wants::Perform(6)]);
    // A release without the step resumes all messages, because nothing else would resume the step.
    let mut files = files();
    let flow = files["flows/keyed.toml"].replace("name = \"tell\"", "name = \"say\"");
    files.insert("flows/keyed.toml".to_owned(), flow);
    desk.dispatcher.set_surroundings(read(&files), desk.now);
    assert_eq!(desk.wants(), [Wants::Free(STEP.to_owned())]);
    desk.answered(6);
    desk.dispatcher.committed(id(6), desk.now);
    assert_eq!(desk.wants(), [commit(6, State::Done), Wants::Perform(5)]);
}

#[test]
fn what_is_held_at_another_process_is_held_here_and_free_when_it_is_there() {
    let mut there = held_desk(3);
    let mut here = desk(2);
    let (_, state, _) = there.dispatcher.held().next().expect("held");
    let hold =
        wirewatch_engine::Hold { connection: STEP.to_owned(), since: state.since, says: state.says.clone(), by: String::new() };
    assert!(hold.is_everybodys());
    here.dispatcher.held_elsewhere(&hold, NOW);
    here.dispatcher.held_elsewhere(&hold, NOW);
    here.answered(1);
    here.dispatcher.committed(id(1), NOW);
    assert_eq!(
        here.wants(),
        [commit(1, State::Done), Wants::Free(STEP.to_owned()), Wants::Perform(2)],
        "what was under way here went well"
    );
    here.dispatcher.held_elsewhere(&hold, NOW);
    here.answered(2);
    here.dispatcher.committed(id(2), NOW);
    here.wants();
    here.dispatcher.held_elsewhere(&hold, NOW);
    here.enter(3, "keyed");
    assert_eq!(here.wants(), [commit(3, State::Waiting)]);
    here.dispatcher.resumed_elsewhere(STEP, NOW);
    assert_eq!(here.wants(), [Wants::Perform(3)]);
    // Also after a restart.
    let mut again = Desk::open(Settings::default());
    again.dispatcher.restore_hold(hold, NOW.after(Duration::from_secs(60)));
    again.enter(1, "keyed");
    again.enter(2, "keyed");
    assert_eq!(again.wants(), [commit(1, State::Waiting), commit(2, State::Waiting)]);
    assert_eq!(later(&mut again, 60), [Wants::Load(1)]);
    drop(there.wants());
}
