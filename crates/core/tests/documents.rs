//! Documents as people see and correct them, schemas, and tables.

mod common;

use serde_json::{Value, json};
use wirewatch_core::Document;
use wirewatch_core::amend::{findings, restore};
use wirewatch_core::document::Form;
use wirewatch_core::schema::Schema;
use wirewatch_core::x12::{Definitions, Delimiters};

fn reported(form: &Form, text: &str) -> Vec<String> {
    findings(&common::workspace(&common::files()), "partner-orders", None, form, text)
        .iter()
        .map(|finding| {
            let from = finding.column as usize - 1;
            let marked: String = finding.source.chars().skip(from).take(finding.length as usize).collect();
            format!("{}:{} {} [{marked}] {}", finding.line, finding.column, finding.code, finding.says)
        })
        .collect()
}

#[test]
fn what_is_readable_is_restored_to_what_was_sent() {
    let (form, document) = common::order(0);
    let readable = document.readable();
    assert_eq!(readable.lines().count(), 15);
    let restored = restore(&form, &readable);
    assert!(!restored.contains('\n'), "as the partner sent it, without line ends");
    assert_eq!(reported(&form, &restored), Vec::<String>::new());
    // Blanks that an editor leaves at line ends are not part of the document.
    assert_eq!(restore(&form, &readable.replace('\n', "  \r\n\n")), restored);
}

#[test]
fn a_line_end_as_terminator_survives_an_amendment() {
    let (_, document) = common::order(0);
    let newline = Delimiters { segment: b'\n', ..Delimiters::default() };
    let form = Form::X12 { version: "004010".into(), set: "850".into(), delimiters: newline };
    let sent = document.readable().replace('~', "");
    let document = Document::read(Definitions::standard(), |_| None, &form, sent.as_bytes()).unwrap();
    assert_eq!(document.readable(), sent, "no empty lines come in between");
    assert_eq!(restore(&form, &sent), sent);
    assert_eq!(reported(&form, &sent), Vec::<String>::new());
}

#[test]
fn findings_point_at_the_element_in_a_line_of_its_own() {
    let (form, document) = common::order(0);
    let bad = restore(&form, &document.readable().replace("PO1*1*12*EA", "PO1*1*twelve*EA").replace("CTT*2", "CTTX*2"));
    assert_eq!(
        reported(&form, &bad),
        [
            "9:7 x12::element-6 [twelve] PO102 (Quantity Ordered): expected a number, found `twelve`",
            "13:1 x12::segment-1 [CTTX*2] CTTX is not a segment of 004010",
        ]
    );
}

#[test]
fn an_unknown_set_and_broken_json_are_reported() {
    let form = Form::X12 { version: "004010".into(), set: "999".into(), delimiters: Delimiters::default() };
    assert_eq!(reported(&form, "ST*999*1~"), ["1:1 x12::unknown-set [] 004010 999 is not defined"]);
    assert_eq!(reported(&Form::Json, "{\"a\": 1}"), Vec::<String>::new());
    let broken = reported(&Form::Json, "{\"a\": }");
    assert!(broken[0].contains("document::unreadable") && broken[0].contains("not JSON"), "{broken:?}");
    assert_eq!(restore(&Form::Json, " {}\n"), " {}\n", "JSON is taken as it is");
}

fn schema(node: Value) -> Schema {
    Schema { name: "o".into(), root: node }
}

#[test]
fn a_schema_reports_every_fault_with_its_place() {
    let schema = schema(json!({
        "type": "object", "required": ["number", "lines"], "additionalProperties": false,
        "properties": {
            "number": { "type": "string" },
            "paid": { "type": ["boolean", "null"] },
            "state": { "enum": ["open", "shut"] },
            "lines": { "type": "array", "items": { "$ref": "#/$defs/line" } }
        },
        "$defs": { "line": { "type": "object", "required": ["item"], "properties": { "item": { "type": "string" }, "pieces": { "type": "integer" } } } }
    }));
    let sound = json!({ "number": "1", "paid": null, "state": "open", "lines": [{ "item": "a", "pieces": 3, "more": 1 }] });
    assert_eq!(common::misfits(&schema, &sound), Vec::<String>::new());
    let bad =
        json!({ "number": 1, "paid": "yes", "state": "ajar", "extra": 1, "lines": [{ "pieces": 1.5 }, { "item": "b" }, 7] });
    assert_eq!(
        common::misfits(&schema, &bad),
        [
            "`lines[1].item` is missing",
            "`lines[1].pieces` must be a whole number, but is a number",
            "`lines[3]` must be an object, but is a number",
            "`number` must be a text, but is a number",
            "`paid` must be true or false or null, but is a text",
            "`state` must be one of [\"open\",\"shut\"], but is \"ajar\"",
            "the schema has no `extra`",
        ]
    );
    assert_eq!(common::misfits(&schema, &json!([])), ["the document must be an object, but is a list"]);
}

#[test]
fn a_schema_that_refers_to_itself_ends() {
    let schema = schema(json!({
        "$ref": "#/$defs/node",
        "$defs": { "node": { "type": "object", "properties": { "next": { "$ref": "#/$defs/node" } } }, "loop": { "$ref": "#/$defs/loop" } }
    }));
    let mut deep = json!({ "next": 1 });
    for _ in 0..100 {
        deep = json!({ "next": deep });
    }
    assert_eq!(common::misfits(&schema, &deep).len(), 1, "it is held against its schema to the last level");
    assert_eq!(common::misfits(&schema, &json!({ "next": { "next": 1 } })), ["`next.next` must be an object, but is a number"]);
    let endless = json!({ "$ref": "#/$defs/loop" });
    assert_eq!(schema.resolve(&endless), &endless, "what leads nowhere is given up");
}

#[test]
fn fields_are_found_through_lists_and_references() {
    let schema = schema(json!({
        "properties": { "lines": { "items": { "$ref": "#/$defs/line" } }, "free": { "type": "object" } },
        "$defs": { "line": { "required": ["b"], "properties": { "a": {}, "b": {} } } }
    }));
    let lines = schema.field(&schema.root, "lines").unwrap().unwrap();
    assert!(schema.field(lines, "a").unwrap().is_some());
    assert_eq!(schema.field(lines, "c").unwrap_err(), ["a", "b"]);
    let free = schema.field(&schema.root, "free").unwrap().unwrap();
    assert_eq!(schema.field(free, "anything"), Ok(None), "the schema says nothing of its fields");
    assert_eq!(schema.fields(schema.item(lines).unwrap()), [("a", false), ("b", true)]);
}

#[test]
fn tables_are_read_and_slips_reported_by_line() {
    use wirewatch_core::table::read;
    let table = read("code,meaning\nEA,each\n\n\"C,A\",\"case \"\"big\"\"\"\n").unwrap();
    assert_eq!((table["EA"].as_str(), table["C,A"].as_str()), ("each", "case \"big\""));
    let (line, says) = read("code,meaning\nEA each\n").unwrap_err();
    assert_eq!(line, 2, "{says}");
    let (line, says) = read("code,meaning\nEA,each\nEA,other\n").unwrap_err();
    assert_eq!(line, 3, "{says}");
}
