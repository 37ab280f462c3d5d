//! Records that somebody has damaged: each stops what it belongs to, visibly, and nothing else.

use axum::extract::{Json, State};
use axum::http::{StatusCode, Uri};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use wirewatch_testkit::{Database, Service, eventually, http_client};

const ORDER: &str = r#"{ "type": "object", "properties": { "number": { "type": "string" } } }"#;
const FLOW: &str = r#"
title = "Orders"
key = "number"
[[intake]]
from = "shop"
takes = "order"
[[step]]
name = "book"
call = { at = "erp", post = "/book" }
[[step]]
name = "ship"
call = { at = "erp", post = "/ship" }
retry = { times = 1000, first = "100ms", longest = "200ms" }
"#;

/// A system that books at once and ships only when it is open; it counts its requests.
#[derive(Clone, Default)]
struct Desk(Arc<Mutex<(bool, BTreeMap<String, usize>)>>);

async fn ask(State(Desk(desk)): State<Desk>, uri: Uri, Json(order): Json<Value>) -> (StatusCode, Json<Value>) {
    let mut desk = desk.lock().unwrap();
    *desk.1.entry(format!("{} {}", uri.path(), order["number"].as_str().unwrap_or_default())).or_default() += 1;
    match uri.path() == "/book" || desk.0 {
        true => (StatusCode::CREATED, Json(json!({}))),
        false => (StatusCode::INTERNAL_SERVER_ERROR, Json(json!({}))),
    }
}

impl Desk {
    fn asked(&self, what: &str) -> usize {
        self.0.lock().unwrap().1.get(what).copied().unwrap_or(0)
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_damaged_record_stops_its_own_message_and_nothing_else() {
    let desk = Desk::default();
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    let router = axum::Router::new().fallback(ask).with_state(desk.clone());
    tokio::spawn(async move { axum::serve(listener, router).await });
    let database = Database::new();
    let erp = format!("kind = \"http\"\naddress = \"{address}\"\nrepeat = \"key\"\n");
    let shop = "kind = \"webhook\"\npath = \"shop\"\naccept = [{ warning = \"connection::unsigned\", because = \"a test\" }]";
    let files = [
        ("workspace.toml", "format = 1"),
        ("schemas/order.schema.json", ORDER),
        ("connections/shop.toml", shop),
        ("connections/erp.toml", erp.as_str()),
        ("flows/orders.toml", FLOW),
    ];
    let mut service = Service::with_files(&database, &files);
    service.start().await;
    for number in ["log", "gap", "head", "body", "state", "sound"] {
        let call = http_client().post(service.url("/in/shop")).json(&json!({ "number": number }));
        assert_eq!(call.send().await.unwrap().status(), 202);
    }
    let asked = |what: &'static str| {
        let desk = desk.clone();
        move || {
            let desk = desk.clone();
            async move { (desk.asked(what) > 1).then_some(()) }
        }
    };
    for what in ["/ship log", "/ship gap", "/ship head", "/ship body", "/ship state", "/ship sound"] {
        eventually(what, asked(what)).await;
    }
    service.kill();
    let of = |number: &str| format!("(select id from live where key = '{number}')");
    for statement in [
        format!("update log set entry = 'x', packed = false where seq = 0 and message = {}", of("log")),
        format!("delete from log where seq = 0 and message = {}", of("gap")),
        format!("update live set head = 'x' where id = {}", of("head")),
        "update body set bytes = 'x', packed = true where id = (select body from live where key = 'body')".to_owned(),
        format!("update live set state = 'x' where id = {}", of("state")),
        "insert into release (no, digest, files, at, by_whom, says) values (2, 'x', 'x', 0, 'nobody', '')".to_owned(),
    ] {
        database.run(&statement).await;
    }
    desk.0.lock().unwrap().0 = true;
    // The workspace given at the start has errors, so the newest release is to run.
    service.write("flows/broken.toml", "title = ");
    let shipped = desk.asked("/ship log");
    service.start().await;
    let messages = eventually("all have stopped", || async {
        let page = service.get("/api/messages?limit=100").await?;
        let all = page["messages"].as_array()?.clone();
        all.iter().all(|one| one["state"] == "failed" || one["state"] == "done").then_some(all)
    })
    .await;
    let stopped = |key: &str| {
        let one = messages.iter().find(|one| one["key"] == key).unwrap_or_else(|| panic!("{key} of {messages:?}"));
        let text = |name: &str| one[name].as_str().unwrap_or_default().to_owned();
        (text("state"), text("code"), text("says"), text("id"))
    };
    let damaged = [
        ("log", "entry 0 of its log cannot be read: expected value at line 1 column 1"),
        ("gap", "entry 0 of its log is missing"),
        ("head", "what is known of its arrival cannot be read: expected value at line 1 column 1"),
        ("body", "piece 0 of its document cannot be read: unknown frame descriptor"),
    ];
    for (key, says) in damaged {
        let (state, code, text, id) = stopped(key);
        let says = format!("damaged: {}", says.to_lowercase());
        assert_eq!((state.as_str(), code.as_str(), text.to_lowercase()), ("failed", "damaged", says), "{key}");
        let (code, out, err) = service.command(&["show", &id]);
        assert!(code == 0 && out.contains("damaged"), "{key}: {out}{err}");
        let (code, out, err) = service.command(&["discard", &id, "--why", "sent anew"]);
        assert_eq!(code, 0, "{key}: {out}{err}");
    }
    for key in ["state", "sound"] {
        assert_eq!(stopped(key).0, "done", "{key}");
    }
    assert_eq!(desk.asked("/ship log"), shipped, "what is damaged does nothing more");
    // The release that cannot be read is skipped, and this is reported.
    let (_, status, _) = service.command(&["releases"]);
    assert!(status.contains("damaged: its files cannot be read"), "{status}");
    assert!(
        service.logged().contains("the record of release 2 is damaged; the release before it runs instead"),
        "{}",
        service.logged()
    );
    let (code, _, err) = service.command(&["rollback", "2", "--why", "a try"]);
    assert!(code == 1 && err.contains("the record of release 2 is damaged"), "{err}");
    let left = eventually("they are discarded", || async {
        let page = service.get("/api/messages?state=failed").await?;
        page["messages"].as_array().map(Vec::len)
    })
    .await;
    assert_eq!(left, 0);
}
