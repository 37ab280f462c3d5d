//! Captures: whatever arrives is recorded, can be inspected, saved and passed on, and the address can become a real intake.

use crate::scene::Scene;
use serde_json::Value;
use std::path::PathBuf;
use wirewatch_standins::shop::Shop;
use wirewatch_testkit::eventually;
use wirewatch_testkit::http_client;

/// Opens a capture by the client and gives its name and address.
fn open(scene: &Scene, arguments: &[&str]) -> (String, String) {
    let (code, out, errors) = scene.service.command(&[arguments, &["--detach", "--json"]].concat());
    assert_eq!(code, 0, "{errors}");
    let capture: Value = serde_json::from_str(&out).unwrap();
    let text = |name: &str| capture[name].as_str().unwrap().to_owned();
    (text("name"), text("address"))
}

async fn items(scene: &Scene, name: &str, least: usize) -> Vec<Value> {
    eventually(&format!("{least} in the capture"), || async {
        let story = scene.service.get(&format!("/api/captures/{name}")).await?;
        let caught = story["caught"].as_array()?.clone();
        (caught.len() >= least).then_some(caught)
    })
    .await
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_a_sender_calls_with_is_seen_saved_passed_on_and_then_taken_at_the_same_address() {
    let mut scene = Scene::open().await;
    let (name, address) = open(&scene, &["capture", "http"]);
    // The shop, set up with the capture's address; and somebody who sends no JSON.
    let mut shop = Shop::new(&address, &scene.shop_secret, 1000);
    let reported = shop.purchase();
    assert_eq!(shop.tell(&reported).await, Ok(200));
    let client = http_client();
    let broken = client.post(format!("{address}?from=test")).header("authorization", "Bearer secret").body("{ \"number\": }");
    assert_eq!(broken.send().await.unwrap().status(), 200);
    // Recorded items survive a planned restart and a crash.
    scene.service.stop();
    scene.service.start().await;
    scene.service.kill();
    scene.service.start().await;
    let caught = items(&scene, &name, 2).await;
    assert_eq!((caught[1]["form"].as_str(), caught[1]["fault"].as_str()), (Some("json"), Some("")));
    assert_eq!(caught[1]["headers"]["webhook-id"], reported.id.as_str());
    assert!(caught[0]["fault"].as_str().unwrap().contains("column 13"), "{}", caught[0]);
    assert_eq!(caught[0]["line"], format!("POST /in/{name}?from=test"));
    assert_eq!(caught[0]["headers"]["authorization"], "…", "credentials are not shown");
    let (code, out, _) = scene.service.command(&["capture", "show", &name]);
    assert!(code == 0 && out.contains("json, ") && out.contains("cannot be read"), "{out}");
    // Saved unchanged, and passed on to the flow.
    let file: PathBuf = scene.service.folder.path().join("sample.json");
    let (code, _, errors) = scene.service.command(&["capture", "save", &name, "1", file.to_str().unwrap()]);
    assert_eq!((code, std::fs::read_to_string(&file).unwrap()), (0, reported.body.clone()), "{errors}");
    let (code, out, errors) = scene.service.command(&["capture", "pass", &name, "1", "--flow", "shop-orders"]);
    assert!(code == 0 && out.contains("received"), "{out}{errors}");
    scene.quiet(1).await;
    // A flow of it: its connection has the capture's address, so the sender changes nothing.
    let workspace = scene.service.workspace().to_string_lossy().into_owned();
    let make =
        |n: &str, flow: &str| scene.service.command(&["capture", "flow", &name, n, "--flow", flow, "--workspace", &workspace]);
    let (code, out, errors) = make("1", "purchases");
    assert_eq!(code, 0, "{errors}");
    for file in ["connections/purchases", "flows/purchases", "schemas/purchases.schema", "cases/purchases/"] {
        assert!(out.contains(&format!("+ {file}")), "{out}");
    }
    assert!(out.contains(&format!("next: `wirewatch check {workspace}`")), "{out}");
    for (n, flow, says) in [
        ("1", "purchases", "exists already; choose another name"),
        ("2", "other", "begins like JSON and cannot be read"),
        ("9", "other", "has no item 9 (any more)"),
    ] {
        let (code, _, errors) = make(n, flow);
        assert!(code == 1 && errors.contains(says), "{n} {flow}: {errors}");
    }
    let (code, out, errors) = scene.service.command(&["deploy", &workspace]);
    assert_eq!(code, 0, "{out}{errors}");
    let reported = shop.purchase();
    assert_eq!(shop.tell(&reported).await, Ok(202));
    let made = eventually("the new flow has it", || async {
        let made = scene.messages("flow=purchases&state=done").await;
        (made.len() == 1).then_some(made)
    })
    .await;
    assert!(reported.body.contains(made[0]["key"].as_str().unwrap()), "{made:?}");
    assert_eq!(scene.service.command(&["capture", "close", &name]).0, 0);
    assert_eq!(scene.service.command(&["capture", "show", &name]).0, 1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_goes_to_an_exchange_is_overheard_and_taken_from_nobody() {
    let mut scene = Scene::open().await;
    scene.queues_known().await;
    let exchange = scene.broker.name("picks");
    let (name, address) =
        open(&scene, &["capture", "queue", "warehouse", "--exchange", &exchange, "--pattern", "picks.swiftfoot.#"]);
    assert_eq!(address, format!("{exchange} picks.swiftfoot.# at warehouse"));
    let release = r#"{"order":"Q-7","reference":"W-7","ship_on":"2026-12-01","carrier":"SWIFTFOOT","lines":[{"item":"QH-VEIL-R","quantity":2}]}"#;
    let properties = lapin::BasicProperties::default().with_type("order.released".into()).with_message_id("r7".into());
    scene.broker.put("orders-released", release.as_bytes(), properties).await;
    let caught = items(&scene, &name, 1).await;
    assert_eq!(caught[0]["line"], format!("{exchange} picks.swiftfoot.2026-12-01.Q-7"));
    assert_eq!(caught[0]["headers"]["correlation_id"], "W-7", "{}", caught[0]);
    assert_eq!(scene.broker.next("picks-to-do").await.routing_key.as_str(), "picks.swiftfoot.2026-12-01.Q-7");
    // After a restart the capture has its items and continues to record.
    scene.service.stop();
    scene.service.start().await;
    scene.queues_known().await;
    let heard = eventually("it hears again", || async {
        let story = scene.service.get(&format!("/api/captures/{name}")).await?;
        (story["capture"]["says"] == "" && story["caught"].as_array()?.len() == 1).then_some(story)
    })
    .await;
    assert_eq!(heard["capture"]["arrived"], 1);
    // Submitted by hand, the document is processed as if it had arrived from the queue.
    let file = scene.service.folder.path().join("release.json");
    std::fs::write(&file, release.replace("Q-7", "Q-8")).unwrap();
    let (code, out, errors) = scene.service.command(&["submit", "picks", file.to_str().unwrap()]);
    assert_eq!(code, 0, "{out}{errors}");
    assert_eq!(items(&scene, &name, 2).await[0]["line"], format!("{exchange} picks.swiftfoot.2026-12-01.Q-8"));
    // A flow of it has a queue of its own at the exchange.
    let workspace = scene.service.workspace().to_string_lossy().into_owned();
    let queue = scene.broker.name("swift-picks");
    let (code, out, errors) =
        scene.service.command(&["capture", "flow", &name, "1", "--flow", &queue, "--workspace", &workspace]);
    assert!(code == 0 && out.contains("± connections/warehouse.toml"), "{out}{errors}");
    assert_eq!(scene.service.command(&["deploy", &workspace]).0, 0);
    scene.queues_known().await;
    std::fs::write(&file, release.replace("Q-7", "Q-9")).unwrap();
    assert_eq!(scene.service.command(&["submit", "picks", file.to_str().unwrap()]).0, 0);
    eventually("the new flow has it", || async {
        let got = scene.messages(&format!("flow={queue}")).await;
        (got.len() == 1 && got[0]["state"] == "done").then_some(())
    })
    .await;
    let (code, _, errors) = scene.service.command(&[
        "capture",
        "flow",
        &name,
        "1",
        "--flow",
        "more",
        "--workspace",
        scene.service.folder.path().to_str().unwrap(),
    ]);
    assert!(code == 1 && errors.contains("warehouse.toml is missing"), "{errors}");
    let (code, _, errors) = scene.service.command(&["capture", "queue", "warehouse", "--exchange", "nothing", "--detach"]);
    assert!(code == 1 && errors.contains("no exchange 'nothing'"), "{errors}");
}
