//! Several processes on one database: shards, handover, remote acts, leases.

use serde_json::Map;
use std::sync::Arc;
use std::time::Duration;
use wirewatch_core::act::Act;
use wirewatch_core::document::Form;
use wirewatch_core::intake::Provenance;
use wirewatch_core::machine::Origin;
use wirewatch_core::{Id, MessageId};
use wirewatch_engine::{
    Change, Clock, Hold, Journal, NewMessage, NotActed, Op, RemoteAct, Shards, Split, Spooled, SpooledCall, SystemClock, shard_of,
};
use wirewatch_journal::PgJournal;
use wirewatch_testkit::{Database, eventually, eventually_within, private_cluster};

async fn open(database: &Database) -> PgJournal {
    PgJournal::open(&database.url, "test").await.unwrap()
}

fn new_message(id: MessageId) -> NewMessage {
    let (form, meta) = (Form::Json, Map::new());
    let origin = Origin { id, arrival: Id(1), body: Id(1), slice: 0..2, flow: "f".into(), release: 1, form, meta };
    NewMessage { ended: None, order_key: String::new(), origin: Arc::new(origin), key: "K".into(), facts: Vec::new() }
}

#[tokio::test]
async fn shards_go_from_one_process_to_another_and_what_is_made_for_them_afterwards_is_handed_over() {
    let database = Database::new();
    let (ada, bee) = (open(&database).await, open(&database).await);
    assert_eq!((ada.shards(), bee.shards()), (Shards::ALL, Shards::NONE));
    let due = ada.others().await.unwrap();
    let (some, to) = due.due.expect("bee should have some");
    assert!(due.any && !some.is_empty() && to == bee.writer());
    ada.give_away(some, to).await.unwrap();
    assert_eq!(ada.shards(), Shards::ALL.without(some));
    assert_eq!(bee.others().await.unwrap().shards, some);
    assert_eq!(bee.shards(), Shards::NONE, "not before what is unfinished there is taken up");
    bee.gained(some).await.unwrap();
    assert!(some.has(shard_of(bee.mint_message(SystemClock.now()), "f", "")), "it makes messages for itself");
    // A message that ada makes in a shard of bee's is bee's to run.
    let shard = some.iter().next().unwrap();
    let id = std::iter::repeat_with(|| ada.mint(SystemClock.now())).find(|id| shard_of(*id, "f", "") == shard).unwrap();
    let split = Split { arrival: Id(1), from: 0, to: 1, last: true, messages: vec![new_message(id)], at: SystemClock.now() };
    ada.commit(1, &[Op::Split(Box::new(split))]).await.unwrap();
    assert!(ada.others().await.unwrap().handed.is_empty());
    // A poll that fails midway loses nothing.
    database.run("alter table remote_act rename to remote_act_away").await;
    assert!(bee.others().await.is_err());
    database.run("alter table remote_act_away rename to remote_act").await;
    let handed = bee.others().await.unwrap().handed;
    assert_eq!(handed.iter().map(|one| one.id).collect::<Vec<_>>(), [id]);
    assert!(bee.others().await.unwrap().handed.is_empty(), "once");
    assert_eq!(bee.unfinished(some, Id(0), 10).await.unwrap().len(), 1, "whoever takes the shard over finds it all the same");
    assert_eq!(database.number("select count(*) from handed").await, 0, "the rows of reported numbers are gone");
}

#[tokio::test]
async fn a_message_is_counted_each_time_it_is_taken_up_until_something_of_it_is_committed() {
    let database = Database::new();
    let (ada, bee) = (open(&database).await, open(&database).await);
    let new = new_message(ada.mint(SystemClock.now()));
    let (id, origin) = (new.origin.id, new.origin.clone());
    let split = Split { arrival: Id(1), from: 0, to: 1, last: true, messages: vec![new], at: SystemClock.now() };
    ada.commit(1, &[Op::Split(Box::new(split))]).await.unwrap();
    let times = async || ada.unfinished(Shards::ALL, Id(0), 10).await.unwrap()[0].picked_up;
    assert_eq!(times().await, 0);
    for expected in 1..=2 {
        ada.pick_up(&[id, Id(99)]).await.unwrap();
        assert_eq!(times().await, expected);
    }
    ada.commit(2, &[Op::Change(Box::new(Change::blank(origin, SystemClock.now())))]).await.unwrap();
    assert_eq!(times().await, 0, "it has come on");
    // Whoever gives its shard away has not ended for it.
    let shard = shard_of(id, "f", "");
    for (picked_up, given) in
        [(1, (0..64).filter(|other| *other != shard).collect::<Shards>()), (0, [shard].into_iter().collect())]
    {
        ada.pick_up(&[id]).await.unwrap();
        ada.give_away(given, bee.writer()).await.unwrap();
        assert_eq!(times().await, picked_up);
    }
}

#[tokio::test]
async fn an_act_is_carried_out_by_whose_message_it_is_and_a_lease_has_one_holder() {
    let database = Database::new();
    let (ada, bee) = (open(&database).await, open(&database).await);
    let (some, to) = ada.others().await.unwrap().due.unwrap();
    ada.give_away(some, to).await.unwrap();
    let remote_act = RemoteAct {
        id: ada.mint(SystemClock.now()),
        message: Id(7),
        shard: some.iter().next().unwrap(),
        act: Act::Discard,
        by: "ada".into(),
        why: "not meant".into(),
    };
    let carried_out = async {
        let mut remote_acts = bee.others().await.unwrap().remote_acts;
        while remote_acts.is_empty() {
            remote_acts = bee.others().await.unwrap().remote_acts;
        }
        assert_eq!(remote_acts, std::slice::from_ref(&remote_act));
        bee.answer(remote_acts[0].id, Err(NotActed::Unknown(Id(7)))).await.unwrap();
    };
    let (answer, ()) = tokio::join!(ada.ask(&remote_act), carried_out);
    assert_eq!(answer, Ok(Err(NotActed::Unknown(Id(7)))));
    assert_eq!((ada.lease("folder in").await, bee.lease("folder in").await), (Ok(true), Ok(false)));
    assert_eq!(ada.lease("folder in").await, Ok(true), "the lease continues");
    end(&database, ada).await;
    alone(&bee).await;
    assert_eq!((bee.lease("folder in").await, bee.others().await.unwrap().shards), (Ok(true), Shards::ALL));
}

/// Ends a process: its connections are closed, and its lease is over.
async fn end(database: &Database, journal: PgJournal) {
    let writer = journal.writer();
    drop(journal);
    database.run(&format!("update writer set lease_until = 1 where id = {writer}")).await;
}

/// Polls until the other process, whose lease is over, is found to have ended.
async fn alone(journal: &PgJournal) {
    eventually("the other has ended", || async {
        let others = journal.others().await.ok()?;
        (!others.any).then_some(())
    })
    .await;
}

#[tokio::test]
async fn shards_whose_new_owner_ends_before_it_took_them_up_come_back_with_what_was_made_for_them() {
    let database = Database::new();
    let (ada, bee) = (open(&database).await, open(&database).await);
    let (some, to) = ada.others().await.unwrap().due.unwrap();
    ada.give_away(some, to).await.unwrap();
    let shard = some.iter().next().unwrap();
    let id = std::iter::repeat_with(|| ada.mint(SystemClock.now())).find(|id| shard_of(*id, "f", "") == shard).unwrap();
    let split = Split { arrival: Id(1), from: 0, to: 1, last: true, messages: vec![new_message(id)], at: SystemClock.now() };
    ada.commit(1, &[Op::Split(Box::new(split))]).await.unwrap();
    // It has polled, so it knows of them, and ends before it reports that it took them over.
    assert_eq!(bee.others().await.unwrap().shards, some);
    end(&database, bee).await;
    let back = eventually("they are back", || async { ada.others().await.ok().filter(|others| others.shards == Shards::ALL) });
    back.await;
    let found = ada.unfinished(some, Id(0), 10).await.unwrap();
    assert_eq!(found.iter().map(|one| one.id).collect::<Vec<_>>(), [id]);
    assert_eq!(ada.shards(), Shards::ALL.without(some), "not before what is unfinished there is taken up");
    ada.gained(some).await.unwrap();
    assert_eq!(ada.shards(), Shards::ALL);
}

#[tokio::test]
async fn shards_that_are_given_to_one_that_has_ended_are_taken_up_anew_with_what_was_made_meanwhile() {
    let database = Database::new();
    let (ada, bee) = (open(&database).await, open(&database).await);
    let (some, to) = ada.others().await.unwrap().due.unwrap();
    end(&database, bee).await;
    alone(&ada).await;
    ada.give_away(some, to).await.unwrap();
    assert_eq!(ada.shards(), Shards::ALL.without(some), "nothing of them runs here any more");
    let make = async |no: u64| {
        let shard = some.iter().next().unwrap();
        let id = std::iter::repeat_with(|| ada.mint(SystemClock.now())).find(|id| shard_of(*id, "f", "") == shard).unwrap();
        let split = Split { arrival: Id(1), from: 0, to: 1, last: true, messages: vec![new_message(id)], at: SystemClock.now() };
        ada.commit(no, &[Op::Split(Box::new(split))]).await.unwrap();
        id
    };
    let handed = async || ada.others().await.unwrap().handed.iter().map(|one| one.id).collect::<Vec<_>>();
    let first = make(1).await;
    assert_eq!(handed().await, [first]);
    // One more message after the poll, before its result is handled.
    let second = make(2).await;
    ada.gained(some).await.unwrap();
    assert_eq!(handed().await, [second]);
    assert_eq!((ada.shards(), ada.others().await.unwrap().shards), (Shards::ALL, Shards::ALL));
}

#[tokio::test]
async fn calls_that_a_process_kept_are_taken_over_and_it_keeps_no_more() {
    let database = Database::new();
    let (ada, bee) = (open(&database).await, open(&database).await);
    let spooled = |journal: &PgJournal| {
        let (id, received) = (journal.mint(SystemClock.now()), SystemClock.now());
        let call = SpooledCall { id, received, provenance: Provenance::default(), body: b"{}".to_vec() };
        Spooled { id, calls: vec![call] }
    };
    let row = spooled(&bee);
    bee.spool(&row).await.unwrap();
    assert_eq!(ada.spooled(row.id).await.unwrap(), None, "they are those of another");
    assert!(ada.others().await.unwrap().spools.is_empty());
    // It hangs: its lease runs out, and its lock goes with its connection.
    database.run(&format!("update writer set lease_until = 1 where id = {}", bee.writer())).await;
    let found = eventually("they are found", || async { ada.others().await.ok().filter(|others| !others.spools.is_empty()) });
    assert_eq!(found.await.spools, [row.id]);
    assert!(ada.others().await.unwrap().spools.is_empty(), "reported once");
    assert_eq!(ada.spooled(row.id).await.unwrap(), Some(row.clone()));
    assert!(bee.spool(&spooled(&bee)).await.is_err(), "whoever was taken over keeps nothing");
    bee.unspool(&[row.id]).await.unwrap();
    assert_eq!(bee.spooled(row.id).await.unwrap(), None);
    assert_eq!(ada.spools().await.unwrap(), [row.id], "nor does it let go of what is another's now");
}

#[tokio::test]
async fn an_remote_act_whose_taker_ends_is_answered_when_its_shard_has_come_back() {
    let database = Database::new();
    let (ada, bee) = (open(&database).await, open(&database).await);
    let (some, to) = ada.others().await.unwrap().due.unwrap();
    ada.give_away(some, to).await.unwrap();
    let (id, shard) = (ada.mint(SystemClock.now()), some.iter().next().unwrap());
    let remote_act = RemoteAct { id, message: Id(7), shard, act: Act::Discard, by: "ada".into(), why: "not meant".into() };
    let taker_ends = async {
        eventually("it is taken up", || async { (bee.others().await.ok()?.remote_acts.len() == 1).then_some(()) }).await;
        end(&database, bee).await;
        eventually("its shards are back", || async { (ada.others().await.ok()?.shards == Shards::ALL).then_some(()) }).await;
        ada.gained(some).await.unwrap();
    };
    let (answer, ()) = tokio::join!(ada.ask(&remote_act), taker_ends);
    assert_eq!(answer, Ok(Err(NotActed::Busy)));
    assert_eq!(database.number("select count(*) from remote_act").await, 0, "nobody carries it out later");
}

#[tokio::test]
async fn an_remote_act_that_nobody_takes_up_is_taken_back() {
    let database = Database::new();
    let ada = open(&database).await;
    let id = ada.mint(SystemClock.now());
    ada.give_away(Shards::ALL, 77).await.unwrap();
    assert_eq!(ada.others().await.unwrap().shards, Shards::ALL, "nothing is given to one who is not at work");
    ada.gained(Shards::ALL).await.unwrap();
    // A shard of a process that works but does not poll.
    let bee = open(&database).await;
    let (some, to) = ada.others().await.unwrap().due.unwrap();
    ada.give_away(some, to).await.unwrap();
    let remote_act = RemoteAct {
        id,
        message: Id(7),
        shard: some.iter().next().unwrap(),
        act: Act::Discard,
        by: "ada".into(),
        why: "so".into(),
    };
    assert_eq!(ada.ask(&remote_act).await, Ok(Err(NotActed::Busy)));
    assert!(bee.others().await.unwrap().remote_acts.is_empty());
}

#[tokio::test]
async fn a_lease_that_ran_out_while_the_server_was_away_ends_nobody_at_once() {
    let (mut cluster, _folder) = tokio::task::spawn_blocking(|| private_cluster(true)).await.unwrap();
    cluster.create_database("pair").unwrap();
    let database = Database { url: cluster.url("pair") };
    let (ada, bee) = (open(&database).await, Arc::new(open(&database).await));
    let member = bee.clone();
    let keeping = tokio::spawn(async move { member.keep(30).await });
    cluster.stop();
    cluster.start_again().unwrap();
    database.run("update writer set lease_until = 1 where id = 1").await;
    let looked = eventually("the server is there again", || async { bee.others().await.ok() }).await;
    assert!(looked.any, "it has had no time to renew");
    // With all the time of a lease it has not: then it has ended.
    eventually_within(Duration::from_secs(60), "it has ended", || async {
        let others = bee.others().await.ok()?;
        (!others.any && others.shards == Shards::ALL).then_some(())
    })
    .await;
    keeping.abort();
    drop(ada);
}

#[tokio::test]
async fn leases_that_ran_out_together_end_nobody() {
    let database = Database::new();
    let (ada, bee) = (open(&database).await, open(&database).await);
    // A server younger than a lease excuses everybody.
    eventually_within(Duration::from_secs(60), "the server is older than a lease", || async {
        (database.number("select (now() - pg_postmaster_start_time() > interval '11 s')::int::bigint").await == 1).then_some(())
    })
    .await;
    // As if the network was away for both processes, but the server was not.
    database.run("update writer set lease_until = 1").await;
    for _ in 0..2 {
        assert!(ada.others().await.unwrap().any && bee.others().await.unwrap().any);
    }
    assert_eq!(database.number("select count(*) from writer where lease_until > 1 and epoch = 1").await, 2, "both have renewed");
    for (journal, no) in [(&ada, 1), (&bee, 2)] {
        let split = Split { arrival: Id(no), from: 0, to: 0, last: true, messages: Vec::new(), at: SystemClock.now() };
        journal.commit(no as u64, &[Op::Split(Box::new(split))]).await.unwrap();
    }
}

#[tokio::test]
async fn what_a_person_holds_is_freed_and_held_anew_by_people_alone() {
    let database = Database::new();
    let journal = open(&database).await;
    let hold = |by: &str, says: &str| {
        let (connection, since) = ("erp".to_owned(), SystemClock.now());
        Op::Hold(Hold { connection, since, says: says.into(), by: by.into() })
    };
    let free = |by_person| Op::Resume { connection: "erp".into(), at: SystemClock.now(), by_person };
    let mut no = 0;
    let mut commit = async |op: Op| {
        no += 1;
        journal.commit(no, &[op]).await.unwrap();
        let held = journal.holds().await.unwrap();
        held.first().map(|hold| (hold.by.clone(), hold.says.clone()))
    };
    let reported = |by: &str, says: &str| Some((by.to_owned(), says.to_owned()));
    assert_eq!(commit(hold("", "refused")).await, reported("", "refused"));
    assert_eq!(commit(free(false)).await, None);
    assert_eq!(commit(hold("ada", "counting")).await, reported("ada", "counting"));
    // Another process meets it refusing, and then well: that is not for it to say.
    assert_eq!(commit(hold("", "refused")).await, reported("ada", "counting"));
    assert_eq!(commit(free(false)).await, reported("ada", "counting"));
    assert_eq!(commit(free(true)).await, None);
}
