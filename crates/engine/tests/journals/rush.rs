//! Calls in a rush: stored unchanged, answered, and received afterwards.

use crate::small::{Next, Small, SmallEngine, empty, engine_of};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::sync::Semaphore;
use tokio::task::{JoinHandle, JoinSet};
use wirewatch_core::intake::Provenance;
use wirewatch_core::workspace::Files;
use wirewatch_core::{Id, Timestamp};
use wirewatch_engine::{Call, Down, Received, Spooled, SpooledCall};

/// Most calls that are received directly; the next one begins a rush.
const AT_A_TIME: usize = 16;

fn call(body: &[u8]) -> Call {
    let provenance = Provenance { connection: "shop".to_owned(), ..Provenance::default() };
    Call { provenance, json: None, body: body.to_vec() }
}

/// Enough concurrent calls that the next one begins a rush: none is received before the gate opens.
async fn crowd(engine: &SmallEngine) -> Vec<JoinHandle<Result<Received, Down>>> {
    let come = |_| {
        let engine = engine.clone();
        tokio::spawn(async move { engine.receive(call(b"{}")).await })
    };
    let crowd = (0..AT_A_TIME).map(come).collect();
    // Each call has begun when a task spawned after all of them is done.
    tokio::spawn(async {}).await.unwrap();
    crowd
}

async fn engine_with(journal: Small, files: &Files) -> (SmallEngine, Arc<Small>) {
    let journal = Arc::new(journal);
    (engine_of(journal.clone(), files).await, journal)
}

fn gated(journal: Small) -> (Arc<Semaphore>, Small) {
    let gate = Arc::new(Semaphore::new(0));
    (gate.clone(), Small { gate: Some(gate), ..journal })
}

#[tokio::test(start_paused = true)]
async fn who_comes_in_a_rush_is_answered_at_once_and_taken_when_it_is_over() {
    let (gate, journal) = gated(Small::default());
    let (engine, journal) = engine_with(journal, &empty("Empty")).await;
    let crowd = crowd(&engine).await;
    let Ok(Received::Spooled(id)) = engine.receive(call(b"{\"late\": 1}")).await else { panic!("it is spooled") };
    let row = journal.spools.lock().unwrap().values().next().unwrap().clone();
    assert_eq!((row.id, row.calls[0].id, row.calls[0].body.as_slice()), (id, id, &b"{\"late\": 1}"[..]));
    assert!(journal.took.lock().unwrap().is_empty(), "nobody is taken yet");
    assert_eq!(engine.spooled(), Some((1, id.made())));
    gate.add_permits(100);
    for one in crowd {
        assert!(matches!(one.await.unwrap(), Ok(Received::Taken(_))), "earlier callers get the outcome");
    }
    journal.emptied.notified().await;
    assert_eq!(engine.spooled(), None);
    assert_eq!(journal.took.lock().unwrap().last(), Some(&id), "under the id it was promised");
    assert_eq!(journal.took.lock().unwrap().len(), AT_A_TIME + 1);
    assert!(matches!(engine.receive(call(b"{}")).await, Ok(Received::Taken(_))), "the rush is over");
}

/// An endless stream of calls, more at a time than are received directly.
async fn rush(engine: SmallEngine) {
    loop {
        let mut together = JoinSet::new();
        for _ in 0..=AT_A_TIME {
            let engine = engine.clone();
            together.spawn(async move { engine.receive(call(b"{}")).await });
        }
        for received in together.join_all().await {
            assert!(matches!(received, Ok(Received::Spooled(_))));
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
}

#[tokio::test(start_paused = true)]
async fn a_rush_leaves_a_third_of_the_time_to_what_is_kept_and_after_a_quarter_of_a_minute_all() {
    let journal = Small { takes: Duration::from_millis(100), ..Small::default() };
    let (engine, journal) = engine_with(journal, &empty("Empty")).await;
    let _crowd = crowd(&engine).await;
    let begun = tokio::time::Instant::now();
    let rush = tokio::spawn(rush(engine.clone()));
    // Calls received in four seconds, in the next four, and so on.
    let (mut taken, mut before) = (Vec::new(), 0);
    for seconds in (4..=40).step_by(4) {
        tokio::time::sleep_until(begun + Duration::from_secs(seconds)).await;
        let now = journal.took.lock().unwrap().len();
        taken.push(now - std::mem::replace(&mut before, now));
    }
    // A batch of sixteen rows is received at once, and for twice as long nothing is received.
    let a_third = 40 / 3 * 16 * (AT_A_TIME + 1);
    assert!(taken[1..6].iter().all(|calls| (a_third * 9 / 10..a_third * 12 / 10).contains(calls)), "{taken:?}");
    assert!(taken[9] > a_third * 3 / 2, "those that have waited for long come first: {taken:?}");
    assert!(!rush.is_finished());
    rush.abort();
}

#[tokio::test(start_paused = true)]
async fn what_is_kept_is_taken_though_the_rush_goes_on() {
    let (gate, journal) = gated(Small::default());
    let (engine, journal) = engine_with(journal, &empty("Empty")).await;
    let _crowd = crowd(&engine).await;
    let begun = tokio::time::Instant::now();
    let Ok(Received::Spooled(first)) = engine.receive(call(b"{}")).await else { panic!("it is spooled") };
    gate.add_permits(10_000);
    let rush = tokio::spawn(rush(engine.clone()));
    while !journal.took.lock().unwrap().contains(&first) {
        journal.passed.notified().await;
    }
    assert!(begun.elapsed() >= Duration::from_secs(2), "as long as it may be put off: {:?}", begun.elapsed());
    assert!(!rush.is_finished());
    rush.abort();
}

#[tokio::test(start_paused = true)]
async fn what_depends_on_its_turn_or_is_large_is_never_spooled() {
    let flow = |more: &str| {
        let text = format!("{more}\n[[intake]]\nfrom = \"shop\"\ntakes = \"event\"\n[[step]]\nname = \"keep\"\nset = \"data\"\n");
        Files::from([
            ("workspace.toml".to_owned(), "format = 1\n".to_owned()),
            ("connections/shop.toml".to_owned(), "kind = \"webhook\"\npath = \"shop\"\n".to_owned()),
            ("schemas/event.schema.json".to_owned(), "{ \"type\": \"object\", \"properties\": { \"data\": {} } }".to_owned()),
            ("flows/shop.toml".to_owned(), text),
        ])
    };
    let large = vec![b' '; (256 << 10) + 1];
    for (more, body, is_spooled) in [
        ("", &b"{}"[..], true),
        ("in_order_by = \"data\"", b"{}", false),
        ("in_flight = 5", b"{}", false),
        ("", large.as_slice(), false),
    ] {
        let (_gate, journal) = gated(Small::default());
        let (engine, journal) = engine_with(journal, &flow(more)).await;
        let _crowd = crowd(&engine).await;
        let waited = tokio::time::timeout(Duration::from_secs(60), engine.receive(call(body))).await;
        assert_eq!(waited.is_ok(), is_spooled, "{more} {}", body.len());
        assert_eq!(journal.spools.lock().unwrap().is_empty(), !is_spooled);
    }
}

#[tokio::test(start_paused = true)]
async fn while_the_journal_is_away_nothing_is_kept_and_what_it_kept_without_saying_so_is() {
    for (next, is_spooled) in [(Next::Away, false), (Next::Lost, true)] {
        let (_gate, journal) = gated(Small { next: Mutex::new(vec![next]), ..Small::default() });
        let (engine, journal) = engine_with(journal, &empty("Empty")).await;
        let _crowd = crowd(&engine).await;
        assert_eq!(engine.receive(call(b"{}")).await.is_ok(), is_spooled);
        assert_eq!(journal.spools.lock().unwrap().len(), usize::from(is_spooled));
    }
}

#[tokio::test(start_paused = true)]
async fn when_there_is_no_room_for_more_who_comes_waits_until_some_are_taken() {
    let (gate, journal) = gated(Small::default());
    let (engine, journal) = engine_with(journal, &empty("Empty")).await;
    let _crowd = crowd(&engine).await;
    let most = 1024;
    let mut large = JoinSet::new();
    for _ in 0..most + 8 {
        let engine = engine.clone();
        large.spawn(async move { engine.receive(call(&[b' '; 256 << 10])).await });
    }
    let waited = tokio::time::timeout(Duration::from_secs(60), async { while large.join_next().await.is_some() {} }).await;
    let (number, _) = engine.spooled().unwrap();
    assert!(waited.is_err() && (most - 16..most).contains(&number), "256 MB, and the crowd is still there: {number}");
    gate.add_permits(10_000);
    while let Some(received) = large.join_next().await {
        assert!(matches!(received.unwrap(), Ok(Received::Spooled(_))));
    }
    journal.emptied.notified().await;
    assert_eq!(journal.took.lock().unwrap().len(), AT_A_TIME + most + 8);
    // A quarter of them was in memory all the time, and not much more.
    let (calls, read) = (most + 8, journal.read_back.load(Ordering::Relaxed));
    assert!((calls * 2 / 3..calls * 4 / 5).contains(&read), "{read} of {calls} were read again");
}

/// Calls that a process left behind.
fn left(ids: &[i64]) -> BTreeMap<Id, Spooled> {
    let call =
        |id: &i64| SpooledCall { id: Id(*id), received: Timestamp(7), provenance: Provenance::default(), body: b"{}".to_vec() };
    BTreeMap::from([(Id(ids[0]), Spooled { id: Id(ids[0]), calls: ids.iter().map(call).collect() })])
}

#[tokio::test]
async fn what_was_left_behind_is_taken_at_the_start_but_for_what_was_taken() {
    let journal = Small { spools: Mutex::new(left(&[501, 502, 503])), before: BTreeSet::from([Id(502)]), ..Small::default() };
    let (_engine, journal) = engine_with(journal, &empty("Empty")).await;
    journal.emptied.notified().await;
    let mut took = journal.took.lock().unwrap().clone();
    took.sort();
    assert_eq!(took, [Id(501), Id(503)]);
}

#[tokio::test(start_paused = true)]
async fn while_the_journal_is_away_what_is_kept_is_tried_again_and_what_it_refuses_stays() {
    let (spools, next) = (Mutex::new(left(&[501])), Mutex::new(vec![Next::Away, Next::Away]));
    let (_engine, journal) = engine_with(Small { spools, next, ..Small::default() }, &empty("Empty")).await;
    journal.emptied.notified().await;
    assert_eq!(*journal.took.lock().unwrap(), [Id(501)]);
    let (spools, next) = (Mutex::new(left(&[501])), Mutex::new(vec![Next::Refused]));
    let (engine, journal) = engine_with(Small { spools, next, ..Small::default() }, &empty("Empty")).await;
    let emptied = tokio::time::timeout(Duration::from_secs(60), journal.emptied.notified()).await;
    assert!(emptied.is_err() && journal.spools.lock().unwrap().len() == 1, "nothing of it is lost");
    assert_eq!(engine.spooled().map(|(calls, _)| calls), Some(1));
    assert!(matches!(engine.receive(call(b"{}")).await, Ok(Received::Taken(_))), "and nobody else is held up");
}
