//! One bad cause must not stop everything: steps are put on hold, and suspect messages are not run any more.

use axum::extract::{Json, State};
use axum::http::StatusCode;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use wirewatch_testkit::{Database, Service, eventually, http_client};

const ORDER: &str = r#"{ "type": "object", "properties": { "number": { "type": "string" } } }"#;

/// A system that answers orders as the test sets it.
#[derive(Clone, Default)]
struct Desk(Arc<Mutex<Log>>);

#[derive(Default)]
struct Log {
    /// The error of every order; empty for none.
    wrong: String,
    /// The order that it never answers.
    deaf_to: String,
    asked: BTreeMap<String, usize>,
}

async fn ask(State(desk): State<Desk>, Json(order): Json<Value>) -> (StatusCode, Json<Value>) {
    let number = order["number"].as_str().unwrap_or_default().to_owned();
    let (wrong, deaf) = {
        let mut reported = desk.0.lock().unwrap();
        *reported.asked.entry(number.clone()).or_default() += 1;
        (reported.wrong.clone(), reported.deaf_to == number)
    };
    if deaf {
        std::future::pending::<()>().await;
    }
    match wrong.is_empty() {
        true => (StatusCode::CREATED, Json(json!({ "order": number }))),
        false => (StatusCode::UNPROCESSABLE_ENTITY, Json(json!({ "message": format!("order {number}: {wrong}") }))),
    }
}

impl Desk {
    fn tell(&self, change: impl FnOnce(&mut Log)) {
        change(&mut self.0.lock().unwrap());
    }

    fn asked(&self, number: &str) -> usize {
        self.0.lock().unwrap().asked.get(number).copied().unwrap_or(0)
    }

    /// A service that books at this desk, started.
    async fn open(&self, more: &str) -> Service {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = format!("http://{}", listener.local_addr().unwrap());
        let router = axum::Router::new().route("/orders", axum::routing::post(ask)).with_state(self.clone());
        tokio::spawn(async move { axum::serve(listener, router).await });
        let files = [
            ("workspace.toml", "format = 1".to_owned()),
            ("schemas/order.schema.json", ORDER.to_owned()),
            (
                "connections/shop.toml",
                "kind = \"webhook\"\npath = \"shop\"\naccept = [{ warning = \"connection::unsigned\", because = \"a test\" }]"
                    .to_owned(),
            ),
            ("connections/erp.toml", format!("kind = \"http\"\naddress = \"{address}\"\nrepeat = \"key\"\n{more}")),
            ("connections/incidents.toml", "kind = \"folder\"\npath = \"incidents\"".to_owned()),
            ("connections/here.toml", "kind = \"incidents\"".to_owned()),
            (
                "flows/orders.toml",
                "title = \"Orders\"\nkey = \"number\"\n[[intake]]\nfrom = \"shop\"\ntakes = \"order\"\n\
                 [[step]]\nname = \"book\"\ncall = { at = \"erp\", post = \"/orders\", body = \"it\" }\n"
                    .to_owned(),
            ),
            (
                "flows/notices.toml",
                "[[intake]]\nfrom = \"here\"\ntakes = \"incident\"\nevents = [\"on-hold\", \"resumed\"]\n\
                 [[step]]\nname = \"write\"\nsend = { to = \"incidents\", file = \"{what}-{flow}-{step}.json\" }\n"
                    .to_owned(),
            ),
        ];
        let files = files.each_ref().map(|(name, text)| (*name, text.as_str()));
        let mut service = Service::with_files(&Database::new(), &files);
        service.start().await;
        service
    }
}

async fn call(service: &Service, number: &str) {
    let sent = http_client().post(service.url("/in/shop")).json(&json!({ "number": number })).send().await.unwrap();
    assert_eq!(sent.status().as_u16(), 202);
}

/// Waits until `stands` counts that many failed messages and all others are in the given state; returns the number of failed
/// ones.
async fn stand(service: &Service, others: &str, stands: impl Fn(usize) -> bool) -> usize {
    eventually(
        || format!("the others are {others}\n{}", service.logged()),
        || async {
            let page = service.get("/api/messages?flow=orders&limit=100").await?;
            let states = page["messages"].as_array()?.iter().map(|one| one["state"].as_str());
            let states = states.collect::<Option<Vec<_>>>()?;
            let failed = states.iter().filter(|state| **state == "failed").count();
            let sound = states.iter().all(|state| [others, "failed"].contains(state)) && states.contains(&others);
            (sound && stands(failed)).then_some(failed)
        },
    )
    .await
}

/// The incident in that file, once it is there.
async fn reported(service: &Service, file: &str) -> Value {
    let path = service.files().join("incidents").join(file);
    eventually(&format!("{file} is written"), || async { serde_json::from_slice(&std::fs::read(&path).ok()?).ok() }).await
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn twenty_that_fail_alike_hold_their_step_over_a_kill_until_one_goes_well() {
    let desk = Desk::default();
    desk.tell(|reported| reported.wrong = "no such customer".to_owned());
    let mut service = desk.open("in_flight = 1").await;
    for n in 1..=26 {
        call(&service, &format!("A-{n}")).await;
    }
    // One message probes after ten seconds, and more if this takes long: each is too early.
    let before = stand(&service, "waiting", |failed| failed >= 20).await;
    let held = reported(&service, "on-hold-orders-book.json").await;
    assert_eq!((&held["flow"], &held["step"]), (&json!("orders"), &json!("book")));
    let says = held["says"].as_str().unwrap();
    assert!(says.starts_with("the step book of Orders is on hold: 20 messages in a row failed; the last one: "), "{says}");
    let (_, out, _) = service.command(&["status"]);
    assert!(out.contains("step book of orders is on hold for ") && out.contains(" waiting; one tries at "), "{out}");
    let (_, out, _) = service.command(&["flow", "list"]);
    assert!(out.contains("book on hold for "), "{out}");
    let (_, out, _) = service.command(&["messages", "--state", "waiting"]);
    assert!(out.contains("waits: step book is on hold, because many messages failed there for the same reason"), "{out}");

    service.kill();
    service.start().await;
    // A probe at the start is too early too.
    stand(&service, "waiting", |failed| failed > before).await;
    let status = service.get("/api/status").await.unwrap();
    assert_eq!((&status["steps_on_hold"][0]["step"], &status["on_hold"]), (&json!("book"), &json!([])), "{status}");

    desk.tell(|reported| reported.wrong.clear());
    let (code, out, err) = service.command(&["flow", "resume", "orders"]);
    assert_eq!(code, 0, "{err}");
    assert!(out.contains("step book: one waiting message is tried now; the others follow when it succeeds"), "{out}");
    stand(&service, "done", |failed| failed < 26).await;
    assert_eq!(reported(&service, "resumed-orders-book.json").await["says"], "the step book of Orders is in use again");
    assert_eq!(service.get("/api/status").await.unwrap()["steps_on_hold"], json!([]));
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_message_that_the_service_ends_with_again_and_again_is_not_run_any_more() {
    let desk = Desk::default();
    desk.tell(|reported| reported.deaf_to = "B-0".to_owned());
    let mut service = desk.open("").await;
    call(&service, "B-0").await;
    for times in 1..=9 {
        eventually(&format!("it is asked for the {times}. time"), || async { (desk.asked("B-0") == times).then_some(()) }).await;
        let other = format!("B-{times}");
        call(&service, &other).await;
        eventually("another goes on", || async { (desk.asked(&other) > 0).then_some(()) }).await;
        service.kill();
        service.start().await;
    }
    stand(&service, "done", |failed| failed == 1).await;
    assert_eq!(desk.asked("B-0"), 9, "as often as it was run");
    let page = service.get("/api/messages?state=failed").await.unwrap();
    let message = &page["messages"][0];
    assert_eq!((&message["key"], &message["code"]), (&json!("B-0"), &json!("suspect")), "{message}");
    assert!(message["says"].as_str().unwrap().starts_with("the service picked this message up eight times"), "{message}");
    // A person who has looked at the message resends it.
    desk.tell(|reported| reported.deaf_to.clear());
    let (code, _, err) = service.command(&["resend", message["id"].as_str().unwrap(), "--why", "the other side was deaf"]);
    assert_eq!(code, 0, "{err}");
    stand(&service, "done", |failed| failed == 0).await;
}
