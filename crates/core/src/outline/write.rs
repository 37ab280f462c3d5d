//! Values written as XML or CSV.

use serde_json::Value;
use std::fmt::Write;

/// XML with that root: fields as elements, items of a list as elements of the same name, `null` as an empty element. Names
/// that XML does not take have `_` for what is not allowed.
#[must_use]
pub fn to_xml(value: &Value, root: &str) -> String {
    let mut text = r#"<?xml version="1.0" encoding="UTF-8"?>"#.to_owned();
    text.push('\n');
    element(&mut text, &name(root), value);
    text
}

fn element(text: &mut String, name: &str, value: &Value) {
    match value {
        Value::Array(items) => items.iter().for_each(|item| element(text, name, item)),
        Value::Object(fields) => {
            let _ = write!(text, "<{name}>");
            fields.iter().for_each(|(field, inner)| element(text, &self::name(field), inner));
            let _ = write!(text, "</{name}>");
        }
        Value::Null => {
            let _ = write!(text, "<{name}/>");
        }
        other => {
            let content = other.as_str().map_or_else(|| other.to_string(), str::to_owned);
            let _ = write!(text, "<{name}>{}</{name}>", quick_xml::escape::escape(content));
        }
    }
}

fn name(of: &str) -> String {
    let allowed = |c: char| if c.is_alphanumeric() || matches!(c, '_' | '-' | '.') { c } else { '_' };
    let shown: String = of.chars().map(allowed).collect();
    if shown.starts_with(|c: char| c.is_alphabetic() || c == '_') { shown } else { format!("_{shown}") }
}

/// CSV (RFC 4180) of rows, with a line of the names that any of them has; an object or list in a cell is JSON.
#[must_use]
pub fn to_csv(rows: &[Value]) -> String {
    let mut columns: Vec<&str> = Vec::new();
    for name in rows.iter().filter_map(Value::as_object).flat_map(serde_json::Map::keys) {
        if !columns.contains(&name.as_str()) {
            columns.push(name);
        }
    }
    let mut writer = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    let cell = |value: Option<&Value>| match value {
        None | Some(Value::Null) => String::new(),
        Some(Value::String(text)) => text.clone(),
        Some(other) => other.to_string(),
    };
    // Writing into memory does not fail.
    let _ = writer.write_record(&columns);
    for row in rows {
        let _ = writer.write_record(columns.iter().map(|column| cell(row.get(column))));
    }
    String::from_utf8(writer.into_inner().unwrap_or_default()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::super::{SampleForm, read_sample};
    use super::{to_csv, to_xml};
    use proptest::prelude::*;
    use serde_json::{Value, json};

    #[test]
    fn values_are_written_as_elements_and_as_rows() {
        let pick =
            json!({ "order": "7 & 8", "lines": [{ "item": "a", "pieces": 1.5 }, { "item": "<b>" }], "note": null, "2x": true });
        assert_eq!(
            to_xml(&pick, "pick list"),
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<pick_list><order>7 &amp; 8</order><lines><item>a</item><pieces>1.5</pieces></lines>\
             <lines><item>&lt;b&gt;</item></lines><note/><_2x>true</_2x></pick_list>"
        );
        assert_eq!(
            to_csv(&[json!({ "a": "x,\"y\"", "b": 1.1 }), json!({ "c": null, "a": "z" })]),
            "a,b,c\r\n\"x,\"\"y\"\"\",1.1,\r\nz,,\r\n"
        );
        assert_eq!(to_csv(&[]), "\"\"\r\n");
    }

    proptest! {
        #[test]
        fn rows_written_read_back(rows in prop::collection::vec(("[a-zé \",;\n]{1,9}", 0..99u32), 1..9)) {
            let rows: Vec<Value> = rows.iter().map(|(text, n)| json!({ "text": format!("t{text}"), "n": n })).collect();
            let back = read_sample(SampleForm::Csv, to_csv(&rows).as_bytes());
            prop_assert_eq!(back, Ok(vec![Value::Array(rows)]));
        }

        #[test]
        fn elements_written_read_back(fields in prop::collection::btree_map("[a-z]{1,5}", "[a-z<&>\"']{1,9}", 1..6)) {
            let value = json!(fields);
            let back = read_sample(SampleForm::Xml, to_xml(&value, "root").as_bytes());
            prop_assert_eq!(back, Ok(vec![value]));
        }
    }
}
