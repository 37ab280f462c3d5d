//! The tables that the client prints, as they are read.

use crate::scene::Scene;
use wirewatch_standins::marrowfield::{Flaw, Sent};
use wirewatch_standins::order_system::Faults;
use wirewatch_testkit::{eventually, redact};

/// Returns the output of a command, with ids and times redacted.
fn printed(scene: &Scene, arguments: &[&str]) -> String {
    let (code, out, err) = scene.service.command(arguments);
    assert_eq!((code, err.as_str()), (0, ""), "{arguments:?}: {out}");
    format!("$ wirewatch {}\n{}", arguments.join(" "), redact(&out))
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn each_table_says_what_it_should_after_a_morning() {
    let mut scene = Scene::open().await;
    scene.queues_known().await;
    let empty = [&["messages"][..], &["orders"], &["arrivals"], &["reasons"], &["status"]].map(|one| printed(&scene, one));
    insta::assert_snapshot!("lists_empty", empty.join("\n"));
    // One after another, so that the order of the lists is known.
    let good = send_slowly(&mut scene, Flaw::None).await;
    scene.quiet(1).await;
    send_slowly(&mut scene, Flaw::UnknownItem).await;
    eventually("one is failed", || async { (scene.messages("state=failed").await.len() == 1).then_some(()) }).await;
    scene.drop("again.edi", good.text.as_bytes());
    assert_eq!(scene.verdict("again.edi").await.0, "duplicate");
    scene.drop("words.edi", b"please call us");
    assert_eq!(scene.verdict("words.edi").await.0, "failed");
    scene.quiet(1).await;
    eventually("both timelines are shown", || async {
        let orders = scene.service.get("/api/orders").await?;
        let states: Vec<&str> = orders["orders"].as_array()?.iter().filter_map(|order| order["state"].as_str()).collect();
        let reached = orders["orders"].as_array()?.iter().all(|order| {
            order["milestones"]
                .as_array()
                .is_some_and(|all| all.iter().any(|one| one["name"] == "acknowledged" && one["at"].is_string()))
        });
        (states.contains(&"done") && states.contains(&"trouble") && reached).then_some(())
    })
    .await;
    let tables = [
        &["messages"][..],
        &["messages", "--state", "failed"],
        &["messages", "--key", "nothing"],
        &["arrivals"],
        &["arrivals", "--verdict", "failed"],
        &["orders"],
        &["orders", "--state", "trouble"],
        &["order", &good.orders[0]],
        &["flow", "show", "partner-orders"],
    ];
    let tables = tables.map(|one| printed(&scene, one));
    insta::assert_snapshot!("lists_after_a_morning", tables.join("\n"));
    // The width of the column depends on the durations.
    let status = printed(&scene, &["status"]);
    let words: Vec<&str> = status.split_whitespace().collect();
    insta::assert_snapshot!("status_after_a_morning", words.join(" "));
}

/// Messages are found by how their number begins, and listed from either end.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn messages_are_found_by_the_beginning_of_their_number_and_listed_from_either_end() {
    let mut scene = Scene::open().await;
    let sent = scene.send(12, Flaw::None);
    scene.quiet(12).await;
    let keys = async |query: &str| {
        let page = scene.service.get(&format!("/api/messages?flow=partner-orders&{query}")).await.unwrap();
        let keys = page["messages"].as_array().unwrap().iter().map(|one| one["key"].as_str().unwrap().to_owned());
        (keys.collect::<Vec<_>>(), page["next"].as_str().map(str::to_owned))
    };
    let prefix = &sent.orders[0][..sent.orders[0].len() - 1];
    let mut begins: Vec<String> = sent.orders.iter().filter(|order| order.starts_with(prefix)).cloned().collect();
    assert_eq!(keys(&format!("key_prefix={prefix}&order=oldest")).await.0, begins);
    begins.reverse();
    assert_eq!(keys(&format!("key_prefix={prefix}")).await.0, begins);
    assert_eq!(keys("key_prefix=Q-1000").await.0.len(), 12, "the number in the target, too");
    assert_eq!(keys("key_prefix=%25").await.0.len(), 0, "no pattern");
    // Pages from the oldest on.
    let (mut all, mut next) = keys("order=oldest&limit=5").await;
    while let Some(before) = next {
        let (more, further) = keys(&format!("order=oldest&limit=5&before={before}")).await;
        all.extend(more);
        next = further;
    }
    assert_eq!(all, sent.orders);
    let (status, problem) = scene.service.ask("/api/messages?order=middle").await;
    assert_eq!(status, 400, "{problem}");
    let (code, out, _) = scene.service.command(&["messages", "--key-prefix", prefix, "--order", "oldest", "--limit", "1"]);
    assert!(code == 0 && out.contains(&sent.orders[0]) && out.contains("next page: --before"), "{out}");
}

/// Sends an order whose acknowledgment is sent before it is booked.
async fn send_slowly(scene: &mut Scene, flaw: Flaw) -> Sent {
    scene.orders.set_faults(Faults { outage: true, ..Faults::default() });
    let before = scene.acknowledged().len();
    let sent = scene.send(1, flaw);
    eventually("it is acknowledged", || std::future::ready((scene.acknowledged().len() > before).then_some(()))).await;
    eventually("its acknowledgment is done", || async {
        let open = scene.messages("flow=acknowledgments").await;
        open.iter().all(|message| message["state"] == "done").then_some(())
    })
    .await;
    scene.orders.set_faults(Faults::default());
    sent
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn connections_are_tested_and_reported_in_a_sentence_each() {
    let scene = Scene::open().await;
    // Ports are others at each run.
    let port = |connection: &str| {
        let text = std::fs::read_to_string(scene.service.workspace().join(connection)).unwrap();
        let (_, rest) = text.split_once("127.0.0.1:").unwrap();
        rest.chars().take_while(char::is_ascii_digit).collect::<String>()
    };
    let (erp, chat) = (port("connections/erp.toml"), port("connections/chat.toml"));
    let files = scene.service.files().to_string_lossy().into_owned();
    std::fs::remove_dir_all(scene.service.files().join("marrowfield/to-them")).unwrap();
    scene.queues_known().await;
    let mut reported = String::new();
    for arguments in [
        &["connection", "list"][..],
        &["connection", "test", "erp"],
        &["connection", "test", "marrowfield-collect"],
        &["connection", "test", "epr"],
    ] {
        let (code, out, err) = scene.service.command(arguments);
        reported.push_str(&format!("$ wirewatch {}\n{out}{err}exit code {code}\n\n", arguments.join(" ")));
    }
    let (broker, prefix) = (scene.broker.address.clone(), scene.broker.name(""));
    let reported =
        reported.replace(&files, "FILES").replace(&erp, "PORT").replace(&chat, "PORT").replace(&broker, "amqp://127.0.0.1:BROKE");
    insta::assert_snapshot!("connections", redact(&reported.replace(&prefix, "t0000000-000.")));
}
