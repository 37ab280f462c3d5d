//! The page for X12 documents: pasted, wrong in places, both halves linked; and from an arrival.

use super::browser::Browser;
use crate::scene::Scene;
use wirewatch_standins::marrowfield::Flaw;

async fn text(browser: &Browser, css: &str) -> String {
    browser.see(css).await.text().await.expect("its text")
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_pasted_document_is_shown_raw_and_readable_with_what_is_wrong_beside_its_place() {
    let scene = Scene::open().await;
    let browser = Browser::signed_in(&scene.service).await;
    browser.see("[data-line]").await;
    browser.go("/x12").await;
    browser.see("textarea").await;
    let document = include_str!("../../demo/samples/marrowfield-850.edi").replacen("PO1*1*12*EA", "PO1*1*twelve*EA", 1);
    browser.click("textarea").await;
    let fill = "const field = document.querySelector('textarea'); field.value = ";
    browser.script(&format!("{fill}{document:?}; field.dispatchEvent(new Event('input'))")).await;
    browser.click("main button.button-main").await;
    browser.see("[data-finding=error]").await;
    assert!(text(&browser, "[data-part=verdict]").await.contains("1 of 2 sets would be rejected."));
    assert!(text(&browser, "[data-finding=error]").await.contains("PO102 (Quantity Ordered): expected a number, found `twelve`"));
    assert_eq!(text(&browser, "[data-weight=error]").await, "twelve", "the place is marked");
    assert!(text(&browser, "main h2").await.contains("Purchase Order MF-20417"));
    // The acknowledgment that would be sent is beside it.
    browser.read("[data-part=acknowledgment]", "The 997 that we would send for group ").await;
    browser.read("[data-part=acknowledgment]", "PO102: Invalid Character In Data Element (twelve)").await;
    browser.read("[data-part=acknowledgment] pre", "AK5*R*5~").await;
    // An element chosen in the readable half is marked in the raw one.
    browser.click("main input[type=checkbox]").await;
    browser.see("[data-element=BEG03]").await;
    browser.click("[data-element=BEG03]").await;
    let marked = "return document.querySelector('[data-line=\"4\"] code .bg-thread\\\\/20')?.textContent ?? ''";
    assert_eq!(browser.script(marked).await.as_str(), Some("MF-20417"));
    browser.leave().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_dropped_file_is_looked_at_and_what_is_no_x12_is_reported() {
    let scene = Scene::open().await;
    let browser = Browser::signed_in(&scene.service).await;
    browser.see("[data-line]").await;
    browser.go("/x12").await;
    browser.see("textarea").await;
    let drop = |text: &str| {
        format!(
            "const carried = new DataTransfer(); carried.items.add(new File([{text:?}], 'answer.edi')); \
             document.querySelector('main h1').dispatchEvent(new DragEvent('drop', {{ dataTransfer: carried, bubbles: true }}))"
        )
    };
    browser.script(&drop(include_str!("../../demo/samples/quillhaven-855.edi"))).await;
    browser.read("[data-part=verdict]", "Nothing in it would be rejected: 1 set.").await;
    browser.read("main h2", "Purchase Order Acknowledgment of order MF-20417").await;
    assert!(text(&browser, "main header").await.contains("answer.edi"));
    browser.script(&drop("Dear Sir or Madam")).await;
    browser.read("[data-part=verdict]", "no interchange").await;
    browser.press("Open another").await;
    browser.see("textarea").await;
    browser.leave().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_arrival_is_looked_at_from_its_page() {
    let mut scene = Scene::open().await;
    let sent = scene.send(2, Flaw::None);
    scene.quiet(2).await;
    let arrival = scene.arrival(&format!("po-{:06}.edi", sent.control)).await["id"].as_str().unwrap().to_owned();
    let browser = Browser::signed_in(&scene.service).await;
    browser.see("[data-line]").await;
    browser.go(&format!("/arrivals/{arrival}")).await;
    browser.see("main a[href^='/x12?']").await;
    browser.click("main a[href^='/x12?']").await;
    browser.see("[data-line]").await;
    assert!(text(&browser, "[data-part=verdict]").await.contains("Nothing in it would be rejected: 2 sets."));
    assert!(text(&browser, "nav[aria-label=Pages]").await.contains("X12"), "the sidebar leads there");
    browser.leave().await;
}
