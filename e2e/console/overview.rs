//! The first screen: orders pass, wait, drain.

use super::browser::Browser;
use crate::scene::Scene;
use serde_json::json;
use wirewatch_standins::marrowfield::Flaw;
use wirewatch_standins::order_system::Faults;
use wirewatch_testkit::eventually;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_order_is_seen_on_its_way_from_the_file_to_its_number() {
    let mut scene = Scene::open().await;
    let browser = Browser::signed_in(&scene.service).await;
    browser.see("[data-line=partner-orders][data-quiet=true]").await;
    browser.read("[data-part=glance]", "nothing is stuck").await;
    browser
        .script(
            "window.dots = [];
             new MutationObserver((all) => all.forEach((one) => one.addedNodes.forEach((node) => {
               if (node.dataset?.dot) window.dots.push({ message: node.dataset.dot, at: Date.now() })
             }))).observe(document.body, { childList: true, subtree: true })",
        )
        .await;
    let dropped = jiff::Timestamp::now();
    let sent = scene.send(3, Flaw::None);
    let dots = eventually("dots of the orders are seen", || async {
        let dots = browser.script("return window.dots").await;
        (dots.as_array()?.len() >= 3).then_some(dots)
    })
    .await;
    let first = dots[0]["at"].as_i64().unwrap();
    println!("measured: from the file dropped to the dot seen: {} ms", first - dropped.as_millisecond());
    browser.read("[data-line=partner-orders] [data-step=book] [data-part=rate]", "3").await;
    assert_eq!(browser.accessibility().await, "");

    // From the line to the message: the figure opens what it counts.
    browser.click("[data-line=partner-orders] [data-step=book] [data-part=rate]").await;
    browser.comes_to("/messages?flow=partner-orders&within=1m").await;
    let row = format!("//div[@role='row']//a[normalize-space(.)='{}']", sent.orders[1]);
    eventually("the order is in the list", || async {
        browser.driver.find(thirtyfour::By::XPath(&row)).await.ok()?.click().await.ok()
    })
    .await;
    browser.read("h1", &sent.orders[1]).await;
    browser.read("[data-part=state]", "done").await;
    browser.read("[data-part=result]", "Q-10000").await;
    // Opened again, as from a bookmark.
    browser.go("/").await;
    browser.read("[data-line=partner-orders] [data-step=book] [data-part=rate]", "3").await;
    let (first, largest) = browser.paints().await;
    println!("measured: the first screen painted after {first} ms, its largest part after {largest} ms");
    browser.leave().await;
}

/// The figures of the first page, and the numbers and pages of the sidebar at every width.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_first_page_has_the_figures_and_the_sidebar_leads_everywhere() {
    let mut scene = Scene::open().await;
    let browser = Browser::signed_in(&scene.service).await;
    browser.read("[data-figure=attention]", "nothing has failed").await;
    browser.see_no("[data-count=messages]").await;
    scene.send(2, Flaw::None);
    scene.send(1, Flaw::UnknownItem);
    browser.read("[data-figure=orders]", "3").await;
    browser.read("[data-figure=orders]", "none before").await;
    browser.read("[data-figure=median]", "95th percentile").await;
    browser.read("[data-figure=attention]", "the oldest").await;
    browser.read("[data-count=messages]", "1").await;
    // Systems and what people did are one line each.
    browser.read("[data-part=systems]", "Order system").await;
    let failed = scene.messages("state=failed").await.remove(0)["id"].as_str().unwrap().to_owned();
    assert_eq!(scene.service.command(&["discard", &failed, "--why", "a test order"]).0, 0);
    browser.read("[data-part=recent-acts]", "discarded").await;
    browser.read("[data-part=recent-acts]", "a test order").await;
    scene.send(1, Flaw::UnknownItem);
    browser.read("[data-figure=attention]", "the oldest").await;
    browser.press("As a table").await;
    let rows = browser.script("return document.querySelectorAll('[role=dialog] tbody tr').length").await;
    assert_eq!(rows, 30, "the table has every span of the line");
    assert_eq!(browser.accessibility().await, "");
    browser.press("Close").await;
    browser.click("[data-figure=attention]").await;
    browser.comes_to("/messages?state=failed").await;
    // As icons alone each page still has its name; in a narrow window the pages are in a drawer.
    browser.driver.set_window_rect(0, 0, 900, 800).await.unwrap();
    let named =
        "return [...document.querySelectorAll('[data-part=sidebar] a')].every((link) => link.textContent.trim() && link.title)";
    assert_eq!(browser.script(named).await, true);
    let links = browser.script("return document.querySelectorAll('[data-part=sidebar] a').length").await;
    assert_eq!(links, 10, "every page has its link");
    browser.driver.set_window_rect(0, 0, 680, 800).await.unwrap();
    browser.click("button[aria-label=Pages]").await;
    browser.click("[role=dialog] nav a[href='/orders']").await;
    browser.comes_to("/orders").await;
    browser.see_no("[role=dialog]").await;
    let over = browser.script("return document.documentElement.scrollWidth - document.documentElement.clientWidth").await;
    assert_eq!(over, 0, "nothing is wider than the window");
    browser.leave().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_step_that_fails_again_and_again_is_seen_held_and_a_person_has_one_try() {
    let mut scene = Scene::open().await;
    scene.service.change("connections/erp.toml", "in_flight = 16", "in_flight = 1");
    let (code, out, err) = scene.service.command(&["deploy", &scene.service.workspace().display().to_string()]);
    assert_eq!(code, 0, "{out}{err}");
    let browser = Browser::signed_in(&scene.service).await;
    scene.orders.set_faults(Faults { next: 1000, status: 422, ..Faults::default() });
    scene.send(24, Flaw::None);
    browser.read("[data-concern=held]", "The step book of Partner purchase orders is on hold; ").await;
    browser.read("[data-concern=held]", "20 messages in a row failed; the last one: answered 422").await;
    browser.read("[data-line=partner-orders] [data-on-hold]", "book on hold").await;
    assert_eq!(browser.accessibility().await, "");
    browser.click("[data-concern=held]").await;
    browser.comes_to("/messages?state=waiting&flow=partner-orders&step=book").await;
    browser.read("[role=rowgroup] [role=row]", "book is on hold: many messages failed there for the same reason").await;
    browser.go("/").await;
    scene.orders.set_faults(Faults::default());
    browser.press("Try one").await;
    browser.see_no("[data-concern=held]").await;
    // Some may have probed before, too early.
    scene.quiet(1).await;
    browser.leave().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_outage_is_seen_with_whom_it_affects_and_so_is_its_end() {
    let mut scene = Scene::open().await;
    let browser = Browser::signed_in(&scene.service).await;
    scene.orders.set_faults(Faults { outage: true, ..Faults::default() });
    scene.send(4, Flaw::None);
    browser.read("[data-concern=held]", "Order system is on hold; 4 messages wait").await;
    browser.read("[data-concern=held]", "affects Marrowfield Farm Stores").await;
    browser.read("[data-concern=held]", "closed for maintenance").await;
    browser.read("[data-step=book] [data-part=waiting]", "4 wait").await;
    browser.read("[data-part=glance]", "waiting messages continue by themselves").await;
    browser.click("[data-concern=held]").await;
    browser.read("[data-connection=erp][data-on-hold=true] [data-part=says]", "503").await;
    browser.click("[data-connection=erp] button:nth-of-type(1)").await;
    browser.read("[data-connection=erp] [data-part=tested]", "it answers (200)").await;
    scene.orders.set_faults(Faults::default());
    browser.see("[data-connection=erp][data-on-hold=false]").await;
    browser.go("/").await;
    browser.see_no("[data-concern]").await;
    scene.quiet(4).await;
    browser.leave().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_person_holds_a_connection_and_resumes_it() {
    let mut scene = Scene::open().await;
    let browser = Browser::signed_in(&scene.service).await;
    browser.go("/connections").await;
    browser.click("[data-row=erp] button").await;
    browser.comes_to("/connections#erp").await;
    browser.click("[data-connection=erp] button:nth-of-type(2)").await;
    browser.see("[role=dialog]").await;
    browser.type_keys("they move house").await;
    browser.press("Hold").await;
    browser.read("[data-connection=erp] [data-part=says]", "they move house").await;
    scene.send(2, Flaw::None);
    eventually("two wait", || async {
        let lines = scene.service.get("/api/overview").await?;
        let own = lines["lines"].as_array()?.iter().find(|line| line["flow"] == "partner-orders")?;
        (own["steps"][2]["waiting"] == 2).then_some(())
    })
    .await;
    assert_eq!(scene.orders.summary().requests, 0, "nothing was sent, not even to look");
    browser.go("/").await;
    browser.read("[data-concern=held]", "Order system was put on hold by").await;
    browser.go("/connections#erp").await;
    browser.press("Resume").await;
    scene.quiet(2).await;
    browser.see("[data-connection=erp][data-on-hold=false]").await;

    // On hold, the partner's folder keeps its files: they still belong to the partner.
    let (status, _) = scene.service.act("/api/connections/marrowfield-drop/hold", &json!({ "why": "a look first" })).await;
    assert_eq!(status, 200);
    let sent = scene.send(1, Flaw::None);
    crate::scene::a_moment().await;
    let arrivals = scene.service.get(&format!("/api/arrivals?name=po-{:06}.edi", sent.control)).await.unwrap();
    assert_eq!(arrivals["arrivals"], json!([]));
    let (code, out, err) = scene.service.command(&["connection", "resume", "marrowfield-drop"]);
    assert_eq!((code, out.as_str(), err.as_str()), (0, "marrowfield-drop is in use\n", ""));
    scene.quiet(3).await;
    browser.leave().await;
}
