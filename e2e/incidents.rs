//! Incidents of the service itself, such as silent intakes; and the limit of unfinished messages of a flow.

use serde_json::{Value, json};
use std::time::Duration;
use wirewatch_testkit::{Database, Service, eventually, eventually_within, http_client};

const ORDER: &str = r#"{ "type": "object", "properties": { "number": { "type": "string" }, "pieces": { "type": "integer" } } }"#;

fn files(flow: &str) -> Vec<(&'static str, String)> {
    let plain = [
        ("workspace.toml", "format = 1"),
        ("schemas/order.schema.json", ORDER),
        (
            "connections/shop.toml",
            "kind = \"webhook\"\npath = \"shop\"\naccept = [{ warning = \"connection::unsigned\", because = \"a test\" }]",
        ),
        ("connections/erp.toml", "kind = \"http\"\naddress = \"http://127.0.0.1:1\"\nrepeat = \"safe\""),
        ("connections/notices.toml", "kind = \"folder\"\npath = \"notices\""),
        ("connections/here.toml", "kind = \"incidents\""),
        (
            "flows/notices.toml",
            "[[intake]]\nfrom = \"here\"\ntakes = \"incident\"\nevents = [\"on-hold\", \"resumed\", \"failed\", \"silent\"]\n\
             [[step]]\nname = \"write\"\nsend = { to = \"notices\", file = \"{what}-{connection else flow}.json\" }\n",
        ),
    ];
    let plain = plain.into_iter().map(|(name, text)| (name, text.to_owned()));
    plain.chain([("flows/orders.toml", flow.to_owned())]).collect()
}

async fn open(flow: &str) -> Service {
    let files = files(flow);
    let files: Vec<(&str, &str)> = files.iter().map(|(name, text)| (*name, text.as_str())).collect();
    let mut service = Service::with_files(&Database::new(), &files);
    service.start().await;
    service
}

async fn call(service: &Service, number: &str) -> u16 {
    let body = json!({ "number": number, "pieces": 2 });
    http_client().post(service.url("/in/shop")).json(&body).send().await.unwrap().status().as_u16()
}

/// The incident in that file, once it is there.
async fn reported(service: &Service, file: &str) -> Value {
    let path = service.files().join("notices").join(file);
    eventually(
        || format!("{file} is written\n{}", service.logged()),
        || async { serde_json::from_slice(&std::fs::read(&path).ok()?).ok() },
    )
    .await
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_held_connection_a_message_failed_and_a_silent_intake_are_reported_by_a_flow() {
    let service = open(
        "key = \"number\"\n[[intake]]\nfrom = \"shop\"\ntakes = \"order\"\nsilent_after = \"1s\"\n\
         [[step]]\nname = \"look\"\ncheck = [{ that = \"number != 'B-1'\", says = \"{number} is not for us\" }]\n\
         [[step]]\nname = \"book\"\ncall = { at = \"erp\", post = \"/orders\", body = \"it\" }\n",
    )
    .await;
    let silent = reported(&service, "silent-shop.json").await;
    assert_eq!((&silent["what"], &silent["flow"]), (&json!("silent"), &json!("orders")));
    assert!(silent["says"].as_str().unwrap().starts_with("nothing was received from shop for "), "{silent}");
    let status = eventually("the status", || service.get("/api/status")).await;
    assert!(status["warnings"].to_string().contains("expected at least every"), "{status}");

    assert_eq!(call(&service, "A-1").await, 202);
    let held = reported(&service, "on-hold-erp.json").await;
    assert_eq!((&held["what"], &held["connection"]), (&json!("on-hold"), &json!("erp")));
    assert!(held["says"].as_str().unwrap().starts_with("erp is on hold: cannot connect"), "{held}");

    assert_eq!(call(&service, "B-1").await, 202);
    let failed = reported(&service, "failed-orders.json").await;
    assert_eq!((&failed["key"], &failed["step"], &failed["says"]), (&json!("B-1"), &json!("look"), &json!("B-1 is not for us")));
    // Incidents are reported by an ordinary flow; that flow reports nothing about itself.
    let page = eventually("the notices", || service.get("/api/messages?flow=notices&limit=50")).await;
    let all = page["messages"].as_array().unwrap();
    assert!(all.len() >= 3 && all.iter().all(|one| one["state"] == "done"), "{page}");

    service.post("/api/connections/erp/resume").send().await.unwrap();
    let free = reported(&service, "resumed-erp.json").await;
    assert_eq!((&free["what"], &free["says"]), (&json!("resumed"), &json!("erp is in use again")));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_flow_with_enough_under_way_leaves_the_rest_with_its_sender() {
    let service = open(
        "key = \"number\"\nin_flight = 4\n[[intake]]\nfrom = \"shop\"\ntakes = \"order\"\n\
         [[step]]\nname = \"keep\"\nsend = { to = \"notices\", file = \"{number}.json\" }\n",
    )
    .await;
    let (code, _, err) = service.command(&["flow", "pause", "orders", "--why", "counting"]);
    assert_eq!(code, 0, "{err}");
    let mut taken = 0;
    eventually("the rest stays with its sender", || {
        taken += 1;
        let number = format!("C-{taken}");
        let service = &service;
        async move { (call(service, &number).await == 503).then_some(()) }
    })
    .await;
    assert!((5..20).contains(&taken), "four are taken, and few more: {taken}");
    let (_, out, _) = service.command(&["flow", "list"]);
    assert!(out.contains("paused by") && out.contains("counting"), "{out}");
    let (_, out, _) = service.command(&["status"]);
    assert!(out.contains("orders is paused by ") && out.contains(": counting ("), "{out}");
    let (code, _, err) = service.command(&["flow", "resume", "orders"]);
    assert_eq!(code, 0, "{err}");
    eventually("it takes again", || async { (call(&service, "D-1").await == 202).then_some(()) }).await;
    eventually_within(Duration::from_secs(20), "all are done", || async {
        let status = service.get("/api/status").await?;
        status["unfinished"].as_object()?.is_empty().then_some(())
    })
    .await;
}
