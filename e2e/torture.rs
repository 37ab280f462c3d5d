//! Everything at once: kills, planned restarts, outages of the database and the order system, damaged records, hostile callers and
//! files. In the end nothing is lost, doubled, in doubt or stuck. `make torture` does it often, `make test` a few times.

use crate::scene::Scene;
use serde_json::Value;
use std::collections::BTreeSet;
use std::io::Write;
use std::net::TcpStream;
use std::time::Duration;
use tokio::task::JoinHandle;
use wirewatch_standins::marrowfield::Flaw;
use wirewatch_standins::order_system::Faults;
use wirewatch_standins::shop::{Shop, ShopEvent};
use wirewatch_testkit::{Database, eventually, eventually_within, http_client, private_cluster};

const PATH: &str = "/in/shop-7d2f";

/// What is done to the service in one round.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Blow {
    Kill,
    Restart,
    DatabaseOutage,
    OrderSystemOutage,
    Damage,
}

/// How often, from the environment: `TORTURE_KILLS` and so on.
fn times(name: &str, otherwise: usize) -> usize {
    std::env::var(format!("TORTURE_{name}")).ok().and_then(|text| text.parse().ok()).unwrap_or(otherwise)
}

fn blows(random: &mut fastrand::Rng) -> Vec<Blow> {
    let outages = times("OUTAGES", 2);
    let of = |blow: Blow, times: usize| std::iter::repeat_n(blow, times);
    let mut all: Vec<Blow> = of(Blow::Kill, times("KILLS", 3))
        .chain(of(Blow::Restart, times("RESTARTS", 2)))
        .chain(of(Blow::DatabaseOutage, outages / 2))
        .chain(of(Blow::OrderSystemOutage, outages - outages / 2))
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

/// Tells of a purchase until it is taken, as a sender does.
async fn told(shop: &Shop, told: &ShopEvent) {
    eventually("a call is taken", || async { (shop.tell(told).await == Ok(202)).then_some(()) }).await;
}

/// Damages the newest order that waits unbooked; its key.
async fn damage(database: &Database, scene: &mut Scene) -> Option<String> {
    scene.service.kill();
    // What it had sent to the database may still be under way there, and would put the record right again.
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

/// Waits until every file has been read and nothing is on its way any more.
async fn settled(scene: &Scene) {
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
    let (mut cluster, _folder) = private_cluster(true);
    cluster.create_database("wirewatch").unwrap();
    let database = Database { url: cluster.url("wirewatch") };
    let mut scene = Scene::open_on(&database).await;
    let mut shop = Shop::new(&scene.service.url(PATH), &scene.shop_secret, 1000);
    let enemies = hostile(scene.service.url("").replace("http://", ""));
    let mut random = fastrand::Rng::with_seed(times("SEED", 20_261_201) as u64);
    let (mut purchases, mut damaged, mut bad_files) = (Vec::new(), BTreeSet::new(), 0_i64);
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
            told(&shop, &one).await;
            purchases.push(one);
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
    settled(&scene).await;
    let booked = scene.orders.references();
    let times = |order: &String| booked.iter().filter(|one| *one == order).count();
    let lost: Vec<&String> = expected.iter().filter(|order| times(order) == 0).collect();
    // What was damaged may have been booked: its answer was on the way when the service was killed.
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
    let groups: BTreeSet<String> = scene.acknowledged().into_iter().map(|one| one.group).collect();
    let answers = scene.acknowledged().len();
    let bad = database.number("select count(*) from arrival where name like 'bad-%'").await;
    let count = |blow: Blow| blows.iter().filter(|one| **one == blow).count();
    println!(
        "measured: {} orders and {} purchases through {} kills, {} restarts, {} database outages, {} order system outages, {} damaged \
         records, {bad} bad files and hostile callers: {} lost, {} doubled, {} in doubt, {stuck} stuck",
        scene.sent.iter().map(|sent| sent.orders.len()).sum::<usize>(),
        purchases.len(),
        count(Blow::Kill),
        count(Blow::Restart),
        count(Blow::DatabaseOutage),
        count(Blow::OrderSystemOutage),
        damaged.len(),
        lost.len(),
        doubled.len(),
        with_code("in-doubt"),
    );
    let none: Vec<&String> = Vec::new();
    assert_eq!((lost, doubled, foreign), (none.clone(), none.clone(), none), "each order is booked once; failed: {failed:?}");
    assert_eq!((keys, with_code("damaged")), (damaged.clone(), damaged.len()), "only what was damaged has failed: {failed:?}");
    assert_eq!(failed.len(), damaged.len(), "{failed:?}");
    assert_eq!(stuck, 0, "{status}");
    assert_eq!((groups.len(), answers), (scene.sent.len(), scene.sent.len()), "each group is answered once");
    assert_eq!(bad, bad_files, "each bad file is one arrival");
    scene.service.stop();
}
