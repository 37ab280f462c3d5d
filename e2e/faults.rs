//! Outside faults: each has its decided outcome.

use crate::scene::Scene;
use futures_util::future::join_all;
use serde_json::{Value, json};
use std::time::Duration;
use wirewatch_standins::marrowfield::Flaw;
use wirewatch_standins::order_system::Faults;
use wirewatch_standins::shop::{Shop, ShopEvent};
use wirewatch_testkit::{Database, eventually, private_cluster};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_outage_holds_everything_and_all_drains_afterwards() {
    let mut scene = Scene::open().await;
    scene.orders.set_faults(Faults { outage: true, ..Faults::default() });
    for _ in 0..40 {
        scene.send(5, Flaw::None);
    }
    let held = eventually("the connection is held with all of them waiting", || async {
        let status = scene.service.get("/api/status").await?;
        let held = status["on_hold"][0].clone();
        (held["connection"] == "erp" && held["waiting"].as_u64()? >= 199).then_some(held)
    })
    .await;
    assert!(held["says"].as_str().unwrap().contains("closed for maintenance"), "{held}");
    let (_, out, _) = scene.service.command(&["status"]);
    assert!(out.contains("erp is on hold"), "{out}");
    let asked = scene.orders.summary().requests;
    assert!(asked < 60, "a held connection is only looked at, not stormed: {asked} requests");
    // Half a minute: far past the time that messages stay in memory.
    tokio::time::sleep(Duration::from_secs(30)).await;
    let asked = scene.orders.summary().requests;
    assert!(asked < 80, "{asked} requests");
    scene.orders.set_faults(Faults::default());
    scene.quiet(200).await;
    scene.assert_all_once();
    let held = scene.messages("key=MF-1001").await.remove(0);
    let story = scene.service.get(&format!("/api/messages/{}", held["id"].as_str().unwrap())).await.unwrap();
    let attempts = story["steps"][1]["attempts"].as_array().unwrap().clone();
    assert_eq!(attempts.last().unwrap()["then"], "done", "{attempts:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn passing_errors_are_tried_again_and_a_pause_asked_for_is_respected() {
    let mut scene = Scene::open().await;
    scene.orders.set_faults(Faults { next: 3, status: 500, ..Faults::default() });
    scene.send(2, Flaw::None);
    scene.quiet(2).await;
    let begun = std::time::Instant::now();
    scene.orders.set_faults(Faults { next: 1, status: 429, retry_after: Some(2), ..Faults::default() });
    scene.send(1, Flaw::None);
    scene.quiet(3).await;
    assert!(begun.elapsed() >= Duration::from_secs(2), "Retry-After is respected");
    // The order is booked, but the answer is lost: the repeat under the same key finds it.
    scene.orders.set_faults(Faults { cut: 1, ..Faults::default() });
    scene.send(1, Flaw::None);
    scene.quiet(4).await;
    assert_eq!(scene.orders.summary().repeats, 1);
    scene.assert_all_once();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_slow_order_system_holds_and_a_missing_one_too() {
    let mut scene = Scene::prepare(&Database::new()).await;
    scene.service.change("connections/erp.toml", "\"5s\"", "\"300ms\"");
    scene.service.start().await;
    scene.orders.set_faults(Faults { delay_ms: 3000, ..Faults::default() });
    scene.send(1, Flaw::None);
    let says = |status: serde_json::Value| status["on_hold"][0]["says"].as_str().map(str::to_owned);
    let reported = eventually("held", || async { says(scene.service.get("/api/status").await?) }).await;
    assert!(reported.contains("no answer within 0.3 s"), "{reported}");
    scene.orders.set_faults(Faults::default());
    scene.quiet(1).await;
    let workspace = scene.service.workspace().to_string_lossy().into_owned();
    let erp = std::fs::read_to_string(scene.service.workspace().join("connections/erp.toml")).unwrap();
    let address = erp.lines().find(|line| line.starts_with("address")).unwrap().to_owned();
    scene.service.change("connections/erp.toml", &address, "address   = \"http://127.0.0.1:9\"");
    assert_eq!(scene.service.command(&["deploy", &workspace]).0, 0);
    scene.send(1, Flaw::None);
    let reported = eventually("held", || async { says(scene.service.get("/api/status").await?) }).await;
    assert!(reported.contains("cannot connect"), "{reported}");
    let (code, _, err) = scene.service.command(&["connection", "test", "erp"]);
    assert_eq!(code, 1);
    assert!(err.contains("connection refused by http://127.0.0.1:9: check the port"), "{err}");
    // After the correction, waiting messages continue by themselves: the current connections are always used.
    scene.service.change("connections/erp.toml", "address   = \"http://127.0.0.1:9\"", &address);
    assert_eq!(scene.service.command(&["deploy", "--take-back", &workspace]).0, 0);
    scene.quiet(2).await;
    scene.assert_all_once();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_collect_folder_that_cannot_be_written_holds_the_acknowledgments() {
    let mut scene = Scene::open().await;
    let folder = scene.service.files().join("marrowfield/to-them");
    std::fs::remove_dir(&folder).unwrap();
    scene.send(2, Flaw::None);
    let reported = eventually("held", || async {
        let status = scene.service.get("/api/status").await?;
        let held = status["on_hold"].as_array()?.iter().find(|held| held["connection"] == "marrowfield-collect")?.clone();
        Some(held["says"].as_str()?.to_owned())
    })
    .await;
    assert!(reported.contains("the folder does not exist"), "{reported}");
    std::fs::create_dir(&folder).unwrap();
    scene.quiet(2).await;
    scene.assert_all_once();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_database_away_for_ten_seconds_loses_and_doubles_nothing() {
    let (mut cluster, _folder) = private_cluster(true);
    cluster.create_database("wirewatch").unwrap();
    let mut scene = Scene::open_on(&Database { url: cluster.url("wirewatch") }).await;
    for _ in 0..20 {
        scene.send(5, Flaw::None);
    }
    // In the middle of the work, so that commits are running.
    eventually("some are booked", || async { (scene.orders.summary().booked > 10).then_some(()) }).await;
    cluster.stop();
    for _ in 0..5 {
        scene.send(5, Flaw::None);
    }
    tokio::time::sleep(Duration::from_secs(10)).await;
    assert!(!scene.service.has_ended(), "{}", scene.service.logged());
    cluster.start_again().unwrap();
    scene.quiet(125).await;
    scene.assert_all_once();
    // Again and again, shortly, in the middle of commits.
    for round in 0..4 {
        for _ in 0..5 {
            scene.send(5, Flaw::None);
        }
        let wanted = 125 + round * 25 + 3;
        eventually("some more are booked", || async { (scene.orders.summary().booked > wanted).then_some(()) }).await;
        cluster.stop();
        cluster.start_again().unwrap();
    }
    scene.quiet(225).await;
    scene.assert_all_once();
    scene.service.stop();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn while_the_database_is_away_calls_stay_with_their_sender() {
    let (mut cluster, _folder) = private_cluster(true);
    cluster.create_database("wirewatch").unwrap();
    let mut scene = Scene::open_on(&Database { url: cluster.url("wirewatch") }).await;
    let mut shop = Shop::new(&scene.service.url("/in/shop-7d2f"), &scene.shop_secret, 1000);
    // Enough calls that some of them are stored in a rush.
    let reported: Vec<ShopEvent> = (0..40).map(|_| shop.purchase()).collect();
    cluster.stop();
    let answers = join_all(reported.iter().map(|one| shop.tell(one))).await;
    assert_eq!(answers, vec![Ok(503); 40]);
    cluster.start_again().unwrap();
    for one in &reported {
        eventually("it is taken", || async { (shop.tell(one).await == Ok(202)).then_some(()) }).await;
    }
    scene.quiet(40).await;
    assert_eq!(scene.orders.summary().booked, 40, "what was committed late is recognised");
    scene.service.stop();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_corrected_password_reaches_what_waits() {
    let mut scene = Scene::prepare(&Database::new()).await;
    scene.service.change("connections/erp.toml", "timeout ", "auth = { as = \"bearer\", secret = \"erp-token\" }\ntimeout ");
    scene.orders.set_faults(Faults { token: Some("right".to_owned()), ..Faults::default() });
    scene.service.start().await;
    scene.send(3, Flaw::None);
    let held = async |words: &str| {
        eventually(&format!("the connection is held: {words}"), || async {
            let status = scene.service.get("/api/status").await?;
            status["on_hold"][0]["says"].as_str()?.contains(words).then_some(())
        })
        .await
    };
    held("the secret `erp-token` is not set").await;
    let set = async |value: &str| {
        let (status, says) = scene.service.put("/api/secrets/erp-token", &json!({ "value": value })).await;
        assert_eq!((status, &says["value"]), (200, &Value::Null), "a value that was given is not shown");
    };
    set("wrong").await;
    held("answered 401: credentials are missing or wrong; check the credentials of the connection").await;
    // It is probed as soon as the secret is changed, not only when the next probe is due.
    set("right").await;
    scene.quiet(3).await;
    assert_eq!(scene.orders.summary().booked, 3);
    assert!(!scene.service.logged().contains("Bearer"), "it is not logged");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn with_the_database_away_at_the_start_the_service_waits_for_it_and_says_so() {
    let (mut cluster, _folder) = private_cluster(true);
    cluster.create_database("wirewatch").unwrap();
    let mut scene = Scene::prepare(&Database { url: cluster.url("wirewatch") }).await;
    cluster.stop();
    scene.service.launch();
    let http = wirewatch_testkit::http_client();
    let answer = eventually("it answers that it waits", || async {
        let response = http.get(scene.service.url("/health/ready")).send().await.ok()?;
        let status = response.status().as_u16();
        Some((status, response.text().await.ok()?))
    })
    .await;
    assert!(answer.0 == 503 && answer.1.contains("waits for its database"), "{answer:?}");
    assert_eq!(http.get(scene.service.url("/health/live")).send().await.unwrap().status(), 200, "nobody must restart it");
    eventually("the log says so", || async { scene.service.logged().contains("the database cannot be reached").then_some(()) })
        .await;
    assert!(!scene.service.has_ended(), "{}", scene.service.logged());
    cluster.start_again().unwrap();
    eventually("it is ready", || async { scene.service.get("/api/status").await }).await;
    // Without a database to wait for, the service ends with the reason.
    scene.service.stop();
    let mut scene = Scene::prepare(&Database { url: cluster.url("no-such-database") }).await;
    scene.service.launch();
    eventually("it ends", || {
        let ended = scene.service.has_ended();
        async move { ended.then_some(()) }
    })
    .await;
    assert!(scene.service.logged().contains("no-such-database"), "{}", scene.service.logged());
}
