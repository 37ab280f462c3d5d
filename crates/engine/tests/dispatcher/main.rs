//! The dispatcher when the journal refuses, a message cannot continue, or a release changes: nothing stops because of it.

mod desk;
mod pickups;
mod steps;

use desk::{Desk, NOW, Wants, commit, failed, files, found, id, not_stored, read};
use std::collections::BTreeMap;
use std::sync::Arc;
use wirewatch_core::Id;
use wirewatch_core::act::{Act, Answers};
use wirewatch_core::flow::Retry;
use wirewatch_core::machine::{Body, Origin, Outcome, State};
use wirewatch_core::reason::ReasonCode;
use wirewatch_engine::{Acting, Broken, Dispatcher, Settings, Shards, Unacted, shard_of};

fn diverged(origin: Arc<Origin>, logged: u32, says: String) -> Broken {
    Broken { origin, logged, code: ReasonCode::Diverged, says }
}

#[test]
fn what_received_of_a_message_is_refused_and_it_fails() {
    let mut desk = Desk::open(Settings::default());
    desk.enter(1, "keyed");
    assert_eq!(desk.wants(), [Wants::Perform(1)]);
    desk.answered(1);
    assert_eq!(desk.wants(), [commit(1, State::Done)]);
    desk.dispatcher.refused(id(1), "no room", NOW);
    assert_eq!(desk.wants(), [not_stored(1)]);
    assert_eq!((desk.dispatcher.len(), desk.dispatcher.places_taken()), (0, 0));
}

#[test]
fn an_act_that_cannot_be_stored_leaves_what_has_ended_as_it_ended() {
    let mut desk = Desk::open(Settings::default());
    let mut ended = desk.entered(1, "keyed");
    let answer = Outcome::Answer { status: 201, body: Body::default() };
    ended.machine.outcome(answer, &Retry::default(), NOW);
    let again = Act::Resend { answers: Answers::Again, release: None };
    let current = (1, desk.workspace.clone());
    let acting = Acting { act: again, offered: current, by: "ada".into(), why: String::new() };
    desk.dispatcher.act(id(1), Some(ended), &acting, NOW).unwrap();
    assert_eq!(desk.wants(), [commit(1, State::Running)]);
    desk.dispatcher.refused(id(1), "no room", NOW);
    assert_eq!(desk.wants(), [], "it has not failed: it is done");
    assert_eq!((desk.dispatcher.len(), desk.dispatcher.places_taken()), (0, 0));
}

#[test]
fn an_intent_that_is_refused_leaves_its_place_at_the_connection_to_the_next() {
    let mut desk = Desk::open(Settings::default());
    (1..=2).for_each(|n| desk.enter(n, "blind"));
    assert_eq!(desk.wants(), [commit(1, State::Running)], "one at a time, and it is logged before it is done");
    desk.dispatcher.refused(id(1), "no room", NOW);
    assert_eq!(desk.wants(), [not_stored(1), commit(2, State::Running)]);
    desk.dispatcher.committed(id(2), NOW);
    assert_eq!(desk.wants(), [Wants::Perform(2)]);
}

#[test]
fn an_intent_that_is_refused_while_it_looks_leaves_the_look_to_the_next() {
    let mut desk = Desk::open(Settings::default());
    (1..=3).for_each(|n| desk.enter(n, "blind"));
    desk.dispatcher.committed(id(1), NOW);
    desk.dispatcher.outcome(id(1), Outcome::Held { says: "gone".to_owned(), status: 0 }, NOW);
    desk.wants();
    let mut looks = || {
        desk.dispatcher.probe_now("blind", NOW);
        let wants = desk.wants();
        let mut looking =
            wants.iter().filter_map(|one| if let Wants::Commit(n, State::Running, _) = one { Some(*n) } else { None });
        let (one, none) = (looking.next(), looking.next());
        assert_eq!(none, None, "one looks: {wants:?}");
        desk.dispatcher.refused(id(one.expect("one looks")), "no room", NOW);
        one
    };
    // The last and the first waiting message probe in turn.
    assert_eq!((looks(), looks()), (Some(3), Some(2)));
}

#[test]
fn who_stands_in_line_waits_for_a_refused_one_or_passes_it_as_the_flow_says() {
    let refused = |flow: &str| {
        let mut desk = Desk::open(Settings::default());
        (1..=2).for_each(|n| desk.enter(n, flow));
        assert_eq!(desk.wants(), [Wants::Perform(1)]);
        desk.answered(1);
        desk.dispatcher.refused(id(1), "no room", NOW);
        desk
    };
    assert_eq!(refused("passing").wants(), [commit(1, State::Done), Wants::Perform(2), not_stored(1)]);
    let mut desk = refused("in-line");
    assert_eq!(desk.wants(), [commit(1, State::Done), not_stored(1)]);
    assert_eq!(desk.dispatcher.places_taken(), 1, "the one behind it, which is at hand");
    desk.dispatcher
        .discard_broken(Desk::origin(1, "in-line"), 2, &found(1, "in-line", State::Failed), "ada", "not meant", NOW)
        .unwrap();
    assert_eq!(desk.wants(), [commit(1, State::Discarded), Wants::Perform(2)]);
}

#[test]
fn one_that_is_refused_on_its_way_to_another_process_does_not_keep_its_shard_here() {
    let mut desk = Desk::open(Settings::default());
    (1..=2).for_each(|n| desk.enter(n, "in-line"));
    desk.answered(1);
    assert_eq!(desk.wants(), [Wants::Perform(1), commit(1, State::Done)]);
    desk.dispatcher.leave([shard_of(id(1), "in-line", "one")].into_iter().collect(), 2);
    assert_eq!(desk.wants(), [], "what is under way is waited for");
    desk.dispatcher.refused(id(1), "no room", NOW);
    assert_eq!(desk.wants(), [not_stored(1), Wants::Left]);
    assert!(desk.dispatcher.is_empty());
}

#[test]
fn one_that_cannot_run_is_discarded_where_it_belongs_unless_it_is_under_way() {
    let mut desk = Desk::open(Settings::default());
    let mut discard =
        |state| desk.dispatcher.discard_broken(Desk::origin(1, "keyed"), 2, &found(1, "keyed", state), "ada", "not meant", NOW);
    assert_eq!(discard(State::Running), Err(Unacted::Busy));
    assert_eq!(discard(State::Failed), Ok(()));
    assert_eq!(desk.wants(), [commit(1, State::Discarded)]);
    // A waiting message that is not in memory is sent too.
    desk.dispatcher.hold("keyed", "ada", "counting", NOW);
    (2..=3).for_each(|n| desk.enter(n, "keyed"));
    desk.now = NOW.after(Settings::default().keep * 2);
    desk.wants();
    let waiting = found(2, "keyed", State::Waiting);
    desk.dispatcher.discard_broken(Desk::origin(2, "keyed"), 0, &waiting, "ada", "not meant", desk.now).unwrap();
    assert_eq!(desk.wants(), [commit(2, State::Discarded)]);
    desk.dispatcher.resume("keyed", desk.now);
    assert_eq!(desk.wants(), [Wants::Load(3)]);

    let shard = shard_of(id(1), "keyed", "");
    desk.dispatcher.leave([shard].into_iter().collect(), 2);
    let elsewhere =
        desk.dispatcher.discard_broken(Desk::origin(1, "keyed"), 2, &found(1, "keyed", State::Failed), "ada", "not meant", NOW);
    assert_eq!(elsewhere, Err(Unacted::Elsewhere(shard)));
}

#[test]
fn one_that_cannot_begin_fails_where_it_belongs() {
    let mut desk = Desk::open(Settings::default());
    desk.dispatcher.broken_at_birth(diverged(Desk::origin(1, "keyed"), 0, "line 1: no JSON".to_owned()), NOW);
    assert_eq!(desk.wants(), [failed(1, "line 1: no JSON")]);
    let mut elsewhere = Dispatcher::new(Settings::default(), desk.workspace, Shards::NONE, Box::new(|_| Id(9)));
    elsewhere.broken_at_birth(diverged(Desk::origin(1, "keyed"), 0, "line 1: no JSON".to_owned()), NOW);
    assert!(elsewhere.poll().is_none(), "its owner says so");
}

#[test]
fn one_that_cannot_go_on_once_it_is_loaded_gives_its_place_to_the_next() {
    // Both wait at the gate, not in memory, behind the running one; then a place becomes free.
    let mut desk = Desk::open(Settings { loaded: 1, ..Settings::default() });
    (1..=3).for_each(|n| desk.enter(n, "keyed"));
    assert_eq!(desk.wants(), [Wants::Perform(1)]);
    desk.answered(1);
    desk.dispatcher.committed(id(1), NOW);
    assert_eq!(desk.wants(), [commit(1, State::Done), Wants::Load(2)]);
    desk.dispatcher.broken(diverged(Desk::origin(2, "keyed"), 4, "the log does not fit".to_owned()), NOW);
    assert_eq!(desk.wants(), [failed(2, "the log does not fit"), Wants::Load(3)]);
    let third = desk.entered(3, "keyed");
    desk.dispatcher.loaded(third, NOW);
    assert_eq!(desk.wants(), [Wants::Perform(3)]);
}

#[test]
fn one_that_was_accept_and_cannot_go_on_leaves_its_place_at_the_connection() {
    let mut desk = Desk::open(Settings::default());
    desk.dispatcher.hold("keyed", "ada", "counting", NOW);
    (1..=3).for_each(|n| desk.enter(n, "keyed"));
    // Held for long, they leave memory.
    desk.now = NOW.after(Settings::default().keep * 2);
    desk.wants();
    assert_eq!(desk.dispatcher.places_taken(), 0);
    desk.dispatcher.resume("keyed", desk.now);
    assert_eq!(desk.wants(), [Wants::Load(1)], "one at a time");
    desk.dispatcher.broken(diverged(Desk::origin(1, "keyed"), 1, "the log does not fit".to_owned()), desk.now);
    assert_eq!(desk.wants(), [failed(1, "the log does not fit"), Wants::Load(2)]);
    // The next message moves to another process while it is loaded; the one after it stays.
    let (second, third) = (shard_of(id(2), "keyed", ""), shard_of(id(3), "keyed", ""));
    assert_ne!(second, third);
    desk.dispatcher.leave([second].into_iter().collect(), 2);
    assert_eq!(desk.wants(), [Wants::Left, Wants::Load(3)]);
}

#[test]
fn a_release_that_lets_more_through_does_so_at_once() {
    let mut desk = Desk::open(Settings::default());
    (1..=4).for_each(|n| desk.enter(n, "keyed"));
    assert_eq!(desk.wants(), [Wants::Perform(1)]);
    let mut files = files();
    let more = files["connections/keyed.toml"].replace("in_flight = 1", "in_flight = 3");
    files.insert("connections/keyed.toml".to_owned(), more);
    desk.dispatcher.set_surroundings(read(&files), NOW);
    assert_eq!(desk.wants(), [Wants::Perform(2), Wants::Perform(3)]);
    // A connection that was removed puts messages for it on hold; nothing is lost.
    files.remove("connections/keyed.toml");
    let flows: BTreeMap<String, String> = files.clone().into_iter().filter(|(name, _)| !name.starts_with("flows/")).collect();
    desk.dispatcher.set_surroundings(read(&flows), NOW);
    desk.answered(2);
    assert_eq!(desk.wants(), [commit(2, State::Done), commit(4, State::Running)], "what is under way comes to its end");
    desk.dispatcher.committed(id(4), NOW);
    assert_eq!(desk.wants(), [commit(4, State::Waiting)]);
    let held: Vec<_> = desk.dispatcher.held().map(|(name, held, _)| format!("{name}: {}", held.says)).collect();
    assert_eq!(held, ["keyed: the workspace has no connection `keyed` any more"]);
}
