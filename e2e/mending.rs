//! Failed messages are corrected: amended, resent, discarded, accepted; each act with its person and reason.

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
    assert!(err.contains("CTTX is not a segment") && err.contains("nothing was done"), "{err}");
    std::fs::write(&file, document.replace("QH-HIVE-12", "QH-HIVE-10")).unwrap();
    let (code, _, err) = scene.service.command(&["amend", id, "--file", &path, "--why", "twelve frames are ten now"]);
    assert_eq!(code, 0, "{err}");
    scene.quiet(2).await;
    let story = scene.service.get(&format!("/api/messages/{id}")).await.unwrap();
    assert_eq!(story["message"]["state"], "done");
    assert_eq!(story["acts"][0]["act"], "amended");
    assert_eq!(story["acts"][0]["why"], "twelve frames are ten now");
    assert_eq!(story["steps"][1]["attempts"].as_array().unwrap().len(), 2, "both tries are in the story");
    // Its case has the amended document in the envelope of the received one, with the answer to the amended document.
    let workspace = scene.service.workspace().to_string_lossy().into_owned();
    let (code, out, err) = scene.service.command(&["case", "from", id, "--name", "amended", "--workspace", &workspace]);
    assert_eq!(code, 0, "{out}{err}");
    let given = std::fs::read_to_string(scene.service.workspace().join("cases/amended/given.edi")).unwrap();
    assert!(given.contains("QH-HIVE-10") && !given.contains("QH-HIVE-12"), "{given}");
    assert_eq!((given.matches("ST*850*").count(), given.matches("ISA*").count(), given.matches("IEA*").count()), (1, 1, 1));
    let (code, out, err) = client(&["cases", "amended", "--workspace", &workspace], "");
    assert!(code == 0 && out.contains("1 case: 1 passed"), "{out}{err}");
    // The order is corrected.
    let key = story["message"]["key"].as_str().unwrap();
    eventually("the timeline has ended", || async {
        let story = scene.service.get(&format!("/api/orders/{key}")).await?;
        (story["orders"][0]["state"] == "done").then_some(())
    })
    .await;
    // Its story lists all events in the order of time.
    let story = scene.service.get(&format!("/api/orders/{key}")).await.unwrap();
    let events = story["events"].as_array().unwrap();
    let said: Vec<String> =
        events.iter().map(|one| format!("{}: {}", one["kind"].as_str().unwrap(), one["says"].as_str().unwrap())).collect();
    let place = |what: &str| said.iter().position(|one| one.starts_with(what)).unwrap_or_else(|| panic!("{what} in {said:?}"));
    assert!(place("arrived: po-") < place("act: amended: twelve frames are ten now"), "{said:?}");
    assert!(place("act: amended") < place("milestone: booked"), "{said:?}");
    assert!(said.iter().any(|one| one.starts_with("acknowledged: acknowledgment ")), "{said:?}");
    assert!(events.iter().all(|one| (one["kind"] == "act") == one["by"].is_string()), "{events:?}");
}

/// A corrected flow is used by a resend, and by an amendment; what is complete under another release is not done again.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_corrected_flow_reaches_what_failed() {
    let mut scene = Scene::open().await;
    let flow = "flows/partner-orders.toml";
    let workspace = scene.service.workspace().to_string_lossy().into_owned();
    let correct = std::fs::read_to_string(scene.service.workspace().join(flow)).unwrap();
    let (before, after) = correct.split_once("[[step]]").unwrap();
    let check = "[[step]]\nname = \"open\"\ncheck = [{ that = \"false\", says = \"closed\" }]\n\n";
    scene.service.write(flow, &format!("{before}{check}[[step]]{after}"));
    assert_eq!(scene.service.command(&["deploy", "--skip-cases", &workspace]).0, 0);
    scene.send(3, Flaw::None);
    let failed = eventually("they fail", || async {
        let page = scene.service.get("/api/messages?state=failed").await?;
        page["messages"].as_array().filter(|all| all.len() == 3).cloned()
    })
    .await;
    let id = failed[0]["id"].as_str().unwrap();
    let reason = failed[0]["reason"].as_str().unwrap();
    // An amendment that would fail again is refused.
    let document = scene.service.get(&format!("/api/messages/{id}/document")).await.unwrap()["text"].as_str().unwrap().to_owned();
    let amend = json!({ "act": "amend", "document": document.replace("PO1*1", "PO1*01"), "why": "tried" });
    let (status, problem) = scene.service.act(&format!("/api/messages/{id}/acts"), &amend).await;
    assert_eq!((status, problem["code"].as_str()), (422, Some("would-fail-again")), "{problem}");
    assert!(problem["title"].as_str().unwrap().contains("`open`: closed"), "{problem}");
    // The corrected flow is shown before anything is done.
    scene.service.write(flow, &correct);
    assert_eq!(scene.service.command(&["deploy", "--take-back", &workspace]).0, 0);
    let (code, out, err) = scene.service.command(&["resend", "--preview", id]);
    assert_eq!(code, 0, "{err}");
    assert!(out.contains("release 3 instead of 2; changed: flows/partner-orders.toml"), "{out}");
    assert!(out.contains("next, at step book:") && out.contains("POST /orders"), "{out}");
    let (code, out, _) = scene.service.command(&["resend", "--preview", "--release", "2", id]);
    assert!(code == 0 && out.contains("it would fail again at step open: closed"), "{out}");
    let (code, _, err) = scene.service.command(&["resend", "--release", "99", id]);
    assert!(code == 1 && err.contains("release 99 has no files for this message"), "{err}");
    assert!(scene.orders.references().is_empty(), "a preview sends nothing");
    // It reaches one, and then all with the same reason.
    let (code, out, err) = scene.service.command(&["resend", id, "--why", "open again"]);
    assert!(code == 0 && out.contains("release 3 instead of 2"), "{out}{err}");
    let (code, _, err) = scene.service.command(&["resend", "--reason", reason]);
    assert_eq!(code, 0, "{err}");
    scene.quiet(3).await;
    let (_, out, _) = scene.service.command(&["show", id]);
    assert!(out.contains("release 3, arrived under 2"), "{out}");
    // Release 4 would book it elsewhere. It is booked, so it keeps its release, and a crash changes nothing about that.
    scene.service.write(flow, &correct.replace("post = \"/orders\"", "post = \"/orders/\""));
    assert_eq!(scene.service.command(&["deploy", "--skip-cases", &workspace]).0, 0);
    let (code, out, err) = scene.service.command(&["resend", id]);
    assert!(code == 0 && out.contains("release 3 as before: step `book` is complete, but its request"), "{out}{err}");
    scene.service.kill();
    scene.service.start().await;
    scene.quiet(3).await;
    scene.assert_all_once();
    let story = scene.service.get(&format!("/api/messages/{id}")).await.unwrap();
    assert_eq!((story["release"].as_i64(), story["message"]["release"].as_i64()), (Some(3), Some(2)), "{story}");
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
    // Its document is damaged, as by a failing disk.
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
    assert!(out.contains("would resend 6 messages; nothing was done"), "{out}");
    assert_eq!(scene.orders.summary().booked, 0);
    let first = scene.messages("state=failed").await.pop().unwrap()["id"].as_str().unwrap().to_owned();
    assert_eq!(scene.service.command(&["discard", &first]).0, 2, "a reason is needed");
    assert_eq!(scene.service.command(&["discard", &first, "--why", "a test order"]).0, 0);
    assert_eq!(scene.service.command(&["discard", &first, "--why", "again"]).0, 1, "discarded already");
    let (code, out, err) = scene.service.command(&["resend", "--reason", reason]);
    assert_eq!((code, out.trim()), (0, "5 messages resent"), "{err}");
    scene.quiet(5).await;
    assert_eq!(scene.messages("state=discarded").await.len(), 1);
    // Named in an old list: a message that has changed since is left alone, and this is reported.
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
    // A contradictory request is refused as a whole.
    for (request, expected) in [
        (json!({ "act": "resend", "reason": reason }), 404),
        (json!({ "act": "resend", "reason": "?" }), 400),
        (json!({ "act": "resend", "messages": ["0000000000000"] }), 404),
        (json!({ "act": "resend", "messages": done, "answers": "maybe" }), 422),
        (json!({ "act": "amend", "messages": done }), 400),
        (json!({ "act": "amend", "messages": done, "correction": { "replace": "", "with": "B" } }), 400),
        (json!({ "act": "amend", "messages": done, "correction": { "replace": "B", "with": "B" } }), 400),
        (json!({ "act": "amend", "messages": done, "correction": { "replace": "A", "with": "\u{0}" } }), 400),
        (json!({ "act": "resend", "messages": done, "correction": { "replace": "A", "with": "B" } }), 400),
        (json!({ "act": "discard", "messages": done }), 400),
        (json!({ "act": "resend", "messages": done, "why": "\u{0}" }), 400),
    ] {
        let (status, answer) = scene.service.act("/api/bulk-acts", &request).await;
        assert_eq!(status, expected, "{request}: {answer}");
    }
    assert_eq!(scene.service.get("/api/bulk-acts").await.unwrap().as_array().unwrap().len(), 2);
    // A completed order keeps its answer when it is resent.
    let done = scene.messages("state=done&flow=partner-orders").await.remove(0);
    let done = done["id"].as_str().unwrap();
    // A message shown as done may still be in use for a moment; then the person is asked to try again.
    let resend = async |more: &[&str]| {
        let command = [&["resend", done], more].concat();
        eventually("it is sent again", || async { (scene.service.command(&command).0 == 0).then_some(()) }).await;
    };
    resend(&[]).await;
    a_moment().await;
    assert_eq!((scene.orders.summary().booked, scene.orders.summary().repeats), (5, 0));
    // Unless the person wants it sent again: then it is a new order at the other side.
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

/// A bulk resend that has reached the message `at` from the oldest, and is stopped there until `lock` is dropped.
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
    /// Every second one is booked at once: twenty equal failures in a row would put the step on hold, in whatever order they end.
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
    assert!(out.ends_with("and 200 more\nwould resend 300 messages; nothing was done\n"), "{out}");
    // A person stops it halfway.
    let (id, lock) = halfway(&scene, &database, &reason, 60).await;
    assert_eq!(scene.service.command(&["bulk", "stop", &id]).0, 0);
    assert_eq!(scene.service.command(&["bulk", "stop", &id]).0, 1, "stopped already");
    lock.rollback().await.unwrap();
    let (code, out, _) = scene.service.command(&["bulk", "follow", &id]);
    assert!(code == 0 && out.contains("stopped before its end"), "{out}");
    // Another process takes over the rest; a kill and a planned restart interrupt it.
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
    // A request that was running at the kill is repeated with its idempotency key.
    let references = scene.orders.references();
    assert_eq!(references.iter().collect::<BTreeSet<_>>().len(), references.len(), "each is booked once");
    let (code, out, _) = scene.service.command(&["bulk", "list"]);
    assert!(code == 0 && out.lines().count() == 3 && out.contains("stopped"), "{out}");
    let (code, out, _) = scene.service.command(&["bulk", "show", &id]);
    assert!(code == 0 && out.contains("done now"), "{out}");
}

/// One is tried first: what would fail again stays as it is, and the step stays free for others.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_bulk_resend_that_does_not_help_stops_after_the_first() {
    let mut scene = Scene::open().await;
    scene.orders.set_faults(Faults { next: 200, spare: 0, status: 422, ..Faults::default() });
    for _ in 0..10 {
        scene.send(1, Flaw::None);
    }
    eventually("all failed", || async {
        let status = scene.service.get("/api/status").await?;
        (status["unfinished"] == json!({ "failed": 10 })).then_some(())
    })
    .await;
    let reasons = scene.service.get("/api/reasons").await.unwrap();
    let reason = reasons[0]["id"].as_str().unwrap().to_owned();
    let (code, out, err) = scene.service.command(&["resend", "--reason", &reason]);
    assert!(code == 1 && out.contains("1 message resent; stopped before its end"), "{out}{err}");
    assert!(err.contains("failed again for the same reason; the resend was stopped, 9 messages are left as they were"), "{err}");
    let failed = scene.messages("state=failed").await;
    let mut attempts = Vec::new();
    for one in &failed {
        let story = scene.service.get(&format!("/api/messages/{}", one["id"].as_str().unwrap())).await.unwrap();
        let step = story["steps"].as_array().unwrap().iter().find(|step| step["step"] == "book").cloned().unwrap();
        attempts.push(step["attempts"].as_array().unwrap().len());
    }
    attempts.sort_unstable();
    assert_eq!(attempts, [1, 1, 1, 1, 1, 1, 1, 1, 1, 2]);
    assert_eq!(scene.service.get("/api/reasons").await.unwrap()[0]["messages"], 10);
    // Corrected at the other side, all of them pass.
    scene.orders.set_faults(Faults::default());
    let (code, _, err) = scene.service.command(&["resend", "--reason", &reason]);
    assert_eq!(code, 0, "{err}");
    scene.quiet(10).await;
    scene.assert_all_once();
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
    assert!(says.contains("was used before with other content"), "{says}");
    // It is discarded, with a reason; a resolved arrival is not resolved again, and a received one is not discarded.
    let failed = scene.arrival("other.edi").await["id"].as_str().unwrap().to_owned();
    let (code, out, err) = scene.service.command(&["discard", "--arrivals", &failed, "--why", "they sent a draft"]);
    assert_eq!((code, out.trim()), (0, "1 arrival discarded"), "{err}");
    assert_eq!(scene.verdict("other.edi").await.0, "resolved");
    let (_, story, _) = scene.service.command(&["show", &failed]);
    assert!(story.contains("they sent a draft"), "{story}");
    let (code, _, err) = scene.service.command(&["discard", "--arrivals", &failed, "--why", "again"]);
    assert_eq!(code, 1);
    assert!(err.contains("is already resolved"), "{err}");
    let repeat = scene.arrival("again.edi").await["id"].as_str().unwrap().to_owned();
    let (status, says) = scene.service.act(&format!("/api/arrivals/{repeat}/discard"), &json!({ "why": "x" })).await;
    assert_eq!((status, says["title"].as_str().unwrap().contains("is duplicate, not failed")), (409, true), "{says}");
    // Accepted on purpose.
    let arrival = scene.arrival("again.edi").await["id"].as_str().unwrap().to_owned();
    let (code, _, err) = scene.service.command(&["accept", &arrival, "--why", "they mean it twice"]);
    assert_eq!(code, 0, "{err}");
    scene.quiet(4).await;
    assert_eq!(scene.acknowledged().len(), 1, "no second acknowledgment");
    let first = scene.arrival("po-000101.edi").await["id"].as_str().unwrap().to_owned();
    let (status, _) = scene.service.act(&format!("/api/arrivals/{first}/accept"), &json!({ "why": "x" })).await;
    assert_eq!(status, 409, "what was taken is not accepted");
    // An accepted arrival needs no attention any more.
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
