//! Several processes share the work: if one ends or hangs, nothing is lost, nobody waits, and the order holds.

use crate::scene::Scene;
use lapin::BasicProperties;
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;
use wirewatch_standins::marrowfield::Flaw;
use wirewatch_testkit::{Database, Service, TestBroker, eventually, eventually_within};

const KEYS: usize = 200;
/// Messages before the kill, and again before the hang.
const HALF: usize = 5000;

fn files(broker: &TestBroker) -> Vec<(&'static str, String)> {
    let (address, user) = (&broker.address, &broker.user);
    let (orders, picked) = (broker.name("in"), broker.name("picked"));
    let connection = format!(
        r#"
kind    = "amqp"
address = "{address}"
timeout = "5s"
auth = {{ as = "plain", user = "{user}", secret = "warehouse" }}

[[queue]]
name    = "{orders}"
declare = true

[[queue]]
name = "{picked}"
"#
    );
    let flow = format!(
        r#"
title = "Picks"
key   = "number"
in_order_by = "shelf"

[[intake]]
from  = "warehouse"
queue = "{orders}"
takes = "pick"

[[step]]
name  = "announce"
send  = {{ to = "warehouse", queue = "{picked}" }}
retry = {{ times = 3, first = "100ms", longest = "500ms" }}
"#
    );
    let schema = r#"{ "type": "object", "properties": {
        "number": { "type": "integer" }, "shelf": { "type": "string" } } }"#;
    vec![
        ("workspace.toml", "format = 1".to_owned()),
        ("connections/warehouse.toml", connection),
        ("schemas/pick.schema.json", schema.to_owned()),
        ("flows/picks.toml", flow),
    ]
}

struct Pair {
    broker: TestBroker,
    ada: Service,
    bee: Service,
}

impl Pair {
    async fn open() -> Self {
        Self::on(&Database::new()).await
    }

    /// Two processes on one database, with the same secrets.
    async fn on(database: &Database) -> Self {
        let broker = TestBroker::open().await;
        broker.queue("picked", None).await;
        let files = files(&broker);
        let files: Vec<(&str, &str)> = files.iter().map(|(name, text)| (*name, text.as_str())).collect();
        let mut ada = Service::with_files(database, &files);
        ada.start().await;
        let (status, _) = ada.put("/api/secrets/warehouse", &json!({ "value": broker.password })).await;
        assert_eq!(status, 200);
        let mut bee = ada.companion(database);
        bee.start().await;
        Self { broker, ada, bee }
    }

    /// Waits until both have their share.
    async fn shared(&self) {
        eventually_within(
            Duration::from_secs(30),
            || format!("both have shards\n{}\n{}", self.ada.logged(), self.bee.logged()),
            || async {
                for service in [&self.ada, &self.bee] {
                    let status = service.get("/api/status").await?;
                    let shares: Vec<i64> =
                        status["processes"].as_array()?.iter().filter_map(|process| process["shards"].as_i64()).collect();
                    if shares.len() != 2 || shares.iter().sum::<i64>() != 64 || shares.contains(&0) {
                        return None;
                    }
                }
                Some(())
            },
        )
        .await;
    }

    async fn fill(&self, numbers: std::ops::Range<usize>) {
        for n in numbers {
            let body = json!({ "number": n, "shelf": format!("shelf-{}", n % KEYS) }).to_string();
            let properties = BasicProperties::default().with_message_id(n.to_string().into());
            self.broker.fill("in", body.as_bytes(), properties).await;
        }
        self.broker.filled().await;
    }

    async fn picked(&self, least: usize) {
        eventually_within(
            Duration::from_secs(120),
            || format!("{least} were sent\n{}\n{}", self.ada.logged(), self.bee.logged()),
            || async { (self.broker.depth("picked").await.0 >= least as u32).then_some(()) },
        )
        .await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn one_process_is_killed_and_one_hangs_and_the_other_finishes_in_order() {
    let mut pair = Pair::open().await;
    pair.shared().await;
    pair.fill(0..HALF / 2).await;
    pair.picked(500).await;
    pair.ada.kill();
    let at_the_kill = pair.broker.depth("picked").await.0 as usize;
    pair.fill(HALF / 2..HALF).await;
    pair.picked(HALF).await;

    pair.ada.start().await;
    pair.shared().await;
    pair.fill(HALF..HALF + HALF / 2).await;
    pair.picked(HALF + 500).await;
    pair.bee.freeze(true);
    let at_the_hang = pair.broker.depth("picked").await.0 as usize;
    // The broker still sends these to the hanging process, if it is the consumer: they return to their place.
    pair.fill(HALF + HALF / 2..2 * HALF).await;
    eventually_within(
        Duration::from_secs(120),
        || format!("the other finishes\n{}", pair.ada.logged()),
        || async {
            let status = pair.ada.get("/api/status").await?;
            let done = status["unfinished"].as_object()?.is_empty();
            (done && pair.broker.depth("picked").await.0 as usize >= 2 * HALF).then_some(())
        },
    )
    .await;
    // The hanging process finds that it has lost its shards, and ends.
    pair.bee.freeze(false);
    let mut bee = pair.bee;
    eventually_within(Duration::from_secs(30), "the one that hung ends", || {
        let ended = bee.has_ended();
        async move { ended.then_some(()) }
    })
    .await;
    assert!(bee.logged().contains("another process has taken over"), "{}", bee.logged());

    let twice = all_in_order(&pair.broker, 2 * HALF).await;
    println!(
        "measured: {} messages in {KEYS} orders, a kill after {at_the_kill}, a hang after {at_the_hang}: {twice} were sent twice",
        2 * HALF,
    );
}

/// Reads the output: every number, in the order of its shelf. Returns how many were received more than once.
async fn all_in_order(broker: &TestBroker, numbers: usize) -> usize {
    let mut received: BTreeMap<u64, Vec<String>> = BTreeMap::new();
    let mut last: BTreeMap<String, u64> = BTreeMap::new();
    let mut all = 0;
    while let Some(delivery) = broker.take("picked").await {
        all += 1;
        let body: Value = serde_json::from_slice(&delivery.data).unwrap();
        let (number, shelf) = (body["number"].as_u64().unwrap(), body["shelf"].as_str().unwrap().to_owned());
        let ids = received.entry(number).or_default();
        ids.push(delivery.properties.message_id().as_ref().unwrap().to_string());
        // A repeat has the same message id; the first of each number keeps the order of its shelf.
        if ids.len() == 1 {
            let before = last.insert(shelf.clone(), number);
            assert!(before.is_none_or(|before| before < number), "{number} of {shelf} follows {before:?}");
        }
    }
    assert_eq!(received.len(), numbers, "none is lost");
    assert_eq!(last.len(), KEYS);
    assert!(received.values().all(|ids| ids.iter().all(|id| *id == ids[0])), "a repeat has the id of the first");
    all - numbers
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_process_that_hangs_inside_a_transaction_keeps_nobody_from_its_work() {
    let database = Database::new();
    let mut scene = Scene::open_on(&database).await;
    // It waits for a lock while writing, hangs, and gets the lock: so it holds everything it has written, uncommitted.
    let lock = database.begin("lock table arrival in share mode").await;
    scene.send(3, Flaw::None);
    let waits = "select count(*) from pg_locks where relation = 'arrival'::regclass and not granted";
    eventually("it waits", || async { (database.number(waits).await > 0).then_some(()) }).await;
    scene.service.freeze(true);
    lock.rollback().await.unwrap();
    let hangs = "select count(*) from pg_stat_activity where datname = current_database() and state = 'idle in transaction'";
    eventually("it hangs", || async { (database.number(hangs).await > 0).then_some(()) }).await;

    let bee = scene.service.companion(&database);
    let mut ada = std::mem::replace(&mut scene.service, bee);
    scene.service.start().await;
    scene.quiet(3).await;
    ada.freeze(false);
    eventually_within(Duration::from_secs(30), "the one that hung ends", || {
        let ended = ada.has_ended();
        async move { ended.then_some(()) }
    })
    .await;
    assert!(ada.logged().contains("another process has taken over"), "{}", ada.logged());
    scene.assert_all_once();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_database_goes_and_comes_under_two_processes_and_neither_is_struck() {
    const MESSAGES: usize = 3000;
    let (mut cluster, _folder) =
        tokio::task::spawn_blocking(|| wirewatch_testkit::private_cluster(true)).await.expect("no panic");
    cluster.create_database("pair").expect("a database");
    let pair = Pair::on(&Database { url: cluster.url("pair") }).await;
    pair.shared().await;
    pair.fill(0..MESSAGES / 2).await;
    pair.picked(500).await;
    let processes = async || pair.ada.get("/api/status").await.map(|status| status["processes"].clone());
    let before = processes().await.expect("an answer");
    cluster.stop();
    pair.fill(MESSAGES / 2..MESSAGES).await;
    cluster.start_again().expect("it starts again");
    pair.picked(MESSAGES).await;
    eventually(
        || format!("no unfinished messages\n{}\n{}", pair.ada.logged(), pair.bee.logged()),
        || async {
            let status = pair.bee.get("/api/status").await?;
            status["unfinished"].as_object()?.is_empty().then_some(())
        },
    )
    .await;
    // Both processes keep their identity: a restart of the server ends neither.
    assert_eq!(processes().await, Some(before));
    for service in [&pair.ada, &pair.bee] {
        assert!(
            !service.logged().contains("has stopped") && !service.logged().contains("has taken over"),
            "{}",
            service.logged()
        );
    }
    let twice = all_in_order(&pair.broker, MESSAGES).await;
    println!("measured: {MESSAGES} messages in {KEYS} orders, the database gone for a while: {twice} were sent twice");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_done_at_one_process_is_known_and_carried_out_at_the_other() {
    let pair = Pair::open().await;
    pair.shared().await;
    // A release deployed at one process runs at the other, and so does a hold.
    let bee = &pair.bee;
    let flow = std::fs::read_to_string(pair.ada.workspace().join("flows/picks.toml")).unwrap();
    pair.ada.write("flows/picks.toml", &flow.replace("title = \"Picks\"", "title = \"Picking\""));
    let (code, _, err) = pair.ada.command(&["deploy", &pair.ada.workspace().display().to_string()]);
    assert_eq!(code, 0, "{err}");
    eventually("the release runs at both", || async { (bee.get("/api/workspace").await?["release"] == 2).then_some(()) }).await;
    let (status, _) = pair.ada.act("/api/flows/picks/pause", &json!({ "why": "counting" })).await;
    assert_eq!(status, 200);
    eventually("it is paused at both", || async {
        let paused = bee.get("/api/flows/paused").await?;
        (paused[0]["by"].is_string()).then_some(())
    })
    .await;
    pair.fill(0..40).await;
    let ids = eventually("all wait", || async {
        let page = bee.get("/api/messages?state=waiting&limit=100").await?;
        let all = page["messages"].as_array()?;
        (all.len() == 40).then(|| all.iter().map(|one| one["id"].as_str().unwrap().to_owned()).collect::<BTreeSet<_>>())
    })
    .await;
    // Each process discards all of them that the other has not: whosever they are.
    for (n, id) in ids.iter().enumerate() {
        let service = if n % 2 == 0 { &pair.ada } else { &pair.bee };
        let (code, _, err) = service.command(&["discard", id, "--why", "not meant"]);
        assert_eq!(code, 0, "{id}: {err}");
    }
    let (status, _) = pair.bee.act("/api/flows/picks/resume", &json!({})).await;
    assert_eq!(status, 200);
    eventually("it goes on at both", || async {
        let free = pair.ada.get("/api/flows/paused").await?.as_array()?.is_empty();
        free.then_some(())
    })
    .await;
    pair.fill(40..44).await;
    pair.picked(4).await;
    let page = pair.ada.get("/api/messages?state=discarded&limit=100").await.unwrap();
    assert_eq!(page["messages"].as_array().unwrap().len(), 40);
    // Each process shows what both do.
    let (_, out, _) = pair.ada.command(&["status"]);
    assert!(out.matches("of 64 shards").count() == 2 && out.contains("which answers here"), "{out}");
}
