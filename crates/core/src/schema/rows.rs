//! CSV (RFC 4180): a list of rows. What a schema may say of it: at its root `x-csv` with `separator` and `names` (whether
//! the first line names the columns), at a field `x-csv` with `name`, where its column is called otherwise.

use super::written::{guess, plain, typed};
use super::{Leaf, Schema};
use serde_json::{Map, Value};

/// A column: its name in the file, and what the schema knows of it.
struct Column<'a> {
    name: String,
    path: Vec<String>,
    node: Option<&'a Value>,
}

fn columns(schema: &Schema) -> Vec<Column<'_>> {
    let Some(item) = schema.item(&schema.root) else { return Vec::new() };
    let column = |leaf: Leaf| {
        let node = schema.below(item, &leaf.path);
        let own = node.and_then(|node| node.get("x-csv")?.get("name")?.as_str());
        Column { name: own.map_or_else(|| leaf.path.join("."), str::to_owned), node, path: leaf.path }
    };
    schema.level_of(item, 0).leaves.into_iter().map(column).collect()
}

fn csv_key<'a>(schema: Option<&'a Schema>, key: &str) -> Option<&'a Value> {
    schema?.root.get("x-csv")?.get(key)
}

fn separator(schema: Option<&Schema>) -> Option<u8> {
    csv_key(schema, "separator").and_then(Value::as_str).and_then(|text| text.bytes().next())
}

/// Returns the likely column separator, by the first line.
pub(super) fn separator_in(text: &str) -> u8 {
    let first = text.lines().find(|line| !line.is_empty()).unwrap_or_default();
    let times = |separator: u8| first.bytes().filter(|byte| *byte == separator).count();
    [b',', b';', b'\t', b'|'].into_iter().rev().max_by_key(|separator| times(*separator)).unwrap_or(b',')
}

/// Checks the quotes of RFC 4180: a quoted cell is closed, and nothing follows its closing quote.
fn quotes(text: &str, separator: u8) -> Result<(), String> {
    let bytes = text.as_bytes();
    let line = |at: usize| bytes[..at].iter().filter(|byte| **byte == b'\n').count() + 1;
    let (mut at, mut starts) = (0, true);
    while let Some(&byte) = bytes.get(at) {
        if !(starts && byte == b'"') {
            starts = byte == separator || byte == b'\n' || byte == b'\r';
            at += 1;
            continue;
        }
        let opened = at;
        at += 1;
        loop {
            match bytes.get(at) {
                None => return Err(format!("line {}: this quote is not closed", line(opened))),
                Some(b'"') if bytes.get(at + 1) == Some(&b'"') => at += 2,
                Some(b'"') => break,
                Some(_) => at += 1,
            }
        }
        at += 1;
        match bytes.get(at) {
            None | Some(b'\n' | b'\r') => {}
            Some(behind) if *behind == separator => {}
            Some(_) => return Err(format!("line {}: unexpected text after a closing quote", line(at))),
        }
        starts = false;
    }
    Ok(())
}

/// Reads the rows. An empty cell is a missing field, and a blank line is not a row.
pub(super) fn read(schema: Option<&Schema>, text: &str) -> Result<Value, String> {
    let named = csv_key(schema, "names") != Some(&Value::Bool(false));
    let separator = separator(schema).unwrap_or_else(|| separator_in(text));
    quotes(text, separator)?;
    if named && text.trim().is_empty() {
        return Err("the header line is missing".to_owned());
    }
    let mut reader = csv::ReaderBuilder::new()
        .delimiter(separator)
        .has_headers(named)
        .flexible(true)
        .trim(csv::Trim::Headers)
        .from_reader(text.as_bytes());
    let known = schema.map(columns).unwrap_or_default();
    let columns: Vec<Column<'_>> = if named {
        let names = reader.headers().map_err(|error| error.to_string())?;
        if let Some(twice) =
            names.iter().enumerate().find_map(|(n, name)| names.iter().take(n).any(|one| one == name).then_some(name))
        {
            return Err(format!("line 1 names the column `{twice}` twice"));
        }
        if let Some(n) = names.iter().position(str::is_empty) {
            return Err(format!("line 1: column {} has no name", n + 1));
        }
        let column = |name: &str| match known.iter().find(|known| known.name == name) {
            Some(known) => Column { name: name.to_owned(), path: known.path.clone(), node: known.node },
            None => Column { name: name.to_owned(), path: vec![name.to_owned()], node: None },
        };
        names.iter().map(column).collect()
    } else {
        known
    };
    let mut rows = Vec::new();
    for row in reader.records() {
        let row = row.map_err(|error| error.to_string())?;
        let line = row.position().map_or(0, csv::Position::line);
        if row.len() != columns.len() {
            return Err(format!("line {line} has {} cells, but there are {} columns", row.len(), columns.len()));
        }
        let mut fields = Map::new();
        for (column, cell) in columns.iter().zip(row.iter()).filter(|(_, cell)| !cell.is_empty()) {
            let at = || format!("line {line}: {}", column.name);
            let value = match (schema, column.node) {
                (Some(schema), Some(node)) => typed(schema, node, cell, &at())?,
                _ => Some(guess(cell)),
            };
            if let Some(value) = value {
                put(&mut fields, &column.path, value).map_err(|says| format!("{}: {says}", at()))?;
            }
        }
        rows.push(Value::Object(fields));
    }
    Ok(Value::Array(rows))
}

/// Puts a value at a path, creating the objects on the way.
///
/// # Errors
/// A sentence: a value is there already, or on the way.
pub(super) fn put(fields: &mut Map<String, Value>, path: &[String], value: Value) -> Result<(), String> {
    match path {
        [] => Ok(()),
        [last] => match fields.insert(last.clone(), value) {
            None => Ok(()),
            Some(_) => Err(format!("`{last}` is there twice")),
        },
        [first, rest @ ..] => match fields.entry(first.clone()).or_insert_with(|| Value::Object(Map::new())) {
            Value::Object(inner) => put(inner, rest, value),
            _ => Err(format!("`{first}` is a single value, so it cannot hold `{}`", rest.join("."))),
        },
    }
}

/// Returns the path of the first value in `value` that is not in `known`; lists are passed through.
pub(super) fn without_place(value: &Value, known: &[Vec<String>], at: &mut Vec<String>) -> Option<String> {
    match value {
        Value::Null => None,
        Value::Object(fields) => fields.iter().find_map(|(name, inner)| {
            at.push(name.clone());
            let found = without_place(inner, known, at);
            at.pop();
            found
        }),
        Value::Array(items) => items.iter().find_map(|item| without_place(item, known, at)),
        _ => (!known.contains(at)).then(|| at.join(".")),
    }
}

/// The rows as text: the schema's columns in its order, then those that it does not have.
pub(super) fn write(schema: &Schema, document: &Value) -> Result<String, String> {
    let Some(rows) = document.as_array() else {
        return Err("CSV needs a list of rows, and the document is not a list".to_owned());
    };
    let mut columns = columns(schema);
    for name in rows.iter().filter_map(Value::as_object).flat_map(Map::keys) {
        if !columns.iter().any(|column| column.path.first() == Some(name)) {
            columns.push(Column { name: name.clone(), path: vec![name.clone()], node: None });
        }
    }
    let known: Vec<Vec<String>> = columns.iter().map(|column| column.path.clone()).collect();
    let lists = |row: &Value| {
        columns.iter().any(|column| column.path.iter().try_fold(row, |at, name| at.get(name)).is_some_and(Value::is_array))
    };
    for (n, row) in rows.iter().enumerate().filter(|(_, row)| row.is_object() && !lists(row)) {
        if let Some(field) = without_place(row, &known, &mut Vec::new()) {
            return Err(format!("row {}: `{field}` has no column", n + 1));
        }
    }
    let declared = separator(Some(schema));
    let separator = declared.unwrap_or(b',');
    let named = csv_key(Some(schema), "names") != Some(&Value::Bool(false));
    let text = text_of(&columns, rows, separator, named)?;
    // Without a given separator, the first line decides.
    if declared.is_none() && separator_in(&text) != separator {
        return Err(
            "its first line would be read with another separator: set the separator with `x-csv` in the schema".to_owned()
        );
    }
    Ok(text)
}

/// Writes rows as CSV, with a header of the names that any row has. A missing value, `null` and an empty text are an empty cell.
///
/// # Errors
/// A sentence: a row that is not an object, or a cell with an object or a list.
pub fn to_csv(rows: &[Value]) -> Result<String, String> {
    let mut columns: Vec<Column<'_>> = Vec::new();
    for name in rows.iter().filter_map(Value::as_object).flat_map(Map::keys) {
        if !columns.iter().any(|column| column.name == *name) {
            columns.push(Column { name: name.clone(), path: vec![name.clone()], node: None });
        }
    }
    text_of(&columns, rows, b',', true)
}

fn text_of(columns: &[Column<'_>], rows: &[Value], separator: u8, named: bool) -> Result<String, String> {
    if columns.is_empty() && rows.iter().all(Value::is_object) {
        return Err("no columns to write".to_owned());
    }
    let mut writer = csv::WriterBuilder::new().delimiter(separator).terminator(csv::Terminator::CRLF).from_writer(Vec::new());
    // Writing into memory does not fail.
    if named {
        let _ = writer.write_record(columns.iter().map(|column| column.name.as_str()));
    }
    for (n, row) in rows.iter().enumerate() {
        if !row.is_object() {
            return Err(format!("row {} is {}; expected an object", n + 1, kind_of(row)));
        }
        let mut cells = Vec::with_capacity(columns.len());
        for column in columns {
            let value = column.path.iter().try_fold(row, |value, name| value.get(name)).unwrap_or(&Value::Null);
            let text = plain(value).ok_or_else(|| {
                format!(
                    "row {}: {}: {} cannot be written to a cell; convert it to a text with json(…)",
                    n + 1,
                    column.name,
                    kind_of(value)
                )
            })?;
            cells.push(text.into_owned());
        }
        let _ = writer.write_record(cells);
    }
    Ok(String::from_utf8(writer.into_inner().unwrap_or_default()).unwrap_or_default())
}

const fn kind_of(value: &Value) -> &'static str {
    match value {
        Value::Object(_) => "an object",
        Value::Array(_) => "a list",
        Value::Null => "null",
        Value::String(_) | Value::Number(_) | Value::Bool(_) => "a single value",
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Schema, Written, read_sample};
    use super::to_csv;
    use proptest::prelude::*;
    use serde_json::{Value, json};

    #[test]
    fn rows_have_the_columns_that_any_of_them_has() {
        assert_eq!(
            to_csv(&[json!({ "a": "x,\"y\"", "b": 1.1 }), json!({ "c": null, "a": "z" })]).unwrap(),
            "a,b,c\r\n\"x,\"\"y\"\"\",1.1,\r\nz,,\r\n"
        );
        assert_eq!(to_csv(&[json!(1)]), Err("row 1 is a single value; expected an object".to_owned()));
        let nested = to_csv(&[json!({ "a": [1] })]);
        assert_eq!(nested, Err("row 1: a: a list cannot be written to a cell; convert it to a text with json(…)".to_owned()));
    }

    fn stock(of: Value) -> Schema {
        let item = json!({ "type": "object", "properties": {
            "item": { "type": "string" },
            "place": { "type": "object", "properties": { "aisle": { "type": "string", "x-csv": { "name": "Aisle" } } } },
            "pieces": { "type": "number" }, "sold out": { "type": "boolean" } } });
        Schema { name: "stock".to_owned(), root: json!({ "type": "array", "items": item, "x-csv": of }) }
    }

    #[test]
    fn a_schema_says_types_and_names_of_columns() {
        let schema = stock(json!({ "separator": ";" }));
        let read = schema.read(Written::Csv, b"pieces;Aisle;item;sold out;more\n012;7;0042;true;\"1\"\n;;7;;\n");
        let rows =
            json!([{ "pieces": 12, "place": { "aisle": "7" }, "item": "0042", "sold out": true, "more": 1 }, { "item": "7" }]);
        assert_eq!(read, Ok(rows.clone()));
        let text = schema.write(Written::Csv, &rows).unwrap();
        assert_eq!(String::from_utf8(text).unwrap(), "item;Aisle;pieces;sold out;more\r\n0042;7;12;true;1\r\n7;;;;\r\n");
        let wrong = schema.read(Written::Csv, b"item;pieces\na;1\nb;some\n");
        assert_eq!(wrong, Err("line 3: pieces: expected a number, found `some`".to_owned()));
    }

    #[test]
    fn without_names_columns_stand_in_the_order_of_the_schema() {
        let schema = stock(json!({ "separator": "|", "names": false }));
        let rows = json!([{ "item": "a", "place": { "aisle": "B" }, "pieces": 3 }]);
        let text = schema.write(Written::Csv, &rows).unwrap();
        assert_eq!(text, b"a|B|3|\r\n");
        assert_eq!(schema.read(Written::Csv, &text), Ok(rows));
    }

    proptest! {
        #[test]
        fn rows_written_read_back(rows in prop::collection::vec(("[a-zé \",;\n]{1,9}", 0..99u32), 1..9)) {
            let rows: Vec<Value> = rows.iter().map(|(text, n)| json!({ "text": format!("t{text}"), "n": n })).collect();
            let back = read_sample(Written::Csv, to_csv(&rows).unwrap().as_bytes());
            prop_assert_eq!(back, Ok(vec![Value::Array(rows)]));
        }

        #[test]
        fn typed_rows_read_back(rows in prop::collection::vec(("[0-9 é\"\n;]{1,9}", "[0-9]{1,4}", any::<bool>()), 1..9)) {
            let row = |(item, aisle, out): &(String, String, bool)| json!({ "item": item, "place": { "aisle": aisle }, "sold out": out });
            let rows: Value = rows.iter().map(row).collect();
            let schema = stock(json!({}));
            prop_assert_eq!(schema.read(Written::Csv, &schema.write(Written::Csv, &rows).unwrap()), Ok(rows));
        }
    }
}
