//! Groups on a real database: whole or not at all, halved where a row is bad, written once though given twice.

use serde_json::Map;
use std::sync::Arc;
use wirewatch_core::document::Form;
use wirewatch_core::intake::{Decision, Head, Splitting, Verdict};
use wirewatch_core::machine::{Body, LogEntry, Logged, Origin, Outcome, Pass, Passed, State, Then};
use wirewatch_core::{Digest, Id, MessageId, Timestamp};
use wirewatch_engine::{
    Arriving, Change, Clock, Decide, Incoming, IncomingBody, Journal, NewMessage, Op, OpResult, Piece, Split, Splits,
    SystemClock, Taken,
};
use wirewatch_journal::{MessageFilter, PgJournal};
use wirewatch_testkit::Database;

fn origin(id: MessageId) -> Arc<Origin> {
    let form = Form::Json;
    Arc::new(Origin { id, arrival: Id(1), body: Id(1), slice: 0..2, flow: "f".into(), release: 1, form, meta: Map::new() })
}

fn born(ids: &[MessageId]) -> Op {
    let messages = ids.iter().map(|id| NewMessage {
        ended: None,
        order_key: String::new(),
        origin: origin(*id),
        key: format!("K{}", id.0),
        facts: Vec::new(),
    });
    let messages: Vec<_> = messages.collect();
    Op::Split(Box::new(Split { arrival: Id(1), from: 0, to: ids.len() as u32, last: true, messages, at: Timestamp(1) }))
}

fn done(id: MessageId) -> Op {
    let outcome = Outcome::Answer { status: 200, body: Body(b"{\"n\":1}".to_vec()) };
    let what = Logged::Attempt { step: "s".into(), generation: 0, tries: 1, request: Digest::default(), outcome, then: Then::Go };
    Op::Change(Box::new(Change {
        entry: Some((0, LogEntry { at: Timestamp(2), what })),
        state: State::Done,
        key: format!("K{}", id.0),
        result: "R".into(),
        passed: vec![Passed { step: "s".into(), how: Pass::Done }],
        took: 7,
        ..Change::blank(origin(id), Timestamp(2))
    }))
}

async fn open(database: &Database) -> PgJournal {
    PgJournal::open(&database.url, "test").await.unwrap()
}

#[tokio::test]
async fn a_group_given_twice_is_written_once() {
    let database = Database::new();
    let journal = open(&database).await;
    let ids: Vec<Id> = (0..3).map(|_| journal.mint(SystemClock.now())).collect();
    journal.commit(1, &[born(&ids)]).await.unwrap();
    let group: Vec<Op> = ids.iter().map(|id| done(*id)).collect();
    journal.commit(2, &group).await.unwrap();
    // As after a lost answer: the number is known, so nothing is written again.
    let before = database.number("select count(*) from log").await;
    assert_eq!(journal.commit(2, &group).await, Ok(vec![OpResult::Committed; 3]));
    assert_eq!((before, database.number("select count(*) from log").await), (3, 3));
    assert_eq!(database.number("select sum(n)::bigint from tally").await, 3);
    assert_eq!(database.number("select count(*) from live").await, 0);
    let page = journal.store().messages(&MessageFilter { limit: 10, ..MessageFilter::default() }).await.unwrap();
    assert!(page.iter().all(|row| row.state == "done" && row.result == "R"), "{page:?}");
}

#[tokio::test]
async fn what_has_ended_and_ends_anew_is_one_row_that_reports_of_the_last_time() {
    let database = Database::new();
    let journal = open(&database).await;
    let (id, other) = (journal.mint(SystemClock.now()), journal.mint(SystemClock.now()));
    journal.commit(1, &[done(id), done(other)]).await.unwrap();
    let now = async |no: u64, state: State, reopened: bool, result: &str| {
        let change = Change { state, reopened, result: result.to_owned(), ..Change::blank(origin(id), Timestamp(3)) };
        assert_eq!(journal.commit(no, &[Op::Change(Box::new(change))]).await, Ok(vec![OpResult::Committed]));
    };
    let stands = async || {
        let row = journal.store().message(id).await.unwrap().unwrap();
        let rows = database.number("select count(*) from message").await;
        (row.state, row.result, rows, database.number("select count(*) from live").await)
    };
    // At once, for a message without effects outside.
    now(2, State::Skipped, true, "R2").await;
    assert_eq!(stands().await, ("skipped".to_owned(), "R2".to_owned(), 2, 0));
    // On the way again, and then to its end.
    now(3, State::Running, true, "R2").await;
    assert_eq!(stands().await, ("running".to_owned(), "R2".to_owned(), 1, 1));
    now(4, State::Done, false, "R3").await;
    assert_eq!(stands().await, ("done".to_owned(), "R3".to_owned(), 2, 0));
}

#[tokio::test]
async fn one_bad_row_is_found_by_halving_and_the_others_are_stored() {
    let database = Database::new();
    let journal = open(&database).await;
    let mut ids: Vec<Id> = (0..20).map(|_| journal.mint(SystemClock.now())).collect();
    // A day that no partition is made for: the row cannot be stored, now or later.
    ids[13] = Id::first_of(Timestamp(SystemClock.now().0 + 400 * 86_400_000_000));
    let group: Vec<Op> = ids.iter().map(|id| done(*id)).collect();
    let results = journal.commit(1, &group).await.unwrap();
    for (n, result) in results.iter().enumerate() {
        match n {
            13 => assert!(matches!(result, OpResult::Refused(says) if says.contains("no partition")), "{result:?}"),
            _ => assert_eq!(*result, OpResult::Committed, "{n}"),
        }
    }
    assert_eq!(database.number("select count(*) from message").await, 19);
}

#[tokio::test]
async fn whoever_was_taken_over_writes_nothing_any_more() {
    let database = Database::new();
    let journal = open(&database).await;
    let id = journal.mint(SystemClock.now());
    database.number("with taken as (update writer set epoch = epoch + 1 returning 1) select count(*) from taken").await;
    assert!(journal.commit(1, &[done(id)]).await.unwrap_err().to_string().contains("another process has taken over"));
    assert_eq!(database.number("select count(*) from message").await, 0);
}

#[tokio::test]
async fn text_that_postgresql_does_not_take_is_kept_all_the_same() {
    let database = Database::new();
    let journal = open(&database).await;
    let id = journal.mint(SystemClock.now());
    let Op::Change(mut change) = done(id) else { unreachable!() };
    change.key = "a\0b".into();
    assert_eq!(journal.commit(1, &[Op::Change(change)]).await, Ok(vec![OpResult::Committed]));
    let row = journal.store().message(id).await.unwrap().unwrap();
    assert_eq!(row.key, "a\u{FFFD}b");
}

#[tokio::test]
async fn an_arrival_whose_answer_was_lost_is_found_by_its_id() {
    let database = Database::new();
    let journal = open(&database).await;
    let id = journal.mint(SystemClock.now());
    assert!(journal.taken(id).await.unwrap().is_none(), "nothing was committed");
    let incoming = Incoming {
        id,
        connection: "drop".into(),
        name: "a.json".into(),
        event: String::new(),
        delivery: String::new(),
        properties: serde_json::Map::new(),
        fingerprint: "1:2:3".into(),
        body: IncomingBody::Whole(vec![Piece { packed: false, bytes: b"{}".to_vec() }]),
        size: 2,
        digest: Digest::default(),
        received: SystemClock.now(),
        by: String::new(),
    };
    let head = Head { flow: "f".into(), form: Form::Json, meta: Map::new() };
    let split = Splitting { heads: vec![head], parts: vec![(0, 0..2, String::new())] };
    let decide: Decide = Arc::new(move |_| Decision { split: split.clone(), ..Decision::only(Verdict::Received, "") });
    let arriving = Arriving { release: 1, incoming, keys: Vec::new(), decide, born: None };
    journal.take(vec![arriving.clone()]).await.unwrap();
    let found = journal.taken(id).await.unwrap();
    assert!(matches!(found, Some(Taken::Now { verdict: Verdict::Splitting, splits: Splits::Later, .. })), "{found:?}");
    // The same file once more is our own unfinished archiving.
    let again = Incoming { id: journal.mint(SystemClock.now()), ..arriving.incoming.clone() };
    let taken = journal.take(vec![Arriving { incoming: again, ..arriving }]).await.unwrap();
    assert!(matches!(taken[..], [Taken::Before(before)] if before == id));
}

#[tokio::test]
async fn rows_are_found_by_their_key_though_the_table_was_empty_when_that_was_planned() {
    let database = Database::new();
    let journal = open(&database).await;
    database.run("alter table live set (autovacuum_enabled = false)").await;
    // Groups that create messages, and groups that complete them; the statements are planned again after the first few.
    for round in 0..60 {
        if round == 10 {
            database.run("vacuum (analyze) live").await;
        }
        let ids: Vec<Id> = (0..100).map(|_| journal.mint(SystemClock.now())).collect();
        journal.commit(2 * round, &[born(&ids)]).await.unwrap();
        let group: Vec<Op> = ids.iter().map(|id| done(*id)).collect();
        journal.commit(2 * round + 1, &group).await.unwrap();
    }
    assert_eq!(database.number("select count(*) from message").await, 6000);
    drop(journal);
    let whole = database.rows_written("case relname when 'live' then seq_scan else 0 end").await;
    assert!(whole < 20, "`live` was read from end to end {whole} times");
}
