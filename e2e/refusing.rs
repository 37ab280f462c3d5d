//! Documents that do not fit their schema, and documents without a flow, in a running service: nothing is dropped.

use crate::scene::Scene;
use serde_json::Value;
use wirewatch_standins::shop::{Shop, ShopEvent};
use wirewatch_testkit::eventually;

const PATH: &str = "/in/shop-7d2f";

/// Waits until a flow has that many messages and none of them is running.
async fn stopped(scene: &Scene, flow: &str, count: usize) -> Vec<Value> {
    eventually(&format!("{count} messages of {flow} have stopped"), || async {
        let all = scene.messages(&format!("flow={flow}")).await;
        let ended = all.iter().all(|one| ["failed", "done"].contains(&one["state"].as_str().unwrap_or_default()));
        (all.len() == count && ended).then_some(all)
    })
    .await
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_set_that_no_flow_takes_is_acknowledged_and_a_message_that_failed() {
    let scene = Scene::open().await;
    let sample = std::fs::read_to_string(crate::scene::root().join("demo/samples/quillhaven-855.edi")).unwrap();
    let (us, them) = ("QUILLHAVEN ", "MARROWFIELD");
    let answer = sample.replacen(us, "?", 1).replacen(them, us, 1).replacen('?', them, 1);
    let answer = answer.replacen("GS*PR*QUILLHAVEN*MARROWFIELD", "GS*PR*MARROWFIELD*QUILLHAVEN", 1);
    scene.drop("answer.edi", answer.as_bytes());
    let (verdict, says) = scene.verdict("answer.edi").await;
    assert_eq!((verdict.as_str(), says.as_str()), ("received", "no flow takes 855 from marrowfield"));
    let all = stopped(&scene, "unrouted", 1).await;
    assert_eq!((all[0]["state"].as_str(), all[0]["key"].as_str()), (Some("failed"), Some("855 000000031")), "{all:?}");
    assert!(all[0]["says"].as_str().unwrap().contains("no flow takes 855 from marrowfield"), "{all:?}");
    eventually("it is acknowledged all the same", || async { (scene.acknowledged().len() == 1).then_some(()) }).await;
    let (code, out, _) = scene.service.command(&["messages", "--state", "failed"]);
    assert!(code == 0 && out.contains("no flow takes 855 from marrowfield"), "{out}");
    let (code, out, _) = scene.service.command(&["status"]);
    assert!(code == 0 && out.contains("unrouted"), "{out}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_call_that_does_not_fit_its_schema_is_kept_and_books_nothing() {
    let scene = Scene::open().await;
    let mut shop = Shop::new(&scene.service.url(PATH), &scene.shop_secret, 1000);
    let reported = shop.purchase();
    let bare = ShopEvent { body: reported.body.replacen("\"number\"", "\"numbr\"", 1), ..reported.clone() };
    assert_eq!(shop.tell(&bare).await, Ok(202));
    let newest = eventually("the call is listed", || async {
        let page = scene.service.get("/api/arrivals?connection=shop").await?;
        page["arrivals"].as_array()?.first().cloned()
    })
    .await;
    let says = newest["says"].as_str().unwrap();
    assert_eq!((newest["verdict"].as_str(), newest["messages"].as_i64()), (Some("failed"), Some(0)), "{newest}");
    assert!(says.contains("does not fit the schema purchase: `data.number` is missing"), "{says}");
    assert_eq!(scene.orders.summary().booked, 0);
    // An incomplete document is reported as such, with its position, not as one without a flow.
    let cut = ShopEvent { id: "msg_cut".into(), body: reported.body[..reported.body.len() / 2].to_owned() };
    assert_eq!(shop.tell(&cut).await, Ok(202));
    let newest = eventually("the second call is listed", || async {
        let page = scene.service.get("/api/arrivals?connection=shop").await?;
        let all = page["arrivals"].as_array()?.clone();
        (all.len() == 2).then(|| all[0].clone())
    })
    .await;
    let says = newest["says"].as_str().unwrap();
    assert!(newest["verdict"] == "failed" && says.contains("not JSON") && says.contains("line 1"), "{newest}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_result_that_does_not_fit_goes_on_where_the_map_says_warn() {
    let mut scene = Scene::prepare(&wirewatch_testkit::Database::new()).await;
    scene.service.change("maps/purchase-to-order.toml", "[set]", "validate = \"warn\"\n[set]");
    scene.service.change("maps/purchase-to-order.toml", "number(data.total)", "number(data.total[it < 0])");
    scene.service.start().await;
    let secret = scene.service.secret("shop-signing").await;
    let mut shop = Shop::new(&scene.service.url(PATH), &secret, 1000);
    let reported = shop.purchase();
    assert_eq!(shop.tell(&reported).await, Ok(202));
    scene.quiet(1).await;
    let all = stopped(&scene, "shop-orders", 1).await;
    assert_eq!(all[0]["state"], "done", "{all:?}");
    let (code, out, _) = scene.service.command(&["show", all[0]["id"].as_str().unwrap()]);
    assert!(code == 0 && out.contains("the result does not fit the schema order: `total` is missing"), "{out}");
}
