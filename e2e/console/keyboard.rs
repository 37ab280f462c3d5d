//! Everything by keyboard.

use super::browser::Browser;
use crate::scene::Scene;
use thirtyfour::Key;
use wirewatch_standins::marrowfield::Flaw;
use wirewatch_testkit::eventually;

/// Presses Tab until what has the focus fits.
pub async fn tab_to(browser: &Browser, css: &str) {
    for _ in 0..60 {
        browser.type_keys(Key::Tab + "").await;
        let there = browser.script(&format!("return !!document.activeElement?.matches({css:?})")).await;
        if there == true {
            return;
        }
    }
    panic!("Tab does not come to {css}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_order_is_put_right_without_a_mouse() {
    let mut scene = Scene::open().await;
    let browser = Browser::signed_in(&scene.service).await;
    let sent = scene.send(1, Flaw::UnknownItem);
    browser.see("[data-concern=failed]").await;
    browser.type_keys("gx").await;
    browser.comes_to("/messages?state=failed").await;
    browser.see("[data-message]").await;
    tab_to(&browser, "[data-message] a").await;
    let outline = browser.script("return getComputedStyle(document.activeElement).outlineStyle").await;
    assert_eq!(outline, "solid", "the focus is seen");
    browser.type_keys(Key::Enter + "").await;
    browser.read("h1", &sent.orders[0]).await;
    // The other side now knows the item: as it is, again.
    tab_to(&browser, "[aria-label='Acts'] .button-grave").await;
    browser.type_keys(Key::Enter + "").await;
    browser.see("[role=dialog]").await;
    browser.type_keys("ordered by mistake").await;
    browser.type_keys(Key::Enter + "").await;
    browser.read("[data-part=state]", "discarded").await;
    browser.leave().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn anything_is_found_by_its_name_or_number() {
    let mut scene = Scene::open().await;
    let sent = scene.send(1, Flaw::None);
    scene.quiet(1).await;
    let browser = Browser::signed_in(&scene.service).await;
    browser.type_keys("?").await;
    browser.read("[role=dialog]", "Go to anything by name or number").await;
    assert_eq!(browser.accessibility().await, "");
    browser.type_keys(Key::Escape + "").await;
    browser.see_no("[role=dialog]").await;
    browser.type_keys("/").await;
    browser.see("[role=dialog] input").await;
    browser.type_keys(sent.orders[0].as_str()).await;
    browser.read("[role=listbox]", &format!("Order {}", sent.orders[0])).await;
    assert_eq!(browser.accessibility().await, "");
    browser.type_keys(Key::Enter + "").await;
    browser.comes_to(&format!("/orders/{}", sent.orders[0])).await;
    browser.control('k').await;
    browser.see("[role=dialog] input").await;
    browser.type_keys("marrowfield farm").await;
    browser.read("[role=listbox] [data-headlessui-state=active]", "Marrowfield Farm Stores").await;
    browser.type_keys(Key::Enter + "").await;
    browser.comes_to("/messages?partner=marrowfield").await;
    // Arrow keys go from row to row.
    browser.see("[data-message]").await;
    tab_to(&browser, "[data-row='0'] a").await;
    browser.type_keys(Key::Down + "").await;
    eventually("the second row has the focus", || async {
        let there = browser.script("return document.activeElement?.closest('[data-row]')?.dataset.row").await;
        (there == "1").then_some(())
    })
    .await;
    // Letters typed into a field are letters.
    browser.click("#key").await;
    browser.type_keys("go").await;
    assert_eq!(browser.place().await, "/messages?partner=marrowfield");
    browser.leave().await;
}
