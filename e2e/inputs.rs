//! Bad input: each kind has its outcome, nothing of it is lost, and others pass meanwhile.

use crate::scene::Scene;
use serde_json::json;
use wirewatch_standins::marrowfield::Flaw;
use wirewatch_testkit::{Database, Service, eventually, http_client};

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_kind_of_bad_file_has_its_outcome() {
    let mut scene = Scene::open().await;
    let good = scene.marrowfield.interchange_of(2, Flaw::None).text;
    let numbered = |n: u32| {
        good.replace("000000101", &format!("{n:09}")).replace("*101*", &format!("*{n}*")).replace("*101~", &format!("*{n}~"))
    };
    let cases: Vec<(&str, Vec<u8>, &str, &str)> = vec![
        ("empty.edi", Vec::new(), "failed", "the file is empty"),
        ("binary.edi", (0..5000u32).map(|n| (n * 7 % 251) as u8).collect(), "failed", "no interchange header starts here"),
        ("words.edi", b"please call us".to_vec(), "failed", "no interchange header starts here"),
        (
            "no-trailer.edi",
            numbered(201).replace("IEA*1*000000201~\n", "").into_bytes(),
            "failed",
            "the input ends before its IEA",
        ),
        (
            "stranger.edi",
            numbered(202).replace("MARROWFIELD    ", "SOMEBODY       ").into_bytes(),
            "failed",
            "no partner has the identifiers",
        ),
        ("bad-text.edi", numbered(203).replacen("Clover", "Cl\u{1}ver", 1).into_bytes(), "received", "1 of 2 sets rejected"),
        (
            "bad-utf8.edi",
            {
                let mut bytes = numbered(204).into_bytes();
                let at = bytes.windows(6).position(|six| six == b"Clover").unwrap();
                bytes[at] = 0xFF;
                bytes
            },
            "received",
            "1 of 2 sets rejected",
        ),
        (
            "two.edi",
            [numbered(205), "junk between\n".to_owned(), numbered(206)].concat().into_bytes(),
            "failed",
            "no interchange header starts here",
        ),
        ("wrong-count.edi", numbered(207).replace("GE*2*", "GE*3*").into_bytes(), "rejected", "GE01 says 3 sets"),
        ("bom.edi", [&[0xEF, 0xBB, 0xBF][..], numbered(208).as_bytes()].concat(), "received", ""),
    ];
    for (name, bytes, ..) in &cases {
        scene.drop(name, bytes);
    }
    for (name, bytes, verdict, says) in &cases {
        let arrival = scene.arrival(name).await;
        assert_eq!(arrival["verdict"], *verdict, "{name}: {arrival}");
        assert!(arrival["says"].as_str().unwrap().contains(says), "{name}: {arrival}");
        let path = format!("/api/arrivals/{}/bytes", arrival["id"].as_str().unwrap());
        let stored = wirewatch_testkit::http_client()
            .execute(
                scene
                    .service
                    .post(&path)
                    .build()
                    .map(|mut request| {
                        *request.method_mut() = reqwest::Method::GET;
                        request
                    })
                    .unwrap(),
            )
            .await
            .unwrap();
        assert_eq!(stored.bytes().await.unwrap().to_vec(), *bytes, "{name}: not a byte is lost");
    }
    // One order of each file with one bad order, both orders of the valid files, both of each interchange around the junk.
    scene.quiet(1 + 1 + 4 + 2).await;
    let (_, out, _) = scene.service.command(&["status"]);
    let failed = cases.iter().filter(|(_, _, verdict, _)| *verdict == "failed").count();
    assert!(out.contains(&format!("{failed} arrivals failed in the last day, the newest ")), "{out}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_oversized_segment_is_passed_over_in_bounded_memory() {
    let mut scene = Scene::open().await;
    let sent = scene.marrowfield.interchange_of(1, Flaw::None);
    let long =
        sent.text.replacen("TEN FRAME", &"X".repeat(50 << 20), 1).replacen("N3*", &format!("N3*{}", "Y".repeat(50 << 20)), 1);
    scene.drop("long.edi", long.as_bytes());
    scene.send(2, Flaw::None);
    scene.quiet(2).await;
    let (verdict, says) = scene.verdict("long.edi").await;
    assert_eq!(verdict, "failed");
    assert!(says.contains("a segment is longer than the limit"), "{says}");
    let peak = scene.service.peak_memory_kb();
    println!("measured: peak memory with a segment of 50 MB: {} MB", peak / 1024);
    assert!(peak < 256 << 10, "{peak} KB");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn twenty_thousand_orders_in_one_interchange_let_others_pass() {
    let mut scene = Scene::open().await;
    let big = scene.marrowfield.interchange_of(20_000, Flaw::None);
    scene.drop("big.edi", big.text.as_bytes());
    // Others come while it splits, and do not wait for its end.
    wirewatch_testkit::eventually("it begins", || async { (scene.orders.summary().booked > 200).then_some(()) }).await;
    let small = scene.send(2, Flaw::None);
    wirewatch_testkit::eventually_within(std::time::Duration::from_secs(300), "the small one passes", || async {
        let references = scene.orders.references();
        small.orders.iter().all(|order| references.contains(order)).then_some(())
    })
    .await;
    let at = scene.orders.summary().booked;
    wirewatch_testkit::eventually_within(std::time::Duration::from_secs(300), "all are booked", || async {
        (scene.orders.summary().booked == 20_002).then_some(())
    })
    .await;
    scene.sent.push(big);
    scene.quiet(20_002).await;
    scene.assert_all_once();
    let peak = scene.service.peak_memory_kb();
    println!("measured: peak memory with 20,000 orders: {} MB; the small one passed after {at}", peak / 1024);
    assert!(at < 20_000, "the small one waited for the big one");
    assert!(peak < 384 << 10, "{peak} KB");
}

/// Keys that are too long for an index: stored as their beginning and a digest, and found by the whole text.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn keys_of_any_length_are_kept_ordered_and_found() {
    let shop = "kind = \"webhook\"\npath = \"shop\"\ndelivery = { header = \"x-id\" }\nevent = { header = \"x-event\" }\n\
                accept = [{ warning = \"connection::unsigned\", because = \"a test\" }]";
    let flow = "title = \"Orders\"\nkey = \"number\"\nin_order_by = \"number\"\n[[intake]]\nfrom = \"shop\"\ntakes = \"order\"\n\
                [[step]]\nname = \"keep\"\nset = \"number\"\n";
    let files = [
        ("workspace.toml", "format = 1"),
        ("schemas/order.schema.json", "{ \"type\": \"object\", \"properties\": { \"number\": { \"type\": \"string\" } } }"),
        ("connections/shop.toml", shop),
        ("flows/orders.toml", flow),
        (
            "milestones/all.toml",
            "title = \"All\"\n[[milestone]]\nname = \"received\"\nmark = \"begins\"\nflow = \"orders\"\nwhen = \"begun\"\n",
        ),
    ];
    let mut service = Service::with_files(&Database::new(), &files);
    service.start().await;
    // They cannot be compressed.
    let long = |seed: u64| {
        let mut random = fastrand::Rng::with_seed(seed);
        std::iter::repeat_with(|| random.alphanumeric()).take(5000).collect::<String>()
    };
    let client = http_client();
    let tell = async |number: &str, id: &str| {
        let call =
            client.post(service.url("/in/shop")).header("x-id", id).header("x-event", id).json(&json!({ "number": number }));
        call.send().await.unwrap().status().as_u16()
    };
    for seed in 1..=3 {
        assert_eq!(tell(&long(seed), &long(seed + 10)).await, 202);
    }
    assert_eq!(tell(&long(1), &long(11)).await, 202, "a repeat is known by its whole id");
    let messages = eventually("all are done", || async {
        let page = service.get("/api/messages").await?;
        let all = page["messages"].as_array()?.clone();
        (all.len() == 3 && all.iter().all(|one| one["state"] == "done")).then_some(all)
    })
    .await;
    assert!(messages.iter().all(|one| one["key"].as_str().unwrap().len() <= 1000), "{messages:?}");
    let found = service.get(&format!("/api/messages?key={}", long(2))).await.unwrap();
    assert_eq!(found["messages"].as_array().map(Vec::len), Some(1), "{found}");
    let page = service.get("/api/arrivals").await.unwrap();
    let verdicts: Vec<&str> = page["arrivals"].as_array().unwrap().iter().filter_map(|one| one["verdict"].as_str()).collect();
    assert_eq!(verdicts, ["duplicate", "received", "received", "received"]);
    eventually("orders are followed", || async {
        let page = service.get("/api/orders").await?;
        (page["orders"].as_array()?.len() == 3).then_some(())
    })
    .await;
}
