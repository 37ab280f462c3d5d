//! Captures in the console: opened with a click, what arrives shows at once.

use super::browser::Browser;
use crate::scene::Scene;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_arrives_in_a_capture_shows_at_once() {
    let scene = Scene::open().await;
    scene.queues_known().await;
    let browser = Browser::signed_in(&scene.service).await;
    browser.go("/captures").await;
    browser.press("Open an address").await;
    let address = browser.see("[data-part=address]").await.text().await.unwrap();
    let client = wirewatch_testkit::http_client();
    for body in [r#"{"number":"W-1","basket":[]}"#, "{ broken"] {
        let sent = client.post(&address).header("quillhaven-event", "purchase.placed").body(body).send().await.unwrap();
        assert_eq!(sent.status(), 200);
    }
    browser.read("[data-caught='2']", "cannot be read").await;
    browser.read("[data-caught='1'] [data-part=event]", "purchase.placed").await;
    browser.read("[data-capture]", "2 arrived").await;
    browser.click("[data-caught='1']").await;
    browser.read(".cm-content", "\"W-1\"").await;
    // A flow of it: its files are shown with their case, and deployed with a reason.
    browser.press("Make a flow of this…").await;
    assert_eq!(browser.accessibility().await, "");
    browser.press("Show the files").await;
    browser.read("[data-part=cases]", "0 failed").await;
    browser.click("[data-file='flows/purchase-placed.toml']").await;
    browser.read("[role=dialog] .cm-content", "{number} was received").await;
    assert_eq!(browser.accessibility().await, "");
    browser.click("#deploy-why").await;
    browser.type_keys("a first flow\n").await;
    browser.comes_to("/flows/purchase-placed").await;
    let sent = client.post(&address).header("quillhaven-event", "purchase.placed").body(r#"{"number":"W-2","basket":[]}"#);
    assert_eq!(sent.send().await.unwrap().status(), 202);
    browser.read("main", "W-2").await;
    browser.go("/releases").await;
    browser.read("main", "a first flow").await;
    browser.go("/captures").await;
    browser.press("Close the capture…").await;
    browser.read("[role=dialog]", "stops recording").await;
    browser.press("Close it").await;
    browser.read("main", "No capture is open").await;
    // At an exchange, with a dialog; an unknown exchange is refused in the broker's words.
    browser.press("Tap an exchange…").await;
    browser.click("#capture-exchange").await;
    browser.type_keys("nothing").await;
    browser.press("Open the tap").await;
    browser.read("[role=dialog]", "no exchange 'nothing'").await;
    assert!(browser.complaints().await.iter().all(|one| one.contains("/api/captures - ") && one.contains("422")));
    browser.leave().await;
}
