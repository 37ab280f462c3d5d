//! From a sample to a proven map, with no service running.

use crate::scene::{Scene, client, root};
use serde_json::Value;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Command, Stdio};
use wirewatch_standins::marrowfield::Flaw;
use wirewatch_testkit::Database;

const ORDER: &str = "demo/samples/marrowfield-850.edi";
const TRY: [&str; 6] = ["map", "run", "po-to-order", "--workspace", "demo/workspace", "--given"];

#[test]
fn a_map_is_tried_on_a_sample_and_says_what_each_rule_gave() {
    let (code, out, err) = client(&[&TRY[..], &[ORDER, "--json"]].concat(), "");
    assert_eq!((code, err.as_str()), (0, ""));
    let orders: Value = serde_json::from_str(&out).expect("JSON");
    assert_eq!((orders[0]["reference"].as_str(), orders[1]["reference"].as_str()), (Some("MF-20417"), Some("MF-20418")));
    assert_eq!(orders[0]["account"], "marrowfield", "the sender is known by the interchange");
    let (code, out, _) = client(&[&TRY[..], &[ORDER, "--explain"]].concat(), "");
    assert_eq!(code, 0);
    insta::assert_snapshot!("map_explain", out);
}

#[test]
fn what_cannot_be_mapped_is_reported() {
    let (code, _, err) = client(&["map", "run", "po-to-ordr", "--workspace", "demo/workspace", "--given", ORDER], "");
    assert_eq!(code, 2);
    assert!(err.contains("did you mean `po-to-order`?"), "{err}");
    let (code, _, err) = client(&[&TRY[..], &["demo/samples/quillhaven-855.edi"]].concat(), "");
    assert_eq!(code, 1);
    assert!(err.contains("no 850 in 004010"), "{err}");
    let (code, _, err) = client(&["map", "run", "purchase-to-order", "--workspace", "demo/workspace", "--given", "-"], "{");
    assert_eq!(code, 1);
    assert!(err.contains("not JSON"), "{err}");
}

/// A copy of the demo's workspace to write into.
fn copy() -> tempfile::TempDir {
    fn fill(from: &Path, to: &Path) {
        std::fs::create_dir_all(to).expect("a folder");
        for entry in std::fs::read_dir(from).expect("a folder") {
            let path = entry.expect("an entry").path();
            let own = to.join(path.file_name().expect("a name"));
            if path.is_dir() { fill(&path, &own) } else { std::fs::copy(&path, &own).map(drop).expect("copied") }
        }
    }
    let folder = tempfile::tempdir().expect("a folder");
    fill(&root().join("demo/workspace"), folder.path());
    folder
}

const SAMPLE: &str = r#"{"orderNo":"TH-881","orderedAt":"2026-11-20T09:14:00Z","customer":"Tansy Hollow Co-op",
"shipTo":{"name":"Tansy Hollow Shed","address1":"9 Borage Road","city":"Tansy Mills","state":"HV","zip":"HV104"},
"currencyCode":"USD","grandTotal":148.80,"lineItems":[{"pos":1,"sku":"QH-FRAME-D","description":"Deep frame","qty":48,
"uom":"each","unitPrice":3.10,"extended":148.80}]}"#;

#[test]
fn three_commands_lead_from_a_fresh_sample_to_a_proven_map() {
    let folder = copy();
    let workspace = folder.path().to_str().expect("text");
    let at = ["--workspace", workspace];
    let (code, out, err) = client(&[&["schema", "from", "-", "--name", "co-op-order"], &at[..]].concat(), SAMPLE);
    assert_eq!((code, err.as_str()), (0, ""));
    assert!(out.contains("17 fields from 1 sample"), "{out}");
    let (code, _, err) = client(&[&["map", "propose", "co-op-order", "order", "--name", "co-op"], &at[..]].concat(), "");
    assert_eq!((code, err.as_str()), (0, ""));
    let proposed = std::fs::read_to_string(folder.path().join("maps/co-op.toml")).expect("the map");
    insta::assert_snapshot!("map_proposed", proposed);
    let run = ["map", "run", "co-op", "--given", "-", "--explain", "--as-case", "co-op-first"];
    let (code, out, _) = client(&[&run, &at[..]].concat(), SAMPLE);
    assert_eq!(code, 0);
    assert!(out.contains("every field of the source is used"), "{out}");
    let (code, out, err) = client(&[&["cases"], &at[..]].concat(), "");
    assert_eq!((code, err.as_str()), (0, ""));
    insta::assert_snapshot!("cases_hold", out);
    // A proposal never overwrites a file, and neither does a case.
    let (code, _, err) = client(&[&["map", "propose", "co-op-order", "order", "--name", "co-op"], &at[..]].concat(), "");
    assert!(code == 1 && err.contains("exists already"), "{err}");
}

#[test]
fn a_case_that_no_longer_holds_is_shown_reported_and_accepted_on_request() {
    let folder = copy();
    let workspace = folder.path().to_str().expect("text");
    let map = folder.path().join("maps/release-to-pick.toml");
    let text = std::fs::read_to_string(&map).expect("the map").replace("lower(carrier)", "upper(carrier)");
    std::fs::write(&map, text).expect("written");
    let report = folder.path().join("report.xml");
    let at = ["--workspace", workspace];
    let junit = ["--junit", report.to_str().expect("text")];
    let (code, out, _) = client(&[&["cases", "pick-announced", "pick-of-two-lines"], &at[..], &junit[..]].concat(), "");
    assert_eq!(code, 1);
    insta::assert_snapshot!("cases_differ", out);
    let report = std::fs::read_to_string(report).expect("the report");
    assert!(report.contains(r#"tests="2""#) && report.contains(r#"failures="2""#), "{report}");
    let (code, out, _) = client(&[&["cases", "--json"], &at[..]].concat(), "");
    let outcomes: Value = serde_json::from_str(&out).expect("JSON");
    let broken = outcomes.as_array().expect("a list").iter().filter(|one| one["passed"] == false).count();
    assert_eq!((code, broken), (1, 2));
    assert_eq!(client(&[&["cases", "--accept"], &at[..]].concat(), "").0, 0);
    assert_eq!(client(&[&["cases"], &at[..]].concat(), "").0, 0, "what was accepted holds");
    let (code, _, err) = client(&[&["cases", "pick-anounced"], &at[..]].concat(), "");
    assert!(code == 2 && err.contains("did you mean `pick-announced`?"), "{err}");
}

#[test]
fn a_flow_is_dry_run_and_nothing_is_sent() {
    let dry_run = ["dry-run", "partner-orders", "--workspace", "demo/workspace", "--given", ORDER];
    let (code, out, err) = client(&[&dry_run[..], &["--limit", "1"]].concat(), "");
    assert_eq!((code, err.as_str()), (0, ""));
    insta::assert_snapshot!("dry_run", out);
    let (code, out, _) = client(&[&dry_run[..], &["--answer", "book=422", "--json"]].concat(), "");
    let shown: Value = serde_json::from_str(&out).expect("JSON");
    assert_eq!((code, shown["messages"][1]["ends"].as_str()), (1, Some("failed")), "a message would fail");
    for (wrong, says) in [("bok=422", "did you mean `book`?"), ("book", "write STEP=STATUS"), ("book=x:y", "write STEP=STATUS")] {
        let (code, _, err) = client(&[&dry_run[..], &["--answer", wrong]].concat(), "");
        assert!(code == 2 && err.contains(says), "{err}");
    }
}

#[test]
fn a_schema_is_searched_made_anew_and_made_believe_of() {
    let folder = copy();
    let at = ["--workspace", folder.path().to_str().expect("text")];
    let (_, out, _) = client(&[&["schema", "show", "stock", "--find", "0412"], &at[..]].concat(), "");
    assert!(out.contains("shelf") && out.contains("1 field with 0412"), "{out}");
    // Of a long list of codes, only the searched ones are shown.
    let (_, out, _) = client(&[&["schema", "show", "x12/004010/850", "--find", "stand-alone"], &at[..]].concat(), "");
    assert!(out.contains("BEG02") && out.contains("SA Stand-alone Order") && !out.contains("BK Blanket"), "{out}");
    let sample = |seed: &str| client(&[&["schema", "sample", "order", "--seed", seed], &at[..]].concat(), "").1;
    assert_eq!(sample("7"), sample("7"));
    assert_ne!(sample("7"), sample("8"));
    let changed = "item;pieces;reorder at\nQH-1;2;3\n";
    let from = [&["schema", "from", "-", "--name", "stock"], &at[..]].concat();
    let (code, out, err) = client(&from, changed);
    assert!(code == 1 && out.contains("affected: maps/stock-to-levels.toml") && err.contains("--replace"), "{out} {err}");
    assert_eq!(client(&[&from[..], &["--replace"]].concat(), changed).0, 0);
    let (code, _, err) = client(&["check", folder.path().to_str().expect("text")], "");
    assert!(code == 1 && err.contains("`stock` has no field `counted on`"), "{err}");
}

#[test]
fn documents_are_compared_field_by_field() {
    let (before, after) = ("demo/samples/purchase.json", "demo/samples/release.json");
    assert_eq!(client(&["compare", before, before], "").0, 0);
    let (code, out, _) = client(&["compare", "-", after], r#"{ "order": "QH-70031", "carrier": "ASTER" }"#);
    assert!(code == 1 && out.contains("- \"ASTER\"\n  + \"LINDEN\""), "{out}");
    let (code, _, err) = client(&["compare", ORDER, after], "");
    assert!(code == 1 && err.contains("`wirewatch edi diff` compares X12"), "{err}");
}

#[test]
fn a_watched_map_is_tried_again_when_it_changes() {
    let folder = copy();
    let workspace = folder.path().to_str().expect("text");
    let mut child = Command::new(env!("CARGO_BIN_EXE_wirewatch"))
        .args(["map", "run", "release-to-pick", "--watch", "--given", "demo/samples/release.json", "--workspace", workspace])
        .current_dir(root())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .spawn()
        .expect("the program starts");
    let mut lines = BufReader::new(child.stdout.take().expect("piped")).lines().map(|line| line.expect("text"));
    let mut until = |wanted: &str| lines.find(|line| line.contains(wanted)).expect("it goes on");
    until("<Carrier>linden</Carrier>");
    until("waiting for a change");
    let map = folder.path().join("maps/release-to-pick.toml");
    let text = std::fs::read_to_string(&map).expect("the map");
    // Errors in between are reported, and the watch continues.
    std::fs::write(&map, text.replace("lower(carrier)", "lower(carier)")).expect("written");
    until("waiting for a change");
    std::fs::write(&map, text.replace("lower(carrier)", "title(carrier)")).expect("written");
    until("<Carrier>Linden</Carrier>");
    child.kill().expect("ended");
    child.wait().expect("gone");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_message_that_received_becomes_a_case_with_the_answers_it_got() {
    let mut scene = Scene::open().await;
    scene.send(1, Flaw::None);
    scene.quiet(1).await;
    let message = scene.messages("flow=partner-orders").await[0]["id"].as_str().expect("an id").to_owned();
    let folder = copy();
    let at = folder.path().to_str().expect("text");
    let from = ["case", "from", &message, "--name", "from a run", "--mask", "--workspace", at];
    let (code, out, err) = scene.service.command(&from);
    assert_eq!((code, err.as_str()), (0, "masked: N102 (1), N301 (1), N401 (1), N403 (1)\n"));
    assert!(out.contains("written to"), "{out}");
    let read =
        |name: &str| std::fs::read_to_string(folder.path().join("cases/from-a-run").join(name)).expect("a file of the case");
    let answers: Value = serde_json::from_str(&read("answers.json")).expect("JSON");
    assert_eq!(answers["book"]["body"]["order_number"], "Q-100001", "{answers}");
    assert!(read("given.edi").contains("N1*ST*Xxxxxxxxxxx Xxxxx 00*92*"), "names are masked: {}", read("given.edi"));
    let (code, out, _) = client(&["cases", "from-a-run", "--workspace", at], "");
    assert!(code == 0 && out.contains("1 case: 1 passed"), "{out}");
    let (code, _, err) = scene.service.command(&from);
    assert!(code == 1 && err.contains("exists already"), "{err}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn messages_and_steps_are_compared_and_a_flow_is_dry_run_with_answers_that_received() {
    let database = Database::new();
    let mut scene = Scene::open_on(&database).await;
    scene.send(2, Flaw::None);
    scene.quiet(2).await;
    let messages = scene.messages("flow=partner-orders").await;
    let keys: Vec<&str> = messages.iter().map(|message| message["key"].as_str().expect("a key")).collect();
    let behind = |key: &str| format!("{key}/to-order");
    let (code, out, err) = scene.service.command(&["compare", &behind(keys[0]), &behind(keys[1])]);
    assert!(code == 1 && out.contains("reference") && out.contains(&format!("+ \"{}\"", keys[1])), "{out}{err}");
    // The map's result is what the call sent.
    let (code, out, err) = scene.service.command(&["compare", &behind(keys[0]), &format!("{}/book", keys[0])]);
    assert_eq!((code, out.as_str(), err.as_str()), (0, "no differences\n", ""));
    let (code, _, err) = scene.service.command(&["compare", &format!("{}/bok", keys[0]), "a.json"]);
    assert!(code == 2 && err.contains("has no step `bok`; it has"), "{err}");
    let (code, _, err) = scene.service.command(&["compare", "a.json", keys[0]]);
    assert!(code == 1 && err.contains("a.json: there is no such file"), "{err}");
    let workspace = root().join("demo/workspace");
    let workspace = workspace.to_str().expect("text");
    let given = root().join(ORDER);
    let with = [
        "dry-run",
        "partner-orders",
        "--workspace",
        workspace,
        "--given",
        given.to_str().expect("text"),
        "--answers-of",
        keys[0],
    ];
    let (code, out, err) = scene.service.command(&[&with[..], &["--limit", "1"]].concat());
    assert!(code == 0 && out.contains("answered 201"), "{out}{err}");
    // A real request takes effect there, and a connection on hold gets no request.
    let really =
        ["dry-run", "partner-orders", "--workspace", workspace, "--given", given.to_str().expect("text"), "--really", "erp"];
    let (code, out, err) = scene.service.command(&[&really[..], &["--limit", "1"]].concat());
    assert!(code == 0 && out.contains("answered 201") && out.contains("1 request sent for real."), "{out}{err}");
    assert!(scene.orders.references().contains(&"MF-20417".to_owned()));
    let written =
        "select count(*) from audit where act = 'called' and by_whom <> '' and why = 'POST /orders at erp, for a dry run'";
    assert_eq!(database.number(written).await, 1);
    scene.service.act("/api/connections/erp/hold", &serde_json::json!({ "why": "counting" })).await;
    let (code, out, _) = scene.service.command(&[&really[..], &["--limit", "1"]].concat());
    assert!(code == 1 && out.contains("erp is on hold: counting"), "{out}");
    let file = ["dry-run", "partner-orders", "--workspace", workspace, "--given", "-", "--really", "erpp"];
    let (code, _, err) = scene.service.command(&file);
    assert!(code == 2 && err.contains("did you mean `erp`?"), "{err}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_the_map_table_and_a_dry_run_ask_is_answered_or_reported_why_not() {
    use serde_json::json;
    let scene = Scene::open().await;
    let reported = async |(status, answer): (u16, Value)| (status, answer["title"].as_str().unwrap_or_default().to_owned());
    let map = std::fs::read_to_string(root().join("demo/workspace/maps/stock-to-levels.toml")).expect("the map");
    // One more rule in the text of the editor: nothing is stored.
    let rule = json!({ "text": map, "path": "counted_by", "expression": "'me'" });
    let (status, answer) = scene.service.act("/api/maps/stock-to-levels/rule", &rule).await;
    let text = answer["text"].as_str().expect("a text");
    assert!(
        status == 200 && text.contains("counted_by = \"'me'\"") && text.starts_with(map.lines().next().expect("a line")),
        "{text}"
    );
    let broken = json!({ "text": "[set", "path": "a", "expression": "b" });
    let (status, says) = reported(scene.service.act("/api/maps/stock-to-levels/rule", &broken).await).await;
    assert!(status == 422 && says.contains("line 1"), "{status} {says}");
    let none = "the running release has no map `none`".to_owned();
    assert_eq!(reported(scene.service.act("/api/maps/none/rule", &rule).await).await, (404, none.clone()));
    assert_eq!(reported(scene.service.put("/api/maps/none/draft", &json!({ "text": map })).await).await, (404, none));
    let large = "#".repeat((1 << 20) + 1);
    let (status, says) = reported(scene.service.put("/api/maps/stock-to-levels/draft", &json!({ "text": large })).await).await;
    assert_eq!((status, says.as_str()), (413, "a draft has at most 1024 KB"));
    let (status, says) =
        reported(scene.service.act("/api/maps/stock-to-levels/try", &json!({ "text": map, "given": large })).await).await;
    assert!(status == 413 && says.contains("`wirewatch map run` takes documents of any size"), "{status} {says}");
    // A trial of an invalid map gives a finding with its line, and no failure.
    let (status, tried) =
        scene.service.act("/api/maps/stock-to-levels/try", &json!({ "text": "[set", "given": "a,b\n1,2\n" })).await;
    assert!(status == 200 && tried["findings"][0]["line"] == 1, "{status} {tried}");

    let key = "0123456789abcdef".repeat(4);
    let ask = |method: &str, key: &str| json!({ "method": method, "path": "/orders", "key": key });
    for (connection, request, status, part) in [
        ("marrowfield-drop", ask("GET", &key), 422, "only http connections can be called"),
        ("erp", ask("TELL", &key), 422, "`TELL` is not a method that flows can use"),
        ("erp", ask("GET", "12"), 422, "must be a digest in hexadecimal digits"),
        ("erpp", ask("GET", &key), 404, "erpp"),
    ] {
        let (found, says) = reported(scene.service.act(&format!("/api/connections/{connection}/ask"), &request).await).await;
        assert!(found == status && says.contains(part), "{connection}: {found} {says}");
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_draft_is_shown_and_taken_into_the_folder() {
    let scene = Scene::open().await;
    let folder = copy();
    let at = folder.path().to_str().expect("text");
    let file = folder.path().join("maps/release-to-pick.toml");
    let text = std::fs::read_to_string(&file).expect("the map").replace("lower(carrier)", "upper(carrier)");
    let body = serde_json::json!({ "text": text });
    let (status, _) = scene.service.put("/api/maps/release-to-pick/draft", &body).await;
    assert_eq!(status, 200);
    let (status, _) = scene.service.put("/api/maps/none/draft", &body).await;
    assert_eq!(status, 404);
    assert!(scene.service.command(&["map", "take", "--workspace", at]).1.contains("release-to-pick"));
    let take = |more: &[&str]| scene.service.command(&[&["map", "take", "release-to-pick", "--workspace", at], more].concat());
    let (code, out, _) = take(&[]);
    assert!(code == 0 && out.contains("- carrier   = \"lower(carrier)\"") && out.contains("nothing was written"), "{out}");
    assert_ne!(std::fs::read_to_string(&file).expect("the map"), text);
    assert_eq!(take(&["--yes"]).0, 0);
    assert_eq!(std::fs::read_to_string(&file).expect("the map"), text);
    let (code, _, err) = take(&[]);
    assert!(code == 1 && err.contains("has no draft"), "{err}");
}
