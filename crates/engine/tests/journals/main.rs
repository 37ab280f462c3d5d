//! The engine over journals that break or are away.

mod rush;
mod small;

use small::{Next, Small, empty, engine, engine_of, read};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use tokio::sync::Semaphore;
use wirewatch_core::Id;
use wirewatch_core::act::Act;
use wirewatch_core::document::Form;
use wirewatch_core::intake::Verdict;
use wirewatch_core::machine::{Origin, State};
use wirewatch_core::workspace::{Files, Workspace};
use wirewatch_engine::{Down, Recovered, Releases, Row, Source, Stored};

#[tokio::test]
async fn the_end_of_one_task_is_the_end_of_the_engine() {
    engine(Small { breaks: true, ..Small::default() }).await.ended().await;
}

#[tokio::test(start_paused = true)]
async fn a_sound_one_does_not_end() {
    let engine = engine(Small::default()).await;
    // The clock runs ahead as soon as nothing else is to be done.
    let waited = tokio::time::timeout(std::time::Duration::from_secs(3600), engine.ended()).await;
    assert!(waited.is_err());
    assert!(engine.held().await.is_empty(), "it still answers");
}

#[tokio::test]
async fn nothing_overtakes_what_was_not_taken_for_want_of_the_journal() {
    let engine = engine(Small { next: Mutex::new(vec![Next::Away]), ..Small::default() }).await;
    let give = async |row: &Row| {
        let mut taking = engine.read(Source { row: row.clone(), ..Source::default() });
        taking.feed(b"{}").await.unwrap();
        let ready = taking.ready().await.unwrap();
        engine.give(ready).await.map(|report| report.verdict).map_err(|down| down.0)
    };
    let row = Row::default();
    assert_eq!(give(&row).await, Err("away".to_owned()));
    assert_eq!(give(&row).await, Err("an earlier item was not taken".to_owned()), "though the journal is back");
    // An item from another row, or one that starts a row again, is received.
    assert_eq!(give(&Row::default()).await, Ok(Verdict::Received));
}

#[tokio::test]
async fn nothing_overtakes_what_could_not_be_read_to_its_end() {
    let engine = engine(Small { next: Mutex::new(vec![Next::Away]), ..Small::default() }).await;
    let row = Row::default();
    let read = || engine.read(Source { row: row.clone(), ..Source::default() });
    // Large enough to be stored in pieces before its arrival.
    assert_eq!(read().feed(&vec![b' '; 5 << 20]).await, Err(Down("away".into())));
    let behind = engine.give(read().ready().await.unwrap()).await;
    assert_eq!(behind.map_err(|down| down.0).map(|_| ()), Err("an earlier item was not taken".to_owned()));
}

#[tokio::test]
async fn what_the_journal_refuses_holds_up_nothing_behind_it() {
    let engine = engine(Small { next: Mutex::new(vec![Next::Refused]), ..Small::default() }).await;
    let row = Row::default();
    let mut verdicts = Vec::new();
    for _ in 0..2 {
        let taking = engine.read(Source { row: row.clone(), ..Source::default() });
        let ready = taking.ready().await.unwrap();
        verdicts.push(engine.give(ready).await.map(|report| report.verdict).map_err(|down| down.0));
    }
    assert_eq!(verdicts, [Err("too odd".to_owned()), Ok(Verdict::Received)]);
}

/// A workspace with one flow, which books orders at `erp`.
fn one_flow() -> Files {
    let mut files = empty("One flow");
    for (name, text) in [
        ("schemas/order.schema.json", r#"{ "type": "object" }"#),
        ("connections/drop.toml", "kind = \"folder\"\npath = \"drop\""),
        ("connections/erp.toml", "kind = \"http\"\naddress = \"http://127.0.0.1:1\"\nrepeat = \"key\""),
        (
            "flows/orders.toml",
            "[[intake]]\nfrom = \"drop\"\ntakes = \"order\"\n[[step]]\nname = \"book\"\n\
             call = { at = \"erp\", post = \"/orders\", body = \"it\" }",
        ),
    ] {
        files.insert(name.to_owned(), text.to_owned());
    }
    files
}

/// A failed or running message of that flow, as a restart finds it.
fn unfinished(state: State, picked_up: u16) -> (Recovered, Stored) {
    let (id, form, meta, flow) = (Id(7), Form::Json, serde_json::Map::new(), "orders".to_owned());
    let origin = Origin { id, arrival: id, body: id, slice: 0..2, flow: flow.clone(), release: 1, form, meta };
    let (key, order_key) = (String::new(), String::new());
    (Recovered { id, size: 2, flow, key, order_key, state, due: None, picked_up }, Stored::new(origin, b"{}".to_vec()))
}

/// Returns the log of an engine that finds one message, picked up that many times before; whatever it sends breaks.
async fn found(picked_up: u16) -> Vec<String> {
    let journal = Arc::new(Small { found: Some(unfinished(State::Running, picked_up)), ..Small::default() });
    let _engine = engine_of(journal.clone(), &one_flow()).await;
    journal.passed.notified().await;
    std::mem::take(&mut journal.notes.lock().unwrap())
}

/// A person is answered when the act is committed, not before: what was answered survives a crash.
#[tokio::test]
async fn an_act_is_answered_once_it_is_committed() {
    let commits = Arc::new(Semaphore::new(0));
    let found = Some(unfinished(State::Failed, 0));
    let journal = Arc::new(Small { found, commits: Some(commits.clone()), ..Small::default() });
    let engine = engine_of(journal.clone(), &one_flow()).await;
    // What changes nothing is answered without a commit.
    engine.resume("erp").await;
    let hold = engine.hold("erp", "ada", "counting");
    tokio::pin!(hold);
    tokio::select! {
        () = &mut hold => panic!("answered before it was committed"),
        () = journal.passed.notified() => {}
    }
    assert!(engine.held().await.iter().any(|held| held.connection == "erp"), "it applies at once");
    commits.add_permits(1);
    hold.await;
    let act = engine.act(Id(7), Act::Discard, "ada", "not needed");
    tokio::pin!(act);
    tokio::select! {
        done = &mut act => panic!("answered before it was committed: {done:?}"),
        () = journal.passed.notified() => {}
    }
    commits.add_permits(1);
    act.await.unwrap();
    assert!(journal.notes.lock().unwrap().iter().any(|note| note.starts_with("discarded")));
}

#[tokio::test]
async fn a_message_that_is_found_is_counted_before_it_is_loaded_and_fails_when_what_it_sends_breaks() {
    assert_eq!(found(0).await, ["pick up 1", "load 1", "failed in-doubt"]);
    assert_eq!(found(2).await, ["pick up 1", "load 1", "failed in-doubt"]);
    assert_eq!(found(8).await, ["load 1", "failed suspect"], "it is not run");
}

/// The title of a release, where there is one.
async fn title(releases: &Releases, no: i64, journal: &Small) -> Option<String> {
    releases.get(no, journal).await.unwrap().map(|workspace| workspace.title.clone())
}

#[tokio::test]
async fn an_older_release_is_read_again_once() {
    let unreadable = Files::from([("workspace.toml".to_owned(), "format = 0\n".to_owned())]);
    let releases = BTreeMap::from([(7, empty("Seventh")), (8, unreadable)]);
    let journal = Small { releases, ..Small::default() };
    let releases = Releases::new(9, read(&empty("Ninth")));
    for _ in 0..2 {
        assert_eq!(title(&releases, 7, &journal).await.as_deref(), Some("Seventh"));
        assert_eq!(title(&releases, 9, &journal).await.as_deref(), Some("Ninth"));
    }
    assert_eq!(*journal.asked.lock().unwrap(), [7]);
    assert_eq!(title(&releases, 8, &journal).await, None, "it cannot be read any more");
    assert_eq!(title(&releases, 6, &journal).await, None, "it is not there");
}

#[tokio::test]
async fn a_release_from_before_its_environment_was_written_runs_as_it_ran() {
    let mut files = empty("With a test");
    files.insert("env/test.toml".to_owned(), "title = \"Test\"\n".to_owned());
    let here = Workspace::read_in(&files, Some("test")).workspace.expect("sound");
    let journal = Small { releases: BTreeMap::from([(1, empty("Before")), (2, files)]), ..Small::default() };
    let releases = Releases::new(3, Arc::new(here));
    let environment = async |no| {
        let found = releases.get(no, &journal).await.unwrap().expect("it is there");
        found.environment.as_ref().map(|environment| environment.title.clone())
    };
    assert_eq!(environment(1).await, None);
    assert_eq!(environment(2).await.as_deref(), Some("Test"));
}

#[tokio::test]
async fn memory_does_not_grow_with_the_releases() {
    let releases = (1..=100).map(|no| (no, empty(&no.to_string()))).collect();
    let journal = Small { releases, ..Small::default() };
    let releases = Releases::new(1, read(&empty("1")));
    for no in 2..=100 {
        releases.replace(no, read(&empty(&no.to_string())));
    }
    for no in [99, 90, 85] {
        assert_eq!(title(&releases, no, &journal).await, Some(no.to_string()));
    }
    assert_eq!(*journal.asked.lock().unwrap(), [0; 0], "the newest are at hand");
    for _ in 0..2 {
        assert_eq!(title(&releases, 3, &journal).await.as_deref(), Some("3"));
    }
    assert_eq!(*journal.asked.lock().unwrap(), [3], "the others are where they were");
}
