//! A planned stop: running effects are completed, nothing new begins, and nothing is left in doubt.

use axum::extract::{Json, State};
use axum::http::StatusCode;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use tokio::sync::watch;
use wirewatch_testkit::{Database, Service, eventually, http_client};

/// Orders requested, and whether the desk answers.
#[derive(Clone)]
struct Desk(Arc<Mutex<BTreeMap<String, usize>>>, watch::Receiver<bool>);

async fn book(State(Desk(asked, mut open)): State<Desk>, Json(order): Json<Value>) -> (StatusCode, Json<Value>) {
    *asked.lock().unwrap().entry(order["number"].as_str().unwrap().to_owned()).or_default() += 1;
    open.wait_for(|open| *open).await.unwrap();
    (StatusCode::CREATED, Json(json!({})))
}

/// A service that books orders at a desk, in this many steps, which must not be repeated blindly; not started yet.
async fn service(desk: &Desk, steps: &[&str]) -> Service {
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    let router = axum::Router::new().fallback(book).with_state(desk.clone());
    tokio::spawn(async move { axum::serve(listener, router).await });
    let erp = format!("kind = \"http\"\naddress = \"{address}\"\nrepeat = \"never\"\nin_flight = 3\ntimeout = \"1m\"\n");
    let shop = "kind = \"webhook\"\npath = \"shop\"\naccept = [{ warning = \"connection::unsigned\", because = \"a test\" }]";
    let step = |name: &&str| format!("[[step]]\nname = \"{name}\"\ncall = {{ at = \"erp\", post = \"/{name}\" }}\n");
    let steps: String = steps.iter().map(step).collect();
    let flow = format!("key = \"number\"\n[[intake]]\nfrom = \"shop\"\ntakes = \"order\"\n{steps}");
    let files = [
        ("workspace.toml", "format = 1"),
        ("schemas/order.schema.json", "{ \"type\": \"object\", \"properties\": { \"number\": { \"type\": \"string\" } } }"),
        ("connections/shop.toml", shop),
        ("connections/erp.toml", erp.as_str()),
        ("flows/orders.toml", flow.as_str()),
    ];
    Service::with_files(&Database::new(), &files)
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_planned_restart_under_load_leaves_nothing_in_doubt() {
    let (answer, open) = watch::channel(false);
    let desk = Desk(Arc::default(), open);
    let mut service = service(&desk, &["book", "tell"]).await;
    service.start().await;
    let call = async |url: String, number: usize| {
        http_client().post(url).json(&json!({ "number": format!("N-{number}") })).send().await.unwrap().status().as_u16()
    };
    for number in 1..=10 {
        assert_eq!(call(service.url("/in/shop"), number).await, 202);
    }
    let asked = || desk.0.lock().unwrap().values().sum::<usize>();
    eventually("three are under way", || async { (asked() == 3).then_some(()) }).await;
    let address = service.url("/in/shop");
    let log = service.log();
    let ending = tokio::task::spawn_blocking(move || {
        service.stop();
        service
    });
    let logged = || std::fs::read_to_string(&log).unwrap_or_default();
    eventually("it is ending", || async { logged().contains("nothing more is received").then_some(()) }).await;
    assert_eq!(call(address.clone(), 11).await, 503, "a sender comes again");
    let health = async |which: &str| {
        let url = address.replace("/in/shop", &format!("/health/{which}"));
        http_client().get(url).send().await.unwrap().status().as_u16()
    };
    assert_eq!(
        (health("live").await, health("ready").await),
        (200, 503),
        "no more callers are sent here, and it is not restarted"
    );
    assert!(!ending.is_finished(), "it waits for what is under way");
    answer.send(true).unwrap();
    let mut service = ending.await.unwrap();
    assert!(logged().contains("all effects are complete"), "{}", logged());
    assert_eq!(asked(), 3, "nothing more has begun");
    service.start().await;
    eventually("all are done", || async {
        let page = service.get("/api/messages").await?;
        let states: Vec<&str> = page["messages"].as_array()?.iter().filter_map(|one| one["state"].as_str()).collect();
        (states.len() == 10 && states.iter().all(|state| *state == "done")).then_some(())
    })
    .await;
    let asked = desk.0.lock().unwrap().clone();
    assert!(asked.len() == 10 && asked.values().all(|times| *times == 2), "each is booked and announced once: {asked:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_answer_that_does_not_come_holds_up_no_end_for_longer_than_allowed() {
    let (_answer, open) = watch::channel(false);
    let desk = Desk(Arc::default(), open);
    let mut service = service(&desk, &["book"]).await;
    service.arguments.extend(["--drain", "1s"].map(str::to_owned));
    service.start().await;
    let sent = http_client().post(service.url("/in/shop")).json(&json!({ "number": "N-1" })).send().await.unwrap();
    assert_eq!(sent.status(), 202);
    eventually("it is under way", || async { (desk.0.lock().unwrap().len() == 1).then_some(()) }).await;
    service.stop();
    assert!(service.logged().contains("some effects are not complete"), "{}", service.logged());
    service.start().await;
    let says = eventually("it is in doubt", || async {
        let page = service.get("/api/messages?state=failed").await?;
        page["messages"][0]["code"].as_str().map(str::to_owned)
    })
    .await;
    assert!(says.starts_with("in-doubt"), "{says}");
}
