//! Properties of a message from a broker, and messages sent to a broker.

mod common;

use serde_json::{Map, Value, json};
use std::sync::Arc;
use wirewatch_core::broker::ExchangeKind;
use wirewatch_core::document::{Content, Form};
use wirewatch_core::intake::{Decision, Known, Provenance, Verdict, decide_document};
use wirewatch_core::machine::{Effect, End, Logic, Machine, Next, Origin, Post, Work};
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{Document, Id};

const RELEASE: &str =
    r#"{"order":"Q-7","reference":"W-7","ship_on":"2026-12-01","carrier":"HILLWAY","lines":[{"item":"A","quantity":2}]}"#;

fn provenance(id: &str, body: &str) -> (Provenance, Vec<u8>) {
    let properties =
        json!({ "routing_key": "orders-released", "message_id": id, "type": "order.released", "headers": { "x": 1 } });
    let Value::Object(properties) = properties else { unreachable!() };
    let provenance = Provenance {
        connection: "warehouse".into(),
        name: "orders-released".into(),
        event: "order.released".into(),
        properties,
        ..Provenance::default()
    };
    (provenance, body.as_bytes().to_vec())
}

fn decide(workspace: &Workspace, provenance: &Provenance, body: &[u8]) -> Decision {
    decide_document(workspace, provenance, body.len() as u64, &Content::new(body.to_vec(), None), &Known::NEW)
}

/// The first effect of a message with this meta, or how it ended.
fn first(workspace: &Arc<Workspace>, id: i64, meta: Map<String, Value>, body: &str) -> Next {
    let origin =
        Origin { id: Id(id), arrival: Id(1), body: Id(1), slice: 0..0, flow: "picks".into(), release: 1, form: Form::Json, meta };
    let document = Document::json(body.as_bytes()).unwrap();
    Machine::begin(Logic::of(workspace, "picks").unwrap(), Arc::new(origin), document).1.next
}

fn work(next: Next) -> Work {
    match next {
        Next::Perform(work) => (*work).clone(),
        other => panic!("an effect was expected, not {other:?}"),
    }
}

#[test]
fn an_intake_takes_from_its_own_queue_alone_and_meta_reports_what_received_along() {
    let workspace = common::workspace(&common::files());
    let (provenance, body) = provenance("r1", RELEASE);
    let decision = decide(&workspace, &provenance, &body);
    let head = &decision.split.heads[0];
    assert_eq!((decision.verdict, head.flow.as_str(), decision.split.heads.len()), (Verdict::Received, "picks", 1));
    assert_eq!((&head.meta["queue"], &head.meta["headers"]["x"]), (&json!("orders-released"), &json!(1)));
    let elsewhere = Provenance { name: "shipments".into(), ..provenance };
    assert_eq!(decide(&workspace, &elsewhere, &body).says, "no flow takes order.released from warehouse");
}

#[test]
fn effects_of_a_message_delivered_again_have_the_same_key() {
    let workspace = common::workspace(&common::files());
    let meta = |id: &str, body: &str, accept: bool| {
        let (provenance, bytes) = provenance(id, body);
        decide(&workspace, &Provenance { accept, ..provenance }, &bytes).split.heads[0].meta.clone()
    };
    let key = |message: i64, meta| work(first(&workspace, message, meta, RELEASE)).key;
    let other_body = RELEASE.replace("W-7", "W-8");
    let one = key(10, meta("r1", RELEASE, false));
    assert_eq!(key(11, meta("r1", RELEASE, false)), one, "delivered again");
    assert_ne!(key(11, meta("r2", RELEASE, false)), one, "another message");
    assert_ne!(key(11, meta("r1", &other_body, false)), one, "the same id with other content");
    assert_ne!(key(11, meta("r1", RELEASE, true)), one, "a person means it to take effect once more");
}

#[test]
fn a_routing_key_is_worked_out_or_the_message_stops() {
    let workspace = common::workspace(&common::files());
    let Effect::Publish { connection, post, body } = work(first(&workspace, 10, Map::new(), RELEASE)).effect else {
        panic!("a message for a broker")
    };
    let expected = Post {
        exchange: "picks".into(),
        routing_key: "picks.hillway.2026-12-01.Q-7".into(),
        content_type: "application/xml",
        correlation_id: "W-7".into(),
        kind: "pick".into(),
        ..Post::default()
    };
    assert_eq!((connection.as_str(), *post), ("warehouse", expected));
    assert!(body.text().contains("<Line Item=\"A\" Pieces=\"2\""), "{body:?}");
    let says = |body: &str| match first(&workspace, 10, Map::new(), body) {
        Next::End(End::Failed(reason)) => (reason.code.to_string(), reason.says),
        other => panic!("it stops, not {other:?}"),
    };
    let (code, dotted) = says(&RELEASE.replace("Q-7", "Q.7"));
    assert_eq!(code, "routing-failed");
    assert!(dotted.contains("\"Q.7\" has a dot"), "{dotted}");
    assert_eq!(says(&RELEASE.replace("\"HILLWAY\"", "\"\"")).1, "`lower($doc.carrier)` gives no value");
    let (_, long) = says(&RELEASE.replace("Q-7", &"7".repeat(250)));
    assert_eq!(long, "the routing key has 275 bytes; a broker takes at most 255");
}

#[test]
fn what_a_broker_cannot_carry_is_refused_before_it_is_sent() {
    type Change = fn(&mut Post, String);
    let long = "x".repeat(256);
    let says = |change: Change, text: &str| {
        let mut post = Post { exchange: "picks".into(), routing_key: "k".into(), ..Post::default() };
        change(&mut post, text.to_owned());
        post.check().err().unwrap_or_default()
    };
    let changes: [(Change, &str); 6] = [
        (|post, text| post.exchange = text, "exchange"),
        (|post, text| post.routing_key = text, "routing key"),
        (|post, text| post.correlation_id = text, "correlation id"),
        (|post, text| post.reply_to = text, "reply_to"),
        (|post, text| post.kind = text, "type"),
        (|post, text| post.headers = vec![(text, String::new())], "name of a header"),
    ];
    for (change, what) in changes {
        assert_eq!(says(change, &long), format!("the {what} has 256 bytes; a broker takes at most 255"));
        assert_eq!(says(change, &long[1..]), "", "{what}: 255 are enough");
    }
    let headers: Change = |post, text| post.headers = vec![("h".into(), text)];
    assert_eq!(says(headers, &"x".repeat(100_000)), "the headers together have 100001 bytes; a broker takes at most 100000");
}

#[test]
fn everything_that_goes_with_a_message_counts_in_its_digest() {
    let post = Post { exchange: "e".into(), routing_key: "k".into(), ..Post::default() };
    let digest =
        |post: &Post| Effect::Publish { connection: "c".into(), post: Box::new(post.clone()), body: "b".into() }.digest();
    let changes: [fn(&mut Post); 7] = [
        |post| post.routing_key = "l".into(),
        |post| post.kind = "t".into(),
        |post| post.correlation_id = "t".into(),
        |post| post.reply_to = "t".into(),
        |post| post.priority = Some(1),
        |post| post.expires_ms = Some(1),
        |post| post.headers = vec![("h".into(), "v".into())],
    ];
    let mut seen = vec![digest(&post)];
    for change in changes {
        let mut other = post.clone();
        change(&mut other);
        assert!(!seen.contains(&digest(&other)), "{other:?}");
        seen.push(digest(&other));
    }
}

#[test]
fn a_broker_is_read_with_its_queues_and_exchanges() {
    let workspace = common::workspace(&common::files());
    let broker = workspace.connections["warehouse"].broker().unwrap();
    let picks = broker.queue("picks-to-do").unwrap();
    assert_eq!((picks.replicated, picks.declare, picks.prefetch), (true, true, 1000));
    assert_eq!((picks.bind[0].key.as_str(), picks.dead_letters.as_deref()), ("picks.#", Some("picks-to-do.dead")));
    assert_eq!(broker.exchanges[0].kind, ExchangeKind::Topic);
}

#[test]
fn every_rule_that_does_not_hold_is_reported_and_a_note_stands_in_the_story() {
    let workspace = common::workspace(&common::files());
    let wrong = RELEASE.replace(r#"[{"item":"A","quantity":2}]"#, "[]").replace(r#""ship_on":"2026-12-01","#, "");
    let Next::End(End::Failed(reason)) = first(&workspace, 10, Map::new(), &wrong) else { panic!("failed") };
    assert_eq!((reason.step.as_str(), reason.code.to_string().as_str()), ("look-over", "check-failed"));
    assert_eq!(reason.says, "there is nothing to pick for Q-7; no day is set on which Q-7 ships");
    let shipment =
        r#"{"order":"Q-7","reference":"W-7","carrier":"hillway","parcels":[{"tracking":"hi-Q-7"},{"tracking":"hi-Q-8"}]}"#;
    let origin = Origin {
        id: Id(10),
        arrival: Id(1),
        body: Id(1),
        slice: 0..0,
        flow: "shipments".into(),
        release: 1,
        form: Form::Json,
        meta: Map::new(),
    };
    let notes = |body: &str| {
        let document = Document::json(body.as_bytes()).unwrap();
        let logic = Logic::of(&workspace, "shipments").unwrap();
        let machine = Machine::rebuild(logic, Arc::new(origin.clone()), document, &[], true).unwrap();
        machine.trace()[1].note.clone()
    };
    assert_eq!(notes(shipment), "2 parcels with Hillway, hi-Q-7");
    let empty = shipment.replace("{\"tracking\":\"hi-Q-7\"},{\"tracking\":\"hi-Q-8\"}", "");
    assert_eq!(notes(&empty), "(`tracking` gives no value)", "no reason to stop");
}
