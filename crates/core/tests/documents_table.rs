//! Cases for each reader and writer (`values/documents.txt`): the tree has everything that the bytes have, or the document is
//! refused; a tree that cannot be written completely is refused.

use proptest::prelude::*;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use wirewatch_core::schema::{Schema, Written};

/// Returns the outcome of one case.
fn received(schemas: &BTreeMap<String, Schema>, case: &str) -> String {
    let mut parts = case.splitn(4, ' ');
    let (act, form, node, given) =
        (parts.next().unwrap(), parts.next().unwrap(), parts.next().unwrap(), parts.next().expect("a document"));
    let written = Written::of(form).expect("a form");
    let schema = &schemas[node];
    let given: Value = serde_json::from_str(given).unwrap_or_else(|error| panic!("{case}: {error}"));
    let result = match act {
        "read" => schema.read(written, given.as_str().expect("a text").as_bytes()).map(|value| value.to_string()),
        "write" => schema.write(written, &given).map(|bytes| json!(String::from_utf8(bytes).expect("UTF-8")).to_string()),
        other => panic!("{other}: neither read nor write"),
    };
    result.unwrap_or_else(|says| format!("error: {says}"))
}

#[test]
fn every_case_of_documents_holds() {
    let mut schemas: BTreeMap<String, Schema> = BTreeMap::new();
    let (mut wrong, mut count) = (Vec::new(), 0);
    let text = include_str!("values/documents.txt");
    for (n, line) in text.lines().enumerate().filter(|(_, line)| !line.is_empty() && !line.starts_with('#')) {
        if let Some(rest) = line.strip_prefix("schema ") {
            let (name, node) = rest.split_once(' ').expect("a name and a schema");
            let node = serde_json::from_str(node).unwrap_or_else(|error| panic!("line {}: {error}", n + 1));
            schemas.insert(name.to_owned(), Schema { name: name.to_owned(), root: node });
            continue;
        }
        let (case, expected) = line.rsplit_once(" => ").unwrap_or_else(|| panic!("line {}: no `=>`", n + 1));
        let received = received(&schemas, case);
        let holds = match expected.strip_prefix("error: ") {
            Some(part) => received.starts_with("error: ") && received.contains(part),
            None => received == expected,
        };
        if !holds {
            wrong.push(format!("line {}: {case} => {received}, not {expected}", n + 1));
        }
        count += 1;
    }
    assert!(wrong.is_empty(), "{} of {count} cases do not hold:\n{}", wrong.len(), wrong.join("\n"));
    println!("measured: {count} cases of documents");
}

fn schema(node: Value) -> Schema {
    Schema { name: "x".to_owned(), root: node }
}

/// Every text and number in a value, in order.
fn leaves(value: &Value, all: &mut Vec<String>) {
    match value {
        Value::Object(fields) => fields.values().for_each(|inner| leaves(inner, all)),
        Value::Array(items) => items.iter().for_each(|inner| leaves(inner, all)),
        Value::String(text) => all.push(text.clone()),
        other => all.push(other.to_string()),
    }
}

fn sorted(mut all: Vec<String>) -> Vec<String> {
    all.sort();
    all
}

proptest! {
    /// The tree has every attribute, text and element of any XML, or the document is refused.
    #[test]
    fn xml_is_all_there_or_refused(text in any_xml(3), known in any::<bool>()) {
        let node = if known { json!({ "type": "object", "properties": {
            "a": { "type": "string" }, "b": { "type": "array", "items": { "type": "string" } },
            "c": { "type": "array", "xml": { "wrapped": true }, "items": { "type": "object", "properties": { "t": { "xml": { "attribute": true } } } } } } }) } else { json!({}) };
        if let Ok(read) = schema(node).read(Written::Xml, format!("<r>{text}</r>").as_bytes()) {
            // Each value has a different text, so that no value can be mistaken for another.
            let mut found = Vec::new();
            leaves(&read, &mut found);
            for value in text.split(['>', '<', '\'']).filter(|part| part.starts_with('v')) {
                prop_assert!(found.iter().any(|leaf| leaf == value), "{value} of {text} is not in {read}");
            }
        }
    }

    /// The rows have every cell of any CSV, or the document is refused.
    #[test]
    fn csv_is_all_there_or_refused(rows in prop::collection::vec(prop::collection::vec("[a-z\",;\r\n ]{0,4}", 1..4), 1..5), quote in any::<bool>()) {
        let cell = |text: &String| if quote { format!("\"{}\"", text.replace('"', "\"\"")) } else { text.clone() };
        let line = |row: &Vec<String>| row.iter().map(cell).collect::<Vec<_>>().join(",");
        let text: String = ["h0,h1"].into_iter().map(str::to_owned).chain(rows.iter().map(line)).collect::<Vec<_>>().join("\n");
        let node = json!({ "type": "array", "x-csv": { "separator": "," }, "items": { "type": "object", "properties": { "h0": { "type": "string" }, "h1": { "type": "string" } } } });
        if let Ok(read) = schema(node).read(Written::Csv, text.as_bytes())
            && quote
        {
            let mut found = Vec::new();
            leaves(&read, &mut found);
            let cells = rows.iter().flatten().filter(|cell| !cell.is_empty()).cloned().collect();
            prop_assert_eq!(sorted(found), sorted(cells), "{}", text);
        }
    }

    /// The tree has every character of any record, or the document is refused.
    #[test]
    fn records_are_all_there_or_refused(lines in prop::collection::vec("[a-z0-9 ]{0,14}", 1..4)) {
        let node = json!({ "type": "array", "items": { "type": "object", "properties": {
            "a": { "type": "string", "x-record": { "at": 1, "length": 4 } }, "n": { "type": "integer", "x-record": { "at": 6, "length": 3, "pad": "0" } } } } });
        let text = lines.join("\n");
        if let Ok(read) = schema(node).read(Written::Records, text.as_bytes()) {
            let mut found = Vec::new();
            leaves(&read, &mut found);
            let plain = |text: &str| text.chars().filter(|c| !matches!(c, ' ' | '0' | '\n')).collect::<String>();
            prop_assert_eq!(plain(&found.concat()), plain(&text), "{:?}", text);
        }
    }

    /// A document that was written reads back unchanged, or it is not written.
    #[test]
    fn what_is_written_is_read_back(rows in prop::collection::vec(("[ a-z0\"|,;\r\n]{0,6}", -5000i64..5000, any::<bool>()), 1..5)) {
        let node = json!({ "type": "array", "x-record": { "separator": "|" }, "items": { "type": "object", "x-record": { "tag": "L" }, "properties": {
            "t": { "type": "string", "x-record": { "at": 2 } }, "n": { "type": "number", "x-record": { "at": 3 } }, "f": { "type": "boolean", "x-record": { "at": 4 } } } } });
        let schema = schema(node);
        let rows: Vec<Value> = rows.iter().map(|(text, n, flag)| {
            let mut row = json!({ "n": n, "f": flag });
            // An empty text is not a cell.
            if !text.is_empty() {
                row["t"] = json!(text);
            }
            row
        }).collect();
        let rows = Value::Array(rows);
        for written in [Written::Csv, Written::Records, Written::Xml, Written::Json] {
            if let Ok(bytes) = schema.write(written, &rows) {
                let back = schema.read(written, &bytes);
                prop_assert!(back.is_ok(), "{:?} {:?}", back, String::from_utf8_lossy(&bytes));
                for (row, back) in rows.as_array().unwrap().iter().zip(back.unwrap().as_array().unwrap()) {
                    for name in ["t", "n", "f"] {
                        prop_assert_eq!(&row[name], &back[name], "{:?} {:?}", written, String::from_utf8_lossy(&bytes));
                    }
                }
            }
        }
    }
}

/// Makes elements with attributes, texts and child elements; every value begins with `v` and is used once.
fn any_xml(depth: u32) -> impl Strategy<Value = String> {
    let leaf = ("[a-c]", "v[a-z0-9]{6}", "v[a-z0-9]{6}", 0..3).prop_map(|(name, value, attribute, kind)| match kind {
        0 => format!("<{name}>{value}</{name}>"),
        1 => format!("<{name} t='{attribute}'>{value}</{name}>"),
        _ => format!("<{name} t='{attribute}'/>"),
    });
    leaf.prop_recursive(depth, 12, 4, |inner| {
        (prop::collection::vec(inner, 1..4), "[a-c]", "(v[a-z0-9]{6})?", any::<bool>()).prop_map(|(all, name, text, bare)| {
            if bare { all.concat() } else { format!("<{name}>{text}{}</{name}>", all.concat()) }
        })
    })
}
