//! The way of an order, seen with the client.

use crate::scene::Scene;
use serde_json::{Value, json};
use wirewatch_standins::marrowfield::Flaw;
use wirewatch_testkit::{Database, Service, eventually, redact};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_order_goes_from_the_folder_to_the_order_system_and_back() {
    let mut scene = Scene::open().await;
    let alone = scene.send(1, Flaw::None);
    scene.quiet(1).await;
    let (code, out, err) = scene.service.command(&["show", &alone.orders[0]]);
    assert_eq!((code, err.as_str()), (0, ""));
    insta::assert_snapshot!("show", redact(&out));
    let sent = scene.send(3, Flaw::None);
    scene.quiet(4).await;
    scene.assert_all_once();
    let timeline = eventually("the timeline has ended", || async {
        let story = scene.service.get(&format!("/api/orders/{}", sent.orders[1])).await?;
        let order = story["orders"][0].clone();
        (order["state"] == "done" && order["milestones"].as_array()?.iter().all(|one| one["at"].is_string())).then_some(order)
    })
    .await;
    let names: Vec<&str> = timeline["milestones"].as_array().unwrap().iter().map(|one| one["name"].as_str().unwrap()).collect();
    assert_eq!(names[0], "received");
    assert!(names.contains(&"acknowledged") && names.contains(&"booked"), "{names:?}");
    let (code, out, _) = scene.service.command(&["orders"]);
    assert_eq!(code, 0);
    assert!(sent.orders.iter().all(|order| out.contains(order)), "{out}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_document_submitted_by_hand_is_watched_to_its_end() {
    let mut scene = Scene::open().await;
    let sent = scene.marrowfield.interchange_of(2, Flaw::None);
    let file = scene.service.folder.path().join("by-hand.edi");
    std::fs::write(&file, &sent.text).unwrap();
    let (code, out, err) = scene.service.command(&["submit", "partner-orders", "by-hand.edi"]);
    assert_eq!(code, 0, "{err}");
    assert!(out.contains("Q-100001") && out.contains("Q-100002"), "{out}");
    let (code, out, _) = scene.service.command(&["submit", "partner-orders", "by-hand.edi", "--json"]);
    let handed: Value = serde_json::from_str(&out).unwrap();
    assert_eq!((code, handed["verdict"].as_str()), (0, Some("duplicate")));
    let (code, _, err) = scene.service.command(&["submit", "partner-order", "by-hand.edi"]);
    assert_eq!(code, 1);
    assert!(err.contains("Did you mean `partner-orders`?"), "{err}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_live_stream_reports_everything_and_resumes_after_a_restart() {
    let mut scene = Scene::open().await;
    let folder = scene.service.folder.path().to_owned();
    let mut watching = tokio::process::Command::new(wirewatch_testkit::target_binary("wirewatch"))
        .args(["watch", "--json", "--state", "done", "--flow", "partner-orders", "--lines", "5"])
        .env("WIREWATCH_TOKEN_FILE", folder.join("state/token.json"))
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .kill_on_drop(true)
        .spawn()
        .unwrap();
    let mut errors = tokio::io::AsyncBufReadExt::lines(tokio::io::BufReader::new(watching.stderr.take().unwrap()));
    let mut lines = tokio::io::AsyncBufReadExt::lines(tokio::io::BufReader::new(watching.stdout.take().unwrap()));
    // From this line on, no event is missed.
    assert!(errors.next_line().await.unwrap().unwrap().contains("watching"));
    scene.send(1, Flaw::None);
    let first = lines.next_line().await.unwrap().unwrap();
    let mut seen = vec![serde_json::from_str::<Value>(&first).unwrap()["key"].as_str().unwrap().to_owned()];
    scene.send(2, Flaw::None);
    for _ in 0..2 {
        let line = lines.next_line().await.unwrap().unwrap();
        seen.push(serde_json::from_str::<Value>(&line).unwrap()["key"].as_str().unwrap().to_owned());
    }
    scene.service.stop();
    scene.service.start().await;
    scene.send(2, Flaw::None);
    while let Some(line) = lines.next_line().await.unwrap() {
        seen.push(serde_json::from_str::<Value>(&line).unwrap()["key"].as_str().unwrap().to_owned());
    }
    assert!(watching.wait().await.unwrap().success());
    let all: Vec<String> = scene.sent.iter().flat_map(|sent| sent.orders.clone()).collect();
    let mut expected = all;
    expected.sort();
    seen.sort();
    assert_eq!(seen, expected, "each order once, across the restart");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn exit_codes_tell_usage_refusal_and_absence_apart() {
    let mut scene = Scene::open().await;
    assert_eq!(scene.service.command(&["messages", "--state", "gone"]).0, 1);
    assert_eq!(scene.service.command(&["messages", "--nonsense"]).0, 2);
    assert_eq!(scene.service.command(&["show", "nothing"]).0, 1);
    let workspace = scene.service.workspace().to_string_lossy().into_owned();
    let (code, out, _) = scene.service.command(&["check", &workspace]);
    let files = wirewatch_service::read_workspace(&scene.service.workspace()).unwrap().len();
    assert_eq!((code, out.trim()), (0, format!("{files} files checked: 0 errors, 0 warnings").as_str()));
    scene.service.change("maps/po-to-order.toml", "\"BEG03\"", "\"BGE03\"");
    let (code, _, err) = scene.service.command(&["check", &workspace]);
    assert_eq!(code, 1);
    insta::assert_snapshot!("check", err);
    scene.service.kill();
    let (code, _, err) = scene.service.command(&["status"]);
    assert_eq!(code, 3, "{err}");
}

/// A flow lies in a folder of its own, and a key has characters that end a path or a query elsewhere.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn names_and_keys_may_have_any_characters() {
    let files = [
        ("workspace.toml", "format = 1"),
        ("connections/drop.toml", "kind = \"folder\"\npath = \"drop\""),
        ("schemas/note.schema.json", r#"{ "type": "object", "properties": { "number": { "type": "string" } } }"#),
        (
            "flows/shop/notes.toml",
            "key = \"number\"\n[[intake]]\nfrom = \"drop\"\ntakes = \"note\"\n[[step]]\nname = \"odd\"\ncheck = [{ that = \"false\", says = \"no\" }]",
        ),
        (
            "milestones/note.toml",
            "[[milestone]]\nname = \"received\"\nmark = \"begins\"\nflow = \"shop/notes\"\nwhen = \"begun\"",
        ),
    ];
    let mut service = Service::with_files(&Database::new(), &files);
    service.start().await;
    let key = "A/B?c=1#d %2F é";
    std::fs::write(service.folder.path().join("note.json"), json!({ "number": key }).to_string()).unwrap();
    let (code, out, err) = service.command(&["submit", "shop/notes", "note.json"]);
    assert!(code == 0 && out.contains("received"), "{out}{err}");
    eventually("it failed and its order began", || async {
        let (found, page) = service.ask("/api/orders").await;
        let begun = found == 200 && page["orders"][0]["key"] == key;
        (begun && service.get("/api/messages?state=failed").await?["messages"][0]["key"] == key).then_some(())
    })
    .await;
    for (command, says) in [
        (vec!["show", key], "odd: no"),
        (vec!["order", key], "received"),
        (vec!["messages", "--key", key], key),
        (vec!["flow", "show", "shop/notes"], "flows/shop/notes.toml"),
        (vec!["flow", "pause", "shop/notes", "--why", "counting"], "is paused"),
        (vec!["flow", "resume", "shop/notes"], "is resumed"),
        (vec!["flow", "record", "shop/notes", "failures"], "recording `failures`"),
    ] {
        let (code, out, err) = service.command(&command);
        assert!(code == 0 && out.contains(says), "{command:?}: {code} {out}{err}");
    }
    let (code, _, err) = service.command(&["flow", "show", "shop/note"]);
    assert!(code == 1 && err.contains("Did you mean `shop/notes`?"), "{err}");
}
