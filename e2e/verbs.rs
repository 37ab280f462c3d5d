//! Verbs that pause, branch and notify, with kills of the service.

use serde_json::{Value, json};
use std::collections::BTreeMap;
use wirewatch_standins::chat::Chat;
use wirewatch_testkit::{Database, Service, eventually};

const SCHEMA: &str = r#"{ "type": "object", "properties": { "number": { "type": "string" }, "rush": { "type": "boolean" } } }"#;
const FLOW: &str = r#"
title = "Winding"
key   = "number"

[[intake]]
from  = "drop"
takes = "note"

[[step]]
name  = "rest"
pause = { for = "2s" }

[[step]]
name = "both"

[[step.also]]
way = "shop"
[[step.also.step]]
name   = "tell-shop"
notify = { at = "chat", post = "/shop", says = "{number}" }

[[step.also]]
way = "nowhere"
[[step.also.step]]
name   = "tell-nobody"
notify = { at = "chat", post = "/rooms/that/are/not", says = "{number}" }

[[step]]
name = "which"

[[step.choose]]
when = "rush"
[[step.choose.step]]
name   = "tell-operations"
notify = { at = "chat", post = "/operations", says = "{number} is in a hurry" }

[[step.choose]]

[[on_failure]]
name   = "alarm"
notify = { at = "chat", post = "/alarms", says = "{number}: {$error.step} failed", once_per = "$error.cause" }
"#;

async fn chat() -> (Chat, String) {
    let chat = Chat::default();
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    let router = chat.router();
    tokio::spawn(async move { axum::serve(listener, router).await });
    (chat, address)
}

async fn all(service: &Service) -> Option<Vec<Value>> {
    service.get("/api/messages?limit=100").await?["messages"].as_array().cloned()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_message_pauses_over_a_kill_goes_two_ways_and_one_alarm_reports_of_all_that_failed_alike() {
    let (chat, address) = chat().await;
    let connection = format!("kind = \"http\"\naddress = \"{address}\"\nrepeat = \"key\"");
    let files = [
        ("workspace.toml", "format = 1"),
        ("connections/drop.toml", "kind = \"folder\"\npath = \"drop\""),
        ("connections/chat.toml", connection.as_str()),
        ("schemas/note.schema.json", SCHEMA),
        ("flows/winding.toml", FLOW),
    ];
    let mut service = Service::with_files(&Database::new(), &files);
    service.start().await;
    for n in 1..=3 {
        let body = json!({ "number": format!("N-{n}"), "rush": n == 2 }).to_string();
        let submitted = service.post(&format!("/api/flows/winding/submit?name=n{n}")).body(body).send().await.unwrap();
        assert!(submitted.status().is_success(), "{}", submitted.text().await.unwrap());
    }
    eventually("all wait", || async {
        let all = all(&service).await?;
        (all.len() == 3 && all.iter().all(|one| one["state"] == "waiting" && one["due"].is_string())).then_some(())
    })
    .await;
    let (_, shown, _) = service.command(&["messages"]);
    assert!(shown.contains("rest waits until "), "{shown}");
    service.kill();
    service.start().await;
    let ended = eventually("all have ended", || async {
        let all = all(&service).await?;
        let still = |one: &Value| matches!(one["state"].as_str(), Some("done" | "failed"));
        (all.len() == 9 && all.iter().all(still)).then_some(all)
    })
    .await;
    let mut counts: BTreeMap<(String, String), usize> = BTreeMap::new();
    for one in &ended {
        let text = |name: &str| one[name].as_str().unwrap_or_default().to_owned();
        *counts.entry((text("state"), text("step"))).or_default() += 1;
    }
    let expected = [(("failed".to_owned(), "tell-nobody".to_owned()), 3), (("done".to_owned(), String::new()), 6)];
    assert_eq!(counts, expected.into(), "three messages, three ways that went well, three that did not");
    let mut shop = chat.sentences("shop");
    shop.sort();
    assert_eq!(shop, ["N-1", "N-2", "N-3"]);
    assert_eq!(chat.sentences("operations"), ["N-2 is in a hurry"]);
    let alarms = chat.sentences("alarms");
    assert!(alarms.len() == 1 && alarms[0].ends_with(": tell-nobody failed"), "{alarms:?}");

    // A part knows what it is part of, and is resent alone.
    let part = ended.iter().find(|one| one["state"] == "failed" && one["key"] == "N-1").unwrap();
    let story = service.get(&format!("/api/messages/{}", part["id"].as_str().unwrap())).await.unwrap();
    assert_eq!(story["meta"]["part"]["way"], "nowhere");
    let whole = story["meta"]["part"]["of"].as_str().unwrap();
    assert!(ended.iter().any(|one| one["id"] == whole && one["key"] == "N-1" && one["state"] == "done"));
    let (_, shown, _) = service.command(&["show", part["id"].as_str().unwrap()]);
    assert!(shown.contains(&format!("branch nowhere of message {whole}")), "{shown}");
    // A key that several messages have names none of them: they are listed.
    let (code, _, err) = service.command(&["show", "N-1"]);
    assert!(code == 1 && err.contains("several messages have the key N-1") && err.contains(whole), "{err}");
    service.change("flows/winding.toml", "/rooms/that/are/not", "/nor/is/this");
    let (code, out, err) = service.command(&["deploy", &service.workspace().display().to_string()]);
    assert_eq!(code, 0, "{out}{err}");
    // They run the new release and are refused again. No second alarm is sent for the same cause, not even by the message that
    // sent the first.
    let failed: Vec<&str> = ended.iter().filter(|one| one["state"] == "failed").map(|one| one["id"].as_str().unwrap()).collect();
    for id in &failed {
        let (code, out, err) = service.command(&["resend", id, "--why", "once more"]);
        assert_eq!(code, 0, "{out}{err}");
        eventually("it failed again", || async {
            let story = service.get(&format!("/api/messages/{id}")).await?;
            let attempts = |name: &str| {
                let step = story["steps"].as_array()?.iter().find(|step| step["step"] == name)?;
                Some(step["attempts"].as_array()?.len())
            };
            (attempts("tell-nobody") == Some(2) && attempts("alarm") == Some(2) && story["message"]["state"] == "failed")
                .then_some(())
        })
        .await;
    }
    assert_eq!((chat.sentences("alarms").len(), chat.sentences("shop").len(), all(&service).await.unwrap().len()), (1, 3, 9));
}

/// Returns whether the answer of the call is in the story of the message with that number.
async fn answer_is_stored(service: &Service, number: &str) -> bool {
    let body = json!({ "number": number }).to_string();
    let submitted = service.post("/api/flows/asking/submit").body(body).send().await.unwrap();
    assert!(submitted.status().is_success(), "{}", submitted.text().await.unwrap());
    let done = eventually(
        || format!("{number} is done"),
        || async {
            let all = all(service).await?;
            all.into_iter().find(|one| one["key"] == number && one["state"] == "done")
        },
    );
    let id = done.await["id"].as_str().unwrap().to_owned();
    let story = service.get(&format!("/api/messages/{id}")).await.unwrap();
    story.to_string().contains("sentences")
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_recorded_of_a_flow_is_switched_for_a_time() {
    let (_chat, address) = chat().await;
    let connection = format!("kind = \"http\"\naddress = \"{address}\"\nrepeat = \"safe\"");
    let flow = "key = \"number\"\nrecord = \"failures\"\n[[intake]]\nfrom = \"drop\"\ntakes = \"note\"\n\
                [[step]]\nname = \"ask\"\ncall = { at = \"chat\", get = \"/operations\" }\n";
    let files = [
        ("workspace.toml", "format = 1"),
        ("connections/drop.toml", "kind = \"folder\"\npath = \"drop\""),
        ("connections/chat.toml", connection.as_str()),
        ("schemas/note.schema.json", SCHEMA),
        ("flows/asking.toml", flow),
    ];
    let mut service = Service::with_files(&Database::new(), &files);
    service.start().await;
    assert!(!answer_is_stored(&service, "N-1").await, "as the flow says");
    let (code, out, err) = service.command(&["flow", "record", "asking", "calls", "--for", "20m"]);
    assert_eq!(code, 0, "{err}");
    assert!(out.starts_with("asking: recording `calls` until "), "{out}");
    assert!(answer_is_stored(&service, "N-2").await, "while it is switched");
    let (_, out, _) = service.command(&["flow", "list"]);
    assert!(out.contains("calls until "), "{out}");
    // It is stored in the database: a restart changes nothing.
    service.kill();
    service.start().await;
    assert!(answer_is_stored(&service, "N-3").await);
    let (code, out, err) = service.command(&["flow", "record", "asking", "--back"]);
    assert_eq!((code, out.as_str()), (0, "asking: recording as its file says\n"), "{err}");
    assert!(!answer_is_stored(&service, "N-4").await);
    // After the time is over, the setting of the flow applies again.
    let request = json!({ "depth": "calls", "seconds": 1 });
    let switched = service.post("/api/flows/asking/record").json(&request).send().await.unwrap();
    assert!(switched.status().is_success());
    eventually("it has switched back", || async {
        let lines = service.get("/api/overview").await?;
        lines["lines"][0]["recorded"].is_null().then_some(())
    })
    .await;
    let mut numbers = 5..;
    eventually("and so nothing is stored", || {
        let number = format!("N-{}", numbers.next().unwrap_or_default());
        let service = &service;
        async move { (!answer_is_stored(service, &number).await).then_some(()) }
    })
    .await;
    let (code, _, err) = service.command(&["flow", "record", "askin", "calls"]);
    assert!(code == 1 && err.contains("Did you mean `asking`?"), "{err}");
}
