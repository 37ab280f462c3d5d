//! Webhooks: calls are verified by their signature, stored before they are answered, and rejected with a reason.

use crate::scene::Scene;
use serde_json::Value;
use std::collections::BTreeMap;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::task::JoinSet;
use wirewatch_standins::shop::{Shop, ShopEvent, sign};
use wirewatch_testkit::{Database, eventually, http_client};

const PATH: &str = "/in/shop-7d2f";

/// A scene with the shop, which knows its secret.
async fn open() -> (Scene, Shop) {
    let scene = Scene::open().await;
    let shop = Shop::new(&scene.service.url(PATH), &scene.shop_secret, 1000);
    (scene, shop)
}

async fn calls(scene: &Scene) -> Vec<Value> {
    let page = eventually("arrivals are listed", || scene.service.get("/api/arrivals?connection=shop&limit=1000")).await;
    page["arrivals"].as_array().unwrap().clone()
}

async fn shop_of(scene: &Scene) -> Value {
    let all = eventually("connections are listed", || scene.service.get("/api/connections")).await;
    all.as_array().unwrap().iter().find(|one| one["name"] == "shop").unwrap()["webhook"].clone()
}

/// A call as anybody may make it.
async fn call(scene: &Scene, path: &str, headers: &[(&str, &str)], body: &str) -> u16 {
    let client = http_client();
    let mut request = client.post(scene.service.url(path)).body(body.to_owned());
    for (name, value) in headers {
        request = request.header(*name, *value);
    }
    request.send().await.unwrap().status().as_u16()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_purchase_is_booked_once_though_it_is_reported_twice() {
    let (scene, mut shop) = open().await;
    let _warehouse = scene.open_warehouse();
    let reported: Vec<ShopEvent> = (0..5).map(|_| shop.purchase()).collect();
    for one in &reported {
        assert_eq!(shop.tell(one).await, Ok(202));
    }
    assert_eq!(shop.tell(&reported[0]).await, Ok(202), "a repeat is answered as the first was: its sender may forget it");
    let listing = shop.listing();
    assert_eq!(shop.tell(&listing).await, Ok(202));
    scene.quiet(5).await;
    let verdicts: Vec<String> = calls(&scene).await.iter().rev().map(|one| one["verdict"].as_str().unwrap().to_owned()).collect();
    assert_eq!(verdicts, ["received", "received", "received", "received", "received", "duplicate", "received"]);
    let newest = &calls(&scene).await[0];
    assert_eq!((newest["messages"].as_i64(), newest["says"].as_str()), (Some(0), Some("no flow takes item.listed from shop")));
    let order = eventually("the order is followed along its milestones, over the queues to the warehouse and back", || async {
        let order = scene.service.get("/api/orders/W-1003").await?["orders"][0].clone();
        (order["state"] == "done").then_some(order)
    })
    .await;
    let reached = order["milestones"].as_array().unwrap().iter().filter(|one| one["at"].is_string());
    let reached: Vec<&str> = reached.map(|one| one["name"].as_str().unwrap()).collect();
    assert_eq!(reached, ["purchased", "booked", "picked", "shipped"]);
    // A buyer of many pieces gets them two days later: the shop's room and operations are both notified.
    eventually("moved dates are announced", || async {
        let (shop, operations) = (scene.chat.sentences("shop"), scene.chat.sentences("operations"));
        (!shop.is_empty() && shop.len() == operations.len()).then_some(())
    })
    .await;
    assert!(scene.chat.sentences("shop")[0].ends_with("the large van comes in two days"), "{:?}", scene.chat.sentences("shop"));
    eventually("the order system knows what has left", || async { (scene.orders.shipped() > 0).then_some(()) }).await;
    // The same id with other content is a new arrival, with a note.
    let other = ShopEvent { body: reported[1].body.replace("USD", "CAD"), ..reported[1].clone() };
    assert_eq!(shop.tell(&other).await, Ok(202));
    let says = calls(&scene).await[0]["says"].as_str().unwrap().to_owned();
    assert!(says.contains("was received before with other content"), "{says}");
    // The sender's events by name, with a sample of each.
    let webhook = shop_of(&scene).await;
    let events: Vec<(&str, i64, usize)> = webhook["events"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| (one["event"].as_str().unwrap(), one["calls"].as_i64().unwrap(), one["flows"].as_array().unwrap().len()))
        .collect();
    assert_eq!(events, [("item.listed", 1, 0), ("purchase.placed", 7, 1)]);
    assert_eq!(webhook["local_only"], true);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn forged_replayed_oversized_and_slow_calls_never_become_messages() {
    let (scene, mut shop) = open().await;
    let reported = shop.purchase();
    assert_eq!(shop.tell_as(&reported, "whsec_Zm9yZ2Vk").await, Ok(401), "forged");
    assert_eq!(call(&scene, PATH, &[], &reported.body).await, 401, "not signed");
    let hour = 3600;
    let then = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs() - hour;
    let secret = &scene.shop_secret;
    let signature = sign(secret, &reported.id, then, reported.body.as_bytes());
    let old = then.to_string();
    let headers =
        [("webhook-id", reported.id.as_str()), ("webhook-timestamp", old.as_str()), ("webhook-signature", signature.as_str())];
    assert_eq!(call(&scene, PATH, &headers, &reported.body).await, 401, "replayed an hour later");
    let webhook = shop_of(&scene).await;
    assert_eq!(webhook["turned_away"]["calls"], 3);
    assert!(webhook["turned_away"]["says"].as_str().unwrap().contains("s from ours"), "{webhook}");
    assert_eq!(call(&scene, PATH, &[], &"x".repeat((1 << 20) + 1)).await, 413);
    assert_eq!(call(&scene, "/in/nothing-here", &[], "{}").await, 404);
    // Sent byte by byte: the connection is closed, and nobody else waits.
    let address = scene.service.url("").replace("http://", "");
    let mut slow = TcpStream::connect(&address).unwrap();
    slow.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
    let claim = format!("webhook-id: slow\r\nwebhook-timestamp: {now}\r\nwebhook-signature: v1,AAAA");
    write!(slow, "POST {PATH} HTTP/1.1\r\nHost: {address}\r\n{claim}\r\nContent-Length: 100\r\n\r\n{{").unwrap();
    let mut slower = TcpStream::connect(&address).unwrap();
    slower.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
    write!(slower, "POST {PATH} HTTP/1.1\r\nHost: {address}\r\nX-Slow: ").unwrap();
    let shop = Shop::new(&scene.service.url(PATH), secret, 2000);
    assert_eq!(shop.tell(&reported).await, Ok(202));
    let mut answer = [0; 12];
    slow.read_exact(&mut answer).unwrap();
    assert_eq!(&answer, b"HTTP/1.1 408");
    let mut rest = Vec::new();
    slower.read_to_end(&mut rest).unwrap();
    assert!(!String::from_utf8_lossy(&rest).contains(" 202 "), "its headers are incomplete: the connection is ended");
    // Only the genuine call was received.
    scene.quiet(1).await;
    assert_eq!(calls(&scene).await.len(), 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_secret_is_changed_without_losing_a_call() {
    let (scene, mut shop) = open().await;
    let (code, new, err) = scene.service.command(&["secret", "rotate", "shop-signing", "--generate", "--keep", "1h"]);
    assert_eq!(code, 0, "{err}");
    assert!(err.contains("the earlier value stays valid until"), "{err}");
    let purchase = shop.purchase();
    assert_eq!(shop.tell(&purchase).await, Ok(202), "signed with the old one");
    let purchase = shop.purchase();
    assert_eq!(shop.tell_as(&purchase, new.trim()).await, Ok(202), "signed with the new one");
    let (_, listed, _) = scene.service.command(&["secret", "list"]);
    assert!(listed.contains("shop-signing") && !listed.contains(new.trim()), "{listed}");
    assert!(!scene.service.logged().contains(new.trim()), "it is not logged");
    // The secret survives a restart, encrypted.
    let mut scene = scene;
    scene.service.kill();
    scene.service.start().await;
    let purchase = shop.purchase();
    assert_eq!(shop.tell_as(&purchase, new.trim()).await, Ok(202));
    assert_eq!(scene.service.command(&["secret", "remove", "shop-signing"]).0, 0);
    let purchase = shop.purchase();
    assert_eq!(shop.tell_as(&purchase, new.trim()).await, Ok(401));
    let status = eventually("the status", || scene.service.get("/api/status")).await;
    assert!(status["warnings"].to_string().contains("shop-signing"), "{status}");
    assert_eq!(scene.service.command(&["secret", "remove", "shop-signing"]).0, 1);
    let (code, _, err) = scene.service.command(&["secret", "set", "shop-signing"]);
    assert!(code == 1 && err.contains("standard input is empty") && err.contains("--generate"), "{err}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn one_call_is_submitted_by_hand_signed_as_its_sender_would() {
    let (scene, _) = open().await;
    let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/samples/purchase.json");
    let (code, out, err) = scene.service.command(&["submit", "shop", file]);
    assert!(code == 0 && out.starts_with(&format!("POST {PATH}  done 202")), "{out}{err}");
    scene.quiet(1).await;
    assert_eq!(scene.orders.summary().booked, 1);
    let (code, out, err) = scene.service.command(&["submit", "erp", "--post", "/nothing/here", file]);
    assert!(code == 1 && out.contains("refused 404"), "{out}{err}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_address_is_checked_held_limited_and_withdrawn() {
    let (scene, mut shop) = open().await;
    let client = http_client();
    assert_eq!(client.get(scene.service.url(PATH)).send().await.unwrap().status(), 200);
    assert_eq!(call(&scene, PATH, &[], "").await, 200, "an empty first call only checks the address");
    assert!(shop_of(&scene).await["checked"].is_string());
    assert_eq!(calls(&scene).await.len(), 0);
    let (code, _, err) = scene.service.command(&["connection", "hold", "shop", "--why", "they move"]);
    assert_eq!(code, 0, "{err}");
    let purchase = shop.purchase();
    eventually("a held address keeps calls with their sender", || async {
        (shop.tell(&purchase).await == Ok(503)).then_some(())
    })
    .await;
    assert_eq!(scene.service.command(&["connection", "resume", "shop"]).0, 0);
    eventually("it is open again", || async { (shop.tell(&purchase).await == Ok(202)).then_some(()) }).await;
    // A new address; the old one answers until it is withdrawn. And a limit.
    scene.service.change(
        "connections/shop.toml",
        "\"shop-7d2f\"  ",
        "\"shop-new\"\nold_paths = [\"shop-7d2f\"]\nper_second = 2\n",
    );
    let workspace = scene.service.workspace();
    assert_eq!(scene.service.command(&["deploy", workspace.to_str().unwrap()]).0, 0);
    let purchase = shop.purchase();
    assert_eq!(shop.tell(&purchase).await, Ok(202), "at the old one");
    assert_eq!(call(&scene, "/in/shop-new", &[], "{}").await, 401, "the new one is there");
    let mut limited = 0;
    for _ in 0..20 {
        limited += usize::from(shop.tell(&purchase).await == Ok(429));
    }
    assert!(limited > 0, "more than two in a second are asked to come again");
    scene.service.change("connections/shop.toml", "old_paths = [\"shop-7d2f\"]\nper_second = 2\n", "");
    assert_eq!(scene.service.command(&["deploy", workspace.to_str().unwrap()]).0, 0);
    assert_eq!(shop.tell(&purchase).await, Ok(404), "withdrawn");
    scene.quiet(2).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_was_answered_is_there_after_a_crash() {
    let (mut scene, mut shop) = open().await;
    let mut reported = Vec::new();
    for round in 0..3 {
        let more: Vec<ShopEvent> = (0..40).map(|_| shop.purchase()).collect();
        let mut answered = 0;
        for one in &more {
            answered += usize::from(shop.tell(one).await == Ok(202));
            if answered == 20 + round {
                scene.service.kill();
                break;
            }
        }
        reported.extend(more);
        scene.service.start().await;
    }
    // The sender repeats everything: received calls are recognised, the others are received.
    for one in &reported {
        assert_eq!(shop.tell(one).await, Ok(202));
    }
    scene.quiet(reported.len()).await;
    assert_eq!(scene.orders.summary().booked, reported.len());
    assert_eq!(scene.messages("flow=shop-orders&state=done").await.len(), reported.len());
}

/// The verdicts that calls were answered 202 with, by the call's id.
type Answered = Arc<Mutex<BTreeMap<String, String>>>;

/// Makes these calls over forty connections at once, until each is answered or no connection is left. Each answer is added to
/// `answered` as it arrives.
async fn rush(address: String, secret: String, calls: Vec<ShopEvent>, answered: Answered) {
    let waiting = Arc::new(Mutex::new(calls));
    let mut callers = JoinSet::new();
    for _ in 0..40 {
        let (waiting, answered, client) = (waiting.clone(), answered.clone(), http_client());
        let (address, secret) = (address.clone(), secret.clone());
        callers.spawn(async move {
            loop {
                let Some(ShopEvent { id, body }) = waiting.lock().unwrap().pop() else { return };
                let seconds = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
                let signature = sign(&secret, &id, seconds, body.as_bytes());
                let request = client.post(&address).header("webhook-id", &id).header("webhook-timestamp", seconds);
                let sent = request.header("webhook-signature", signature).body(body).send().await;
                let Ok(response) = sent else { return };
                assert_eq!(response.status(), 202);
                let Ok(answer) = response.json::<Value>().await else { return };
                answered.lock().unwrap().insert(id, answer["verdict"].as_str().unwrap().to_owned());
            }
        });
    }
    callers.join_all().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn in_a_rush_calls_are_kept_and_answered_and_a_crash_loses_none_of_them() {
    const SPOOLED: &str = "select count(*) from spool";
    let database = Database::new();
    let mut scene = Scene::open_on(&database).await;
    let mut shop = Shop::new(&scene.service.url(PATH), &scene.shop_secret, 1000);
    let reported: Vec<ShopEvent> = (0..400).map(|_| shop.purchase()).collect();
    let answered = Answered::default();
    let calling = tokio::spawn(rush(scene.service.url(PATH), scene.shop_secret.clone(), reported.clone(), answered.clone()));
    eventually("a caller has the answer `stored`", || async {
        answered.lock().unwrap().values().any(|verdict| verdict == "stored").then_some(())
    })
    .await;
    scene.service.kill();
    calling.await.unwrap();
    let answered = answered.lock().unwrap().clone();
    scene.service.start().await;
    // The sender repeats only the calls that were not answered.
    for one in reported.iter().filter(|one| !answered.contains_key(&one.id)) {
        assert_eq!(shop.tell(one).await, Ok(202));
    }
    scene.quiet(reported.len()).await;
    assert_eq!(scene.orders.summary().booked, reported.len());
    assert_eq!(scene.messages("flow=shop-orders&state=done").await.len(), reported.len());
    eventually("the spool is empty", || async { (database.number(SPOOLED).await == 0).then_some(()) }).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_arrival_keeps_the_headers_of_its_call_and_no_credentials() {
    let (scene, mut shop) = open().await;
    let ShopEvent { id, body } = shop.purchase();
    let seconds = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
    let signature = sign(&scene.shop_secret, &id, seconds, body.as_bytes());
    let call = http_client().post(scene.service.url(PATH)).header("webhook-id", &id).header("webhook-timestamp", seconds);
    let call = call.header("webhook-signature", signature).header("authorization", "Bearer hush").header("x-api-key", "hush");
    let call = call.header("x-lane", "north").header("x-lane", "south").header("x-long", "x".repeat(20_000));
    assert_eq!(call.body(body).send().await.unwrap().status(), 202);
    scene.quiet(1).await;
    let arrival = calls(&scene).await.remove(0)["id"].as_str().unwrap().to_owned();
    let story = scene.service.get(&format!("/api/arrivals/{arrival}")).await.unwrap();
    let headers = &story["headers"]["headers"];
    assert_eq!((&headers["webhook-id"], &headers["x-lane"]), (&id.as_str().into(), &"north, south".into()), "{story}");
    for hidden in ["authorization", "x-api-key", "x-long"] {
        assert_eq!(headers[hidden], "…", "{hidden}");
    }
    let (code, out, err) = scene.service.command(&["show", &arrival]);
    assert!(code == 0 && out.contains("x-lane: north, south") && !out.contains("hush"), "{out}{err}");
    let message = scene.messages("flow=shop-orders").await[0]["id"].as_str().unwrap().to_owned();
    let story = scene.service.get(&format!("/api/messages/{message}")).await.unwrap();
    assert_eq!(story["meta"]["headers"]["x-lane"], "north, south", "flows read them in $meta.headers");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_call_that_cannot_be_read_fails_and_is_not_lost() {
    let (scene, shop) = open().await;
    let broken = ShopEvent { id: "b1".to_owned(), body: "{\"type\": \"purchase.placed\", ".to_owned() };
    assert_eq!(shop.tell(&broken).await, Ok(202), "it is ours now");
    let arrival = calls(&scene).await.remove(0);
    assert_eq!((arrival["verdict"].as_str(), arrival["name"].as_str()), (Some("failed"), Some("call b1")));
    assert_eq!(scene.messages("flow=shop-orders").await.len(), 0);
}
