//! A first flow of what a capture recorded: its files are a workspace that runs, and what cannot be made is reported.

use serde_json::{Map, Value, json};
use wirewatch_core::place::{Place, Property};
use wirewatch_core::propose::flow::{FirstFlowError, Recorded, Source, event, first_flow};
use wirewatch_core::workspace::{Files, Workspace};

/// An interchange whose sender is no partner.
const STRANGER: &str = "ISA*00*          *00*          *ZZ*SOMEBODY       *ZZ*QUILLHAVEN     *261123*0700*U*00401*000000001*0*P*>~\
    GS*PO*A*B*20261123*1200*1*X*004010~ST*850*0001~BEG*00*SA*MF-1**20261123~PO1*1*2*EA*3**VP*Q~CTT*1~SE*5*0001~GE*1*1~\
    IEA*1*000000001~";
const ADDRESS: Source<'_> = Source::Address("capture-1");
const TAP: Source<'_> = Source::Exchange { connection: "bus", exchange: "hall", routing_key: "picks.#" };

fn object(value: Value) -> Map<String, Value> {
    let Value::Object(fields) = value else { unreachable!("{value}") };
    fields
}

fn workspace() -> Files {
    let own = [
        (
            "partners/marrowfield.toml",
            "[them]\nqualifier = \"ZZ\"\nid = \"MARROWFIELD\"\n[us]\nqualifier = \"ZZ\"\nid = \"QUILLHAVEN\"\n",
        ),
        ("workspace.toml", "format = 1\n"),
        ("connections/bus.toml", "kind = \"amqp\"\naddress = \"amqp://127.0.0.1\"\n\n[[exchange]]\nname = \"hall\"\n"),
        (
            "flows/taken.toml",
            "[[intake]]\nfrom = \"bus\"\nqueue = \"q\"\ntakes = \"text\"\n[[step]]\nname = \"n\"\nnote = \"x\"\n",
        ),
    ];
    let mut files: Files = own.map(|(path, text)| (path.to_owned(), text.to_owned())).into();
    files.entry("connections/bus.toml".to_owned()).and_modify(|text| text.push_str("\n[[queue]]\nname = \"q\"\n"));
    files
}

#[test]
fn the_event_is_found_where_senders_put_it() {
    let header = |name: &str| Place::Header(name.to_owned());
    let field = |name: &str| Place::Field(name.to_owned());
    let long = "x".repeat(200);
    for (source, headers, body, expected) in [
        (TAP, json!({ "type": "order.released" }), "{}", Some((Place::Property(Property::Type), "order.released"))),
        (TAP, json!({ "headers": { "x-event": "a" } }), "{}", Some((header("x-event"), "a"))),
        (TAP, json!({ "x-event": "a" }), r#"{"topic":"b"}"#, Some((field("topic"), "b"))),
        (
            ADDRESS,
            json!({ "quillhaven-event": "item.listed" }),
            r#"{"type":"other"}"#,
            Some((header("quillhaven-event"), "item.listed")),
        ),
        (ADDRESS, json!({}), r#"{"type":"purchase.placed","data":{}}"#, Some((field("type"), "purchase.placed"))),
        (ADDRESS, json!({ "type": "not a header's name" }), r#"{"event":"a","topic":"b"}"#, Some((field("event"), "a"))),
        (ADDRESS, json!({ "quillhaven-event": "" }), r#"{"type":7}"#, None),
        (ADDRESS, json!({ "prevent-cache": "yes" }), "no json", None),
        (ADDRESS, json!({ "x-event": long }), "[]", None),
    ] {
        let headers = object(headers);
        let found = event(source, Recorded { headers: &headers, body: body.as_bytes() });
        assert_eq!(found, expected.map(|(place, event)| (place, event.to_owned())), "{headers:?} {body}");
    }
}

/// Makes a flow named `new` of the first body.
fn made(source: Source<'_>, headers: Value, bodies: &[&str]) -> Result<Files, FirstFlowError> {
    let headers = object(headers);
    let items: Vec<Recorded<'_>> = bodies.iter().map(|body| Recorded { headers: &headers, body: body.as_bytes() }).collect();
    first_flow(&workspace(), "new", source, items[0], &items)
}

/// Checks that the files make a workspace whose case passes.
fn assert_runs(made: &Files) {
    let mut all = workspace();
    all.extend(made.clone());
    let checked = Workspace::read(&all);
    let workspace = std::sync::Arc::new(checked.workspace.unwrap_or_else(|| panic!("{:?}", checked.findings)));
    assert!(workspace.cases["new"].check(&workspace).unwrap().holds());
}

#[test]
fn an_address_becomes_a_webhook_with_schema_flow_and_case() {
    let headers = json!({ "webhook-id": "d1", "content-type": "application/json" });
    let one = r#"{"type":"purchase.placed","data":{"id":1,"number":"W-1","status":"open","lines":[{"number":1}]}}"#;
    let two = r#"{"type":"purchase.placed","data":{"id":2,"number":"W-2","status":"open","note":"by hand","lines":[]}}"#;
    let other = r#"{"type":"item.listed","sku":"x"}"#;
    let made = made(ADDRESS, headers, &[one, two, other, "{ broken"]).unwrap();
    assert_runs(&made);
    let all: Vec<String> = made.iter().map(|(path, text)| format!("--- {path}\n{text}")).collect();
    insta::assert_snapshot!(all.join("\n"));
}

#[test]
fn a_tap_becomes_a_queue_of_its_broker() {
    let headers = json!({ "type": "pick.released", "message_id": "m1", "routing_key": "picks.a" });
    let made = made(TAP, headers, &[r#"{"order":"Q-7","lines":[1]}"#]).unwrap();
    assert_runs(&made);
    let bus = &made["connections/bus.toml"];
    assert!(bus.starts_with(workspace()["connections/bus.toml"].trim_end()), "{bus}");
    insta::assert_snapshot!(format!("{bus}\n--- flow\n{}", made["flows/new.toml"]));
}

#[test]
fn documents_without_a_schema_of_their_own_are_received_too() {
    let x12 = STRANGER.replace("SOMEBODY   ", "MARROWFIELD");
    for (body, takes, key) in [
        (x12.as_str(), "x12/850", "BEG03"),
        ("<a>1</a>", "text", "# key"),
        ("hello", "text", "# key"),
        ("IS THAT SO?", "text", "# key"),
    ] {
        let made = made(ADDRESS, json!({}), &[body]).unwrap_or_else(|error| panic!("{body}: {error:?}"));
        let flow = &made["flows/new.toml"];
        assert!(flow.contains(&format!("takes = \"{takes}\"")) && flow.contains(key), "{flow}");
        assert_runs(&made);
    }
}

#[test]
fn what_cannot_be_made_is_reported() {
    let says = |name: &str, source: Source<'_>, body: &[u8]| {
        let headers = Map::new();
        let item = Recorded { headers: &headers, body };
        first_flow(&workspace(), name, source, item, &[item]).unwrap_err().to_string()
    };
    let nowhere = Source::Exchange { connection: "gone", exchange: "hall", routing_key: "#" };
    for (name, source, body, expected) in [
        ("new", ADDRESS, &b"\xff\xfe"[..], "the body is not text"),
        ("new", ADDRESS, b" \n", "has no body"),
        ("new", ADDRESS, b"{ \"a\": }", "begins like JSON and cannot be read: expected value"),
        ("", ADDRESS, b"{}", "cannot be the name of a flow"),
        ("../x", ADDRESS, b"{}", "cannot be the name of a flow"),
        ("a b", ADDRESS, b"{}", "cannot be the name of a flow"),
        ("taken", ADDRESS, b"{}", "flows/taken.toml exists already"),
        ("bus", ADDRESS, b"{}", "connections/bus.toml exists already"),
        ("new", nowhere, b"{}", "connections/gone.toml is missing"),
        ("q", TAP, b"{}", "the workspace would have errors"),
        ("new", ADDRESS, STRANGER.as_bytes(), "no partner has the identifiers ZZ/SOMEBODY"),
    ] {
        let found = says(name, source, body);
        assert!(found.contains(expected), "{name:?} {}: {found}", String::from_utf8_lossy(body));
    }
}
