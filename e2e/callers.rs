//! Hostile callers: none of them uses up what others need, and each gets a clear answer.

use crate::scene::Scene;
use serde_json::{Value, json};
use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::Duration;
use wirewatch_standins::shop::{Shop, sign};
use wirewatch_testkit::{Database, Service, eventually, http_client};

const PATH: &str = "/in/shop-7d2f";

/// Says these lines to the service, and what it answers until it ends the connection.
fn say(service: &Service, text: &str) -> String {
    let address = service.url("").replace("http://", "");
    let mut stream = TcpStream::connect(&address).unwrap();
    stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
    stream.write_all(text.replace("HOST", &address).as_bytes()).unwrap();
    let mut answer = String::new();
    let _ = stream.read_to_string(&mut answer);
    answer
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn no_flood_of_strangers_keeps_a_signed_call_out() {
    let mut scene = Scene::prepare(&Database::new()).await;
    scene.service.arguments.extend(["--max-connections", "24"].map(str::to_owned));
    scene.service.start().await;
    scene.shop_secret = scene.service.secret("shop-signing").await;
    let address = scene.service.url("").replace("http://", "");
    let open = || {
        let mut stream = TcpStream::connect(&address).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
        stream.write_all(format!("POST {PATH} HTTP/1.1\r\nHost: {address}\r\n").as_bytes()).unwrap();
        stream
    };
    // Some send half of a head, some claim a current signature and send their body very slowly, some send nothing.
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
    let mut strangers: Vec<TcpStream> = (0..60).map(|_| open()).collect();
    for stream in strangers.iter_mut().step_by(2) {
        let claim = format!(
            "webhook-id: x\r\nwebhook-timestamp: {now}\r\nwebhook-signature: v1,AAAA\r\nContent-Length: 1000000\r\n\r\n{{"
        );
        // Connections that were closed to make room cannot be written to.
        let _ = stream.write_all(claim.as_bytes());
    }
    let mut shop = Shop::new(&scene.service.url(PATH), &scene.shop_secret, 1000);
    for _ in 0..20 {
        let reported = shop.purchase();
        assert_eq!(shop.tell(&reported).await, Ok(202));
        strangers.push(open());
    }
    assert_eq!(scene.service.get("/api/status").await.unwrap()["release"], json!(1), "and people get in");
    assert!(scene.service.logged().contains("too many connections"), "{}", scene.service.logged());
    scene.quiet(20).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn forged_calls_use_up_nothing_of_what_their_sender_may_send() {
    let scene = Scene::open().await;
    scene.service.change("connections/shop.toml", "kind ", "per_second = 5\nkind ");
    let workspace = scene.service.workspace().to_string_lossy().into_owned();
    assert_eq!(scene.service.command(&["deploy", &workspace]).0, 0);
    let mut shop = Shop::new(&scene.service.url(PATH), &scene.shop_secret, 1000);
    let reported = shop.purchase();
    for _ in 0..50 {
        assert_eq!(shop.tell_as(&reported, "whsec_Zm9yZ2Vk").await, Ok(401));
    }
    assert_eq!(shop.tell(&reported).await, Ok(202));
    // The log has the first of them, not all.
    let lines = scene.service.logged().matches("a call was not received").count();
    assert!((1..=10).contains(&lines), "{lines}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_cannot_be_meant_is_refused_and_reported() {
    let scene = Scene::open().await;
    let (service, http) = (&scene.service, http_client());
    for method in ["PUT", "DELETE", "PATCH"] {
        let request = http.request(method.parse().unwrap(), service.url(PATH)).body("{}");
        let answer = request.send().await.unwrap();
        assert_eq!(answer.status(), 405, "{method} delivers nothing");
        assert_eq!(answer.headers()["allow"], "POST, GET, HEAD, OPTIONS");
    }
    let twice = say(service, "GET /api/status HTTP/1.1\r\nHost: HOST\r\nHost: elsewhere.example\r\n\r\n");
    assert!(twice.starts_with("HTTP/1.1 400 ") && twice.contains("more than one Host header"), "{twice}");
    for (path, says) in [
        ("/api/messages?key=%00", "NUL"),
        ("/api/messages?limit=100000", "limit is 100000"),
        ("/api/messages?limit=0", "limit is 0"),
        ("/api/messages?limit=many", "limit"),
        ("/api/messages?before=what", "id"),
        ("/api/arrivals?limit=1001", "limit is 1001"),
        ("/api/orders?limit=1001", "limit is 1001"),
    ] {
        let (status, body) = service.ask(path).await;
        assert_eq!(status, 400, "{path}: {body}");
        assert_eq!(body["status"], 400, "a problem in one form: {path}: {body}");
        assert!(body["title"].as_str().unwrap().contains(says), "{path}: {body}");
    }
    let (status, body) = service.act("/api/connections/erp/hold", &json!({ "why": "a\u{0}b" })).await;
    assert!((400..500).contains(&status), "{status} {body}");
    let (status, body) = service.put("/api/maps/po-to-order/draft", &json!({ "text": "a\u{0}b" })).await;
    assert!((400..500).contains(&status), "{status} {body}");
    // Keys with what a terminal would act on are shown, and nothing of it reaches a terminal or the log.
    let secret = &scene.shop_secret;
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
    let body = r#"{ "type": "purchase.placed\u001b]0;pwned\u0007", "data": {} }"#;
    let time = now.to_string();
    let signature = sign(secret, "esc", now, body.as_bytes());
    let request = http.post(service.url(PATH)).header("webhook-timestamp", time).header("webhook-signature", signature);
    assert_eq!(request.header("webhook-id", "esc").body(body).send().await.unwrap().status(), 202);
    let (_, out, _) = service.command(&["arrivals"]);
    assert!(out.contains(r"purchase.placed\u{1b}]0;pwned\u{7}") && !out.contains('\u{1b}'), "{out}");
    assert!(!service.logged().contains("\u{1b}]"), "{}", service.logged());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_holds_one_message_holds_no_other() {
    use axum::extract::{Json, State};
    use axum::http::StatusCode;
    let asked = std::sync::Arc::new(std::sync::Mutex::new(Vec::<String>::new()));
    let desk = async |State(asked): State<std::sync::Arc<std::sync::Mutex<Vec<String>>>>, Json(order): Json<Value>| {
        let number = order["number"].as_str().unwrap_or_default().to_owned();
        asked.lock().unwrap().push(number.clone());
        match number.split('-').next() {
            Some("forbidden") => (StatusCode::FORBIDDEN, Json(json!({ "detail": "not this one" }))),
            Some("out") => (StatusCode::SERVICE_UNAVAILABLE, Json(json!({ "detail": "not for this one" }))),
            Some("missing") => (StatusCode::NOT_FOUND, Json(json!({}))),
            _ => (StatusCode::CREATED, Json(json!({}))),
        }
    };
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    let router = axum::Router::new().fallback(desk).with_state(asked.clone());
    tokio::spawn(async move { axum::serve(listener, router).await });
    let erp = format!("kind = \"http\"\naddress = \"{address}\"\nrepeat = \"key\"\nin_flight = 1\n");
    let files = [
        ("workspace.toml", "format = 1"),
        ("schemas/order.schema.json", r#"{ "type": "object", "properties": { "number": { "type": "string" } } }"#),
        (
            "connections/shop.toml",
            "kind = \"webhook\"\npath = \"shop\"\naccept = [{ warning = \"connection::unsigned\", because = \"a test\" }]",
        ),
        ("connections/erp.toml", erp.as_str()),
        (
            "flows/orders.toml",
            "title = \"Orders\"\nkey = \"number\"\n[[intake]]\nfrom = \"shop\"\ntakes = \"order\"\n[[step]]\nname = \"book\"\n\
             call = { at = \"erp\", post = \"/book\" }\nretry = { times = 3, first = \"50ms\", longest = \"100ms\" }\n",
        ),
    ];
    let mut service = Service::with_files(&Database::new(), &files);
    service.start().await;
    let numbers: Vec<String> = (0..30).map(|n| format!("good-{n}")).collect();
    let special = ["forbidden-1", "out-1", "missing-1"].map(str::to_owned);
    for number in special.iter().chain(&numbers) {
        let call = http_client().post(service.url("/in/shop")).json(&json!({ "number": number }));
        assert_eq!(call.send().await.unwrap().status(), 202);
    }
    eventually("the others are done, and each of the three failed by itself", || async {
        let status = service.get("/api/status").await?;
        let failed = status["unfinished"]["failed"].as_i64() == Some(3);
        let alone = status["unfinished"].as_object()?.len() == 1;
        (failed && alone && status["on_hold"].as_array()?.is_empty()).then_some(())
    })
    .await;
    let failed = service.get("/api/messages?state=failed").await.unwrap();
    let mut says: Vec<String> =
        failed["messages"].as_array().unwrap().iter().map(|one| one["says"].as_str().unwrap().to_owned()).collect();
    says.sort();
    assert!(says[0].contains("answered 403: not this one") && says[1].contains("answered 404"), "{says:?}");
    assert!(says[2].contains("answered 503: not for this one"), "{says:?}");
    // The same from several messages is the connection's.
    for n in 2..8 {
        let call = http_client().post(service.url("/in/shop")).json(&json!({ "number": format!("forbidden-{n}") }));
        assert_eq!(call.send().await.unwrap().status(), 202);
    }
    eventually("it is on hold", || async {
        let status = service.get("/api/status").await?;
        status["on_hold"][0]["says"].as_str()?.contains("answered 403").then_some(())
    })
    .await;
}
