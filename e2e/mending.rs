//! What went wrong is put right: amended, resent, discarded, accepted; each with who and why.

use crate::scene::{Scene, a_moment, client};
use sea_orm::DatabaseTransaction;
use serde_json::{Value, json};
use std::collections::BTreeSet;
use std::time::Duration;
use wirewatch_standins::marrowfield::Flaw;
use wirewatch_standins::order_system::Faults;
use wirewatch_testkit::{Database, eventually, eventually_within};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_refused_order_is_amended_and_booked() {
    let mut scene = Scene::open().await;
    scene.send(2, Flaw::UnknownItem);
    scene.quiet(1).await;
    let failed = scene.messages("state=failed").await.remove(0);
    let id = failed["id"].as_str().unwrap();
    assert!(failed["says"].as_str().unwrap().contains("unknown item"), "{failed}");
    let file = scene.service.folder.path().join("amended.edi");
    let path = file.to_string_lossy().into_owned();
    assert_eq!(scene.service.command(&["amend", id, "--save", &path]).0, 0);
    let document = std::fs::read_to_string(&file).unwrap();
    std::fs::write(&file, document.replacen("CTT*", "CTTX*", 1)).unwrap();
    let (code, _, err) = scene.service.command(&["amend", id, "--file", &path]);
    assert_eq!(code, 1);
    assert!(err.contains("CTTX is no segment") && err.contains("nothing was done"), "{err}");
    std::fs::write(&file, document.replace("QH-HIVE-12", "QH-HIVE-10")).unwrap();
    let (code, _, err) = scene.service.command(&["amend", id, "--file", &path, "--why", "twelve frames are ten now"]);
    assert_eq!(code, 0, "{err}");
    scene.quiet(2).await;
    let story = scene.service.get(&format!("/api/messages/{id}")).await.unwrap();
    assert_eq!(story["message"]["state"], "done");
    assert_eq!(story["acts"][0]["act"], "amended");
    assert_eq!(story["acts"][0]["why"], "twelve frames are ten now");
    assert_eq!(story["steps"][1]["attempts"].as_array().unwrap().len(), 2, "both tries are in the story");
    // A case of it has the amended document, in the envelope that it came in, with the answer to that.
    let workspace = scene.service.workspace().to_string_lossy().into_owned();
    let (code, out, err) = scene.service.command(&["case", "from", id, "--name", "amended", "--workspace", &workspace]);
    assert_eq!(code, 0, "{out}{err}");
    let given = std::fs::read_to_string(scene.service.workspace().join("cases/amended/given.edi")).unwrap();
    assert!(given.contains("QH-HIVE-10") && !given.contains("QH-HIVE-12"), "{given}");
    assert_eq!((given.matches("ST*850*").count(), given.matches("ISA*").count(), given.matches("IEA*").count()), (1, 1, 1));
    let (code, out, err) = client(&["cases", "amended", "--workspace", &workspace], "");
    assert!(code == 0 && out.contains("1 case: 1 passed"), "{out}{err}");
    // The order's trouble is put right.
    let key = story["message"]["key"].as_str().unwrap();
    eventually("the timeline has ended", || async {
        let story = scene.service.get(&format!("/api/orders/{key}")).await?;
        (story["orders"][0]["state"] == "ended").then_some(())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn one_that_cannot_be_run_again_can_be_discarded() {
    let database = Database::new();
    let mut scene = Scene::open_on(&database).await;
    scene.send(1, Flaw::UnknownItem);
    let id = eventually("it failed", || async {
        let failed = scene.messages("state=failed").await.pop()?;
        Some(failed["id"].as_str()?.to_owned())
    })
    .await;
    // Its document is spoiled, as by a failing disk.
    scene.service.stop();
    database.run("update body set packed = false, bytes = convert_to(repeat('x', 4000), 'UTF8')").await;
    scene.service.start().await;
    let (code, _, err) = scene.service.command(&["resend", &id, "--why", "once more"]);
    assert_eq!(code, 1);
    assert!(err.contains("the message cannot be run again"), "{err}");
    let (code, out, err) = scene.service.command(&["show", &id]);
    assert!(code == 0 && out.contains("failed"), "what is known of it is shown: {out}{err}");
    let (code, _, err) = scene.service.command(&["discard", &id, "--why", "they send it anew"]);
    assert_eq!(code, 0, "{err}");
    let story = eventually("it is discarded", || async {
        let story = scene.service.get(&format!("/api/messages/{id}")).await?;
        (story["message"]["state"] == "discarded").then_some(story)
    })
    .await;
    assert_eq!(
        (&story["acts"][0]["act"], &story["acts"][0]["why"]),
        (&json!("discarded"), &json!("they send it anew")),
        "{story}"
    );
    assert_eq!(story["message"]["key"], *scene.sent[0].orders.first().unwrap(), "it is found by its number all the same");
    assert_eq!(scene.service.command(&["discard", &id, "--why", "again"]).0, 1, "discarded already");
    assert!(scene.service.get("/api/reasons").await.unwrap().as_array().is_some_and(Vec::is_empty), "nothing failed");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn all_with_the_same_reason_are_resent_or_discarded_together() {
    let mut scene = Scene::open().await;
    scene.orders.set_faults(Faults { next: 6, status: 409, ..Faults::default() });
    scene.send(3, Flaw::None);
    scene.send(3, Flaw::None);
    eventually("six failed", || async { (scene.messages("state=failed").await.len() == 6).then_some(()) }).await;
    let reasons = scene.service.get("/api/reasons").await.unwrap();
    assert_eq!(reasons.as_array().unwrap().len(), 1, "{reasons}");
    let reason = reasons[0]["id"].as_str().unwrap();
    let (code, out, _) = scene.service.command(&["resend", "--reason", reason, "--preview"]);
    assert_eq!(code, 0);
    assert!(out.contains("resend would be done to 6 messages; nothing was done"), "{out}");
    assert_eq!(scene.orders.summary().booked, 0);
    let first = scene.messages("state=failed").await.pop().unwrap()["id"].as_str().unwrap().to_owned();
    assert_eq!(scene.service.command(&["discard", &first]).0, 2, "a reason is needed");
    assert_eq!(scene.service.command(&["discard", &first, "--why", "a test order"]).0, 0);
    assert_eq!(scene.service.command(&["discard", &first, "--why", "again"]).0, 1, "discarded already");
    let (code, out, err) = scene.service.command(&["resend", "--reason", reason]);
    assert_eq!((code, out.trim()), (0, "5 messages resent"), "{err}");
    scene.quiet(5).await;
    assert_eq!(scene.messages("state=discarded").await.len(), 1);
    // Named in a list that is some time old: what has moved on is left alone, and said.
    let done: Vec<String> = scene
        .messages("state=done&flow=partner-orders")
        .await
        .iter()
        .filter_map(|one| Some(one["id"].as_str()?.to_owned()))
        .collect();
    let late = json!({ "act": "discard", "why": "late", "messages": done });
    let (status, preview) = scene.service.act("/api/bulk-acts/preview", &late).await;
    assert_eq!((status, &preview["total"], &preview["passed_over"]), (200, &json!(0), &json!(5)), "{preview}");
    let (status, started) = scene.service.act("/api/bulk-acts", &late).await;
    assert_eq!((status, &started["total"]), (202, &json!(5)), "{started}");
    let late = ended(&scene, started["id"].as_str().unwrap()).await;
    assert_eq!((&late["done"], &late["refused"]), (&json!(0), &json!(5)), "{late}");
    assert_eq!(late["refusals"][0]["says"], "it no longer needs attention: it is done");
    assert_eq!(late["states"], json!({ "done": 5 }));
    // What cannot be meant is refused as a whole.
    for (request, expected) in [
        (json!({ "act": "resend", "reason": reason }), 404),
        (json!({ "act": "resend", "reason": "?" }), 400),
        (json!({ "act": "resend", "messages": ["0000000000000"] }), 404),
        (json!({ "act": "resend", "messages": done, "answers": "maybe" }), 422),
        (json!({ "act": "amend", "messages": done }), 422),
        (json!({ "act": "discard", "messages": done }), 400),
        (json!({ "act": "resend", "messages": done, "why": "\u{0}" }), 400),
    ] {
        let (status, answer) = scene.service.act("/api/bulk-acts", &request).await;
        assert_eq!(status, expected, "{request}: {answer}");
    }
    assert_eq!(scene.service.get("/api/bulk-acts").await.unwrap().as_array().unwrap().len(), 2);
    // An order that is done keeps its answer when it is sent again.
    let done = scene.messages("state=done&flow=partner-orders").await.remove(0);
    let done = done["id"].as_str().unwrap();
    // What is told as done may still be worked on for a moment; then a person is asked to try again.
    let resend = async |more: &[&str]| {
        let command = [&["resend", done], more].concat();
        eventually("it is sent again", || async { (scene.service.command(&command).0 == 0).then_some(()) }).await;
    };
    resend(&[]).await;
    a_moment().await;
    assert_eq!((scene.orders.summary().booked, scene.orders.summary().repeats), (5, 0));
    // Unless a person wants it done again: then it is a new order at the other side.
    resend(&["--answers", "again"]).await;
    scene.quiet(6).await;
}

/// A bulk act once it has ended.
async fn ended(scene: &Scene, id: &str) -> Value {
    eventually("the bulk act has ended", || async {
        let one = scene.service.get(&format!("/api/bulk-acts/{id}")).await?;
        (one["state"] != "running").then_some(one)
    })
    .await
}

/// A bulk resend that has come as far as the message `at` from the oldest, and is kept there by `lock` until that is dropped.
async fn halfway(scene: &Scene, database: &Database, reason: &str, at: usize) -> (String, DatabaseTransaction) {
    let oldest = "select id from live where state = 'failed' order by id";
    let lock = database.begin(&format!("select 1 from live where id = ({oldest} offset {at} limit 1) for update")).await;
    let (code, out, err) = scene.service.command(&["resend", "--reason", reason, "--detach", "--json"]);
    let started: Value = serde_json::from_str(&out).unwrap_or_else(|_| panic!("{code} {out} {err}"));
    let id = started["id"].as_str().unwrap().to_owned();
    assert_eq!((&started["reason"], &started["state"]), (&json!(reason), &json!("running")));
    eventually("it has come halfway", || async {
        let one = scene.service.get(&format!("/api/bulk-acts/{id}")).await?;
        (one["done"].as_u64()? >= (at - 20) as u64).then_some(())
    })
    .await;
    (id, lock)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn hundreds_are_resent_in_the_background_across_restarts_or_stopped() {
    /// Of these every second is booked at once: twenty alike in a row would put the step on hold, in whatever order they end.
    const SENT: usize = 600;
    const MANY: usize = SENT / 2;
    let database = Database::new();
    let mut scene = Scene::open_on(&database).await;
    scene.orders.set_faults(Faults { next: SENT as u32, spare: 2, status: 409, ..Faults::default() });
    for _ in 0..3 {
        scene.send(SENT / 3, Flaw::None);
    }
    eventually_within(Duration::from_secs(120), "all need attention", || async {
        let status = scene.service.get("/api/status").await?;
        (status["unfinished"] == json!({ "failed": MANY })).then_some(())
    })
    .await;
    let reasons = scene.service.get("/api/reasons").await.unwrap();
    let reason = reasons[0]["id"].as_str().unwrap().to_owned();
    let (code, out, _) = scene.service.command(&["resend", "--reason", &reason, "--preview"]);
    assert_eq!(code, 0);
    assert!(out.ends_with("and 200 more\nresend would be done to 300 messages; nothing was done\n"), "{out}");
    // A person stops it halfway.
    let (id, lock) = halfway(&scene, &database, &reason, 60).await;
    assert_eq!(scene.service.command(&["bulk", "stop", &id]).0, 0);
    assert_eq!(scene.service.command(&["bulk", "stop", &id]).0, 1, "stopped already");
    lock.rollback().await.unwrap();
    let (code, out, _) = scene.service.command(&["bulk", "follow", &id]);
    assert!(code == 0 && out.contains("stopped before its end"), "{out}");
    // Another takes the rest; a kill and a planned restart interrupt it.
    let (id, lock) = halfway(&scene, &database, &reason, 100).await;
    scene.service.kill();
    lock.rollback().await.unwrap();
    scene.service.start().await;
    scene.service.stop();
    scene.service.start().await;
    let ended = ended(&scene, &id).await;
    // After a stop and after a kill, those of the last moments are met a second time, and left alone.
    let (total, done, refused) = (&ended["total"], ended["done"].as_u64().unwrap(), ended["refused"].as_u64().unwrap());
    assert_eq!((&ended["state"], json!(done + refused)), (&json!("done"), total.clone()), "{ended}");
    assert!((215..=260).contains(&total.as_u64().unwrap()) && refused <= 42, "{ended}");
    scene.quiet(SENT).await;
    // What was on its way to the order system at the kill is repeated there under its key.
    let references = scene.orders.references();
    assert_eq!(references.iter().collect::<BTreeSet<_>>().len(), references.len(), "each is booked once");
    let (code, out, _) = scene.service.command(&["bulk", "list"]);
    assert!(code == 0 && out.lines().count() == 3 && out.contains("stopped"), "{out}");
    let (code, out, _) = scene.service.command(&["bulk", "show", &id]);
    assert!(code == 0 && out.contains("done now"), "{out}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_duplicate_gets_the_very_same_acknowledgment_and_can_be_accepted() {
    let mut scene = Scene::open().await;
    let sent = scene.send(2, Flaw::None);
    scene.quiet(2).await;
    let read = || std::fs::read(scene.service.files().join("marrowfield/to-them/997-000000001.edi"));
    let before = eventually("the acknowledgment lies there", || async { read().ok() }).await;
    std::fs::remove_file(scene.service.files().join("marrowfield/to-them/997-000000001.edi")).unwrap();
    scene.drop("again.edi", sent.text.as_bytes());
    let (verdict, says) = scene.verdict("again.edi").await;
    assert_eq!(verdict, "duplicate", "{says}");
    let again = eventually("the acknowledgment goes out again", || async { read().ok() }).await;
    assert_eq!(before, again, "the very same bytes");
    scene.quiet(2).await;
    assert_eq!(scene.orders.summary().booked, 2, "nothing is booked again");
    // The same number with other content fails.
    let other = sent.text.replacen("CUR*BY*USD", "CUR*BY*CAD", 1);
    scene.drop("other.edi", other.as_bytes());
    let (verdict, says) = scene.verdict("other.edi").await;
    assert_eq!(verdict, "failed");
    assert!(says.contains("used before for other content"), "{says}");
    // It is discarded, by one who says why; what is settled is not settled again, and what was taken is not discarded.
    let failed = scene.arrival("other.edi").await["id"].as_str().unwrap().to_owned();
    let (code, out, err) = scene.service.command(&["discard", "--arrivals", &failed, "--why", "they sent a draft"]);
    assert_eq!((code, out.trim()), (0, "1 arrival discarded"), "{err}");
    assert_eq!(scene.verdict("other.edi").await.0, "resolved");
    let (_, story, _) = scene.service.command(&["show", &failed]);
    assert!(story.contains("they sent a draft"), "{story}");
    let (code, _, err) = scene.service.command(&["discard", "--arrivals", &failed, "--why", "again"]);
    assert_eq!(code, 1);
    assert!(err.contains("is resolved already"), "{err}");
    let repeat = scene.arrival("again.edi").await["id"].as_str().unwrap().to_owned();
    let (status, says) = scene.service.act(&format!("/api/arrivals/{repeat}/discard"), &json!({ "why": "x" })).await;
    assert_eq!((status, says["title"].as_str().unwrap().contains("it is duplicate")), (409, true), "{says}");
    // Accepted on purpose.
    let arrival = scene.arrival("again.edi").await["id"].as_str().unwrap().to_owned();
    let (code, _, err) = scene.service.command(&["accept", &arrival, "--why", "they mean it twice"]);
    assert_eq!(code, 0, "{err}");
    scene.quiet(4).await;
    assert_eq!(scene.acknowledged().len(), 1, "no second acknowledgment");
    let first = scene.arrival("po-000101.edi").await["id"].as_str().unwrap().to_owned();
    let (status, _) = scene.service.act(&format!("/api/arrivals/{first}/accept"), &json!({ "why": "x" })).await;
    assert_eq!(status, 409, "what was taken is not accepted");
    // What failed and is accepted does not ask for anybody any more.
    scene.drop("once-more.edi", sent.text.replacen("CUR*BY*USD", "CUR*BY*MXN", 1).as_bytes());
    assert_eq!(scene.verdict("once-more.edi").await.0, "failed");
    let listed = async |verdict: &str| {
        let page = scene.service.get(&format!("/api/arrivals?verdict={verdict}")).await.unwrap();
        page["arrivals"].as_array().unwrap().clone()
    };
    let failed = listed("failed").await.remove(0)["id"].as_str().unwrap().to_owned();
    let (code, _, err) = scene.service.command(&["accept", &failed, "--why", "they mean this one"]);
    assert_eq!(code, 0, "{err}");
    assert_eq!((listed("failed").await.len(), listed("resolved").await.len()), (0, 2));
}
