//! Acts of people in the console that are not about one message: pausing and resuming a flow, rolling back to an earlier release.

use super::browser::Browser;
use crate::scene::Scene;
use wirewatch_testkit::eventually;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_flow_is_paused_and_resumed() {
    let scene = Scene::open().await;
    let browser = Browser::signed_in(&scene.service).await;
    browser.see("[data-line=partner-orders]").await;
    browser.click("[data-line=partner-orders] [data-part=acts]").await;
    browser.press("Pause…").await;
    browser.click("[role=dialog] input").await;
    browser.type_keys("stocktaking").await;
    browser.press("Pause").await;
    browser.read("[data-line=partner-orders] [data-paused]", "stocktaking").await;
    let paused = || async { scene.service.get("/api/flows/paused").await };
    assert_eq!(paused().await.expect("an answer")[0]["flow"], "partner-orders");
    browser.press("Resume").await;
    browser.see_no("[data-line=partner-orders] [data-paused]").await;
    assert_eq!(paused().await.expect("an answer").as_array().map(Vec::len), Some(0));
    browser.leave().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_earlier_release_is_gone_back_to() {
    let scene = Scene::open().await;
    let service = &scene.service;
    service.change("flows/picks.toml", "Picks to the warehouse", "Picks");
    let folder = service.workspace().display().to_string();
    let (code, _, err) = service.command(&["deploy", "--why", "shorter title", &folder]);
    assert_eq!(code, 0, "{err}");
    let browser = Browser::signed_in(service).await;
    browser.see("[data-line]").await;
    browser.go("/releases").await;
    browser.click("[data-release='1']").await;
    browser.comes_to("/releases?release=1").await;
    browser.press("Go back to this release…").await;
    browser.click("[role=dialog] input").await;
    browser.type_keys("the title was meant").await;
    browser.press("Go back").await;
    browser.comes_to("/releases?release=3").await;
    browser.read("[data-release='3']", "back to release 1: the title was meant").await;
    let runs = eventually("release 3 runs", || async {
        let workspace = service.get("/api/workspace").await?;
        (workspace["release"] == 3).then_some(workspace)
    });
    runs.await;
    browser.leave().await;
}
