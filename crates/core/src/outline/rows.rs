//! CSV (RFC 4180): a list of rows. What an outline may say of it: at its root `x-csv` with `separator` and `names` (whether
//! the first line names the columns), at a field `x-csv` with `name`, where its column is called otherwise.

use super::written::{guess, plain, typed};
use super::{Leaf, Outline};
use serde_json::{Map, Value};

/// A column: its name in the file, and what the outline knows of it.
struct Column<'a> {
    name: String,
    path: Vec<String>,
    schema: Option<&'a Value>,
}

fn columns(outline: &Outline) -> Vec<Column<'_>> {
    let Some(item) = outline.item(&outline.schema) else { return Vec::new() };
    let column = |leaf: Leaf| {
        let schema = outline.below(item, &leaf.path);
        let own = schema.and_then(|schema| schema.get("x-csv")?.get("name")?.as_str());
        Column { name: own.map_or_else(|| leaf.path.join("."), str::to_owned), schema, path: leaf.path }
    };
    outline.level_of(item, 0).leaves.into_iter().map(column).collect()
}

fn said<'a>(outline: Option<&'a Outline>, key: &str) -> Option<&'a Value> {
    outline?.schema.get("x-csv")?.get(key)
}

fn separator(outline: Option<&Outline>) -> Option<u8> {
    said(outline, "separator").and_then(Value::as_str).and_then(|text| text.bytes().next())
}

/// What most likely stands between columns, by the first line.
pub(super) fn separator_in(text: &str) -> u8 {
    let first = text.lines().next().unwrap_or_default();
    let times = |separator: u8| first.bytes().filter(|byte| *byte == separator).count();
    [b',', b';', b'\t', b'|'].into_iter().rev().max_by_key(|separator| times(*separator)).unwrap_or(b',')
}

/// The rows. Nothing in a cell is no field.
pub(super) fn read(outline: Option<&Outline>, text: &str) -> Result<Value, String> {
    let named = said(outline, "names") != Some(&Value::Bool(false));
    let mut reader = csv::ReaderBuilder::new()
        .delimiter(separator(outline).unwrap_or_else(|| separator_in(text)))
        .has_headers(named)
        .trim(csv::Trim::Headers)
        .from_reader(text.as_bytes());
    let known = outline.map(columns).unwrap_or_default();
    let columns: Vec<Column<'_>> = if named {
        let names = reader.headers().map_err(|error| error.to_string())?;
        if let Some(twice) =
            names.iter().enumerate().find_map(|(n, name)| names.iter().take(n).any(|one| one == name).then_some(name))
        {
            return Err(format!("line 1 names the column `{twice}` twice"));
        }
        let column = |name: &str| match known.iter().find(|known| known.name == name) {
            Some(known) => Column { name: name.to_owned(), path: known.path.clone(), schema: known.schema },
            None => Column { name: name.to_owned(), path: vec![name.to_owned()], schema: None },
        };
        names.iter().map(column).collect()
    } else {
        known
    };
    let mut rows = Vec::new();
    for row in reader.records() {
        let row = row.map_err(|error| error.to_string())?;
        let mut fields = Map::new();
        for (column, cell) in columns.iter().zip(row.iter()).filter(|(_, cell)| !cell.is_empty()) {
            let line = row.position().map_or(0, csv::Position::line);
            let at = || format!("line {line}: {}", column.name);
            let value = match (outline, column.schema) {
                (Some(outline), Some(schema)) => typed(outline, schema, cell, &at())?,
                _ => Some(guess(cell)),
            };
            if let Some(value) = value {
                put(&mut fields, &column.path, value);
            }
        }
        rows.push(Value::Object(fields));
    }
    Ok(Value::Array(rows))
}

/// Puts a value at a path, making the objects on the way.
pub(super) fn put(fields: &mut Map<String, Value>, path: &[String], value: Value) {
    match path {
        [] => {}
        [last] => {
            fields.insert(last.clone(), value);
        }
        [first, rest @ ..] => {
            let inner = fields.entry(first.clone()).or_insert_with(|| Value::Object(Map::new()));
            if let Value::Object(inner) = inner {
                put(inner, rest, value);
            }
        }
    }
}

/// The rows as text: the outline's columns in its order, then those that it does not have.
pub(super) fn write(outline: &Outline, document: &Value) -> Result<String, String> {
    let Some(rows) = document.as_array() else {
        return Err("CSV is written of a list of rows, and this is none".to_owned());
    };
    let mut columns = columns(outline);
    for name in rows.iter().filter_map(Value::as_object).flat_map(Map::keys) {
        if !columns.iter().any(|column| column.path.first() == Some(name)) {
            columns.push(Column { name: name.clone(), path: vec![name.clone()], schema: None });
        }
    }
    let separator = separator(Some(outline)).unwrap_or(b',');
    let named = said(Some(outline), "names") != Some(&Value::Bool(false));
    Ok(text_of(&columns, rows, separator, named))
}

/// CSV of rows, with a line of the names that any of them has; an object or list in a cell is JSON.
#[must_use]
pub fn to_csv(rows: &[Value]) -> String {
    let mut columns: Vec<Column<'_>> = Vec::new();
    for name in rows.iter().filter_map(Value::as_object).flat_map(Map::keys) {
        if !columns.iter().any(|column| column.name == *name) {
            columns.push(Column { name: name.clone(), path: vec![name.clone()], schema: None });
        }
    }
    text_of(&columns, rows, b',', true)
}

fn text_of(columns: &[Column<'_>], rows: &[Value], separator: u8, named: bool) -> String {
    let mut writer = csv::WriterBuilder::new().delimiter(separator).terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    let cell = |value: Option<&Value>| {
        let value = value.unwrap_or(&Value::Null);
        plain(value).map_or_else(|| value.to_string(), std::borrow::Cow::into_owned)
    };
    // Writing into memory does not fail.
    if named {
        let _ = writer.write_record(columns.iter().map(|column| column.name.as_str()));
    }
    for row in rows {
        let at = |column: &Column<'_>| column.path.iter().try_fold(row, |value, name| value.get(name)).cloned();
        let _ = writer.write_record(columns.iter().map(|column| cell(at(column).as_ref())));
    }
    String::from_utf8(writer.into_inner().unwrap_or_default()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::super::{Outline, Written, read_sample};
    use super::to_csv;
    use proptest::prelude::*;
    use serde_json::{Value, json};

    #[test]
    fn rows_have_the_columns_that_any_of_them_has() {
        assert_eq!(
            to_csv(&[json!({ "a": "x,\"y\"", "b": 1.1 }), json!({ "c": null, "a": "z" })]),
            "a,b,c\r\n\"x,\"\"y\"\"\",1.1,\r\nz,,\r\n"
        );
        assert_eq!(to_csv(&[]), "\"\"\r\n");
    }

    fn stock(of: Value) -> Outline {
        let item = json!({ "type": "object", "properties": {
            "item": { "type": "string" },
            "place": { "type": "object", "properties": { "aisle": { "type": "string", "x-csv": { "name": "Aisle" } } } },
            "pieces": { "type": "number" }, "sold out": { "type": "boolean" } } });
        Outline { name: "stock".to_owned(), schema: json!({ "type": "array", "items": item, "x-csv": of }) }
    }

    #[test]
    fn an_outline_says_types_and_names_of_columns() {
        let outline = stock(json!({ "separator": ";" }));
        let read = outline.read(Written::Csv, b"pieces;Aisle;item;sold out;more\n012;7;0042;true;\"1\"\n;;7;;\n");
        let rows =
            json!([{ "pieces": 12, "place": { "aisle": "7" }, "item": "0042", "sold out": true, "more": 1 }, { "item": "7" }]);
        assert_eq!(read, Ok(rows.clone()));
        let text = outline.write(Written::Csv, &rows).unwrap();
        assert_eq!(String::from_utf8(text).unwrap(), "item;Aisle;pieces;sold out;more\r\n0042;7;12;true;1\r\n7;;;;\r\n");
        let wrong = outline.read(Written::Csv, b"item;pieces\na;1\nb;some\n");
        assert_eq!(wrong, Err("line 3: pieces: `some` is no number".to_owned()));
    }

    #[test]
    fn without_names_columns_stand_in_the_order_of_the_outline() {
        let outline = stock(json!({ "separator": "|", "names": false }));
        let rows = json!([{ "item": "a", "place": { "aisle": "B" }, "pieces": 3 }]);
        let text = outline.write(Written::Csv, &rows).unwrap();
        assert_eq!(text, b"a|B|3|\r\n");
        assert_eq!(outline.read(Written::Csv, &text), Ok(rows));
    }

    proptest! {
        #[test]
        fn rows_written_read_back(rows in prop::collection::vec(("[a-zé \",;\n]{1,9}", 0..99u32), 1..9)) {
            let rows: Vec<Value> = rows.iter().map(|(text, n)| json!({ "text": format!("t{text}"), "n": n })).collect();
            let back = read_sample(Written::Csv, to_csv(&rows).as_bytes());
            prop_assert_eq!(back, Ok(vec![Value::Array(rows)]));
        }

        #[test]
        fn typed_rows_read_back(rows in prop::collection::vec(("[0-9 é\"\n;]{1,9}", "[0-9]{1,4}", any::<bool>()), 1..9)) {
            let row = |(item, aisle, out): &(String, String, bool)| json!({ "item": item, "place": { "aisle": aisle }, "sold out": out });
            let rows: Value = rows.iter().map(row).collect();
            let outline = stock(json!({}));
            prop_assert_eq!(outline.read(Written::Csv, &outline.write(Written::Csv, &rows).unwrap()), Ok(rows));
        }
    }
}
