//! A webhook in the console: what its sender needs, its events, and the rejected calls.

use super::browser::Browser;
use crate::scene::Scene;
use wirewatch_standins::shop::Shop;
use wirewatch_testkit::{Database, eventually};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_sender_is_set_up_and_seen_calling() {
    let mut scene = Scene::prepare(&Database::new()).await;
    scene.service.start().await;
    let browser = Browser::signed_in(&scene.service).await;
    // Without a secret no call is accepted, and the first page says so.
    browser.read("[data-concern=warning]", "the secret `shop-signing` is not set").await;
    browser.go("/connections#shop").await;
    let address = scene.service.url("/in/shop-7d2f");
    browser.read("[data-connection=shop] [data-part=address]", &address).await;
    browser.read("[data-connection=shop]", "Only this machine can reach it").await;
    browser.press("Make one…").await;
    browser.press("Create").await;
    let secret = browser.see("[data-part=secret]").await.text().await.unwrap();
    browser.press("Done").await;
    browser.read("[data-connection=shop]", "is set").await;
    // Calls are signed with this secret.
    let mut shop = Shop::new(&address, &secret, 1000);
    let purchase = shop.purchase();
    assert_eq!(shop.tell(&purchase).await, Ok(202));
    assert_eq!(shop.tell_as(&purchase, "whsec_Zm9yZ2Vk").await, Ok(401));
    scene.quiet(1).await;
    browser.go("/connections#shop").await;
    browser.read("[data-connection=shop] [data-part=events]", "purchase.placed").await;
    browser.read("[data-connection=shop] [data-part=events]", "Web shop orders").await;
    browser.read("[data-connection=shop] [data-part=turned-away]", "1 call rejected").await;
    assert_eq!(browser.accessibility().await, "");
    // From the event to its newest call, and to its order.
    browser.click("[data-connection=shop] [data-part=events] a").await;
    browser.read("h1", "purchase.placed").await;
    browser.press("W-1001").await;
    browser.read("[data-part=state]", "done").await;
    // Changed, the one before stays good for a while.
    let secrets = eventually("the secrets", || scene.service.get("/api/secrets")).await;
    assert!(secrets[0]["before_until"].is_null(), "{secrets}");
    browser.go("/connections#shop").await;
    browser.press("Change…").await;
    browser.read("[role=dialog]", "stays valid for 24 hours").await;
    browser.press("Create").await;
    browser.see("[data-part=secret]").await;
    let secrets = eventually("the secrets", || scene.service.get("/api/secrets")).await;
    assert!(secrets[0]["before_until"].is_string(), "{secrets}");
    browser.leave().await;
}
