//! Lists: filtered by the address, live, and fast at any length.

use super::browser::Browser;
use super::keyboard::tab_to;
use crate::scene::Scene;
use wirewatch_standins::marrowfield::Flaw;
use wirewatch_testkit::eventually;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_filtered_list_is_an_address_that_can_be_sent() {
    let mut scene = Scene::open().await;
    scene.send(2, Flaw::None);
    let flawed = scene.send(1, Flaw::UnknownItem);
    scene.quiet(2).await;
    eventually("one is failed", || async { (scene.messages("state=failed").await.len() == 1).then_some(()) }).await;
    let browser = Browser::signed_in(&scene.service).await;
    browser.go("/messages?flow=partner-orders&state=failed").await;
    browser.read("[role=table]", &flawed.orders[0]).await;
    assert_eq!(browser.script("return document.querySelectorAll('[data-message]').length").await, 1);

    // A choice changes the address; the address is the choice.
    browser.press("State failed").await;
    browser.click("[role=option]:nth-child(6)").await;
    browser.comes_to("/messages?flow=partner-orders&state=done").await;
    eventually("only those that are done", || async {
        let states =
            browser.script("return [...document.querySelectorAll('[data-message]')].map((row) => row.dataset.state)").await;
        (states == serde_json::json!(["done", "done"])).then_some(())
    })
    .await;
    // A message that arrives meanwhile is added to the list if it matches the filters.
    let more = scene.send(1, Flaw::None);
    browser.read("[role=table]", &more.orders[0]).await;
    // Between two times: fields of the page, moments in the address.
    browser.go("/messages?within=between&since=2020-01-01T00:00:00.000Z&until=2020-01-02T00:00:00.000Z").await;
    browser.read("main", "No message matches these filters").await;
    let shown =
        browser.script("return [...document.querySelectorAll('[type=datetime-local]')].map((field) => field.value)").await;
    assert_eq!(shown, serde_json::json!(["2020-01-01T00:00", "2020-01-02T00:00"]));
    browser
        .script("const field = document.querySelectorAll('[type=datetime-local]')[1]; field.value = '2099-01-01T00:00'; field.dispatchEvent(new Event('change'))")
        .await;
    browser.comes_to("/messages?within=between&since=2020-01-01T00:00:00.000Z&until=2099-01-01T00:00:00.000Z").await;
    browser.read("[role=table]", &more.orders[0]).await;
    assert_eq!(browser.accessibility().await, "");
    // A number is found by its beginning; a whole list is sorted by any column, and columns are chosen.
    browser.go("/messages?flow=partner-orders").await;
    browser.click("#key").await;
    browser.type_keys(format!("{}\n", &more.orders[0][..more.orders[0].len() - 1])).await;
    browser.comes_to(&format!("/messages?flow=partner-orders&key_prefix={}", &more.orders[0][..more.orders[0].len() - 1])).await;
    browser.read("[role=table]", &more.orders[0]).await;
    browser.go("/messages?flow=partner-orders").await;
    let numbers = async || {
        let numbers =
            browser.script("return [...document.querySelectorAll('[data-message] a')].map((one) => one.textContent)").await;
        serde_json::from_value::<Vec<String>>(numbers).unwrap_or_default()
    };
    let shown = async |sorted: &dyn Fn(&mut Vec<String>)| {
        eventually("they are in this order", || async {
            let now = numbers().await;
            let mut wanted = now.clone();
            sorted(&mut wanted);
            (now.len() == 4 && now == wanted).then_some(())
        })
        .await;
    };
    shown(&|all| all.sort_by(|a, b| b.cmp(a))).await;
    browser.click("[data-sort=received]").await;
    browser.comes_to("/messages?flow=partner-orders&order=oldest").await;
    shown(&|all| all.sort()).await;
    browser.click("[data-sort=result]").await;
    browser.see("[role=columnheader][aria-sort=ascending]").await;
    assert_eq!(numbers().await.last(), Some(&flawed.orders[0]), "without a number in the target, it is the last");
    browser.press("Columns").await;
    browser.click("[data-column=release]").await;
    browser.see("[data-sort=release]").await;
    assert_eq!(browser.accessibility().await, "");
    browser.press("Show the usual columns").await;
    browser.see_no("[data-sort=release]").await;
    browser.go("/messages?key=none-such").await;
    browser.read("main", "No message matches these filters").await;
    browser.go("/messages?direction=out").await;
    browser.read("[role=table]", "Acknowledgments to partners").await;
    assert!(!browser.see("[role=table]").await.text().await.unwrap().contains("Partner purchase orders"));
    browser.go("/messages?connection=marrowfield-drop&state=done").await;
    browser.read("[role=table]", &more.orders[0]).await;
    browser.leave().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_long_list_draws_only_what_is_in_sight_and_goes_on_to_its_end() {
    let mut scene = Scene::open().await;
    let sent = scene.send(600, Flaw::None);
    scene.quiet(600).await;
    let browser = Browser::signed_in(&scene.service).await;
    browser.go("/messages?flow=partner-orders").await;
    browser.see("[data-message]").await;
    let drawn = browser.script("return document.querySelectorAll('[data-message]').length").await;
    assert!(drawn.as_u64().unwrap() < 60, "{drawn} rows are drawn");
    eventually("scrolling comes to the first order", || async {
        browser.script("const rows = document.querySelector('[role=rowgroup]'); rows.scrollTop = rows.scrollHeight").await;
        let last = browser.script("return [...document.querySelectorAll('[data-message] a')].at(-1)?.innerText").await;
        sent.orders.iter().take(12).any(|order| last == order.as_str()).then_some(())
    })
    .await;
    browser.leave().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn orders_and_arrivals_come_live_and_lead_to_what_is_behind_them() {
    let mut scene = Scene::open().await;
    let browser = Browser::signed_in(&scene.service).await;
    browser.go("/orders").await;
    browser.read("main", "No orders yet").await;
    let sent = scene.send(1, Flaw::None);
    let key = &sent.orders[0];
    browser.see(&format!("[data-order='{key}'][data-state=done] [data-milestone=booked][data-reached=true]")).await;
    browser.press(key).await;
    browser.comes_to(&format!("/orders/{key}")).await;
    browser.read("[data-milestone=booked]", "booked").await;
    let file = format!("po-{:06}.edi", sent.control);
    browser.read("[data-event=arrived]", &format!("{file} from ")).await;
    browser.read("[data-event=acknowledged]", "acknowledgment ").await;
    browser.read(".cm-content", key).await;
    assert_eq!(browser.accessibility().await, "");
    let (_, out, _) = scene.service.command(&["order", key]);
    assert!(out.contains(&format!("arrived       {file} from ")) && out.contains("acknowledged  acknowledgment "), "{out}");
    let wrong = scene.send(1, Flaw::UnknownItem).orders.remove(0);
    eventually("it failed", || async { (scene.messages("state=failed").await.len() == 1).then_some(()) }).await;
    browser.go(&format!("/orders/{wrong}")).await;
    browser.read("[data-part=failed]", "unknown item").await;
    browser.press("Amend…").await;
    browser.read("[role=dialog]", &format!("Amend {wrong}")).await;
    browser.go(&format!("/orders/{key}")).await;
    browser.press("Partner purchase orders").await;
    browser.read("[data-part=result]", "Q-100001").await;
    browser.press(&format!("po-{:06}.edi", sent.control)).await;
    browser.read("h1", "received").await;
    browser.read("main", "answers").await;
    browser.go("/arrivals").await;
    browser.read("table", &format!("po-{:06}.edi", sent.control)).await;
    browser.leave().await;
}

/// A flow has a page of its own: figures over time, reasons, newest messages. An arrival names what is in it.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_flow_has_its_page_and_an_arrival_names_its_orders() {
    let mut scene = Scene::open().await;
    let sent = scene.send(6, Flaw::UnknownItem);
    scene.quiet(5).await;
    let browser = Browser::signed_in(&scene.service).await;
    browser.type_keys("gf").await;
    browser.comes_to("/flows").await;
    browser.read("[data-flow=partner-orders]", "running").await;
    browser.click("[data-flow=partner-orders] a").await;
    browser.comes_to("/flows/partner-orders").await;
    browser.read("[data-part=figures]", "5 messages done, median").await;
    browser.read("[data-part=figures]", "1 failed").await;
    browser.read("main", "unknown item").await;
    browser.read("main", &sent.orders[0]).await;
    browser.press("24 h").await;
    browser.read("[data-part=figures]", "5 messages done").await;
    browser.read("[data-part=notes]", "the order desk").await;
    browser.read("[data-part=intakes]", "newest arrival").await;
    browser.read("[data-part=versions]", "release 1").await;
    browser.read("[data-part=versions]", "flows/partner-orders.toml, maps/po-to-order.toml").await;
    browser.press("As a table").await;
    let rows = browser.script("return document.querySelectorAll('[role=dialog] tbody tr').length").await;
    assert_eq!(rows, 30);
    browser.press("Close").await;
    let (status, problem) = scene.service.ask("/api/flows/partner-order/figures").await;
    assert_eq!((status, problem["detail"].as_str()), (404, Some("Did you mean `partner-orders`?")), "{problem}");
    browser.go("/flows/none").await;
    browser.read("main", "No flow has this name").await;
    browser.go("/arrivals").await;
    browser.read("[data-part=keys]", &format!("{}, {}", sent.orders[0], sent.orders[1])).await;
    let (_, out, _) = scene.service.command(&["arrivals"]);
    assert!(
        out.contains("KEYS") && out.contains(&sent.orders[3]) && !out.contains(&sent.orders[4]) && out.contains("…"),
        "{out}"
    );
    browser.leave().await;
}

/// The last answer is shown at once, and with it all that a page asks for because of it.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_page_that_was_seen_before_is_as_complete_as_the_first_time() {
    let mut scene = Scene::open().await;
    let key = scene.send(1, Flaw::UnknownItem).orders.remove(0);
    eventually("it failed", || async { (scene.messages("state=failed").await.len() == 1).then_some(()) }).await;
    let browser = Browser::signed_in(&scene.service).await;
    for _ in 0..2 {
        browser.type_keys("go").await;
        browser.comes_to("/orders").await;
        browser.press(&key).await;
        browser.comes_to(&format!("/orders/{key}")).await;
        browser.read(".cm-content", &key).await;
        browser.type_keys("gf").await;
        browser.comes_to("/flows").await;
        browser.click("[data-flow=partner-orders] a").await;
        browser.read("[data-part=figures]", "1 failed").await;
    }
    for _ in 0..2 {
        browser.type_keys("gx").await;
        browser.comes_to("/messages?state=failed").await;
        browser.see("[data-message]").await;
        tab_to(&browser, "[data-message] a").await;
        browser.type_keys("a").await;
        browser.read("[role=dialog]", &format!("Amend {key}")).await;
        browser.read("[role=dialog] .cm-chosen", "QH-HIVE-12").await;
        browser.press("Cancel").await;
        browser.see_no("[role=dialog]").await;
    }
    browser.leave().await;
}
