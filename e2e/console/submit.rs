//! A document submitted to a flow by hand: made up, changed in the form, and followed to its messages.

use super::browser::Browser;
use crate::scene::Scene;
use serde_json::Value;
use wirewatch_testkit::eventually;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_made_up_document_is_changed_in_the_form_and_submitted() {
    let scene = Scene::open().await;
    let browser = Browser::signed_in(&scene.service).await;
    browser.see("[data-line=shop-orders]").await;
    browser.click("[data-line=shop-orders] [data-part=acts]").await;
    browser.press("Submit one…").await;
    browser.read("[role=dialog]", "as if it had arrived from Quillhaven web shop").await;
    browser.see("[data-field='data.number']").await;
    browser.see(".cm-content").await;
    assert_eq!(browser.accessibility().await, "");
    let set = async |field: &str, value: &str| {
        let script = format!(
            "const at = document.querySelector(\"[data-field='{field}']\"); at.value = '{value}'; at.dispatchEvent(new Event('input'))"
        );
        browser.script(&script).await;
    };
    set("data.number", "W-9001").await;
    set("data.basket[0].each", "18.90").await;
    let changed = || async {
        Some(browser.edited().await).filter(|text| text.contains("\"number\": \"W-9001\"") && text.contains("18.90"))
    };
    let text = eventually("the text follows the form", changed).await;
    let document: Value = serde_json::from_str(&text).expect("JSON");
    let lines = document["data"]["basket"].as_array().map_or(0, Vec::len);
    browser.press("Add another").await;
    browser.see(&format!("[data-field='data.basket[{lines}].article']")).await;
    // Until the text has it, a dry run would be one of an earlier text.
    let added = || async {
        let document: Value = serde_json::from_str(&browser.edited().await).ok()?;
        (document["data"]["basket"].as_array()?.len() == lines + 1).then_some(())
    };
    eventually("the text has another line", added).await;
    // The dry run shows what will be sent; sending is a second act, for exactly this text.
    let submit = "//button[normalize-space(.)='Submit for real']";
    let enabled = async || browser.driver.find(thirtyfour::By::XPath(submit)).await.unwrap().is_enabled().await.unwrap();
    assert!(!enabled().await);
    browser.press("Dry run").await;
    browser.read("[data-part=dry-run]", "POST /orders at Order system").await;
    browser.read("[data-part=dry-run]", "Nothing was sent and nothing was stored").await;
    assert_eq!(browser.accessibility().await, "");
    assert!(enabled().await);
    set("data.basket[0].each", "18.95").await;
    eventually("another text needs another dry run", || async { (!enabled().await).then_some(()) }).await;
    assert!(scene.orders.references().is_empty(), "nothing was sent");
    browser.press("Dry run").await;
    browser.see("[data-part=dry-run]").await;
    browser.press("Submit for real").await;
    browser.read("[data-part=handed]", "received").await;
    browser.press("Show its messages").await;
    browser.read("main", "purchase.placed").await;
    let order = eventually("the order is there", || async {
        let found = scene.service.get("/api/messages?flow=shop-orders&key=W-9001").await?;
        found["messages"].as_array()?.first().cloned()
    });
    assert_eq!(order.await["flow"], "shop-orders");
    browser.leave().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_last_received_in_is_submitted_again_with_another_number() {
    let mut scene = Scene::open().await;
    let sent = scene.send(1, wirewatch_standins::marrowfield::Flaw::None);
    let begin = || async { scene.service.get("/api/flows/partner-orders/begin").await };
    let last = eventually("it is the newest", || async { begin().await?["last"]["text"].as_str().map(str::to_owned) });
    assert_eq!(last.await, sent.text);
    let found = begin().await.expect("an answer");
    assert_eq!((&found["takes"], &found["form"], &found["made_up"]), (&"x12/850".into(), &"x12".into(), &"".into()));
    let browser = Browser::signed_in(&scene.service).await;
    browser.see("[data-line=partner-orders]").await;
    browser.click("[data-line=partner-orders] [data-part=acts]").await;
    browser.press("Submit one…").await;
    browser.see(".cm-content").await;
    // It has another control number; with the old one it is a duplicate.
    let control = format!("{:09}", sent.control);
    let fresh = browser.edited().await;
    assert!(!fresh.contains(&format!("*{control}*0*")) && !fresh.contains(&format!("IEA*1*{control}")), "{fresh}");
    browser.press("Dry run").await;
    browser.read("[data-part=dry-run]", "997 for group").await;
    browser.press("Submit for real").await;
    browser.read("[data-part=handed]", "received").await;
    browser.edit(&sent.text).await;
    browser.press("Dry run").await;
    browser.see("[data-part=dry-run]").await;
    browser.press("Submit for real").await;
    browser.read("[data-part=handed]", "duplicate").await;
    browser.leave().await;
}
