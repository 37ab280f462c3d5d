//! From the first page to a corrected order.

use super::browser::Browser;
use crate::scene::Scene;
use wirewatch_standins::marrowfield::Flaw;
use wirewatch_standins::order_system::Faults;
use wirewatch_testkit::eventually;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_refused_order_is_found_amended_and_booked() {
    let mut scene = Scene::open().await;
    let browser = Browser::signed_in(&scene.service).await;
    let sent = scene.send(1, Flaw::UnknownItem);
    browser.read("[data-concern=failed]", "1 message in Partner purchase orders needs attention").await;
    browser.read("[data-concern=failed]", "unknown item `QH-HIVE-12`").await;
    browser.click("[data-concern=failed]").await;
    browser.click("[role=row][data-state=failed] a[href^='/messages/']").await;
    browser.read("h1", &sent.orders[0]).await;
    browser.read("[data-part=says]", "unknown item").await;
    assert_eq!(browser.accessibility().await, "");

    // Raw and readable are linked, both ways.
    browser.click("[data-entry=received]").await;
    browser.click("[data-element=BEG03]").await;
    browser.read(".cm-chosen", &sent.orders[0]).await;
    browser.read("[data-element=BEG03]", "Purchase Order Number").await;

    browser.press("Amend…").await;
    browser.read("[data-part=verdict]", "no findings").await;
    browser.read("[data-part=intro]", "Valid X12; step book failed:").await;
    // The refused value is selected: what is typed replaces it, and the change is shown.
    browser.read("[role=dialog] .cm-chosen", "QH-HIVE-12").await;
    browser.type_keys("QH-HIVE-10").await;
    browser.read("[data-part=changed] ins", "QH-HIVE-10").await;
    browser.read("[data-part=changed] del", "QH-HIVE-12").await;
    browser.control('z').await;
    let document = browser.script("return document.querySelector('[role=dialog] .cm-content').innerText").await;
    let mended = document.as_str().unwrap().replace("QH-HIVE-12", "QH-HIVE-10");
    browser.click("[role=dialog] .cm-content").await;
    browser.control('a').await;
    browser.type_keys(mended.replacen("CTT*", "CTTX*", 1).as_str()).await;
    browser.read("[data-part=findings]", "CTTX is not a segment").await;
    let amend = "//button[normalize-space(.)='Amend and resend']";
    assert!(!browser.driver.find(thirtyfour::By::XPath(amend)).await.unwrap().is_enabled().await.unwrap());
    assert_eq!(browser.accessibility().await, "");
    browser.click("[role=dialog] .cm-content").await;
    browser.control('a').await;
    browser.type_keys(mended.as_str()).await;
    browser.read("[data-part=verdict]", "no findings").await;
    browser.press("Amend and resend").await;
    browser.read("[data-part=state]", "done").await;
    browser.read("[data-part=result]", "Q-100001").await;
    browser.read("nav[aria-label=Story]", "amended by").await;
    browser.leave().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn all_with_one_reason_are_resent_with_progress() {
    let mut scene = Scene::open().await;
    scene.orders.set_faults(Faults { next: 30, status: 409, ..Faults::default() });
    scene.send(30, Flaw::None);
    eventually("thirty failed", || async { (scene.messages("state=failed").await.len() == 30).then_some(()) }).await;
    let browser = Browser::signed_in(&scene.service).await;
    browser.click("[data-concern=failed]").await;
    browser.press("Resend all…").await;
    browser.read("[role=dialog]", "30 messages").await;
    assert_eq!(browser.accessibility().await, "");
    browser.press("Resend 30").await;
    browser.read("[role=dialog]", "30 of 30 resent").await;
    browser.press("Close").await;
    scene.quiet(30).await;
    scene.assert_all_once();
    browser.leave().await;
}

/// The value that the failure names is replaced in all, and a colleague sees who does it.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn one_value_is_corrected_in_all_with_one_reason() {
    let mut scene = Scene::open().await;
    for _ in 0..5 {
        scene.send(2, Flaw::UnknownItem);
    }
    scene.quiet(5).await;
    let browser = Browser::signed_in(&scene.service).await;
    browser.read("[data-concern=failed]", "5 messages in Partner purchase orders need attention").await;
    browser.press("I’m on it").await;
    browser.see("[role=dialog]").await;
    assert_eq!(browser.accessibility().await, "");
    browser.click("#assign-to").await;
    browser.type_keys("Ada").await;
    browser.click("#assign-note").await;
    browser.type_keys("asking the partner").await;
    browser.click("[role=dialog] [type=submit]").await;
    browser.read("[data-part=assign]", "Ada is on it").await;
    browser.read("[data-part=glance]", "somebody works on 1").await;
    assert_eq!(scene.service.get("/api/assignments").await.unwrap()[0]["note"], "asking the partner");

    browser.click("[data-concern=failed]").await;
    browser.press("Amend all…").await;
    browser.read("[data-part=suggested]", "QH-HIVE-12 in PO107").await;
    browser.click("#correct-with").await;
    browser.type_keys("QH-HIVE-1*").await;
    browser.read("[role=dialog]", "has the character *").await;
    let amend = "//button[normalize-space(.)='Amend 5']";
    assert!(!browser.driver.find(thirtyfour::By::XPath(amend)).await.unwrap().is_enabled().await.unwrap());
    browser.type_keys(thirtyfour::Key::Backspace + "0").await;
    browser.read("[data-part=tried]", "Tried on 5 messages: 5 would be corrected").await;
    browser.read("[role=dialog] table", "then POST /orders").await;
    assert_eq!(browser.accessibility().await, "");
    browser.press("Amend 5").await;
    browser.read("[role=dialog]", "5 of 5 amended").await;
    browser.press("Close").await;
    scene.quiet(10).await;
    scene.assert_all_once();
    // What is over is nobody's.
    browser.go("/").await;
    browser.read("[data-part=glance]", "nothing is stuck").await;
    assert_eq!(scene.service.get("/api/assignments").await.unwrap(), serde_json::json!([]));
    browser.leave().await;
}

/// From message to message in the order of the list, and the acts by their keys.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_list_is_worked_through_by_keys() {
    let mut scene = Scene::open().await;
    for _ in 0..3 {
        scene.send(2, Flaw::UnknownItem);
    }
    scene.quiet(3).await;
    let failed: Vec<String> =
        scene.messages("state=failed").await.iter().map(|one| one["key"].as_str().unwrap().to_owned()).collect();
    let browser = Browser::signed_in(&scene.service).await;
    browser.go("/messages?state=failed").await;
    browser.click("[data-row='0'] a").await;
    browser.read("h1", &failed[0]).await;
    browser.read("nav[aria-label='In the list']", "1 of 3").await;
    browser.type_keys("j").await;
    browser.read("h1", &failed[1]).await;
    browser.type_keys("j").await;
    browser.read("h1", &failed[2]).await;
    browser.read("nav[aria-label='In the list']", "3 of 3").await;
    browser.type_keys("k").await;
    browser.read("h1", &failed[1]).await;
    browser.type_keys("r").await;
    browser.read("[role=dialog]", &format!("Resend {}", failed[1])).await;
    browser.type_keys(thirtyfour::Key::Escape + "").await;
    browser.see_no("[role=dialog]").await;
    browser.press("2 of 3").await;
    browser.comes_to("/messages?state=failed").await;
    // In the list itself.
    browser.see("[data-row='0'] a").await;
    browser.script("document.querySelector(`[data-row='2'] a`).focus()").await;
    browser.type_keys("a").await;
    browser.read("[role=dialog]", &format!("Amend {}", failed[2])).await;
    browser.read("[role=dialog] .cm-content", "QH-HIVE-12").await;
    browser.go("/messages?state=failed").await;
    browser.see("[data-row='0'] a").await;
    browser.script("document.querySelector(`[data-row='1'] a`).focus()").await;
    browser.type_keys("r").await;
    browser.read("[role=dialog]", "POST /orders").await;
    browser.leave().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_message_is_discarded_with_a_reason_and_a_duplicate_accepted() {
    let mut scene = Scene::open().await;
    let sent = scene.send(1, Flaw::UnknownItem);
    eventually("one failed", || async { (scene.messages("state=failed").await.len() == 1).then_some(()) }).await;
    let id = scene.messages("state=failed").await[0]["id"].as_str().unwrap().to_owned();
    let browser = Browser::signed_in(&scene.service).await;
    browser.go(&format!("/messages/{id}")).await;
    browser.press("Discard…").await;
    browser.see("[role=dialog]").await;
    browser.type_keys("a test order").await;
    browser.press("Discard").await;
    browser.read("[data-part=state]", "discarded").await;
    browser.read("nav[aria-label=Story]", "a test order").await;

    // A file that is not X12 stays on the first page until somebody has handled it.
    scene.drop("letter.edi", b"Dear bees,\n");
    browser.go("/").await;
    browser.read("[data-concern=failed]", "letter.edi").await;
    browser.click("[data-concern=failed]").await;
    browser.read("h1", "letter.edi").await;
    browser.press("Discard…").await;
    browser.see("[role=dialog]").await;
    browser.type_keys("a letter, no order").await;
    browser.press("Discard").await;
    browser.read("h1", "resolved").await;
    browser.read("main", "a letter, no order").await;
    browser.go("/").await;
    browser.read("[data-part=glance]", "nothing is stuck").await;

    scene.drop("again.edi", sent.text.as_bytes());
    assert_eq!(scene.verdict("again.edi").await.0, "duplicate");
    browser.go("/arrivals?verdict=duplicate").await;
    browser.press("again.edi").await;
    browser.press("Accept it…").await;
    browser.see("[role=dialog]").await;
    browser.type_keys("they really want it twice").await;
    browser.press("Accept it").await;
    browser.read("h1", "received").await;
    browser.leave().await;
}
