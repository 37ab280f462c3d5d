//! Whole flows tried without a service: dry runs and cases.

mod common;

use serde_json::{Value, json};
use wirewatch_core::Timestamp;
use wirewatch_core::propose::propose;
use wirewatch_core::trial::{Answer, Answers, DryRun, dry_run};
use wirewatch_core::workspace::{Files, Workspace};

fn files(own: &[(&str, &str)]) -> Files {
    let base = [
        ("workspace.toml", "format = 1\n"),
        ("connections/in.toml", "kind = \"folder\"\npath = \"in\"\n"),
        ("connections/erp.toml", "kind = \"http\"\naddress = \"http://127.0.0.1:1\"\nrepeat = \"key\"\n"),
        ("schemas/pick.schema.json", r#"{ "type": "object", "properties": { "id": {}, "when": {} } }"#),
        (
            "schemas/rows.schema.json",
            r#"{ "type": "array", "items": { "type": "object", "properties": { "id": {}, "n": {} } } }"#,
        ),
    ];
    base.iter().chain(own).map(|(name, text)| ((*name).to_owned(), (*text).to_owned())).collect()
}

fn of_flow(flow: &str, given: &str, answers: &[(&str, Answer)]) -> DryRun {
    let files = files(&[("flows/f.toml", flow)]);
    let workspace = common::workspace(&files);
    let answers: Answers = answers.iter().map(|(step, answer)| ((*step).to_owned(), answer.clone())).collect();
    dry_run(&workspace, &workspace.flows["f"], given.as_bytes(), "", &answers, 10, Timestamp::parse("2026-01-05").unwrap())
}

const FLOW: &str = r#"
key = "id"
[[intake]]
from = "in"
takes = "pick"
[[step]]
name = "new"
only = { when = "id != '0'", because = "it is none" }
[[step]]
name = "rest"
pause = { for = "2h" }
[[step]]
name = "ways"
[[step.also]]
way = "failed"
[[step.also.step]]
name = "tell"
call = { at = "erp", post = "/status", body = "id" }
[[step]]
name = "book"
call = { at = "erp", post = "/picks", body = "it", as = "booked" }
retry = { times = 2, first = "1m", longest = "1m" }
[[step]]
name = "remark"
note = "booked as {$booked.no}"
"#;

#[test]
fn every_effect_is_shown_ways_pauses_and_retries_pass_and_answers_become_variables() {
    let booked = Answer { status: 201, body: json!({ "no": "P-7" }) };
    let shown = of_flow(FLOW, r#"{ "id": "a" }"#, &[("book", booked)]);
    let reported: Vec<String> = shown
        .messages
        .iter()
        .flat_map(|message| {
            let head = format!("{} {} {}", message.key, message.way, message.ends);
            let steps = message.stages.iter().map(|stage| {
                let request =
                    stage.request.as_ref().map_or(String::new(), |one| format!("{} {} {}", one.line, one.body, one.status));
                format!("  {} {} {}{request}", stage.step, stage.verb, stage.says)
            });
            [head].into_iter().chain(steps).collect::<Vec<_>>()
        })
        .collect();
    insta::assert_snapshot!(reported.join("\n"));
}

#[test]
fn what_is_refused_fails_and_what_passes_gives_up_after_its_tries() {
    let answer = |status| Answer { status, ..Answer::default() };
    // As in the running service: a redirect is refused, and a connection on hold lets the message wait.
    for (status, ends, says) in [
        (204, "done", ""),
        (304, "failed", "book: answered 304"),
        (401, "waiting", "book: answered 401; check the credentials of the connection; the connection would be put on hold"),
        (403, "failed", "book: answered 403"),
        (422, "failed", "book: answered 422"),
        (500, "failed", "book: answered 500"),
        (503, "waiting", "book: answered 503; the connection would be put on hold"),
    ] {
        let shown = of_flow(FLOW, r#"{ "id": "a" }"#, &[("book", answer(status))]);
        assert_eq!((shown.messages[0].ends, shown.messages[0].says.as_str()), (ends, says), "{status}");
    }
    let skipped = of_flow(FLOW, r#"{ "id": "0" }"#, &[]);
    assert_eq!((skipped.messages[0].ends, skipped.messages[0].says.as_str()), ("skipped", "it is none"));
    let unreadable = of_flow(FLOW, "{", &[]);
    assert_eq!((unreadable.verdict, unreadable.messages.len()), ("failed", 0));
    assert!(unreadable.says.starts_with("not JSON"), "{}", unreadable.says);
}

#[test]
fn csv_and_xml_come_in_as_documents_and_go_out_as_texts() {
    let flow = |form: &str, body: &str| {
        let (takes, key) = if form == "csv" { ("rows", "first(it).id") } else { ("pick", "id") };
        format!(
            "key = \"{key}\"\n[[intake]]\nfrom = \"in\"\ntakes = \"{takes}\"\nform = \"{form}\"\n\
             [[step]]\nname = \"send\"\ncall = {{ at = \"erp\", post = \"/x\", body = \"{body}\" }}\n"
        )
    };
    let sent = |form: &str, body: &str, given: &str| {
        let shown = of_flow(&flow(form, body), given, &[]);
        assert_eq!(shown.verdict, "received", "{}", shown.says);
        shown.messages[0].stages[0].request.as_ref().expect("a request").body.clone()
    };
    assert_eq!(sent("csv", "csv(it)", "id;n\na;1\nb;2\n"), "id,n\r\na,1\r\nb,2\r\n");
    let xml = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<pick><id>a</id></pick>";
    assert_eq!(sent("xml", "xml(it, 'pick')", "<p id='a'/>"), xml);
    let broken = of_flow(&flow("xml", "it"), "<p>", &[]);
    assert_eq!((broken.verdict, broken.says.as_str()), ("failed", "not XML: line 1: it ends before its root element ends"));
}

#[test]
fn the_demos_cases_hold_and_a_changed_map_is_seen() {
    let mut files = common::files();
    let workspace = common::workspace(&files);
    assert!(workspace.cases.len() >= 9, "{:?}", workspace.cases.keys());
    for case in workspace.cases.values() {
        let checked = case.check(&workspace).unwrap_or_else(|error| panic!("{}: {error}", case.name));
        assert!(checked.holds(), "{}: {:?}", case.name, checked.differences);
    }
    let map = files.get_mut("maps/po-to-order.toml").unwrap();
    *map = map.replace("\"PO101\"", "\"PO101 & '!'\"");
    let workspace = common::workspace(&files);
    let checked = workspace.cases["orders-of-marrowfield"].check(&workspace).unwrap();
    let first = &checked.differences[0];
    assert_eq!((first.at.as_str(), &first.before, &first.after), ("[1].rows[1].row", &Some(json!("1")), &Some(json!("1!"))));
    // A result that a flow would refuse is not a result, whatever the case expects.
    let map = files.get_mut("maps/po-to-order.toml").unwrap();
    *map = map.replace("number(CTT.AMT02)", "number(CTT.AMT03)");
    let refused = common::workspace(&files).cases["orders-of-marrowfield"].check(&common::workspace(&files)).unwrap_err();
    assert!(refused.to_string().contains("does not fit the schema order: `total` is missing"), "{refused}");
}

#[test]
fn slips_in_cases_are_reported() {
    let own = [
        ("flows/f.toml", FLOW),
        ("cases/a/case.toml", "flow = \"g\"\ngiven = \"x.json\"\n"),
        ("cases/b/case.toml", "flow = \"f\"\nmap = \"m\"\ngiven = \"x.json\"\n"),
        ("cases/c/case.toml", "flow = \"f\"\ngiven = \"x.json\"\n"),
        ("cases/d/case.toml", "flow = \"f\"\ngiven = \"given.json\"\n"),
        ("cases/d/given.json", "{}"),
        ("cases/d/answers.json", "{ \"bok\": {} }"),
        ("cases/e/case.toml", "flow = \"f\"\ngiven = \"given.json\"\n"),
        ("cases/e/given.json", "{}"),
        ("cases/e/expect.json", "{"),
    ];
    let reported: Vec<String> = Workspace::read(&files(&own))
        .findings
        .into_iter()
        .map(|one| {
            format!(
                "{}:{}:{} {}{}",
                one.file,
                one.line,
                one.column,
                one.says,
                one.help.map_or(String::new(), |help| format!(" ({help})"))
            )
        })
        .collect();
    insta::assert_snapshot!(reported.join("\n"));
}

#[test]
fn types_of_rules_and_targets_are_compared_before_anything_runs() {
    let map = r#"
from = "source"
to = "target"
[set]
number = "text"
text = "number * 2"
flag = "text = 'x'"
first = "list.name"
all = "list.name"
list = "list"
[[each]]
of = "list"
into = "all"
[each.set]
x = "name"
"#;
    let own = [
        (
            "schemas/source.schema.json",
            r#"{ "type": "object", "properties": { "text": { "type": "string" }, "number": { "type": "number" }, "list": { "type": "array", "items": { "properties": { "name": { "type": "string" } } } } } }"#,
        ),
        (
            "schemas/target.schema.json",
            r#"{ "type": "object", "properties": { "number": { "type": "number" }, "text": { "type": "string" }, "flag": { "type": "string" }, "first": { "type": "string" }, "all": { "type": "array" }, "list": { "type": "string" } } }"#,
        ),
        (
            "maps/m.toml",
            &map.replace("twice = \"text\"\ntwice.again = \"text\"\n\"text\" = \"'b' else text\"\n", "list = \"list\"\n"),
        ),
    ];
    let reported: Vec<String> =
        Workspace::read(&files(&own)).findings.into_iter().map(|one| format!("{} {}", one.code, one.says)).collect();
    insta::assert_snapshot!(reported.join("\n"));
}

#[test]
fn a_map_is_proposed_from_names_words_formats_and_values() {
    let workspace = common::workspace(&common::files());
    let file = |from: &str, to: &str| propose(&workspace, from, to).expect("a proposal").to_file(from, to);
    insta::assert_snapshot!(format!(
        "{}\n{}\n{}",
        file("purchase", "order"),
        file("x12/004010/850", "order"),
        file("stock", "stock-levels")
    ));
    assert_eq!(propose(&workspace, "purchase", "stock").unwrap_err(), "the schema stock is a list; a map makes one object");
}

#[test]
fn what_is_proposed_is_a_map_without_errors() {
    let mut files = common::files();
    let workspace = common::workspace(&files);
    let text = propose(&workspace, "x12/004010/850", "order").unwrap().to_file("x12/004010/850", "order");
    files.insert("maps/proposed.toml".to_owned(), text);
    let workspace = common::workspace(&files);
    let map = &workspace.maps["proposed"];
    let given = wirewatch_core::trial::given_to_map(&workspace, map, common::SAMPLE.as_bytes()).unwrap();
    let variables = given[0].variables(&Default::default(), &Default::default());
    let order = map.apply(&wirewatch_core::map::scope_of(&given[0].document, &variables, &workspace.library)).unwrap();
    let faults = common::misfits(&workspace.schemas["order"], &order);
    assert_eq!(
        (order["reference"].as_str(), order["rows"][1]["amount"].to_string(), faults),
        (Some("MF-20417"), "148.80".to_owned(), vec![])
    );
}

#[test]
fn what_is_proposed_into_a_set_is_a_sound_set() {
    let mut files = common::files();
    let workspace = common::workspace(&files);
    let sets = ["x12/004010/850", "x12/005010/855"];
    let texts = sets.map(|set| propose(&workspace, "order", set).expect("a proposal").to_file("order", set));
    insta::assert_snapshot!(texts.join("\n"));
    files.extend(["maps/order-out.toml", "maps/order-back.toml"].map(str::to_owned).into_iter().zip(texts));
    let workspace = common::workspace(&files);
    let order = json!({
        "reference": "MF-1", "account": "marrowfield", "placed_on": "2026-11-23", "deliver_on": "2026-12-01", "total": 14.2,
        "deliver_to": { "name": "Marrowfield Store 7", "street": "7 Clover Lane", "town": "Tansy Bottom", "region": "HV" },
        "rows": [
            { "row": "1", "item": "QH-1", "quantity": 2, "unit": "EA", "price": 3.1, "amount": 6.2, "text": "DEEP FRAME" },
            { "row": "2", "item": "QH-2", "quantity": 1, "unit": "CA", "amount": 8 }
        ]
    });
    let document = wirewatch_core::Document::json(order.to_string().as_bytes()).unwrap();
    for (map, segments) in [("order-out", 11), ("order-back", 13)] {
        let made = workspace.maps[map]
            .document(&wirewatch_core::map::scope_of(&document, &Default::default(), &workspace.library), &Default::default());
        let wirewatch_core::Document::X12(set) = made.expect("a set").document else { panic!("no set") };
        assert_eq!(set.bytes().iter().filter(|byte| **byte == b'~').count(), segments, "{map}");
    }
    // From a set to a set: an element without a name of its own is read from the document.
    let back =
        propose(&workspace, "x12/004010/850", "x12/004010/855").expect("a proposal").to_file("x12/004010/850", "x12/004010/855");
    files.insert("maps/po-back.toml".to_owned(), back);
    let both = common::workspace(&files);
    let (_, document) = common::order(0);
    let made = both.maps["po-back"]
        .document(&wirewatch_core::map::scope_of(&document, &Default::default(), &both.library), &Default::default());
    let wirewatch_core::Document::X12(set) = made.expect("a set").document else { panic!("no set") };
    let text = String::from_utf8_lossy(set.bytes()).into_owned();
    assert!(text.contains("~N1*ST*Marrowfield Store 12*92*0012~N3*4 Clover Lane~") && text.contains("*VP*QH-HIVE-10~"), "{text}");
    assert_eq!(
        propose(&workspace, "order", "x12/004010/997").unwrap_err(),
        "x12/004010/997 is not an order set: only 850 and 855 can be proposed"
    );
    // A flat document is itself the party.
    let flat = json!({ "type": "object", "properties": {
        "po_number": { "type": "string" }, "ship_name": { "type": "string" }, "ship_city": { "type": "string" } } });
    files.insert("schemas/flat.schema.json".to_owned(), flat.to_string());
    let proposal = propose(&common::workspace(&files), "flat", "x12/004010/850").unwrap();
    assert_eq!((proposal.lists[0].of.as_str(), proposal.lists[0].rules.rules.len()), ("$doc", 3));
    assert!(proposal.unfilled.contains(&(vec!["PO1".to_owned()], true)), "{:?}", proposal.unfilled);
}

#[test]
fn what_no_rule_uses_is_reported_of_both_kinds_of_document() {
    let workspace = common::workspace(&common::files());
    let (_, order) = common::order(0);
    let paths = |map: &str, document: &wirewatch_core::Document| -> Vec<String> {
        workspace.maps[map].unused(document).into_iter().map(|one| format!("{} {} {}", one.path, one.times, one.value)).collect()
    };
    insta::assert_snapshot!(paths("po-to-order", &order).join("\n"));
    let purchase: &Value = &json!({ "type": "t", "data": { "number": "1", "buyer": { "mail": "x" }, "basket": [{ "line": 1, "colour": "a" }, { "colour": "b" }] } });
    let document = wirewatch_core::Document::json(purchase.to_string().as_bytes()).unwrap();
    assert_eq!(paths("purchase-to-order", &document), ["type 1 t", "data.buyer.mail 1 x", "data.basket.colour 2 a"]);
}

#[test]
fn a_map_to_a_transaction_set_is_checked_against_its_table() {
    let schema = r#"{ "type": "object", "properties": { "no": { "type": "string" }, "rows": { "type": "array", "items": { "properties": { "q": { "type": "number" } } } } } }"#;
    let map = |text: &str| {
        let text = format!("from = \"order\"\nto = \"x12/004010/855\"\n{text}");
        let own = [("schemas/order.schema.json", schema), ("maps/m.toml", &text)];
        Workspace::read(&files(&own)).findings.into_iter().map(|one| one.says + &one.help.unwrap_or_default()).collect::<Vec<_>>()
    };
    let bak = "BAK01 = \"'00'\"\nBAK02 = \"'AD'\"\nBAK03 = \"no\"\nBAK04 = \"'20260101'\"\n";
    let lines = "[[each]]\nof = \"rows\"\ninto = \"PO1\"\n[each.set]\nPO102 = \"q\"\n";
    assert_eq!(map(&format!("[set]\n{bak}{lines}")), Vec::<String>::new());
    assert_eq!(map(&format!("[set]\n{lines}")), ["BAK is mandatory in the 855, but no rule fills it"]);
    for (slip, says) in [
        ("BAQ03 = \"no\"\n", "BAQ is not at this level of the 855did you mean `BAK03`?"),
        ("PO199 = \"no\"\n", "PO1 has 25 elements; it has no element 99"),
        ("SDQ01 = \"no\"\n", "SDQ is not at this level of the 855SDQ is in a loop: fill it with a list, `into = \"…\"`"),
        ("BAK.no = \"no\"\n", "a target in a transaction set is a reference designator, such as `BAK03`"),
    ] {
        let reported = map(&format!("[set]\n{bak}{slip}{lines}"));
        assert!(reported.iter().any(|one| one.starts_with(says)), "{slip}: {reported:?}");
    }
}

#[test]
fn a_set_is_written_with_the_partners_separators_and_as_it_wants_them_inside_values() {
    use wirewatch_core::partner::Sending;
    use wirewatch_core::x12::{Delimiters, OnSeparator, Style};
    let workspace = common::workspace(&common::files());
    let given = common::files()["cases/answer-to-marrowfield/given.json"].replace("Marrowfield Store 12", "Store | 12");
    let document = wirewatch_core::Document::json(given.as_bytes()).unwrap();
    let written = |on_separator: OnSeparator| {
        let delimiters = Delimiters { element: b'|', component: b'^', repetition: None, segment: b'!' };
        let sending = Sending { delimiters, style: Style { on_separator, ..Style::default() }, ..Sending::default() };
        let variables = serde_json::Map::new();
        let scope = wirewatch_core::map::scope_of(&document, &variables, &workspace.library);
        workspace.maps["order-to-855"].document(&scope, &sending).map(|mapped| mapped.document.to_bytes())
    };
    let text = String::from_utf8(written(OnSeparator::Replace).unwrap()).unwrap();
    assert!(text.starts_with("ST|855|0001!BAK|00|AD|") && text.contains("|Store   12|") && !text.contains('*'), "{text}");
    let refused = written(OnSeparator::Refuse).unwrap_err().to_string();
    assert!(refused.contains("N102 contains a separator of the interchange: Store | 12"), "{refused}");
}

#[test]
fn a_set_that_a_map_made_goes_on_as_a_set() {
    let mut files = common::files();
    let flow = "key = \"reference\"\n[[intake]]\nfrom = \"marrowfield-drop\"\ntakes = \"order\"\nvalidate = \"off\"\n[[step]]\nname = \"answer\"\nmap = \"order-to-855\"\n\
                [[step]]\nname = \"remark\"\nnote = \"{BAK03}: {count(PO1)} lines, {PO1[2].ACK.01}\"\n\
                [[step]]\nname = \"send\"\nsend = { to = \"marrowfield-collect\", file = \"{BAK03}.edi\" }\n";
    files.insert("flows/answers.toml".to_owned(), flow.to_owned());
    let workspace = common::workspace(&files);
    let given = &files["cases/answer-to-marrowfield/given.json"];
    let run =
        |given: &str| dry_run(&workspace, &workspace.flows["answers"], given.as_bytes(), "", &Answers::new(), 1, Timestamp(0));
    let shown = run(given);
    let stages = &shown.messages[0].stages;
    assert_eq!(
        (shown.messages[0].ends, stages[1].says.as_str()),
        ("done", "MF-20417: 2 lines, IA"),
        "{}",
        shown.messages[0].says
    );
    let request = stages[2].request.as_ref().expect("a file");
    let body = request.body.as_str().expect("a text");
    assert!(request.line == "MF-20417.edi" && body.starts_with("ST*855*0001~BAK*00*AD*MF-20417*20261123~"), "{request:?}");
    assert!(body.ends_with("CTT*2~SE*15*0001~"), "{body}");
    let wrong = run(&given.replace("\"quantity\": 12", "\"quantity\": \"a dozen\""));
    let says = &wrong.messages[0].says;
    assert!(wrong.messages[0].ends == "failed" && says.contains("segment 8: PO102 ("), "{says}");
    // Values with a length or shape of their own are checked too, and all errors are counted.
    let long = given.replace("\"quantity\": 12", "\"quantity\": \"a dozen\"").replace("MF-20417", &"x".repeat(23));
    let says = &run(&long).messages[0].says;
    assert!(says.contains("segment 2: BAK03 (Purchase Order Number): too long") && says.ends_with("; 2 more errors"), "{says}");
}
