//! The behaviour of the stand-ins that tests and demo rely on.

use serde_json::{Value, json};
use wirewatch_core::x12::{Definitions, Reader, SetAck};
use wirewatch_standins::marrowfield::{Flaw, Marrowfield, acknowledgments, collect, drop_file};
use wirewatch_standins::order_system::{Faults, OrderSystem};

struct Erp {
    orders: OrderSystem,
    url: String,
    http: reqwest::Client,
}

impl Erp {
    async fn open(orders: OrderSystem) -> Self {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let url = format!("http://{}", listener.local_addr().unwrap());
        let router = orders.router();
        tokio::spawn(async move { axum::serve(listener, router).await });
        Self { orders, url, http: wirewatch_loopback::http_client() }
    }

    /// Books an order under a key; status and answer.
    async fn book(&self, key: &str, item: &str) -> (u16, Value) {
        let order = json!({ "reference": format!("MF-{key}"), "rows": [{ "row": "1", "item": item }] });
        let request = self.http.post(format!("{}/orders", self.url)).header("idempotency-key", key).json(&order);
        let response = request.send().await.unwrap();
        (response.status().as_u16(), response.json().await.unwrap_or_default())
    }
}

#[tokio::test]
async fn a_key_is_booked_once() {
    let erp = Erp::open(OrderSystem::default()).await;
    let (status, first) = erp.book("a", "QH-HIVE-10").await;
    assert_eq!((status, first["order_number"].as_str()), (201, Some("Q-100001")));
    let (status, again) = erp.book("a", "QH-HIVE-10").await;
    assert_eq!((status, &again["order_number"], &again["repeat"]), (200, &first["order_number"], &json!(true)));
    assert_eq!(erp.book("b", "QH-HIVE-10").await.1["order_number"], "Q-100002");
    let summary = erp.orders.summary();
    assert_eq!((summary.booked, summary.requests, summary.repeats), (2, 3, 1));
    assert_eq!(erp.orders.references(), ["MF-a", "MF-b"]);
}

#[tokio::test]
async fn an_item_that_nobody_knows_is_refused_in_words() {
    let erp = Erp::open(OrderSystem::default()).await;
    let (status, answer) = erp.book("a", "QH-HIVE-12").await;
    assert_eq!((status, answer["detail"].as_str()), (422, Some("unknown item `QH-HIVE-12` on row 1")));
    // A refusal stores nothing under its key: corrected, the order is booked.
    assert_eq!(erp.book("a", "QH-HIVE-10").await.0, 201);
}

#[tokio::test]
async fn faults_come_on_request_and_go() {
    let erp = Erp::open(OrderSystem::default()).await;
    erp.orders.set_faults(Faults { next: 1, status: 429, retry_after: Some(3), ..Faults::default() });
    let request = erp.http.post(format!("{}/orders", erp.url)).header("idempotency-key", "a").json(&json!({}));
    let response = request.send().await.unwrap();
    assert_eq!((response.status().as_u16(), response.headers()["retry-after"].to_str().unwrap()), (429, "3"));
    assert_eq!(erp.book("a", "QH-HIVE-10").await.0, 201);
    let switch = erp.http.post(format!("{}/faults", erp.url)).json(&json!({ "outage": true }));
    assert!(switch.send().await.unwrap().status().is_success());
    assert_eq!(erp.book("b", "QH-HIVE-10").await.0, 503);
    // Booked, but the answer never comes: the repeat finds it.
    erp.orders.set_faults(Faults { cut: 1, ..Faults::default() });
    let order = json!({ "reference": "MF-c", "rows": [{ "row": "1", "item": "QH-HIVE-10" }] });
    let request = erp.http.post(format!("{}/orders", erp.url)).header("idempotency-key", "c").json(&order);
    let answer = async { request.send().await?.bytes().await }.await;
    assert!(answer.is_err(), "{answer:?}");
    assert_eq!(erp.book("c", "QH-HIVE-10").await.0, 200);
}

#[tokio::test]
async fn its_books_outlive_it() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("orders.jsonl");
    let before = Erp::open(OrderSystem::stored_in(&path).unwrap()).await;
    before.book("a", "QH-HIVE-10").await;
    let after = Erp::open(OrderSystem::stored_in(&path).unwrap()).await;
    assert_eq!(after.book("a", "QH-HIVE-10").await.1["order_number"], "Q-100001");
    assert_eq!(after.book("b", "QH-HIVE-10").await.1["order_number"], "Q-100002");
    let found: Value = after.http.get(format!("{}/orders?reference=MF-a", after.url)).send().await.unwrap().json().await.unwrap();
    assert_eq!(found[0]["order_number"], "Q-100001");
    std::fs::write(&path, "no order\n").unwrap();
    assert!(OrderSystem::stored_in(&path).is_err());
}

#[test]
fn what_marrowfield_sends_is_sound_unless_it_should_not_be() {
    let mut marrowfield = Marrowfield::new(3, 100, 1000);
    for _ in 0..50 {
        let sent = marrowfield.interchange(Flaw::None);
        let reading = Reader::read(Definitions::standard(), sent.text.as_bytes());
        let group = &reading.interchanges[0].groups[0];
        assert_eq!(group.accepted().count(), sent.orders.len(), "{:?}", group);
        assert!((1..=5).contains(&sent.orders.len()));
    }
    let verdicts = |sent: &str| {
        let reading = Reader::read(Definitions::standard(), sent.as_bytes());
        let sets = reading.interchanges.iter().flat_map(|one| &one.groups).flat_map(|group| &group.sets);
        sets.filter(|set| set.ack() == SetAck::Rejected).count()
    };
    assert_eq!(verdicts(&marrowfield.interchange_of(4, Flaw::WrongCount).text), 1);
    assert_eq!(verdicts(&marrowfield.interchange_of(4, Flaw::UnknownItem).text), 0, "that is for the order system to say");
    assert!(!marrowfield.interchange_of(2, Flaw::Garbage).text.contains("ISA*"));
    assert!(!marrowfield.interchange_of(2, Flaw::CutShort).text.contains("IEA*"));
}

#[test]
fn the_same_seed_sends_the_same_and_numbers_go_on() {
    let texts = |seed| {
        let mut marrowfield = Marrowfield::new(seed, 100, 1000);
        (0..5).map(|_| marrowfield.interchange(Flaw::None).text).collect::<Vec<_>>()
    };
    assert_eq!(texts(7), texts(7));
    assert_ne!(texts(7), texts(8));
    let mut marrowfield = Marrowfield::new(1, 100, 1000);
    let (first, second) = (marrowfield.interchange_of(2, Flaw::None), marrowfield.interchange_of(1, Flaw::None));
    assert_eq!((first.control, second.control), (101, 102));
    assert_eq!((first.orders, second.orders), (vec!["MF-1001".to_owned(), "MF-1002".to_owned()], vec!["MF-1003".to_owned()]));
}

#[test]
fn one_order_in_about_fifteen_has_an_unknown_item() {
    let mut marrowfield = Marrowfield::new(5, 0, 0);
    let (mut orders, mut unknown) = (0, 0);
    for _ in 0..3000 {
        let flaw = marrowfield.chance();
        orders += marrowfield.interchange(flaw).orders.len();
        unknown += usize::from(flaw == Flaw::UnknownItem);
    }
    let one_in = orders as f64 / unknown as f64;
    assert!((12.0..18.0).contains(&one_in), "one in {one_in}");
}

#[test]
fn files_are_dropped_whole_and_collected() {
    let (folder, copies) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let text = "ISA*00*          *00*          *ZZ*QUILLHAVEN     *ZZ*MARROWFIELD    *261123*0701*U*00401*000000007*0*T*>~AK1*PO*101~AK9*A*2*2*2~";
    drop_file(folder.path(), "997-7.edi", text.as_bytes()).unwrap();
    std::fs::write(folder.path().join(".half.part"), "x").unwrap();
    let found = acknowledgments(folder.path()).unwrap();
    let [one] = &found[..] else { panic!("{found:?}") };
    assert_eq!((one.group.as_str(), one.control.as_str(), one.verdict.as_str()), ("101", "000000007", "A"));
    assert_eq!(collect(folder.path(), copies.path()).unwrap(), 1);
    assert!(acknowledgments(folder.path()).unwrap().is_empty());
    assert_eq!(std::fs::read_to_string(copies.path().join("997-7.edi")).unwrap(), text);
}
