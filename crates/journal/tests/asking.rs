//! Queries of people: lists by page, filters, timelines, tallies, the feed.

use serde_json::Map;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Duration;
use wirewatch_core::document::Form;
use wirewatch_core::machine::{Body, LogEntry, Logged, Origin, Outcome, Pass, Passed, State, Then};
use wirewatch_core::plan::{Fact, Mark};
use wirewatch_core::reason::{Reason, ReasonCode};
use wirewatch_core::{ArrivalId, Digest, Id, MessageId, Timestamp};
use wirewatch_engine::{Change, Clock, Hold, Journal, NewMessage, Op, OpResult, Split, SystemClock};
use wirewatch_journal::{AssignmentRow, MessageFilter, OrderFigures, PgJournal, Standing, TimelineFilter, TimelineRow};
use wirewatch_testkit::{Database, eventually, eventually_within};

/// A journal with messages made for it.
struct Book {
    database: Database,
    journal: Arc<PgJournal>,
    group: u64,
    arrival: ArrivalId,
}

impl Book {
    async fn open() -> Self {
        let database = Database::new();
        let journal = Arc::new(PgJournal::open(&database.url, "test").await.unwrap());
        let arrival = journal.mint(SystemClock.now());
        Self { database, journal, group: 0, arrival }
    }

    async fn commit(&mut self, op: Op) {
        self.group += 1;
        assert_eq!(self.journal.commit(self.group, &[op]).await, Ok(vec![OpResult::Committed]));
    }

    fn origin(&self, id: MessageId, flow: &str) -> Arc<Origin> {
        let meta = Map::from_iter([("partner".to_owned(), "marrowfield".into())]);
        let (arrival, flow) = (self.arrival, flow.to_owned());
        Arc::new(Origin { id, arrival, body: arrival, slice: 0..2, flow, release: 1, form: Form::Json, meta })
    }

    /// Stores a new message with a fact.
    async fn born(&mut self, flow: &str, key: &str) -> MessageId {
        let id = self.journal.mint(SystemClock.now());
        let facts = vec![self.fact(key, "received", Mark::Begins, id, 1)];
        let message = NewMessage { ended: None, origin: self.origin(id, flow), key: key.into(), order_key: String::new(), facts };
        let split = Split { arrival: self.arrival, from: 0, to: 1, last: true, messages: vec![message], at: SystemClock.now() };
        self.commit(Op::Split(Box::new(split))).await;
        id
    }

    async fn change(&mut self, id: MessageId, flow: &str, change: impl FnOnce(&mut Change)) {
        let mut changed = Change::blank(self.origin(id, flow), SystemClock.now());
        change(&mut changed);
        self.commit(Op::Change(Box::new(changed))).await;
    }

    fn fact(&self, key: &str, milestone: &str, mark: Mark, message: MessageId, at: i64) -> Fact {
        Fact {
            plan: "order".into(),
            partner: "marrowfield".into(),
            key: key.into(),
            milestone: milestone.into(),
            mark,
            message,
            arrival: self.arrival,
            at: Timestamp(at),
        }
    }

    async fn listed(&self, filter: MessageFilter) -> Vec<MessageId> {
        let rows = self.journal.store().messages(&MessageFilter { limit: 100, ..filter }).await.unwrap();
        rows.into_iter().map(|row| Id(row.id)).collect()
    }

    /// The timeline of an order once it has come as far as that.
    async fn timeline(&self, key: &str, state: &str) -> TimelineRow {
        let filter = TimelineFilter { key: key.into(), state: state.into(), limit: 2, ..TimelineFilter::default() };
        eventually(&format!("{key} is {state}"), || async { self.journal.store().timelines(&filter).await.unwrap().pop() }).await
    }
}

#[tokio::test]
async fn messages_are_listed_newest_first_whether_finished_or_not() {
    let mut book = Book::open().await;
    let mut ids = Vec::new();
    for n in 0..9 {
        let id = book.born("orders", &format!("K{n}")).await;
        if n % 2 == 0 {
            book.change(id, "orders", |change| change.state = State::Done).await;
        }
        ids.push(id);
    }
    ids.reverse();
    assert_eq!(book.listed(MessageFilter::default()).await, ids);
    let mut paged = Vec::new();
    let mut before = None;
    loop {
        let page = book.journal.store().messages(&MessageFilter { before, limit: 4, ..MessageFilter::default() }).await.unwrap();
        let Some(last) = page.last() else { break };
        before = Some(Id(last.id));
        paged.extend(page.iter().map(|row| Id(row.id)));
    }
    assert_eq!(paged, ids, "nothing twice and nothing left out where pages meet");
}

#[tokio::test]
async fn each_filter_finds_its_own() {
    let mut book = Book::open().await;
    let early = SystemClock.now();
    let a = book.born("orders", "MF-1").await;
    let b = book.born("orders", "MF-2").await;
    let c = book.born("notes", "MF-1").await;
    let reason = Reason {
        flow: "orders".into(),
        step: "book".into(),
        connection: "erp".into(),
        code: ReasonCode::Refused(422),
        says: "unknown item QH-1".into(),
    };
    let why = reason.clone();
    book.change(b, "orders", |change| {
        change.state = State::Failed;
        change.step = "book".into();
        change.reason = Some(why);
    })
    .await;
    book.change(a, "orders", |change| {
        change.state = State::Waiting;
        change.waits_for = "erp".into();
    })
    .await;
    book.change(c, "notes", |change| {
        change.state = State::Done;
        change.key = "MF-1".into();
    })
    .await;
    let all = MessageFilter::default;
    assert_eq!(book.listed(MessageFilter { flow: "orders".into(), ..all() }).await, [b, a]);
    assert_eq!(book.listed(MessageFilter { key: "MF-1".into(), ..all() }).await, [c, a]);
    assert_eq!(book.listed(MessageFilter { states: vec!["failed".into()], ..all() }).await, [b]);
    assert_eq!(book.listed(MessageFilter { states: vec!["done".into(), "skipped".into()], ..all() }).await, [c]);
    assert_eq!(book.listed(MessageFilter { reason: Some(reason.id()), ..all() }).await, [b]);
    assert_eq!(book.listed(MessageFilter { partner: "nobody".into(), ..all() }).await, []);
    assert_eq!(book.listed(MessageFilter { flows: Some(vec!["notes".into(), "more".into()]), ..all() }).await, [c]);
    assert_eq!(book.listed(MessageFilter { flows: Some(Vec::new()), ..all() }).await, []);
    assert_eq!(book.listed(MessageFilter { step: "book".into(), ..all() }).await, [b]);
    assert_eq!(book.listed(MessageFilter { connection: "erp".into(), ..all() }).await, [a], "those that wait for it");
    assert_eq!(book.listed(MessageFilter { arrival: Some(book.arrival), ..all() }).await.len(), 3);
    assert_eq!(book.listed(MessageFilter { since: Some(early), ..all() }).await.len(), 3);
    assert_eq!(book.listed(MessageFilter { until: Some(early), ..all() }).await, []);
    let keys = book.journal.store().arrival_keys(&[book.arrival.0, 7]).await.unwrap();
    assert_eq!(
        keys,
        BTreeMap::from([(book.arrival.0, ["MF-1", "MF-2"].map(str::to_owned).to_vec())]),
        "finished ones too, each once"
    );
    let failures = book.journal.store().failures_of(&["MF-2".to_owned(), "MF-1".to_owned()]).await.unwrap();
    let failed: Vec<(String, String)> = failures.into_keys().collect();
    assert_eq!(failed, [("MF-2".to_owned(), "marrowfield".to_owned())], "by partner: another's MF-2 has not failed");
    let all = || MessageFilter { limit: 100, ..MessageFilter::default() };
    assert_eq!(book.listed(MessageFilter { oldest_first: true, ..all() }).await, [a, b, c]);
    let store = book.journal.store();
    assert_eq!(store.messages(&MessageFilter { oldest_first: true, limit: 2, ..all() }).await.unwrap().last().unwrap().id, b.0);
    for (filter, most, count) in
        [(all(), 9, 3), (all(), 2, 2), (MessageFilter { key: "MF-1".into(), limit: 1, before: Some(a), ..all() }, 9, 2)]
    {
        assert_eq!(store.messages_count(&filter, most).await.unwrap(), count, "whatever the page: {filter:?}");
    }
    let reasons = book.journal.store().reasons("").await.unwrap();
    assert_eq!(reasons.iter().map(|one| (one.says.as_str(), one.messages)).collect::<Vec<_>>(), [("unknown item QH-1", 1)]);
    assert!(book.journal.store().reasons("notes").await.unwrap().is_empty());
    let open: BTreeSet<(String, i64)> = book.journal.store().unfinished_by_state().await.unwrap().into_iter().collect();
    assert_eq!(open, BTreeSet::from([("failed".to_owned(), 1), ("waiting".to_owned(), 1)]));
}

/// Failing arrivals are one problem as long as less than a day lies between them.
#[tokio::test]
async fn failing_arrivals_are_followed_back_to_the_first() {
    const HOUR: i64 = 3_600_000_000;
    let book = Book::open().await;
    let (store, since) = (book.journal.store(), SystemClock.now());
    let failing = async || store.failing_since(since, 24 * HOUR).await.unwrap().map(|at| at.0 / HOUR);
    assert_eq!(failing().await, None);
    // Hours at which one is received, with its verdict, and since when they have been failing then.
    for (hour, verdict, begin) in [
        (1000, "received", None),
        (1001, "failed", Some(1001)),
        (1020, "failed", Some(1001)),
        (1043, "failed", Some(1001)),
        (1060, "resolved", Some(1001)),
        (1068, "failed", Some(1068)),
        (1069, "failed", Some(1068)),
    ] {
        let id = book.journal.mint(SystemClock.now()).0;
        let insert =
            "insert into arrival (id, connection, partner, name, verdict, says, size, digest, messages, received, by_whom)";
        let values = format!("values ({id}, 'drop', '', 'a', '{verdict}', '', 1, '', 0, {}, '')", hour * HOUR);
        book.database.run(&format!("{insert} {values}")).await;
        assert_eq!(failing().await, begin, "after hour {hour}");
    }
    assert_eq!(store.failing_since(SystemClock.now(), 24 * HOUR).await.unwrap(), None, "none since");
}

/// A resend does not change when a reason was first seen; after a day without it, it is a new one.
#[tokio::test]
async fn a_reason_keeps_its_first_time_through_resends() {
    let mut book = Book::open().await;
    let id = book.born("orders", "MF-1").await;
    let code = ReasonCode::Refused(422);
    let reason =
        Reason { flow: "orders".into(), step: "book".into(), connection: "erp".into(), code, says: "unknown item".into() };
    const HOUR: i64 = 3_600_000_000;
    // Hours at which the message fails, and since when the reason is known then.
    for (at, first) in [(1000, 1000), (1001, 1000), (1024, 1000), (1049, 1049), (1050, 1049)] {
        book.change(id, "orders", |change| {
            change.at = Timestamp(at * HOUR);
            change.state = State::Failed;
            change.reason = Some(reason.clone());
        })
        .await;
        let reasons = book.journal.store().reasons("").await.unwrap();
        assert_eq!(reasons.iter().map(|one| (one.first / HOUR, one.messages)).collect::<Vec<_>>(), [(first, 1)], "at {at}");
        book.change(id, "orders", |change| change.state = State::Running).await;
        assert!(book.journal.store().reasons("").await.unwrap().is_empty());
    }
}

#[tokio::test]
async fn an_assignment_is_replaced_removed_and_forgotten_after_a_month() {
    let book = Book::open().await;
    let store = book.journal.store();
    const DAY: i64 = 24 * 3_600_000_000;
    let row = |name: &str, to: &str, at: i64| AssignmentRow {
        kind: "connection".into(),
        name: name.into(),
        to_whom: to.into(),
        note: "calling them".into(),
        by_whom: "ada".into(),
        at,
    };
    store.assign(&row("erp", "ada", DAY)).await.unwrap();
    store.assign(&row("erp", "ben", 2 * DAY)).await.unwrap();
    store.assign(&row("bus", "ada", 3 * DAY)).await.unwrap();
    assert_eq!(store.assignments().await.unwrap(), [row("bus", "ada", 3 * DAY), row("erp", "ben", 2 * DAY)]);
    assert!(!store.unassign("step", "erp").await.unwrap(), "another kind");
    assert!(store.unassign("connection", "bus").await.unwrap());
    assert!(!store.unassign("connection", "bus").await.unwrap());
    store.assign(&row("chat", "ada", 33 * DAY)).await.unwrap();
    assert_eq!(store.assignments().await.unwrap(), [row("chat", "ada", 33 * DAY)], "the one of day 2 is forgotten");
}

#[tokio::test]
async fn facts_become_a_timeline_in_whatever_order_they_come() {
    let mut book = Book::open().await;
    let folder = book.journal.clone();
    let folding = tokio::spawn(async move { folder.fold_timelines().await });
    let id = book.born("orders", "MF-1").await;
    let row = book.timeline("MF-1", "open").await;
    assert_eq!((row.partner.as_str(), row.begun), ("marrowfield", 1));
    let trouble = book.fact("MF-1", "refused", Mark::Trouble, id, 20);
    book.change(id, "orders", |change| change.facts = vec![trouble]).await;
    book.timeline("MF-1", "trouble").await;
    let end = book.fact("MF-1", "booked", Mark::Ends, id, 30);
    book.change(id, "orders", |change| change.facts = vec![end]).await;
    book.timeline("MF-1", "done").await;
    // A fact about the whole arrival, in time between the others, stored last.
    let other = book.born("orders", "MF-2").await;
    let acknowledged = book.fact("", "acknowledged", Mark::Passes, other, 10);
    book.change(other, "orders", |change| change.facts = vec![acknowledged]).await;
    for (key, milestones) in
        [("MF-1", vec!["received", "acknowledged", "refused", "booked"]), ("MF-2", vec!["received", "acknowledged"])]
    {
        let filter = TimelineFilter { key: key.into(), limit: 1, ..TimelineFilter::default() };
        let store = book.journal.store();
        let names = eventually(&format!("{key} is acknowledged"), || async {
            let row = store.timelines(&filter).await.unwrap().pop()?;
            let names: Vec<String> = row.milestones.iter().map(|one| one.milestone.clone()).collect();
            names.contains(&"acknowledged".to_owned()).then_some(names)
        })
        .await;
        assert_eq!(names, milestones, "{key}");
    }
    folding.abort();
}

#[tokio::test]
async fn orders_are_counted_by_the_span_in_which_they_began() {
    let book = Book::open().await;
    let second = 1_000_000;
    // Begin, end and state of each order.
    for (n, (begun, last, state)) in
        [(0, 4, "done"), (1, 4, "done"), (9, 40, "done"), (2, 3, "open"), (3, 3, "trouble"), (25, 26, "done"), (-1, 9, "done")]
            .into_iter()
            .enumerate()
    {
        let (begun, last) = (begun * second, last * second);
        let row = format!("insert into timeline values ('order', '', 'MF-{n}', 1, '{state}', {begun}, {last}, '')");
        book.database.run(&row).await;
    }
    let store = book.journal.store();
    let figures = store.order_figures(Timestamp(0), Duration::from_secs(10)).await.unwrap();
    let first = OrderFigures { slot: 0, orders: 5, open: 2, trouble: 1, median_us: Some(4 * second), p95_us: Some(31 * second) };
    let third = OrderFigures { slot: 2, orders: 1, open: 0, trouble: 0, median_us: Some(second), p95_us: Some(second) };
    assert_eq!(figures, [first, third], "the second span has no orders");
    assert!(store.order_figures(Timestamp(100 * second), Duration::ZERO).await.unwrap().is_empty());
}

#[tokio::test]
async fn an_order_that_begins_after_its_arrival_was_acknowledged_knows_of_it() {
    let mut book = Book::open().await;
    let folder = book.journal.clone();
    let folding = tokio::spawn(async move { folder.fold_timelines().await });
    let first = book.born("orders", "MF-1").await;
    let acknowledged = book.fact("", "acknowledged", Mark::Passes, first, 10);
    book.change(first, "orders", |change| change.facts = vec![acknowledged]).await;
    eventually("the first is acknowledged", || async {
        (book.timeline("MF-1", "open").await.milestones.len() == 2).then_some(())
    })
    .await;
    book.born("orders", "MF-9").await;
    assert_eq!(book.timeline("MF-9", "open").await.milestones.len(), 2);
    folding.abort();
}

#[tokio::test]
async fn timelines_are_listed_newest_first_page_by_page() {
    let mut book = Book::open().await;
    let folder = book.journal.clone();
    let folding = tokio::spawn(async move { folder.fold_timelines().await });
    for n in 1..=5 {
        let id = book.born("orders", &format!("MF-{n}")).await;
        // Older than all others by its first milestone, though stored last.
        let first = book.fact(&format!("MF-{n}"), "announced", Mark::Begins, id, -n);
        let end = book.fact(&format!("MF-{n}"), "booked", Mark::Ends, id, 100);
        book.change(id, "orders", |change| change.facts = vec![first, end]).await;
    }
    for n in 1..=5 {
        book.timeline(&format!("MF-{n}"), "done").await;
    }
    let store = book.journal.store();
    let first = store.timelines(&TimelineFilter { limit: 3, ..TimelineFilter::default() }).await.unwrap();
    let last = first.last().unwrap();
    let before = Some((Timestamp(last.begun), last.key.clone()));
    let second = store.timelines(&TimelineFilter { before, limit: 3, ..TimelineFilter::default() }).await.unwrap();
    let keys: Vec<&str> = first.iter().chain(&second).map(|row| row.key.as_str()).collect();
    assert_eq!(keys, ["MF-1", "MF-2", "MF-3", "MF-4", "MF-5"]);
    // MF-1 began at -1, MF-5 at -5: from the moment on, and before the other.
    let (since, until) = (Some(Timestamp(-4)), Some(Timestamp(-2)));
    let between = TimelineFilter { since, until, limit: 1, ..TimelineFilter::default() };
    assert_eq!(store.timelines(&between).await.unwrap().iter().map(|row| row.key.as_str()).collect::<Vec<_>>(), ["MF-3"]);
    assert_eq!(store.timelines_count(&between, 10).await.unwrap(), 2);
    let paged = TimelineFilter { before: Some((Timestamp(-4), String::new())), ..between };
    assert_eq!(store.timelines_count(&paged, 1).await.unwrap(), 1, "not more than asked for, whatever the page");
    folding.abort();
}

#[tokio::test]
async fn tallies_count_by_step_and_outcome_and_add_up() {
    let mut book = Book::open().await;
    for how in [Pass::Done, Pass::Done, Pass::Retried] {
        let id = book.born("orders", "K").await;
        book.change(id, "orders", |change| {
            let passed = |step: &str, how| Passed { step: step.into(), how };
            change.passed = vec![passed("to-order", Pass::Done), passed("book", how)];
            let (outcome, then) = (Outcome::Answer { status: 200, body: Body::default() }, Then::Go);
            let step = "book".to_owned();
            let what = Logged::Attempt { step, generation: 0, tries: 1, request: Digest::of(&[]), outcome, then };
            change.entry = Some((0, LogEntry { at: change.at, what }));
            change.took = 5;
        })
        .await;
    }
    let rows = book.journal.store().tallies(0).await.unwrap();
    let mut cells: Vec<String> =
        rows.into_iter().map(|row| format!("{} {} {} {}", row.step, row.outcome, row.n, row.took)).collect();
    cells.sort();
    let expected = ["book done 2 10", "book retried 1 5", "to-order done 3 0"];
    assert_eq!(cells, expected, "the time is that of the effect, not of the steps beside it");
}

#[tokio::test]
async fn what_stands_where_is_counted_by_step_state_and_partner() {
    let mut book = Book::open().await;
    for due in [Some(Timestamp(900)), Some(Timestamp(700)), None] {
        let id = book.born("orders", "K").await;
        book.change(id, "orders", |change| {
            (change.state, change.step) = (State::Retrying, "book".into());
            (change.due, change.at) = (due, Timestamp(due.map_or(500, |due| due.0)));
        })
        .await;
    }
    let done = book.born("orders", "K").await;
    book.change(done, "orders", |change| change.state = State::Done).await;
    book.born("notes", "K").await;
    let reported: Vec<String> = book
        .journal
        .store()
        .standing()
        .await
        .unwrap()
        .iter()
        .map(|one| {
            let Standing { flow, step, state, partner, messages, oldest, due } = one;
            format!("{flow} {step} {state} {partner} {messages} {} {due}", if *oldest < 1000 { *oldest } else { 0 })
        })
        .collect();
    assert_eq!(reported, ["notes  running marrowfield 1 0 0", "orders book retrying marrowfield 3 500 700"]);
}

#[tokio::test]
async fn the_feed_reports_what_each_commit_meant() {
    let mut book = Book::open().await;
    let mut live = book.journal.live();
    let id = book.born("orders", "MF-1").await;
    book.change(id, "orders", |change| {
        change.state = State::Done;
        change.key = "MF-1".into();
        change.result = "Q-7".into();
    })
    .await;
    let hold = |by: &str, says: &str| Hold { connection: "erp".into(), says: says.into(), since: Timestamp(3), by: by.into() };
    book.commit(Op::Hold(hold("", "cannot connect"))).await;
    assert_eq!(book.journal.holds().await.unwrap(), [hold("", "cannot connect")]);
    book.commit(Op::Hold(hold("ada", "they move house"))).await;
    assert_eq!(book.journal.holds().await.unwrap(), [hold("ada", "they move house")], "a person's hold replaces the other");
    book.commit(Op::Resume { connection: "erp".into(), at: Timestamp(4), by_person: true }).await;
    let mut heard = Vec::new();
    for _ in 0..5 {
        heard.extend(live.recv().await.unwrap().events.clone());
    }
    let stored: Vec<_> = book.journal.store().feed(0, 100).await.unwrap().into_iter().flat_map(|row| row.events).collect();
    assert_eq!(heard, stored, "the live events equal the stored ones");
    let reported: Vec<(&str, &str, &str)> =
        heard.iter().map(|event| (event.kind.as_str(), event.state.as_str(), event.result.as_str())).collect();
    let expected = [
        ("message", "running", ""),
        ("message", "done", "Q-7"),
        ("hold", "on-hold", ""),
        ("hold", "on-hold", ""),
        ("hold", "in-use", ""),
    ];
    assert_eq!(reported, expected);
    assert_eq!(heard[3].says, "held by ada: they move house");
    assert!(book.journal.holds().await.unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_could_not_be_folded_is_tried_again_soon_though_nothing_more_comes() {
    let mut book = Book::open().await;
    // The start position cannot be read; a sequence counts the attempts, because it is not rolled back.
    book.database
        .run(
            "create sequence tried;
            create function refused() returns bigint language plpgsql as
                $$ begin perform nextval('tried'); raise exception 'not now'; end $$;
            alter table timeline_cursor rename to put_by;
            create view timeline_cursor as select id as writer, refused() as fact from writer",
        )
        .await;
    let folder = book.journal.clone();
    let folding = tokio::spawn(async move { folder.fold_timelines().await });
    book.born("orders", "K-1").await;
    let tried = "select case when is_called then last_value else 0 end from tried";
    let before = eventually("it was tried", || async { Some(book.database.number(tried).await).filter(|n| *n > 0) }).await;
    // No commit wakes it from here on.
    let again = || async { (book.database.number(tried).await > before + 1).then_some(()) };
    eventually_within(Duration::from_secs(8), "it is tried again and again", again).await;
    book.database.run("drop view timeline_cursor; alter table put_by rename to timeline_cursor").await;
    assert_eq!(book.timeline("K-1", "open").await.key, "K-1");
    folding.abort();
}
