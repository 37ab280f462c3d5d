//! Queues of a real broker: messages are stored before they are acknowledged, and confirmed before they count as sent.

use lapin::BasicProperties;
use lapin::types::{AMQPValue, FieldTable};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::time::Duration;
use wirewatch_testkit::{Database, Relay as Network, Service, TestBroker, eventually, eventually_within, private_broker};

/// A flow from a queue over a map to an exchange, in names of the test's own.
struct Relay {
    broker: TestBroker,
    service: Service,
}

const SCHEMA: &str = r#"{ "type": "object", "properties": {
    "number": { "type": "string" }, "carrier": { "type": "string" }, "boxes": { "type": "integer" } } }"#;
const MAP: &str = r#"
from = "pick"
to   = "pick"
[set]
number  = "number"
carrier = "lower(carrier)"
boxes   = "boxes"
"#;

fn connection(broker: &TestBroker) -> String {
    let (address, user) = (&broker.address, &broker.user);
    let (orders, picks) = (broker.name("in"), broker.name("picks"));
    format!(
        r#"
title   = "Warehouse"
kind    = "amqp"
address = "{address}"
timeout = "5s"
auth = {{ as = "plain", user = "{user}", secret = "warehouse" }}

[[queue]]
name    = "{orders}"
declare = true
event   = {{ property = "type" }}
dead_letters = "{orders}.dead"

[[exchange]]
name    = "{picks}"
declare = true
"#
    )
}

fn flow(broker: &TestBroker) -> String {
    let (orders, picks) = (broker.name("in"), broker.name("picks"));
    format!(
        r#"
title = "Picks"
key   = "number"

[[intake]]
from  = "warehouse"
queue = "{orders}"
takes = "pick"

[[step]]
name = "tidy"
map  = "pick-to-pick"

[[step]]
name  = "announce"
send  = {{ to = "warehouse", exchange = "{picks}", routing_key = "picks.{{carrier}}.{{number}}", headers = {{ boxes = "boxes" }}, correlation_id = "$meta.message_id", type = "'pick'", priority = 3, expires = "1h" }}
retry = {{ times = 3, first = "100ms", longest = "500ms" }}
"#
    )
}

impl Relay {
    /// With `picked` bound to everything that is announced.
    async fn open() -> Self {
        Self::at(TestBroker::open().await, &Database::new()).await
    }

    async fn at(broker: TestBroker, database: &Database) -> Self {
        let (connection, flow) = (connection(&broker), flow(&broker));
        let files = [
            ("workspace.toml", "format = 1"),
            ("connections/warehouse.toml", connection.as_str()),
            ("schemas/pick.schema.json", SCHEMA),
            ("maps/pick-to-pick.toml", MAP),
            ("flows/picks.toml", flow.as_str()),
        ];
        let mut service = Service::with_files(database, &files);
        broker.exchange("picks").await;
        broker.queue("picked", Some(("picks", "picks.#"))).await;
        service.start().await;
        let (status, _) = service.put("/api/secrets/warehouse", &json!({ "value": broker.password })).await;
        assert_eq!(status, 200);
        Self { broker, service }
    }

    async fn listening(&self) {
        eventually(
            || format!("the queue is taken from\n{}", self.service.logged()),
            || async {
                let queue = self.queue().await;
                (queue["listening"] == "yes").then_some(())
            },
        )
        .await;
    }

    /// Hands a document in past the broker.
    async fn submitted(&self, number: &str) {
        let file = self.service.folder.path().join("pick.json");
        std::fs::write(&file, json!({ "number": number, "carrier": "swift", "boxes": 1 }).to_string()).unwrap();
        let (code, _, err) = self.service.command(&["submit", "picks", "--no-watch", &file.display().to_string()]);
        assert_eq!(code, 0, "{err}");
    }

    /// The state of the queue in the API.
    async fn queue(&self) -> Value {
        let all = eventually("connections are listed", || self.service.get("/api/connections")).await;
        all[0]["queues"][0].clone()
    }

    async fn put(&self, number: &str, carrier: &str) {
        let body = json!({ "number": number, "carrier": carrier, "boxes": 2 }).to_string();
        let properties = BasicProperties::default().with_message_id(number.into()).with_type("pick".into());
        self.broker.put("in", body.as_bytes(), properties).await;
    }

    /// Waits until so many messages exist, and every unfinished one has failed.
    async fn quiet(&self, messages: usize) -> Vec<Value> {
        eventually_within(
            Duration::from_secs(120),
            || format!("{messages} messages and nothing unfinished\n{}", self.service.logged()),
            || async {
                let page = self.service.get("/api/messages?limit=1000").await?;
                let found = page["messages"].as_array()?.clone();
                let stopped = ["failed", "done", "skipped", "discarded"];
                let all = found.iter().all(|one| stopped.iter().any(|state| one["state"] == *state));
                (all && found.len() >= messages).then_some(found)
            },
        )
        .await
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_message_passes_from_a_queue_to_an_exchange_with_all_that_goes_with_it() {
    let relay = Relay::open().await;
    relay.listening().await;
    relay.put("A-1", "SWIFT").await;
    let sent = relay.broker.next("picked").await;
    assert_eq!(serde_json::from_slice::<Value>(&sent.data).unwrap(), json!({ "number": "A-1", "carrier": "swift", "boxes": 2 }));
    assert_eq!(sent.routing_key.as_str(), "picks.swift.A-1");
    let properties = &sent.properties;
    let text = |value: &Option<lapin::types::ShortString>| value.as_ref().map(|value| value.to_string()).unwrap_or_default();
    assert_eq!((text(properties.correlation_id()), text(properties.kind())), ("A-1".into(), "pick".into()));
    assert_eq!((text(properties.content_type()), text(properties.expiration())), ("application/json".into(), "3600000".into()));
    assert_eq!((*properties.priority(), *properties.delivery_mode()), (Some(3), Some(2)));
    let headers = properties.headers().clone().unwrap();
    assert_eq!(headers.inner().get("boxes"), Some(&AMQPValue::LongString("2".into())));
    assert_eq!(text(properties.message_id()).len(), 32, "the effect's own key");
    // Its properties are shown with the arrival, and in the message's meta.
    let messages = relay.quiet(1).await;
    let arrival = relay.service.get(&format!("/api/arrivals/{}", messages[0]["arrival"].as_str().unwrap())).await.unwrap();
    let reported = &arrival["headers"];
    assert_eq!((reported["message_id"].as_str(), reported["type"].as_str()), (Some("A-1"), Some("pick")));
    assert_eq!(
        (arrival["arrival"]["name"].as_str(), arrival["form"].as_str()),
        (Some(relay.broker.name("in").as_str()), Some("json"))
    );
    // It is acknowledged, and the queue is shown as being read.
    eventually("the broker has nothing left", || async { (relay.broker.depth("in").await == (0, 1)).then_some(()) }).await;
    eventually("depth and consumers are read back", || async {
        let queue = relay.queue().await;
        (queue["messages"] == 0 && queue["consumers"] == 1).then_some(())
    })
    .await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_cannot_be_read_or_sent_fails_and_blocks_nobody() {
    let relay = Relay::open().await;
    relay.listening().await;
    relay.broker.put("in", b"{ no json", BasicProperties::default()).await;
    relay.put("B-1", "SWIFT.NOW").await;
    relay.put("B-2", "").await;
    relay.put("B-3", "SWIFT").await;
    let sent = relay.broker.next("picked").await;
    assert_eq!(sent.routing_key.as_str(), "picks.swift.B-3");
    let mut failed: BTreeMap<String, String> = BTreeMap::new();
    for one in relay.quiet(3).await {
        failed.insert(one["key"].as_str().unwrap().into(), one["says"].as_str().unwrap().into());
    }
    assert_eq!(
        failed["B-1"],
        "`carrier`: \"swift.now\" has a dot, which would add a word to the routing key; remove it with replace(…, '.', '-')"
    );
    assert_eq!(failed["B-2"], "`carrier` gives no value");
    let arrivals = relay.service.get("/api/arrivals?verdict=failed").await.unwrap();
    assert!(arrivals["arrivals"][0]["says"].as_str().unwrap().starts_with("not JSON"), "{arrivals}");
    eventually("everything is acknowledged", || async { (relay.broker.depth("in").await == (0, 1)).then_some(()) }).await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn without_a_queue_that_takes_it_a_message_is_refused_and_goes_out_once_there_is_one() {
    let relay = Relay::open().await;
    relay.listening().await;
    let (picks, picked) = (relay.broker.name("picks"), relay.broker.name("picked"));
    let channel = relay.broker.channel();
    channel.queue_unbind(picked.as_str().into(), picks.as_str().into(), "picks.#".into(), FieldTable::default()).await.unwrap();
    relay.put("C-1", "swift").await;
    let messages = relay.quiet(1).await;
    let says = messages[0]["says"].as_str().unwrap();
    assert_eq!(says, format!("no queue receives picks.swift.C-1 from the exchange {picks}: no binding matches"));
    let bind = lapin::options::QueueBindOptions::default();
    channel.queue_bind(picked.into(), picks.into(), "picks.#".into(), bind, FieldTable::default()).await.unwrap();
    let id = messages[0]["id"].as_str().unwrap();
    let (code, _, errors) = relay.service.command(&["resend", id, "--why", "bound now"]);
    assert_eq!(code, 0, "{errors}");
    assert_eq!(relay.broker.next("picked").await.routing_key.as_str(), "picks.swift.C-1");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_exchange_that_is_deleted_is_reported_and_found_again() {
    let relay = Relay::open().await;
    relay.listening().await;
    relay.put("D-1", "swift").await;
    relay.broker.next("picked").await;
    let picks = relay.broker.name("picks");
    relay.broker.channel().exchange_delete(picks.as_str().into(), Default::default()).await.unwrap();
    relay.put("D-2", "swift").await;
    // The flow declares the queue, so it is declared again on a new channel; a missing binding is refused in words.
    let messages = relay.quiet(2).await;
    let one = messages.iter().find(|one| one["key"] == "D-2").unwrap();
    assert!(one["says"].as_str().unwrap().starts_with("no queue receives picks.swift.D-2"), "{one}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_queue_that_goes_stops_its_own_intake_and_no_other_of_the_connection() {
    let broker = TestBroker::open().await;
    let (stays, goes) = (broker.name("stays"), broker.name("goes"));
    let connection = format!(
        "kind = \"amqp\"\naddress = \"{}\"\nauth = {{ as = \"plain\", user = \"{}\", secret = \"warehouse\" }}\n\
         [[queue]]\nname = \"{stays}\"\ndeclare = true\n[[queue]]\nname = \"{goes}\"\n",
        broker.address, broker.user
    );
    let flow = |queue: &str| {
        format!(
            "key = \"number\"\n[[intake]]\nfrom = \"warehouse\"\nqueue = \"{queue}\"\ntakes = \"pick\"\n\
             [[step]]\nname = \"keep\"\nset = \"number\"\n"
        )
    };
    let (staying, going) = (flow(&stays), flow(&goes));
    let files = [
        ("workspace.toml", "format = 1"),
        ("connections/warehouse.toml", connection.as_str()),
        ("schemas/pick.schema.json", SCHEMA),
        ("flows/staying.toml", staying.as_str()),
        ("flows/going.toml", going.as_str()),
    ];
    broker.queue("goes", None).await;
    let mut service = Service::with_files(&Database::new(), &files);
    service.start().await;
    let (status, _) = service.put("/api/secrets/warehouse", &json!({ "value": broker.password })).await;
    assert_eq!(status, 200);
    let stand = async |queue: &str| {
        let all = service.get("/api/connections").await?;
        let found = all[0]["queues"].as_array()?.iter().find(|one| one["name"] == queue)?.clone();
        Some((found["listening"].as_str()?.to_owned(), found["says"].as_str()?.to_owned()))
    };
    let taken_from = async |queue: &str| {
        let listens = || async { stand(queue).await.filter(|(listening, _)| listening == "yes") };
        eventually(|| format!("{queue} is taken from\n{}", service.logged()), listens).await
    };
    let done = async |key: &str| {
        let put = json!({ "number": key }).to_string();
        let queue = if key.starts_with('S') { "stays" } else { "goes" };
        broker.put(queue, put.as_bytes(), BasicProperties::default()).await;
        let found = || async {
            let page = service.get("/api/messages?limit=1000").await?;
            page["messages"].as_array()?.iter().any(|one| one["key"] == key && one["state"] == "done").then_some(())
        };
        eventually(|| format!("{key} is done\n{}", service.logged()), found).await;
    };
    taken_from(&stays).await;
    taken_from(&goes).await;
    done("G-1").await;
    broker.channel().queue_delete(goes.as_str().into(), Default::default()).await.unwrap();
    let stopped = || async { stand(&goes).await.filter(|(listening, says)| listening == "stopped" && says.contains("no queue")) };
    eventually(|| format!("the missing queue is reported\n{}", service.logged()), stopped).await;
    assert_eq!(stand(&stays).await.unwrap().0, "yes");
    done("S-1").await;
    broker.queue("goes", None).await;
    taken_from(&goes).await;
    done("G-2").await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_person_who_holds_the_connection_gives_the_queue_back_to_others() {
    let relay = Relay::open().await;
    relay.listening().await;
    let (status, _) = relay.service.act("/api/connections/warehouse/hold", &json!({ "why": "counting" })).await;
    assert_eq!(status, 200);
    eventually("nobody takes from it", || async { (relay.broker.depth("in").await.1 == 0).then_some(()) }).await;
    relay.put("E-1", "swift").await;
    let other = relay.broker.next("in").await;
    assert_eq!(other.properties.message_id().as_ref().unwrap().as_str(), "E-1", "another consumer may take it");
    relay.put("E-2", "swift").await;
    let (status, _) = relay.service.act("/api/connections/warehouse/resume", &json!({})).await;
    assert_eq!(status, 200);
    assert_eq!(relay.broker.next("picked").await.routing_key.as_str(), "picks.swift.E-2");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_wrong_password_is_reported_and_a_corrected_one_reaches_what_waits() {
    let relay = Relay::open().await;
    relay.listening().await;
    let (status, _) = relay.service.put("/api/secrets/warehouse", &json!({ "value": "wrong" })).await;
    assert_eq!(status, 200);
    let (_, tested) = relay.service.act("/api/connections/warehouse/test", &json!({})).await;
    let says = tested["says"].as_str().unwrap();
    assert!(tested["reached"] == false && says.contains("user or password is wrong"), "{says}");
    relay.put("F-1", "swift").await;
    eventually("the connection is held", || async {
        let status = relay.service.get("/api/status").await?;
        (status["on_hold"][0]["connection"] == "warehouse").then_some(())
    })
    .await;
    relay.service.put("/api/secrets/warehouse", &json!({ "value": relay.broker.password })).await;
    assert_eq!(relay.broker.next("picked").await.routing_key.as_str(), "picks.swift.F-1");
    let (_, tested) = relay.service.act("/api/connections/warehouse/test", &json!({})).await;
    assert_eq!(tested["says"], "signed in and has the queue");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_message_is_submitted_by_hand_at_a_queue_and_at_an_exchange() {
    let relay = Relay::open().await;
    relay.listening().await;
    let file = relay.service.folder.path().join("pick.json");
    std::fs::write(&file, json!({ "number": "H-1", "carrier": "swift", "boxes": 1 }).to_string()).unwrap();
    let (file, queue, exchange) = (file.display().to_string(), relay.broker.name("in"), relay.broker.name("picks"));
    let (code, out, err) = relay.service.command(&["submit", "warehouse", "--queue", &queue, &file]);
    assert_eq!((code, out), (0, format!("queue {queue}  done\nconfirmed by the broker\n")), "{err}");
    assert_eq!(relay.broker.next("picked").await.routing_key.as_str(), "picks.swift.H-1", "it went through the flow");
    // A recorded one, altered, past the flow.
    let id = relay.quiet(1).await[0]["id"].as_str().unwrap().to_owned();
    let at = ["submit", "warehouse", "--like", &id, "--set", "boxes=9", "--exchange", &exchange, "--key", "picks.by.hand"];
    assert_eq!(relay.service.command(&at).0, 0);
    let sent = relay.broker.next("picked").await;
    let body: Value = serde_json::from_slice(&sent.data).unwrap();
    assert_eq!((sent.routing_key.as_str(), &body["boxes"], &body["number"]), ("picks.by.hand", &json!(9), &json!("H-1")));
    let (code, out, _) = relay.service.command(&["submit", "warehouse", "--exchange", &exchange, "--key", "nobody", &file]);
    assert!(code == 1 && out.contains("refused") && out.contains("no binding matches"), "{out}");
    let (code, _, err) = relay.service.command(&["submit", "warehouse", &file]);
    assert!(code == 1 && err.contains("a target is needed: --queue NAME, or --exchange NAME"), "{err}");
}

/// The network is cut and the broker blocks while the service runs: it waits, reports it, and continues by itself.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_cut_network_and_a_blocked_broker_hold_the_connection_until_they_are_well() {
    let (own, _folder) = tokio::task::spawn_blocking(private_broker).await.unwrap();
    let (user, password) = own.user();
    let mut broker = TestBroker::at(&own.address(), user, password).await;
    let line = Network::to(own.address().trim_start_matches("amqp://").parse().unwrap()).await;
    broker.address = format!("amqp://{}", line.address);
    let relay = Relay::at(broker, &Database::new()).await;
    relay.listening().await;
    relay.put("G-1", "swift").await;
    relay.broker.next("picked").await;

    line.cut();
    eventually("it does not listen any more", || async { (relay.queue().await["listening"] != "yes").then_some(()) }).await;
    let (_, tested) = relay.service.act("/api/connections/warehouse/test", &json!({})).await;
    assert_eq!(tested["reached"], false, "{tested}");
    relay.put("G-2", "swift").await;
    line.mend();
    assert_eq!(relay.broker.next("picked").await.routing_key.as_str(), "picks.swift.G-2", "it goes on by itself");

    // A message that is being sent while the broker is cut off waits, and is sent once.
    own.block(true).unwrap();
    relay.submitted("G-3").await;
    eventually("the connection is held", || async {
        let status = relay.service.get("/api/status").await?;
        let says = status["on_hold"][0]["says"].as_str()?.to_owned();
        (says.contains("blocks publishing") || says.contains("no confirmation")).then_some(())
    })
    .await;
    line.cut();
    own.block(false).unwrap();
    line.mend();
    let sent = relay.broker.next("picked").await;
    assert_eq!(sent.routing_key.as_str(), "picks.swift.G-3");
    eventually("it is free again", || async {
        let status = relay.service.get("/api/status").await?;
        status["on_hold"].as_array()?.is_empty().then_some(())
    })
    .await;
}

/// The whole promise: many messages while the service is killed, and the broker and the database stop and start.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn nothing_is_lost_while_service_broker_and_database_go_and_come() {
    const MESSAGES: usize = 20_000;
    let ((mut own, _broker_folder), (mut cluster, _folder)) =
        tokio::task::spawn_blocking(|| (private_broker(), wirewatch_testkit::private_cluster(false))).await.unwrap();
    cluster.create_database("relay").unwrap();
    let address = own.address();
    let (user, password) = (own.user().0.to_owned(), own.user().1.to_owned());
    let open = || TestBroker::at(&address, &user, &password);
    let mut relay = Relay::at(open().await, &Database { url: cluster.url("relay") }).await;
    relay.listening().await;
    for n in 0..MESSAGES {
        let body = json!({ "number": n.to_string(), "carrier": "swift", "boxes": 1 }).to_string();
        relay.broker.fill("in", body.as_bytes(), BasicProperties::default().with_message_id(n.to_string().into())).await;
    }
    relay.broker.filled().await;
    let passed = async |relay: &Relay, least: u32| {
        eventually_within(
            Duration::from_secs(120),
            || format!("{least} passed\n{}", relay.service.logged()),
            || async { (relay.broker.depth("picked").await.0 >= least).then_some(()) },
        )
        .await;
    };
    for kill in 0..5 {
        passed(&relay, 1000 + 3000 * kill).await;
        relay.service.kill();
        if kill == 1 {
            cluster.stop();
            cluster.start_again().unwrap();
        }
        if kill == 3 {
            own.stop();
            own.start_again().unwrap();
            relay.broker = open().await.named_as(&relay.broker);
        }
        relay.service.start().await;
    }
    passed(&relay, MESSAGES as u32).await;
    // Every number was received, and a repeat has the same message id.
    let mut received: BTreeMap<String, Vec<String>> = BTreeMap::new();
    let mut all = 0;
    loop {
        // Some were received twice, so the last may still be on their way.
        let delivery = match relay.broker.take("picked").await {
            Some(delivery) => delivery,
            None if received.len() < MESSAGES => relay.broker.next("picked").await,
            None => break,
        };
        all += 1;
        let body: Value = serde_json::from_slice(&delivery.data).unwrap();
        let id = delivery.properties.message_id().as_ref().unwrap().to_string();
        received.entry(body["number"].as_str().unwrap().to_owned()).or_default().push(id);
    }
    assert_eq!(received.len(), MESSAGES, "none is lost");
    assert!(received.values().all(|ids| ids.iter().all(|id| *id == ids[0])), "a repeat has the id of the first");
    println!(
        "measured: {MESSAGES} messages through five kills and a restart of broker and database: {} were sent twice",
        all - MESSAGES
    );
}
