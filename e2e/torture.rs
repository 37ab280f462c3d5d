//! Everything at once: kills, planned restarts, outages of the database, the order system and the broker, damaged records, hostile
//! callers and files. In the end nothing is lost, doubled, in doubt or stuck. `make torture` does it often, `make test` a few times.

use crate::scene::Scene;
use lapin::BasicProperties;
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::io::Write;
use std::net::TcpStream;
use std::time::Duration;
use tokio::task::JoinHandle;
use wirewatch_standins::marrowfield::Flaw;
use wirewatch_standins::order_system::Faults;
use wirewatch_standins::shop::{Shop, ShopEvent};
use wirewatch_testkit::{Database, TestBroker, eventually, eventually_within, http_client, private_broker, private_cluster};

const PATH: &str = "/in/shop-7d2f";

/// Events of one round.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Blow {
    Kill,
    Restart,
    DatabaseOutage,
    OrderSystemOutage,
    BrokerOutage,
    Damage,
}

/// Numbers of events, from the environment: `TORTURE_KILLS` and so on.
fn times(name: &str, otherwise: usize) -> usize {
    std::env::var(format!("TORTURE_{name}")).ok().and_then(|text| text.parse().ok()).unwrap_or(otherwise)
}

fn blows(random: &mut fastrand::Rng) -> Vec<Blow> {
    let outages = times("OUTAGES", 3);
    let of = |blow: Blow, times: usize| std::iter::repeat_n(blow, times);
    let mut all: Vec<Blow> = of(Blow::Kill, times("KILLS", 3))
        .chain(of(Blow::Restart, times("RESTARTS", 2)))
        .chain(of(Blow::DatabaseOutage, outages.div_ceil(3)))
        .chain(of(Blow::OrderSystemOutage, (outages + 1) / 3))
        .chain(of(Blow::BrokerOutage, outages / 3))
        .chain(of(Blow::Damage, times("DAMAGED", 2)))
        .collect();
    random.shuffle(&mut all);
    all
}

/// Callers who mean no good, until they are aborted: half heads, bodies that drip, forged and oversized calls, unknown paths.
fn hostile(address: String) -> JoinHandle<()> {
    tokio::spawn(async move {
        let http = http_client();
        let mut open: Vec<TcpStream> = Vec::new();
        for n in 0_usize.. {
            if let Ok(mut stream) = TcpStream::connect(&address) {
                let _ = write!(stream, "POST {PATH} HTTP/1.1\r\nHost: {address}\r\nContent-Length: 1000000\r\n");
                open.push(stream);
            }
            if open.len() > 50 {
                open.remove(0);
            }
            let path = ["/in/nothing", "/api/messages?limit=-1", "/api/messages/%00", "/enter?key=x", PATH][n % 5];
            let body = ["", "{", "{\"number\": 1e999}", "\u{1b}[2J"][n % 4];
            let forged = http.post(format!("http://{address}{path}")).header("webhook-id", "x").header("webhook-timestamp", "0");
            let _ = forged.header("webhook-signature", "v1,AAAA").body(body).timeout(Duration::from_secs(2)).send().await;
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    })
}

/// Sends a purchase until it is received, as a sender does.
async fn reported(shop: &Shop, reported: &ShopEvent) {
    eventually("a call is taken", || async { (shop.tell(reported).await == Ok(202)).then_some(()) }).await;
}

/// Damages the newest order that waits unbooked; its key.
async fn damage(database: &Database, scene: &mut Scene) -> Option<String> {
    scene.service.kill();
    // Statements of the killed service may still run in the database, and would repair the record.
    let active = "select count(*) from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid() and state <> 'idle'";
    eventually("its statements have ended", || async { (database.number(active).await == 0).then_some(()) }).await;
    let newest = "select coalesce(max(id), 0) from live where flow = 'partner-orders' and state = 'waiting' and head <> 'x'";
    let id = database.number(newest).await;
    let key = match id {
        0 => None,
        id => {
            database.run(&format!("update live set head = 'x' where id = {id}")).await;
            let number = format!("select substr(key, 4)::bigint from live where id = {id}");
            Some(format!("MF-{}", database.number(&number).await))
        }
    };
    scene.service.start().await;
    key
}

/// Puts a released order into the queue of the warehouse flow.
async fn release(broker: &TestBroker, reference: &str) {
    let body = json!({ "order": reference, "reference": reference, "ship_on": "2026-12-01", "carrier": "SWIFTFOOT",
        "lines": [{ "item": "QH-VEIL-R", "quantity": 2 }] });
    let properties = BasicProperties::default().with_type("order.released".into()).with_message_id(reference.into());
    broker.put("orders-released", body.to_string().as_bytes(), properties).await;
}

/// Every pick that the broker holds for the warehouse: message ids by reference, one per copy.
async fn picks(broker: &TestBroker) -> BTreeMap<String, Vec<String>> {
    let mut picks: BTreeMap<String, Vec<String>> = BTreeMap::new();
    while let Some(pick) = broker.take("picks-to-do").await {
        let text = |part: &Option<lapin::types::ShortString>| part.as_ref().expect("set by the flow").to_string();
        picks.entry(text(pick.properties.correlation_id())).or_default().push(text(pick.properties.message_id()));
    }
    picks
}

/// Waits until every file and queue has been read and nothing is on its way any more.
async fn quiet(scene: &Scene) {
    eventually_within(Duration::from_secs(120), "every release has been read from the queue", || async {
        (scene.broker.depth("orders-released").await.0 == 0).then_some(())
    })
    .await;
    eventually_within(Duration::from_secs(120), "nothing is on its way", || async {
        let read = !std::fs::read_dir(scene.drop_folder()).unwrap().any(|entry| entry.unwrap().path().is_file());
        let status = scene.service.get("/api/status").await?;
        let still = status["unfinished"].as_object()?.keys().all(|state| state == "failed");
        (read && still).then_some(())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn whatever_is_done_to_it_nothing_is_lost_doubled_in_doubt_or_stuck() {
    let ((mut own, _broker_folder), (mut cluster, _folder)) =
        tokio::task::spawn_blocking(|| (private_broker(), private_cluster(true))).await.unwrap();
    cluster.create_database("wirewatch").unwrap();
    let database = Database { url: cluster.url("wirewatch") };
    let (address, user, password) = (own.address(), own.user().0.to_owned(), own.user().1.to_owned());
    let connect = || TestBroker::at(&address, &user, &password);
    let mut scene = Scene::open_with(&database, connect().await).await;
    scene.queues_known().await;
    let mut shop = Shop::new(&scene.service.url(PATH), &scene.shop_secret, 1000);
    let enemies = hostile(scene.service.url("").replace("http://", ""));
    let mut random = fastrand::Rng::with_seed(times("SEED", 20_261_201) as u64);
    let (mut purchases, mut released, mut damaged, mut bad_files) = (Vec::new(), BTreeSet::new(), BTreeSet::new(), 0_i64);
    let blows = blows(&mut random);
    for (round, blow) in blows.iter().enumerate() {
        for _ in 0..2 {
            scene.send(random.usize(1..=3), Flaw::None);
        }
        let text = ["", "no X12", "ISA*00*", "\u{1b}[2J{"][round % 4];
        scene.drop(&format!("bad-{round}.txt"), text.as_bytes());
        bad_files += 1;
        for _ in 0..2 {
            let one = shop.purchase();
            reported(&shop, &one).await;
            purchases.push(one);
        }
        for n in 0..2 {
            let reference = format!("W-{round}-{n}");
            release(&scene.broker, &reference).await;
            released.insert(reference);
        }
        match blow {
            Blow::Kill => {
                // Anywhere from in the middle of taking to in the middle of booking.
                tokio::time::sleep(Duration::from_micros(random.u64(0..60_000))).await;
                scene.service.kill();
                scene.service.start().await;
            }
            Blow::Restart => {
                scene.service.stop();
                scene.service.start().await;
            }
            Blow::DatabaseOutage => {
                cluster.stop();
                tokio::time::sleep(Duration::from_millis(random.u64(100..1000))).await;
                cluster.start_again().unwrap();
            }
            Blow::BrokerOutage => {
                own.stop();
                scene.send(2, Flaw::None);
                own.start_again().unwrap();
                scene.broker = connect().await.named_as(&scene.broker);
            }
            Blow::OrderSystemOutage | Blow::Damage => {
                scene.orders.set_faults(Faults { outage: true, ..Faults::default() });
                scene.send(2, Flaw::None);
                eventually("orders wait for the order system", || async {
                    let waiting = scene.service.get("/api/messages?flow=partner-orders&state=waiting").await?;
                    (waiting["messages"].as_array()?.len() >= 2).then_some(())
                })
                .await;
                if *blow == Blow::Damage {
                    damaged.extend(damage(&database, &mut scene).await);
                }
                scene.orders.set_faults(Faults::default());
            }
        }
    }
    enemies.abort();
    let mut expected: Vec<String> =
        scene.sent.iter().flat_map(|sent| sent.orders.clone()).filter(|order| !damaged.contains(order)).collect();
    expected.extend(purchases.iter().map(|one| {
        let body: Value = serde_json::from_str(&one.body).unwrap();
        body["data"]["number"].as_str().unwrap().to_owned()
    }));
    quiet(&scene).await;
    let booked = scene.orders.references();
    let times = |order: &String| booked.iter().filter(|one| *one == order).count();
    let lost: Vec<&String> = expected.iter().filter(|order| times(order) == 0).collect();
    // The damaged order may have been booked: its answer was on the way when the service was killed.
    let doubled: Vec<&String> = expected.iter().chain(&damaged).filter(|order| times(order) > 1).collect();
    let foreign: Vec<&String> = booked.iter().filter(|order| !expected.contains(order) && !damaged.contains(*order)).collect();
    let failed = scene.messages("state=failed").await;
    let with_code = |code: &str| failed.iter().filter(|one| one["code"] == code).count();
    let keys: BTreeSet<String> = failed.iter().map(|one| one["key"].as_str().unwrap().to_owned()).collect();
    let status = scene.service.get("/api/status").await.unwrap();
    let stuck: i64 = status["unfinished"]
        .as_object()
        .unwrap()
        .iter()
        .filter(|(state, _)| *state != "failed")
        .map(|(_, n)| n.as_i64().unwrap())
        .sum();
    let picks = picks(&scene.broker).await;
    let copies: usize = picks.values().map(Vec::len).sum();
    let groups: BTreeSet<String> = scene.acknowledged().into_iter().map(|one| one.group).collect();
    let answers = scene.acknowledged().len();
    let bad = database.number("select count(*) from arrival where name like 'bad-%'").await;
    let count = |blow: Blow| blows.iter().filter(|one| **one == blow).count();
    println!(
        "measured: {} orders, {} purchases and {} releases through {} kills, {} restarts, {} database outages, {} order system outages, \
         {} broker outages, {} damaged records, {bad} bad files and hostile callers: {} lost, {} doubled, {} in doubt, {stuck} stuck; \
         the broker has {} picks twice, under one message id",
        scene.sent.iter().map(|sent| sent.orders.len()).sum::<usize>(),
        purchases.len(),
        released.len(),
        count(Blow::Kill),
        count(Blow::Restart),
        count(Blow::DatabaseOutage),
        count(Blow::OrderSystemOutage),
        count(Blow::BrokerOutage),
        damaged.len(),
        lost.len() + released.iter().filter(|one| !picks.contains_key(*one)).count(),
        doubled.len(),
        with_code("in-doubt"),
        copies - picks.len(),
    );
    let none: Vec<&String> = Vec::new();
    assert_eq!((lost, doubled, foreign), (none.clone(), none.clone(), none), "each order is booked once; failed: {failed:?}");
    assert_eq!(picks.keys().cloned().collect::<BTreeSet<_>>(), released, "every release reaches the warehouse");
    assert!(
        picks.values().flat_map(|ids| ids.iter().map(|id| *id == ids[0])).all(|same| same),
        "a repeat has the id of the first"
    );
    assert_eq!((keys, with_code("damaged")), (damaged.clone(), damaged.len()), "only what was damaged has failed: {failed:?}");
    assert_eq!(failed.len(), damaged.len(), "{failed:?}");
    assert_eq!(stuck, 0, "{status}");
    assert_eq!((groups.len(), answers), (scene.sent.len(), scene.sent.len()), "each group is answered once");
    assert_eq!(bad, bad_files, "each bad file is one arrival");
    scene.service.stop();
}
