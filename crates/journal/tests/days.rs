//! Days of history: made ahead, dropped whole when they are old, never under something unfinished.

use serde_json::Map;
use std::sync::Arc;
use wirewatch_core::document::Form;
use wirewatch_core::intake::Provenance;
use wirewatch_core::machine::{Origin, State};
use wirewatch_core::{Id, Timestamp};
use wirewatch_engine::{Change, Clock, Journal, NewMessage, Op, OpResult, Split, Spooled, SpooledCall, SystemClock};
use wirewatch_journal::PgJournal;
use wirewatch_testkit::Database;

const DAY: i64 = 86_400_000_000;

fn days(n: i64) -> Timestamp {
    Timestamp(SystemClock.now().0 + n * DAY)
}

/// Partitions of one table of history.
async fn partitions(database: &Database) -> i64 {
    database.number("select count(*) from pg_inherits where inhparent = 'log'::regclass").await
}

fn origin(id: Id) -> Arc<Origin> {
    Arc::new(Origin { id, arrival: id, body: id, slice: 0..2, flow: "f".into(), release: 1, form: Form::Json, meta: Map::new() })
}

async fn born(journal: &PgJournal) -> Id {
    let id = journal.mint(SystemClock.now());
    let message = NewMessage { ended: None, origin: origin(id), key: String::new(), order_key: String::new(), facts: Vec::new() };
    let split = Split { arrival: id, from: 0, to: 1, last: true, messages: vec![message], at: SystemClock.now() };
    assert_eq!(journal.commit(1, &[Op::Split(Box::new(split))]).await, Ok(vec![OpResult::Committed]));
    id
}

#[tokio::test]
async fn a_fortnight_is_made_ahead_and_moves_on() {
    let database = Database::new();
    let journal = PgJournal::open(&database.url, "test").await.unwrap();
    let store = journal.store();
    assert_eq!(store.days_ahead(days(0)).await.unwrap(), 14);
    assert_eq!(store.days_ahead(days(12)).await.unwrap(), 2, "without a keeper they would run out");
    journal.tidy(400, days(12)).await.unwrap();
    assert_eq!(store.days_ahead(days(12)).await.unwrap(), 14);
    // Again, as each hour: nothing changes.
    let before = partitions(&database).await;
    journal.tidy(400, days(12)).await.unwrap();
    assert_eq!(partitions(&database).await, before);
}

#[tokio::test]
async fn a_table_that_lacks_a_day_counts() {
    let database = Database::new();
    let journal = PgJournal::open(&database.url, "test").await.unwrap();
    let (day, _) = days(2).x12();
    database.run(&format!("drop table body_{day}")).await;
    assert_eq!(journal.store().days_ahead(days(0)).await.unwrap(), 1);
}

#[tokio::test]
async fn old_days_are_dropped_with_what_belongs_to_them() {
    let database = Database::new();
    let journal = PgJournal::open(&database.url, "test").await.unwrap();
    let id = born(&journal).await;
    let done = Change { state: State::Done, ..Change::blank(origin(id), SystemClock.now()) };
    journal.commit(2, &[Op::Change(Box::new(done))]).await.unwrap();
    let old = days(0).0 + DAY / 2;
    database.run(&format!("insert into seen values ('folder x', 'print', 1, {old})")).await;
    // Ten days later everything is still there; later than that, nothing of today.
    journal.tidy(10, days(10)).await.unwrap();
    assert_eq!(database.number("select count(*) from message").await, 1);
    assert_eq!(database.number("select count(*) from seen").await, 1);
    journal.tidy(10, days(12)).await.unwrap();
    assert_eq!(database.number("select count(*) from message").await, 0);
    assert_eq!(database.number("select count(*) from seen").await, 0);
    assert_eq!(journal.store().message(id).await.unwrap().map(|row| row.key), None);
    assert_eq!(
        database
            .number("select count(*) from pg_class where relname like 'log_2%' and relispartition = false and relkind = 'r'")
            .await,
        0,
        "nothing is left detached"
    );
}

#[tokio::test]
async fn a_day_with_something_unfinished_stays_and_those_after_it() {
    let database = Database::new();
    let journal = PgJournal::open(&database.url, "test").await.unwrap();
    let id = born(&journal).await;
    journal.tidy(5, days(30)).await.unwrap();
    let (today, _) = id.made().x12();
    assert_eq!(database.number(&format!("select count(*) from pg_class where relname = 'body_{today}'")).await, 1);
    let first = "select min(substr(relname, 6))::bigint from pg_class where relname like 'body\\_2%' and relkind = 'r'";
    assert_eq!(database.number(first).await.to_string(), today, "only days before it are dropped");
}

#[tokio::test]
async fn a_day_of_calls_that_are_kept_stays() {
    let database = Database::new();
    let journal = PgJournal::open(&database.url, "test").await.unwrap();
    let (id, received) = (journal.mint(SystemClock.now()), SystemClock.now());
    let call = SpooledCall { id, received, provenance: Provenance::default(), body: Vec::new() };
    journal.spool(&Spooled { id, calls: vec![call] }).await.unwrap();
    journal.tidy(5, days(30)).await.unwrap();
    let (today, _) = id.made().x12();
    let stands = format!("select count(*) from pg_class where relname = 'arrival_{today}'");
    assert_eq!(database.number(&stands).await, 1, "they will be arrivals of that day");
    journal.unspool(&[id]).await.unwrap();
    journal.tidy(5, days(30)).await.unwrap();
    assert_eq!(database.number(&stands).await, 0);
}

#[tokio::test]
async fn a_drop_that_was_cut_short_is_brought_to_its_end() {
    let database = Database::new();
    let journal = PgJournal::open(&database.url, "test").await.unwrap();
    let (day, _) = days(-1).x12();
    // The state after a crash in the middle of a detachment.
    database.run(&format!("update pg_inherits set inhdetachpending = true where inhrelid = 'log_{day}'::regclass")).await;
    // The state after a crash before the drop.
    database.run(&format!("alter table body detach partition body_{day}")).await;
    journal.tidy(1, days(3)).await.unwrap();
    let left = format!("select count(*) from pg_class where relname in ('log_{day}', 'body_{day}')");
    assert_eq!(database.number(&left).await, 0);
}

#[tokio::test]
async fn what_is_packed_by_us_is_not_packed_again() {
    let database = Database::new();
    let _journal = PgJournal::open(&database.url, "test").await.unwrap();
    let columns = "select count(*) from pg_attribute a join pg_class c on c.oid = a.attrelid
        where c.relispartition and c.relkind = 'r' and a.attname in ('bytes', 'entry') and a.attstorage <> 'e'";
    assert_eq!(database.number(columns).await, 0);
}
