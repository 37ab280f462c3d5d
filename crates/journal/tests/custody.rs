//! Custody on a real database: the ledger, numbers without gaps, several arrivals in one commit, bodies in pieces.

use std::sync::{Arc, Mutex};
use wirewatch_core::document::Form;
use wirewatch_core::intake::{Answers, Decision, Head, Known, LedgerKey, Provenance, Seal, Splitting, Verdict};
use wirewatch_core::machine::{Origin, Pass, Passed, State};
use wirewatch_core::x12::ack::AckStyle;
use wirewatch_core::x12::{Definitions, Reader};
use wirewatch_core::{Digest, Id};
use wirewatch_engine::{
    Arriving, Born, Change, Clock, Damaged, Decide, Incoming, IncomingBody, Journal, NewMessage, Piece, Splits, Spooled,
    SpooledCall, Stored, SystemClock, Taken,
};
use wirewatch_journal::{ArrivalFilter, PgJournal};
use wirewatch_testkit::Database;

const SAMPLE: &str = include_str!("../../../demo/samples/marrowfield-850.edi");

async fn open() -> (Database, PgJournal) {
    let database = Database::new();
    let journal = PgJournal::open(&database.url, "test").await.unwrap();
    (database, journal)
}

fn whole(body: impl Into<Vec<u8>>) -> IncomingBody {
    IncomingBody::Whole(vec![Piece { packed: false, bytes: body.into() }])
}

/// An interchange with that control number; its digest depends on the content.
fn interchange(journal: &PgJournal, control: u32, content: &str) -> Arriving {
    let text = SAMPLE.replace("000000101", &format!("{control:09}")).replace("MF-20417", content);
    let reading = Reader::read(Definitions::standard(), text.as_bytes());
    let header = reading.interchanges[0].header.clone();
    let group = reading.interchanges[0].groups[0].clone();
    let (key, digest) = (LedgerKey::of(&header), Digest::of(&[text.as_bytes()]));
    let in_ledger = key.clone();
    let decide: Decide = Arc::new(move |known| match known {
        [Known::No { .. }] => {
            let head = Head { flow: "f".into(), form: Form::Bytes, meta: serde_json::Map::new() };
            Decision {
                seal: vec![Seal {
                    partner: "p".into(),
                    to: "out".into(),
                    header: header.clone(),
                    answers: Answers::Group(group.clone(), AckStyle::default()),
                }],
                ledger: vec![(in_ledger.clone(), digest)],
                split: Splitting { heads: vec![head], parts: vec![(0, 0..2, "1".into())] },
                partner: "p".into(),
                ..Decision::only(Verdict::Received, "")
            }
        }
        [Known::Same { acknowledgments, .. }] => {
            Decision { again: acknowledgments.clone(), ..Decision::only(Verdict::Duplicate, "was received before") }
        }
        [Known::Other { arrival }] => Decision::only(Verdict::Failed, format!("used before in {arrival}")),
        other => panic!("{other:?}"),
    });
    let id = journal.mint(SystemClock.now());
    let incoming = Incoming {
        id,
        connection: "drop".into(),
        name: format!("{control}.edi"),
        event: String::new(),
        delivery: String::new(),
        properties: serde_json::Map::new(),
        fingerprint: id.to_string(),
        size: text.len() as u64,
        digest,
        body: whole(text),
        received: SystemClock.now(),
        by: String::new(),
    };
    Arriving { release: 1, incoming, keys: vec![(key, digest)], decide, born: None }
}

/// Verdicts of a batch, and the control numbers sealed for each.
fn reported(taken: &[Taken]) -> Vec<(&'static str, Vec<String>)> {
    let control = |stored: &Stored| stored.origin.meta["control"].as_str().unwrap().to_owned();
    taken
        .iter()
        .map(|taken| match taken {
            Taken::Now { verdict, messages, .. } => (verdict.as_str(), messages.iter().map(control).collect()),
            Taken::Before(_) => ("before", Vec::new()),
            Taken::Refused(_) => ("rejected", Vec::new()),
        })
        .collect()
}

fn numbers(numbers: &[u32]) -> Vec<String> {
    numbers.iter().map(|number| format!("{number:09}")).collect()
}

#[tokio::test]
async fn numbers_of_a_batch_follow_one_another_in_its_order() {
    let (database, journal) = open().await;
    let batch = vec![interchange(&journal, 1, "A"), interchange(&journal, 2, "B"), interchange(&journal, 3, "C")];
    let taken = journal.take(batch).await.unwrap();
    assert_eq!(reported(&taken), [("received", numbers(&[1])), ("received", numbers(&[2])), ("received", numbers(&[3]))]);
    let taken = journal.take(vec![interchange(&journal, 4, "D")]).await.unwrap();
    assert_eq!(reported(&taken), [("received", numbers(&[4]))]);
    // One counter for interchanges and one for groups.
    assert_eq!(database.number("select count(*) from counter where value = 4").await, 2);
    assert_eq!(journal.counters().await.unwrap().into_values().collect::<Vec<_>>(), [4, 4]);
}

#[tokio::test]
async fn a_repeat_in_the_same_batch_gets_the_very_bytes_of_the_first() {
    let (database, journal) = open().await;
    let batch = vec![interchange(&journal, 7, "A"), interchange(&journal, 7, "A"), interchange(&journal, 7, "other")];
    let taken = journal.take(batch).await.unwrap();
    assert_eq!(reported(&taken), [("received", numbers(&[1])), ("duplicate", numbers(&[1])), ("failed", vec![])]);
    let documents: Vec<&Stored> = taken
        .iter()
        .flat_map(|taken| match taken {
            Taken::Now { messages, .. } => messages.iter(),
            Taken::Before(_) | Taken::Refused(_) => [].iter(),
        })
        .collect();
    assert_eq!(documents[0].document, documents[1].document);
    assert_ne!(documents[0].origin.id, documents[1].origin.id, "a message of its own");
    assert_eq!(database.number("select count(*) from ledger where direction = 'out'").await, 1);
    assert_eq!(database.number("select count(*) from ledger where direction = 'in'").await, 1);
}

#[tokio::test]
async fn a_file_that_was_taken_before_is_only_archived() {
    let (database, journal) = open().await;
    let first = interchange(&journal, 1, "A");
    let id = first.incoming.id;
    journal.take(vec![first.clone()]).await.unwrap();
    let again = Arriving { incoming: Incoming { id: journal.mint(SystemClock.now()), ..first.incoming.clone() }, ..first };
    let taken = journal.take(vec![again, interchange(&journal, 2, "B")]).await.unwrap();
    assert!(matches!(taken[0], Taken::Before(before) if before == id), "{taken:?}");
    assert_eq!(reported(&taken[1..]), [("received", numbers(&[2]))]);
    assert_eq!(database.number("select count(*) from arrival").await, 2);
}

#[tokio::test]
async fn one_that_cannot_be_stored_does_not_take_the_others_with_it_for_long() {
    let (database, journal) = open().await;
    let mut bad = interchange(&journal, 2, "B");
    // A day that no partition is made for.
    bad.incoming.id = Id::first_of(wirewatch_core::Timestamp(SystemClock.now().0 + 400 * 86_400_000_000));
    let batch = vec![interchange(&journal, 1, "A"), bad, interchange(&journal, 3, "C")];
    let taken = journal.take(batch).await.unwrap();
    assert!(matches!(&taken[1], Taken::Refused(says) if says.contains("no partition")), "{taken:?}");
    // The messages before and after it are stored, and no number is lost.
    assert_eq!(reported(&taken), [("received", numbers(&[1])), ("rejected", Vec::new()), ("received", numbers(&[2]))]);
    assert_eq!(database.number("select count(*) from arrival").await, 2);
}

#[tokio::test]
async fn whoever_is_reported_of_numbers_is_reported_before_they_are_given() {
    let (_database, journal) = open().await;
    let reported = Arc::new(std::sync::Mutex::new(Vec::new()));
    let hears = reported.clone();
    journal.on_sealed(move |counters| hears.lock().unwrap().push(counters.values().copied().max()));
    journal.take(vec![interchange(&journal, 1, "A"), interchange(&journal, 2, "B")]).await.unwrap();
    journal.take(vec![interchange(&journal, 2, "B")]).await.unwrap();
    assert_eq!(*reported.lock().unwrap(), [Some(2)], "a repeat seals nothing");
    let on: std::collections::BTreeMap<String, i64> =
        journal.counters().await.unwrap().into_keys().map(|scope| (scope, 41)).collect();
    journal.set_counters(&on).await.unwrap();
    let taken = journal.take(vec![interchange(&journal, 3, "C")]).await.unwrap();
    assert!(matches!(&taken[0], Taken::Now { messages, .. } if messages[0].origin.meta["control"] == "000000042"));
}

#[tokio::test]
async fn numbers_begin_again_after_nine_nines() {
    let (database, journal) = open().await;
    journal.take(vec![interchange(&journal, 1, "A")]).await.unwrap();
    // Long before that, the ledger has forgotten the first one.
    database.run("delete from ledger where direction = 'out'").await;
    let last = journal.counters().await.unwrap().into_keys().map(|scope| (scope, 999_999_999)).collect();
    journal.set_counters(&last).await.unwrap();
    let taken = journal.take(vec![interchange(&journal, 2, "B")]).await.unwrap();
    assert_eq!(reported(&taken), [("received", numbers(&[1]))]);
}

#[tokio::test]
async fn a_large_body_is_read_in_ranges_across_its_pieces() {
    let (_database, journal) = open().await;
    let id = journal.mint(SystemClock.now());
    let whole: Vec<u8> = (0..(5usize << 19)).map(|n| (n * 31 % 251) as u8).collect();
    for (n, piece) in whole.chunks(1 << 20).enumerate() {
        journal.store_piece(id, n as u32, piece.to_vec()).await.unwrap();
        // Given again after a lost answer.
        journal.store_piece(id, n as u32, piece.to_vec()).await.unwrap();
    }
    for range in [0..10, (1 << 20) - 3..(1 << 20) + 3, 100..2_500_000, 2_621_000..2_621_440] {
        let read = journal.bodies(&[(id, range.start as u64..range.end as u64)]).await.unwrap().remove(0).unwrap();
        assert_eq!(read, whole[range.clone()], "{range:?}");
    }
    // In the requested order; a missing document is reported, not shortened.
    let several = journal.bodies(&[(Id(1), 0..10), (id, 5..9), (id, 0..0)]).await.unwrap();
    let missing = Err(Damaged::new("0 of the 10 bytes of its document are there"));
    assert_eq!(several, [missing, Ok(whole[5..9].to_vec()), Ok(Vec::new())]);
}

#[tokio::test]
async fn arrivals_are_listed_page_by_page() {
    let (_database, journal) = open().await;
    for control in 1..=7 {
        journal.take(vec![interchange(&journal, control, "A")]).await.unwrap();
    }
    let store = journal.store();
    let mut seen = Vec::new();
    let mut before = None;
    loop {
        let page = store.arrivals(&ArrivalFilter { before, limit: 3, ..ArrivalFilter::default() }).await.unwrap();
        let Some(last) = page.last() else { break };
        before = Some(Id(last.id));
        assert!(page.len() <= 3);
        seen.extend(page.into_iter().map(|row| row.name));
    }
    assert_eq!(seen, ["7.edi", "6.edi", "5.edi", "4.edi", "3.edi", "2.edi", "1.edi"]);
    let none = ArrivalFilter { verdict: "failed".into(), limit: 10, ..ArrivalFilter::default() };
    assert!(store.arrivals(&none).await.unwrap().is_empty());
}

/// A call of an event, with its one message made in advance.
fn call(journal: &PgJournal, delivery: &str, body: &str) -> Arriving {
    let id = journal.mint(SystemClock.now());
    let head = Head { flow: "f".into(), form: Form::Json, meta: serde_json::Map::new() };
    let slice = 0..body.len() as u64;
    let splitting = Splitting { heads: vec![head], parts: vec![(0, slice.clone(), String::new())] };
    let decision = Decision { split: splitting.clone(), ..Decision::only(Verdict::Received, "") };
    let decide: Decide = Arc::new(move |known| match known {
        [Known::Same { arrival, .. }] => Decision::only(Verdict::Duplicate, format!("was received before as {arrival}")),
        [Known::No { .. }] => Decision { split: splitting.clone(), ..Decision::only(Verdict::Received, "") },
        [Known::Other { .. }] => Decision { split: splitting.clone(), ..Decision::only(Verdict::Received, "other content") },
        other => panic!("{other:?}"),
    });
    let message = journal.mint(SystemClock.now());
    let meta = serde_json::Map::new();
    let origin = Origin { id: message, arrival: id, body: id, slice, flow: "f".into(), release: 1, form: Form::Json, meta };
    let born =
        NewMessage { ended: None, origin: Arc::new(origin), key: "K-1".into(), order_key: String::new(), facts: Vec::new() };
    let incoming = Incoming {
        id,
        connection: "shop".into(),
        name: "purchase.placed".into(),
        event: "purchase.placed".into(),
        delivery: delivery.into(),
        properties: serde_json::Map::new(),
        fingerprint: String::new(),
        size: body.len() as u64,
        digest: Digest::of(&[body.as_bytes()]),
        body: whole(body),
        received: SystemClock.now(),
        by: String::new(),
    };
    Arriving { release: 1, incoming, keys: Vec::new(), decide, born: Some(Born { decision, messages: vec![born] }) }
}

#[tokio::test]
async fn messages_made_ahead_are_there_with_their_arrival() {
    let (_database, journal) = open().await;
    let arriving = call(&journal, "d1", "{}");
    let (arrival, message) = (arriving.incoming.id, arriving.born.as_ref().unwrap().messages[0].origin.id);
    let taken = journal.take(vec![arriving]).await.unwrap();
    assert!(matches!(taken[..], [Taken::Now { verdict: Verdict::Received, splits: Splits::Born, .. }]), "{taken:?}");
    let again = journal.taken(arrival).await.unwrap();
    assert!(matches!(again, Some(Taken::Now { splits: Splits::Born, .. })), "a lost answer is found: {again:?}");
    assert_eq!(journal.splittings().await.unwrap().len(), 0, "nothing is left to split");
    let stored = journal.load(&[message]).await.unwrap();
    assert_eq!((stored.len(), stored[0].document.as_slice()), (1, b"{}".as_slice()));
    assert_eq!(journal.store().arrival(arrival).await.unwrap().unwrap().messages, 1);
}

#[tokio::test]
async fn a_message_that_ended_with_its_arrival_is_history_at_once() {
    let (database, journal) = open().await;
    let mut arriving = call(&journal, "d1", "{}");
    let born = &mut arriving.born.as_mut().unwrap().messages[0];
    let (id, at) = (born.origin.id, SystemClock.now());
    let passed = vec![Passed { step: "keep".into(), how: Pass::Done }];
    let ended = Change { state: State::Done, key: "K-1".into(), passed, ..Change::blank(born.origin.clone(), at) };
    born.ended = Some(Box::new(ended));
    let mut live = journal.live();
    journal.take(vec![arriving]).await.unwrap();
    let row = journal.store().message(id).await.unwrap().unwrap();
    assert_eq!((row.state.as_str(), row.key.as_str()), ("done", "K-1"));
    assert_eq!(database.number("select count(*) from live").await, 0, "it was never under way");
    assert_eq!(database.number("select sum(n)::bigint from tally where step = 'keep' and outcome = 'done'").await, 1);
    let reported = live.recv().await.unwrap();
    let reported: Vec<(&str, &str)> = reported.events.iter().map(|event| (event.kind.as_str(), event.state.as_str())).collect();
    assert_eq!(reported, [("arrival", "received"), ("message", "running"), ("message", "done")]);
    assert_eq!(journal.load(&[id]).await.unwrap()[0].document, b"{}", "it can be sent again");
}

#[tokio::test]
async fn one_delivery_given_to_two_processes_at_once_is_taken_once() {
    let (database, one) = open().await;
    let other = PgJournal::open(&database.url, "other").await.unwrap();
    for n in 0..20 {
        let (here, there) = (call(&one, &format!("d{n}"), "{}"), call(&other, &format!("d{n}"), "{}"));
        let (here, there) = tokio::join!(one.take(vec![here]), other.take(vec![there]));
        let (here, there) = (here.unwrap(), there.unwrap());
        let mut verdicts = [reported(&here)[0].0, reported(&there)[0].0];
        verdicts.sort_unstable();
        assert_eq!(verdicts, ["duplicate", "received"], "d{n}");
    }
}

#[tokio::test]
async fn a_delivery_is_known_by_its_id_and_its_content() {
    let (_database, journal) = open().await;
    let calls = ["d1", "d1", "d2"].map(|delivery| call(&journal, delivery, "{}"));
    let taken = journal.take(calls.to_vec()).await.unwrap();
    let verdicts: Vec<&str> = reported(&taken).into_iter().map(|(verdict, _)| verdict).collect();
    assert_eq!(verdicts, ["received", "duplicate", "received"], "in one batch, too");
    let later = journal.take(vec![call(&journal, "d1", "{}"), call(&journal, "d2", "{\"n\":1}")]).await.unwrap();
    let says: Vec<(&str, bool)> = later
        .iter()
        .map(|taken| match taken {
            Taken::Now { verdict, says, .. } => (verdict.as_str(), says == "other content"),
            other => panic!("no file, and nothing wrong with it: {other:?}"),
        })
        .collect();
    assert_eq!(says, [("duplicate", false), ("received", true)]);
    let heard = journal.store().heard().await.unwrap();
    assert_eq!((heard.len(), heard[0].n, heard[0].event.as_str()), (1, 5, "purchase.placed"));
    // After a week its sender does not try it again.
    let week = SystemClock.now().after(std::time::Duration::from_secs(8 * 86_400));
    journal.tidy(400, week).await.unwrap();
    let taken = journal.take(vec![call(&journal, "d1", "{}")]).await.unwrap();
    assert_eq!(reported(&taken)[0].0, "received");
}

#[tokio::test]
async fn the_highest_control_number_before_is_known_within_a_commit_too() {
    let (_database, journal) = open().await;
    let seen: Arc<Mutex<Vec<Option<u64>>>> = Arc::default();
    let watched = |control: u32| {
        let arriving = interchange(&journal, control, &format!("MF-{control}"));
        let (decide, seen) = (arriving.decide.clone(), seen.clone());
        let reported: Decide = Arc::new(move |known| {
            let [Known::No { before }] = known else { panic!("{known:?}") };
            seen.lock().unwrap().push(*before);
            decide(known)
        });
        Arriving { decide: reported, ..arriving }
    };
    journal.take(vec![watched(101)]).await.unwrap();
    journal.take(vec![watched(104), watched(105)]).await.unwrap();
    journal.take(vec![watched(102)]).await.unwrap();
    assert_eq!(*seen.lock().unwrap(), [None, Some(101), Some(104), Some(101)]);
}

/// Calls to store, with ids of this journal.
fn rush(journal: &PgJournal, bodies: &[&str]) -> Spooled {
    let now = SystemClock.now();
    let call = |body: &&str| {
        let provenance = Provenance {
            connection: "shop".into(),
            event: "purchase\0placed".into(),
            delivery: "d1".into(),
            ..Provenance::default()
        };
        SpooledCall { id: journal.mint(now), received: now, provenance, body: body.as_bytes().to_vec() }
    };
    let calls: Vec<SpooledCall> = bodies.iter().map(call).collect();
    Spooled { id: calls[0].id, calls }
}

#[tokio::test]
async fn calls_are_kept_as_they_received_until_they_are_taken() {
    let (database, journal) = open().await;
    let long = "clover ".repeat(10_000);
    let (first, second) = (rush(&journal, &["{}", "", "\n{\"n\": 1}", &long]), rush(&journal, &["\0"]));
    journal.spool(&first).await.unwrap();
    journal.spool(&second).await.unwrap();
    assert!(journal.spool(&first).await.is_err(), "once");
    assert_eq!(journal.spools().await.unwrap(), [first.id, second.id]);
    assert_eq!(journal.spooled(first.id).await.unwrap(), Some(first.clone()));
    let stored = database.number("select sum(length(calls))::bigint from spool where packed").await;
    assert!((1..5_000).contains(&stored), "{stored} bytes of 70,000: they are packed together");
    journal.unspool(&[first.id, second.id]).await.unwrap();
    assert_eq!(journal.spooled(first.id).await.unwrap(), None);
    assert_eq!(journal.spools().await.unwrap(), []);
}
