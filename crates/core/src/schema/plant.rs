//! Schemas that are not seen in samples: typed field by field, from a table of positions, from the tables of a database.

use serde_json::{Map, Value, json};

/// Deepest place of a field.
const DEPTH: usize = 64;

/// A schema without fields.
fn bare(title: &str) -> Value {
    json!({ "$schema": "https://json-schema.org/draft/2020-12/schema", "title": title, "type": "object" })
}

/// Adds a field at a path of names, of which those that end with `[]` are lists: `lines[].item`. Returns the schema of its parent
/// object.
fn plant<'s>(node: &'s mut Value, path: &str, leaf: Value, required: bool) -> Result<&'s mut Value, String> {
    let (parents, name) = path.rsplit_once('.').unwrap_or(("", path));
    let within = descend(node, parents)?;
    let (name, leaf) = match name.strip_suffix("[]") {
        Some(name) => (name, json!({ "type": "array", "items": leaf })),
        None => (name, leaf),
    };
    if name.is_empty() {
        return Err(format!("`{path}` does not name a field"));
    }
    let fields = entry(within, "properties", json!({}));
    if fields.get(name).is_some() {
        return Err(format!("`{path}` is there twice"));
    }
    fields[name] = leaf;
    if required && let Value::Array(names) = entry(within, "required", json!([])) {
        names.push(Value::from(name));
    }
    Ok(within)
}

/// Returns the schema of the object at a path; missing ones are created.
fn descend<'s>(node: &'s mut Value, path: &str) -> Result<&'s mut Value, String> {
    if path.split('.').count() > DEPTH {
        return Err(format!("a field can be nested at most {DEPTH} deep"));
    }
    let mut within = node;
    for name in path.split('.').filter(|name| !name.is_empty()) {
        within = match name.strip_suffix("[]") {
            Some("") => entry(made(within, "array"), "items", json!({ "type": "object" })),
            Some(list) => {
                let own = entry(entry(within, "properties", json!({})), list, json!({ "type": "array" }));
                if own["type"] != "array" {
                    return Err(format!("`{list}` was declared before and is not a list"));
                }
                entry(own, "items", json!({ "type": "object" }))
            }
            None => {
                let own = entry(entry(within, "properties", json!({})), name, json!({ "type": "object" }));
                if own["type"] != "object" {
                    return Err(format!("`{name}` was declared before and cannot hold fields"));
                }
                own
            }
        };
    }
    Ok(within)
}

fn made<'s>(node: &'s mut Value, kind: &str) -> &'s mut Value {
    node["type"] = Value::from(kind);
    node
}

fn entry<'s>(of: &'s mut Value, key: &str, otherwise: Value) -> &'s mut Value {
    if of.get(key).is_none() {
        of[key] = otherwise;
    }
    &mut of[key]
}

/// Words for types, and their JSON Schema.
const TYPES: [(&str, &str, Option<&str>); 7] = [
    ("text", "string", None),
    ("number", "number", None),
    ("integer", "integer", None),
    ("truth", "boolean", None),
    ("date", "string", Some("date")),
    ("moment", "string", Some("date-time")),
    ("mail", "string", Some("email")),
];

fn leaf_of(word: &str) -> Result<Value, String> {
    let Some((_, kind, format)) = TYPES.iter().find(|(known, ..)| *known == word) else {
        let known: Vec<&str> = TYPES.iter().map(|(known, ..)| *known).collect();
        return Err(format!("`{word}` is not a type; types are {}", known.join(", ")));
    };
    let mut leaf = json!({ "type": kind });
    if let Some(format) = format {
        leaf["format"] = Value::from(*format);
    }
    Ok(leaf)
}

/// Builds a schema from typed field lines: `PATH:TYPE`, with `(LENGTH)` for the longest value, `!` if required, a label after a
/// blank and a note after ` -- `: `lines[].item:text(20)! Item number -- as printed on the label`.
///
/// # Errors
/// A sentence with the field: an unknown type, or a field given twice.
pub fn of_fields(fields: &[String], title: &str) -> Result<Value, String> {
    let mut node = bare(title);
    for text in fields {
        let wrong = |says: String| format!("{text}: {says}");
        let (field, label) = text.split_once(' ').unwrap_or((text, ""));
        let (path, kind) = field.split_once(':').unwrap_or((field, "text"));
        let (kind, required) = kind.strip_suffix('!').map_or((kind, false), |kind| (kind, true));
        let (kind, length) = match kind.strip_suffix(')').and_then(|kind| kind.split_once('(')) {
            Some((kind, length)) => {
                (kind, Some(length.parse::<u32>().map_err(|_| wrong(format!("`{length}` is not a length")))?))
            }
            None => (kind, None),
        };
        let mut leaf = leaf_of(kind).map_err(wrong)?;
        leaf.as_object_mut()
            .into_iter()
            .for_each(|leaf| leaf.extend(length.map(|length| ("maxLength".to_owned(), length.into()))));
        let (label, note) = label.split_once("-- ").unwrap_or((label, ""));
        for (key, text) in [("title", label.trim()), ("description", note.trim())] {
            if !text.is_empty() {
                leaf[key] = Value::from(text);
            }
        }
        plant(&mut node, path, leaf, required).map_err(wrong)?;
    }
    Ok(node)
}

/// The columns of a table of positions; `field` and `at` are needed.
const COLUMNS: [&str; 12] =
    ["record", "list", "field", "at", "length", "type", "always", "places", "date", "side", "pad", "title"];

/// Builds a schema of records from a table of positions: CSV with a header, one field a line. `record` is the tag of its record,
/// `list` the list that such records make (none for the first record), `field` its path, `at` and `length` its position or
/// column, `always` is `yes` if it is never empty; the others are as in `x-record`. With a separator, `at` is a column.
///
/// # Errors
/// A sentence with the line.
pub fn of_positions(table: &str, separator: Option<char>, title: &str) -> Result<Value, String> {
    let mut reader = csv::ReaderBuilder::new().trim(csv::Trim::All).comment(Some(b'#')).from_reader(table.as_bytes());
    let names = reader.headers().map_err(|error| error.to_string())?.clone();
    if let Some(other) = names.iter().find(|name| !COLUMNS.contains(name)) {
        return Err(format!("line 1: unknown column `{other}`; columns are {}", COLUMNS.join(", ")));
    }
    if let Some(missing) = ["field", "at"].into_iter().find(|needed| !names.iter().any(|name| name == *needed)) {
        return Err(format!("line 1: the column `{missing}` is missing"));
    }
    let mut node = bare(title);
    if let Some(separator) = separator {
        node["x-record"] = json!({ "separator": separator.to_string(), "tag_at": 1 });
    }
    for row in reader.records() {
        let row = row.map_err(|error| error.to_string())?;
        let line = row.position().map_or(0, csv::Position::line);
        let cell =
            |name: &str| names.iter().position(|known| known == name).and_then(|at| row.get(at)).filter(|text| !text.is_empty());
        field_of(&mut node, &cell).map_err(|says| format!("line {line}: {says}"))?;
    }
    Ok(node)
}

fn field_of<'t>(node: &mut Value, cell: &dyn Fn(&str) -> Option<&'t str>) -> Result<(), String> {
    let number = |name: &str| {
        cell(name).map(|text| text.parse::<u32>().map_err(|_| format!("`{name}`: expected a number, found `{text}`"))).transpose()
    };
    let path = cell("field").ok_or("`field` is empty")?;
    let date = cell("date");
    let mut leaf = leaf_of(cell("type").unwrap_or(if date.is_some() { "date" } else { "text" }))?;
    let mut place = Map::new();
    place.insert("at".to_owned(), number("at")?.ok_or("`at` is empty")?.into());
    for name in ["length", "places"] {
        place.extend(number(name)?.map(|value| (name.to_owned(), value.into())));
    }
    for name in ["date", "side", "pad"] {
        place.extend(cell(name).map(|text| (name.to_owned(), Value::from(text))));
    }
    leaf["x-record"] = Value::Object(place);
    if let Some(title) = cell("title") {
        leaf["title"] = Value::from(title);
    }
    // `parcels.lines` are the lines of each of the parcels; `[]` is a list that is the document.
    let list = cell("list")
        .map(|list| list.split('.').map(|name| format!("{}[]", name.trim_end_matches("[]"))).collect::<Vec<_>>().join("."));
    let whole = list.as_ref().map_or_else(|| path.to_owned(), |list| format!("{list}.{path}"));
    plant(node, &whole, leaf, cell("always") == Some("yes"))?;
    let Some(tag) = cell("record") else { return Ok(()) };
    let own = descend(node, list.as_deref().unwrap_or_default())?;
    let before = entry(own, "x-record", json!({}));
    match before.get("tag").and_then(Value::as_str) {
        Some(other) if other != tag => {
            Err(format!("the records {tag} and {other} have the same place: give each its own `list`"))
        }
        Some(_) => Ok(()),
        None => {
            before["tag"] = Value::from(tag);
            Ok(())
        }
    }
}

/// A column of a database table, from `information_schema`.
#[derive(Debug, Clone, Default)]
pub struct TableColumn {
    pub name: String,
    /// `data_type`, e.g. `character varying`.
    pub kind: String,
    pub nullable: bool,
    /// `character_maximum_length`.
    pub length: Option<u32>,
    /// `comment on column`.
    pub comment: String,
}

/// A schema of a table's rows, and below it those of the tables that refer to it, each a list.
#[must_use]
pub fn of_columns(columns: &[TableColumn], below: &[(String, Vec<TableColumn>)], title: &str) -> Value {
    let mut node = bare(title);
    rows(&mut node, columns);
    for (table, columns) in below {
        let mut item = json!({ "type": "object" });
        rows(&mut item, columns);
        entry(&mut node, "properties", json!({}))[table.as_str()] = json!({ "type": "array", "items": item });
    }
    node
}

fn rows(node: &mut Value, columns: &[TableColumn]) {
    for column in columns {
        let (kind, format) = match column.kind.as_str() {
            "smallint" | "integer" | "bigint" => ("integer", None),
            "numeric" | "real" | "double precision" | "decimal" | "money" => ("number", None),
            "boolean" => ("boolean", None),
            "date" => ("string", Some("date")),
            kind if kind.starts_with("timestamp") => ("string", Some("date-time")),
            "uuid" => ("string", Some("uuid")),
            "json" | "jsonb" => ("", None),
            "ARRAY" => ("array", None),
            _ => ("string", None),
        };
        let mut leaf = json!({});
        if !kind.is_empty() {
            leaf["type"] = if column.nullable { json!([kind, "null"]) } else { Value::from(kind) };
        }
        if let Some(format) = format {
            leaf["format"] = Value::from(format);
        }
        if let Some(length) = column.length {
            leaf["maxLength"] = Value::from(length);
        }
        if !column.comment.is_empty() {
            leaf["title"] = Value::from(column.comment.as_str());
        }
        entry(node, "properties", json!({}))[column.name.as_str()] = leaf;
        if !column.nullable
            && let Value::Array(names) = entry(node, "required", json!([]))
        {
            names.push(Value::from(column.name.as_str()));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Schema, Written};
    use super::*;

    #[test]
    fn fields_are_typed_one_by_one() {
        let fields = [
            "reference:text(22)! Order number -- as the shop prints it",
            "lines[].item",
            "lines[].pieces:integer!",
            "to.day:date",
            "tags[]",
        ];
        let node = of_fields(&fields.map(str::to_owned), "Pick").unwrap();
        let expected = json!({
            "$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Pick", "type": "object",
            "properties": {
                "reference": { "type": "string", "maxLength": 22, "title": "Order number", "description": "as the shop prints it" },
                "lines": { "type": "array", "items": { "type": "object", "properties": { "item": { "type": "string" }, "pieces": { "type": "integer" } }, "required": ["pieces"] } },
                "to": { "type": "object", "properties": { "day": { "type": "string", "format": "date" } } },
                "tags": { "type": "array", "items": { "type": "string" } },
            },
            "required": ["reference"],
        });
        assert_eq!(node, expected);
        let says = |field: &str| of_fields(&["a".to_owned(), field.to_owned()], "x").unwrap_err();
        assert_eq!(says("a:number"), "a:number: `a` is there twice");
        assert_eq!(says("b:word"), "b:word: `word` is not a type; types are text, number, integer, truth, date, moment, mail");
        assert_eq!(says("a.b"), "a.b: `a` was declared before and cannot hold fields");
        assert_eq!(says("b:text(x)"), "b:text(x): `x` is not a length");
        assert_eq!(says(":text"), ":text: `` does not name a field");
        assert!(says(&("a.".repeat(100_000) + "b")).ends_with("a field can be nested at most 64 deep"));
    }

    const TABLE: &str = "record,list,field,at,length,type,places,date,title\n\
                         SHP,,order,4,8,,,,Order\n\
                         SHP,,left_on,12,8,,,%Y%m%d,\n\
                         PCL,parcels,weight,4,7,number,3,,\n\
                         LIN,parcels.lines,item,4,12,,,,\n";

    #[test]
    fn a_table_of_positions_reads_its_records() {
        let node = of_positions(TABLE, None, "Shipment").unwrap();
        let schema = Schema { name: "shipment".to_owned(), root: node };
        assert_eq!(schema.writing_faults(), Vec::<String>::new());
        let read = schema.read(Written::Records, b"SHPQH-7003120261201\nPCL0012500\nLINQH-HIVE-10\nPCL0000001\n").unwrap();
        assert_eq!(
            read.to_string(),
            r#"{"order":"QH-70031","left_on":"2026-12-01","parcels":[{"weight":12.500,"lines":[{"item":"QH-HIVE-10"}]},{"weight":0.001}]}"#
        );
        let plain = of_positions("list,field,at,type\n[],item,1,\n[],pieces,2,integer\n", Some(';'), "Stock").unwrap();
        let schema = Schema { name: "stock".to_owned(), root: plain };
        assert_eq!(
            schema.read(Written::Records, b"a;1\nb;2\n"),
            Ok(json!([{ "item": "a", "pieces": 1 }, { "item": "b", "pieces": 2 }]))
        );
    }

    #[test]
    fn a_table_that_cannot_be_is_reported_with_its_line() {
        let says = |text: &str| of_positions(text, None, "x").unwrap_err();
        assert_eq!(says("field\na\n"), "line 1: the column `at` is missing");
        assert!(says("field,at,where\n").starts_with("line 1: unknown column `where`"));
        assert_eq!(says("field,at\na,1\nb,x\n"), "line 3: `at`: expected a number, found `x`");
        assert_eq!(
            says("record,field,at\nA,a,1\nB,b,1\n"),
            "line 3: the records B and A have the same place: give each its own `list`"
        );
    }

    #[test]
    fn the_columns_of_a_table_are_fields() {
        let column = |name: &str, kind: &str, nullable| TableColumn {
            name: name.to_owned(),
            kind: kind.to_owned(),
            nullable,
            ..TableColumn::default()
        };
        let no = TableColumn { length: Some(12), comment: "Order number".to_owned(), ..column("no", "character varying", false) };
        let node = of_columns(
            &[no, column("placed", "timestamp with time zone", true)],
            &[("lines".to_owned(), vec![column("pieces", "integer", false)])],
            "orders",
        );
        let expected = json!({
            "no": { "type": "string", "maxLength": 12, "title": "Order number" },
            "placed": { "type": ["string", "null"], "format": "date-time" },
            "lines": { "type": "array", "items": { "type": "object", "properties": { "pieces": { "type": "integer" } }, "required": ["pieces"] } },
        });
        assert_eq!((&node["properties"], &node["required"]), (&expected, &json!(["no"])));
    }
}
