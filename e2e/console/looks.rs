//! Every page, light and dark, wide and narrow: axe-core finds nothing, and nothing is wider than the window.

use super::browser::Browser;
use crate::scene::Scene;
use wirewatch_standins::marrowfield::Flaw;
use wirewatch_standins::order_system::Faults;
use wirewatch_testkit::eventually;
use wirewatch_testkit::http_client;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_page_is_sound_in_both_themes_and_at_every_width() {
    let mut scene = Scene::open().await;
    let good = scene.send(2, Flaw::None);
    scene.quiet(2).await;
    scene.send(1, Flaw::UnknownItem);
    eventually("one is failed", || async { (scene.messages("state=failed").await.len() == 1).then_some(()) }).await;
    let failed = scene.messages("state=failed").await[0]["id"].as_str().unwrap().to_owned();
    scene.orders.set_faults(Faults { outage: true, ..Faults::default() });
    scene.send(2, Flaw::None);
    let arrival = scene.arrival(&format!("po-{:06}.edi", good.control)).await["id"].as_str().unwrap().to_owned();
    let (_, capture) = scene.service.act("/api/captures", &serde_json::json!({ "kind": "http" })).await;
    let call = http_client().post(capture["address"].as_str().unwrap()).body("{ \"number\": 7 }");
    assert!(call.send().await.unwrap().status().is_success());
    let browser = Browser::signed_in(&scene.service).await;
    browser.see("[data-concern=held]").await;
    let pages = [
        ("/".to_owned(), "[data-concern=failed]"),
        ("/messages".to_owned(), "[data-message]"),
        ("/messages?state=failed".to_owned(), "[data-message]"),
        ("/messages?key=none".to_owned(), "main svg"),
        (format!("/messages/{failed}"), ".cm-content"),
        ("/flows".to_owned(), "[data-flow]"),
        ("/flows/partner-orders".to_owned(), "canvas"),
        ("/arrivals".to_owned(), "[data-arrival]"),
        (format!("/arrivals/{arrival}"), ".cm-content"),
        ("/orders".to_owned(), "[data-order]"),
        (format!("/orders/{}", good.orders[0]), "[data-milestone]"),
        ("/connections".to_owned(), "[data-connection]"),
        ("/captures".to_owned(), "[data-capture]"),
        ("/releases".to_owned(), "[data-release-detail]"),
        ("/maps".to_owned(), "[data-map]"),
        ("/maps/po-to-order".to_owned(), "[data-target]"),
        ("/x12".to_owned(), "textarea"),
        (format!("/x12?arrival={arrival}"), "[data-line]"),
        ("/design".to_owned(), "[data-line]"),
        ("/no/such/page".to_owned(), "h1"),
    ];
    let mut reported = String::new();
    for theme in ["light", "dark"] {
        browser.script(&format!("localStorage.setItem('theme', {theme:?})")).await;
        for (page, there) in &pages {
            browser.go(page).await;
            browser.see(there).await;
            let found = browser.accessibility().await;
            if !found.is_empty() {
                reported.push_str(&format!("{theme} {page}\n{found}\n"));
            }
        }
    }
    assert_eq!(reported, "");
    for width in [720, 820, 1280, 2560] {
        browser.driver.set_window_rect(0, 0, width, 900).await.unwrap();
        for (page, there) in &pages {
            browser.go(page).await;
            browser.see(there).await;
            let over = browser.script("return document.documentElement.scrollWidth - document.documentElement.clientWidth").await;
            assert_eq!(over, 0, "{page} is wider than {width}");
        }
    }
    browser.leave().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_chosen_theme_holds_and_figures_stand_in_columns() {
    let scene = Scene::open().await;
    let browser = Browser::signed_in(&scene.service).await;
    let ground = "return getComputedStyle(document.documentElement).backgroundColor";
    let light = browser.script(ground).await;
    browser.click("[aria-label='Light or dark']").await;
    browser.press("Dark").await;
    let dark = browser.script(ground).await;
    assert_ne!(light, dark);
    browser.go("/orders").await;
    browser.see("h1").await;
    assert_eq!(browser.script(ground).await, dark, "another page, the same theme");
    let widths = browser
        .script(
            "await document.fonts.ready
             const measure = (text) => {
               const box = document.createElement('span')
               box.textContent = text
               document.body.append(box)
               const { width } = box.getBoundingClientRect()
               box.remove()
               return width
             }
             return [measure('1111111111'), measure('0000000000'), document.fonts.check('16px \"Recursive Variable\"')]",
        )
        .await;
    assert_eq!(widths[0], widths[1], "every figure is as wide as another");
    assert_eq!(widths[2], true, "the console's own typeface is there");
    browser.leave().await;
}

/// A slow line opens the first page quickly, too.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_first_page_loads_no_more_than_250_kb_of_scripts_and_styles() {
    let scene = Scene::open().await;
    let browser = Browser::signed_in(&scene.service).await;
    browser.see("[data-line]").await;
    let loaded = browser
        .script(
            "return performance.getEntriesByType('resource').filter(({ name }) => /\\.(js|css)$/.test(name)) \
             .map(({ encodedBodySize }) => encodedBodySize)",
        )
        .await;
    let sizes: Vec<u64> = serde_json::from_value(loaded).unwrap();
    assert!(sizes.len() >= 2 && sizes.iter().all(|bytes| *bytes > 0), "{sizes:?}");
    assert!(sizes.iter().sum::<u64>() <= 250 << 10, "{sizes:?}");
    browser.leave().await;
}
