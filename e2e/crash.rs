//! `kill -9` at any moment: every order booked once, every group acknowledged once, nothing lost or stuck.

use crate::scene::Scene;
use std::time::Duration;
use wirewatch_standins::marrowfield::Flaw;
use wirewatch_standins::order_system::Faults;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn twelve_kills_while_five_hundred_orders_pass() {
    let mut scene = Scene::open().await;
    // Slow enough that kills fall between effect and outcome too.
    scene.orders.set_faults(Faults { delay_ms: 5, ..Faults::default() });
    let mut random = fastrand::Rng::with_seed(20_261_123);
    let mut orders = 0;
    let mut kills = 0;
    while orders < 500 || kills < 12 {
        if orders < 500 {
            let n = if orders % 100 == 0 { 40 } else { random.usize(1..=5) };
            scene.send(n, Flaw::None);
            orders += n;
        }
        if kills < 12 && orders > (kills + 1) * 38 {
            // Anywhere from in the middle of taking to in the middle of booking.
            tokio::time::sleep(Duration::from_micros(random.u64(0..60_000))).await;
            scene.service.kill();
            kills += 1;
            if random.bool() {
                scene.service.start().await;
            } else {
                scene.service.launch();
            }
        }
    }
    if scene.service.has_ended() {
        scene.service.start().await;
    }
    scene.quiet(orders).await;
    scene.assert_all_once();
    let messages = scene.messages("flow=partner-orders").await;
    assert_eq!(messages.len(), orders, "one message for each order");
    assert!(messages.iter().all(|message| message["state"] == "done"));
    println!("measured: {orders} orders, {kills} kills, {} repeats under the same key", scene.orders.summary().repeats);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_second_service_on_the_same_database_is_reported_so() {
    let database = wirewatch_testkit::Database::new();
    let scene = Scene::open_on(&database).await;
    let mut second = Scene::prepare(&database).await;
    second.service.launch();
    wirewatch_testkit::eventually("the second one ends", || {
        let ended = second.service.has_ended();
        async move { ended.then_some(()) }
    })
    .await;
    let (code, _, _) = scene.service.command(&["status"]);
    assert_eq!(code, 0, "the first one goes on");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_order_writes_no_more_rows_than_promised() {
    let database = wirewatch_testkit::Database::new();
    let mut scene = Scene::open_on(&database).await;
    scene.send(1, Flaw::None);
    scene.quiet(1).await;
    let counted = "n_tup_ins + n_tup_upd";
    scene.service.stop();
    let before = database.rows_written(counted).await;
    scene.service.start().await;
    scene.send(400, Flaw::None);
    scene.quiet(401).await;
    scene.service.stop();
    let rows = (database.rows_written(counted).await - before) as f64 / 400.0;
    println!("measured: {rows:.2} rows inserted or updated for each order");
    assert!(rows <= 8.0, "{rows} rows");
    assert!(rows >= 4.0, "{rows} rows: less than custody needs, so the count is wrong");
}
