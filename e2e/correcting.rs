//! One correction for many messages: previewed, tried on one first, done in the background.

use crate::scene::Scene;
use serde_json::{Value, json};
use wirewatch_standins::marrowfield::Flaw;
use wirewatch_testkit::{Database, eventually};

/// A scene in which every second order of `sent` interchanges has failed, and the id of their reason.
pub async fn with_a_wrong_item(sent: usize) -> (Scene, String) {
    with_a_wrong_item_on(&Database::new(), sent).await
}

async fn with_a_wrong_item_on(database: &Database, sent: usize) -> (Scene, String) {
    let mut scene = Scene::open_on(database).await;
    for _ in 0..sent {
        scene.send(2, Flaw::UnknownItem);
    }
    scene.quiet(sent).await;
    let reasons = scene.service.get("/api/reasons").await.unwrap();
    assert_eq!((reasons.as_array().unwrap().len(), &reasons[0]["messages"]), (1, &json!(sent)), "{reasons}");
    let reason = reasons[0]["id"].as_str().unwrap().to_owned();
    (scene, reason)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn one_wrong_item_is_corrected_in_many_orders() {
    let (scene, reason) = with_a_wrong_item(8).await;
    // The failure names the value to replace.
    let (status, preview) = scene.service.act("/api/bulk-acts/preview", &json!({ "act": "amend", "reason": reason })).await;
    assert_eq!((status, &preview["total"], &preview["corrected"]), (200, &json!(8), &json!([])), "{preview}");
    assert_eq!(preview["suggested"][0], json!({ "field": "PO107", "value": "QH-HIVE-12" }), "{preview}");
    let amend = |more: &[&str]| scene.service.command(&[&["amend", "--reason", &reason], more].concat());
    let (code, out, err) = amend(&["--replace", "QH-HIVE-12", "--with", "QH-HIVE-10", "--preview"]);
    assert_eq!(code, 0, "{err}");
    assert!(out.contains("PO107") && out.contains("then POST /orders"), "{out}");
    assert!(out.ends_with("would replace `QH-HIVE-12` with `QH-HIVE-10` in 8 messages; nothing was done\n"), "{out}");
    // A correction that fits no document is refused by each of them, and nothing is done.
    let (code, out, _) = amend(&["--replace", "QH-HIVE-12", "--with", "A*B", "--preview"]);
    assert!(code == 1 && out.contains("`A*B` has the character *, which separates elements in this document"), "{out}");
    let (code, out, err) = amend(&["--replace", "QH-HIVE-12", "--with", "QH-HIVE-10", "--field", "PO109"]);
    assert!(code == 1 && err.contains("no PO109 is `QH-HIVE-12`") && out.contains("0 messages amended"), "{out}{err}");
    // A document that would be refused on arrival: the quantity has no letters.
    let (code, _, err) = amend(&["--replace", "EA", "--with", "EACH"]);
    assert!(code == 1 && err.contains("the amended document has") && err.contains("nothing was done"), "{err}");
    assert_eq!(scene.orders.summary().booked, 8, "nothing was sent");
    // A correction that does not help: the first one fails again, the others stay.
    let (code, out, err) = amend(&["--replace", "QH-HIVE-12", "--with", "QH-HIVE-99"]);
    assert!(code == 1 && out.contains("1 message amended; stopped before its end"), "{out}{err}");
    assert!(err.contains("failed again") && err.contains("the amendment was stopped, 7 messages are left as they were"), "{err}");
    let failed = scene.messages("state=failed").await;
    let wrong = failed.iter().find(|one| one["says"].as_str().unwrap().contains("QH-HIVE-99")).expect("one was tried");
    // The right one.
    let others: Vec<&str> = failed.iter().filter(|one| one["id"] != wrong["id"]).map(|one| one["id"].as_str().unwrap()).collect();
    let correct = ["--replace", "QH-HIVE-12", "--with", "QH-HIVE-10", "--why", "twelve frames are ten now"];
    let (code, out, err) = scene.service.command(&[&["amend"], others.as_slice(), &correct].concat());
    assert_eq!((code, out.trim()), (0, "7 messages amended"), "{err}");
    let last = ["--replace", "QH-HIVE-99", "--with", "QH-HIVE-10", "--json"];
    let (code, out, err) = scene.service.command(&[&["amend", wrong["id"].as_str().unwrap()], last.as_slice()].concat());
    let act: Value = serde_json::from_str(&out).unwrap_or_else(|_| panic!("{code} {out} {err}"));
    assert_eq!(act["correction"], json!({ "replace": "QH-HIVE-99", "with": "QH-HIVE-10", "field": null }));
    scene.quiet(16).await;
    scene.assert_all_once();
    let story = scene.service.get(&format!("/api/messages/{}", others[0])).await.unwrap();
    assert_eq!((&story["acts"][0]["act"], &story["acts"][0]["why"]), (&json!("amended"), &json!("twelve frames are ten now")));
    let (_, out, _) = scene.service.command(&["bulk", "show", act["id"].as_str().unwrap()]);
    assert!(out.contains("replaced `QH-HIVE-99` with `QH-HIVE-10`") && out.contains("1 of 1 message amended"), "{out}");
    // Two messages need `--replace`.
    let (code, _, err) = scene.service.command(&["amend", others[0], others[1]]);
    assert!(code == 2 && err.contains("name one message"), "{err}");
}

/// A restart in between loses nothing and corrects nothing twice.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_correction_continues_after_a_kill() {
    let database = Database::new();
    let (mut scene, reason) = with_a_wrong_item_on(&database, 12).await;
    // It comes as far as the seventh message, and waits there.
    let oldest = "select id from live where state = 'failed' order by id";
    let lock = database.begin(&format!("select 1 from live where id = ({oldest} offset 6 limit 1) for update")).await;
    let correct = ["--replace", "QH-HIVE-12", "--with", "QH-HIVE-10", "--detach", "--json"];
    let (code, out, err) = scene.service.command(&[&["amend", "--reason", &reason], correct.as_slice()].concat());
    let started: Value = serde_json::from_str(&out).unwrap_or_else(|_| panic!("{code} {out} {err}"));
    let blocked = "select count(*) from pg_stat_activity where datname = current_database() and wait_event_type = 'Lock'";
    eventually("it is halfway", || async { (database.number(blocked).await > 0).then_some(()) }).await;
    scene.service.kill();
    lock.rollback().await.unwrap();
    scene.service.start().await;
    let path = format!("/api/bulk-acts/{}", started["id"].as_str().unwrap());
    let ended = eventually("it has ended", || async {
        let one = scene.service.get(&path).await?;
        (one["state"] != "running").then_some(one)
    })
    .await;
    assert_eq!(ended["state"], "done", "{ended}");
    scene.quiet(24).await;
    scene.assert_all_once();
}
