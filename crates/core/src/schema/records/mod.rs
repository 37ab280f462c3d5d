//! Records: lines whose fields have fixed positions or columns; a tag distinguishes kinds of lines.
//!
//! A schema describes them with `x-record`. At its root: `tag_at` (position and length of the tag, `[1, 3]`, or its column),
//! `separator` (for columns, `"|"`), `line_end` (`"\n"` when left out). At the root, an object or the items of a list: the `tag`
//! of its record. At a field: `at` (position of its first character, from 1, or its column), `length`, `side` (alignment, `left`
//! or `right`; numbers are right-aligned), `pad` (the padding character), `places` (implied decimal places), `date` (a strftime
//! pattern).

mod place;
mod read;
mod write;

use super::Schema;
use place::Place;
pub(super) use read::read;
use serde_json::Value;
pub(super) use write::write;

/// Deepest nesting of records.
const DEPTH: usize = 16;

/// Settings that all records share.
struct Layout<'a> {
    /// Place and length, or column, of the tag.
    tag: (usize, usize),
    separator: Option<char>,
    line_end: &'a str,
}

/// A kind of record, with the records below it.
struct Record<'a> {
    tag: &'a str,
    /// Path of its content in the record above it.
    path: Vec<String>,
    /// An item of a list.
    many: bool,
    fields: Vec<Place<'a>>,
    inner: Vec<Record<'a>>,
}

/// Returns whether a line is not a record: blank, or the end mark of some systems.
fn is_blank(line: &str) -> bool {
    line.trim_matches(|c: char| c == '\u{1A}' || c.is_whitespace()).is_empty()
}

fn record_keys(node: &Value) -> Option<&Value> {
    node.get("x-record")
}

fn tag_of(node: &Value) -> Option<&str> {
    record_keys(node)?.get("tag")?.as_str()
}

/// Returns whether a schema describes positions of records anywhere.
pub(super) fn has_places(node: &Value) -> bool {
    match node {
        Value::Object(fields) => fields.contains_key("x-record") || fields.values().any(has_places),
        Value::Array(items) => items.iter().any(has_places),
        _ => false,
    }
}

impl<'a> Layout<'a> {
    fn of(schema: &'a Schema, root: &Record<'a>) -> Self {
        let own = record_keys(&schema.root);
        let number = |value: &Value| value.as_u64().and_then(|number| usize::try_from(number).ok());
        let place = own.and_then(|own| own.get("tag_at")).and_then(|at| match at {
            Value::Array(two) => Some((number(two.first()?)?, number(two.get(1)?)?)),
            column => Some((number(column)?, 0)),
        });
        let separator = own.and_then(|own| own.get("separator")?.as_str()?.chars().next());
        let line_end = own.and_then(|own| own.get("line_end")?.as_str()).filter(|end| !end.is_empty()).unwrap_or("\n");
        Self { tag: place.unwrap_or((1, root.longest_tag())), separator, line_end }
    }
}

impl<'a> Record<'a> {
    fn root(schema: &'a Schema) -> Self {
        let node = schema.resolve(&schema.root);
        match schema.item(node) {
            Some(item) => {
                let inner = Self::of(schema, item, Vec::new(), true, 0);
                Self { tag: "", path: Vec::new(), many: false, fields: Vec::new(), inner: vec![inner] }
            }
            None => Self::of(schema, node, Vec::new(), false, 0),
        }
    }

    fn of(schema: &'a Schema, node: &'a Value, path: Vec<String>, many: bool, depth: usize) -> Self {
        let mut record = Self { tag: tag_of(node).unwrap_or_default(), path, many, fields: Vec::new(), inner: Vec::new() };
        record.collect(schema, node, &[], depth);
        record
    }

    fn collect(&mut self, schema: &'a Schema, node: &'a Value, path: &[String], depth: usize) {
        if depth > DEPTH {
            return;
        }
        for (name, _) in schema.fields(node) {
            let Some(own) = schema.below(node, &[name.to_owned()]) else { continue };
            let path: Vec<String> = path.iter().cloned().chain([name.to_owned()]).collect();
            match schema.item(own) {
                Some(item) if has_places(item) => self.inner.push(Self::of(schema, item, path, true, depth + 1)),
                Some(_) => {}
                None if tag_of(own).is_some() => self.inner.push(Self::of(schema, own, path, false, depth + 1)),
                None if own.get("properties").is_some() => self.collect(schema, own, &path, depth + 1),
                None => self.fields.extend(Place::of(schema, own, path)),
            }
        }
    }

    fn longest_tag(&self) -> usize {
        let inner = self.inner.iter().map(Self::longest_tag);
        inner.chain([self.tag.chars().count()]).max().unwrap_or(0)
    }

    /// Returns whether it has a line of its own.
    fn is_written(&self) -> bool {
        !self.tag.is_empty() || !self.fields.is_empty()
    }

    fn each(&self, tell: &mut impl FnMut(&Self)) {
        tell(self);
        self.inner.iter().for_each(|inner| inner.each(tell));
    }
}

/// Returns the faults in the described positions: overlapping fields, an invalid date pattern, no length.
pub(super) fn faults(schema: &Schema) -> Vec<String> {
    if !schema.has_records() {
        return Vec::new();
    }
    let root = Record::root(schema);
    let layout = Layout::of(schema, &root);
    let mut faults = Vec::new();
    root.each(&mut |record| {
        let mut taken: Vec<(usize, usize, String)> = Vec::new();
        if !record.tag.is_empty() {
            taken.push((layout.tag.0, layout.tag.0 + layout.tag.1.max(1), "the tag".to_owned()));
        }
        for place in &record.fields {
            let name = place.name();
            if place.at == 0 {
                faults.push(format!("`{name}` is at 0: positions are counted from 1"));
            }
            if place.date.is_some_and(|pattern| jiff::fmt::strtime::format(pattern, jiff::civil::date(2026, 1, 1)).is_err()) {
                faults.push(format!("`{name}`: `{}` is not a date pattern", place.date.unwrap_or_default()));
            }
            let until = match (layout.separator, place.length) {
                (Some(_), _) => place.at + 1,
                (None, Some(length)) => place.at + length,
                (None, None) => {
                    faults.push(format!("`{name}` has no length"));
                    continue;
                }
            };
            if let Some((.., other)) = taken.iter().find(|(from, to, _)| place.at < *to && *from < until) {
                faults.push(format!("`{name}` overlaps {other}"));
            }
            taken.push((place.at, until, format!("`{name}`")));
        }
    });
    faults
}

#[cfg(test)]
mod tests {
    use super::super::{Schema, Written};
    use crate::schema::misfits;
    use proptest::prelude::*;
    use serde_json::{Value, json};

    fn shipment() -> Schema {
        let parcel = json!({ "type": "object", "x-record": { "tag": "PCL" }, "properties": {
            "weight": { "type": "number", "x-record": { "at": 4, "length": 7, "pad": "0", "places": 3 } },
            "lines": { "type": "array", "items": { "type": "object", "x-record": { "tag": "LIN" }, "properties": {
                "item": { "type": "string", "x-record": { "at": 4, "length": 12 } },
                "pieces": { "type": "integer", "x-record": { "at": 16, "length": 5 } } } } } } });
        let node = json!({ "type": "object", "x-record": { "tag": "SHP" }, "properties": {
            "order": { "type": "string", "x-record": { "at": 4, "length": 8 } },
            "left_on": { "type": "string", "x-record": { "at": 12, "length": 8, "date": "%Y%m%d" } },
            "to": { "type": "object", "x-record": { "tag": "ADR" }, "properties": {
                "name": { "type": "string", "x-record": { "at": 4, "length": 20 } } } },
            "parcels": { "type": "array", "items": parcel } } });
        Schema { name: "shipment".to_owned(), root: node }
    }

    const TEXT: &str =
        "SHPQH-7003120261201\nADRMarrowfield Store 12\nPCL0012500\nLINQH-HIVE-10     12\nLINQH-FRAME-D     48\nPCL-000750\n";

    fn document() -> Value {
        json!({
            "order": "QH-70031", "left_on": "2026-12-01", "to": { "name": "Marrowfield Store 12" },
            "parcels": [
                { "weight": 12.5, "lines": [{ "item": "QH-HIVE-10", "pieces": 12 }, { "item": "QH-FRAME-D", "pieces": 48 }] },
                { "weight": -0.75 },
            ],
        })
    }

    #[test]
    fn tagged_records_are_a_tree() {
        let read = shipment().read(Written::Records, TEXT.as_bytes()).unwrap();
        assert_eq!(read.to_string().replace("12.500", "12.5").replace("0.750", "0.75"), document().to_string());
        assert_eq!(String::from_utf8(shipment().write(Written::Records, &document()).unwrap()).unwrap(), TEXT);
    }

    #[test]
    fn what_has_no_place_is_reported_with_its_line() {
        let says = |text: &str| shipment().read(Written::Records, text.as_bytes()).unwrap_err();
        assert_eq!(says("PCL0012500\n"), "line 1: expected a record SHP, found `PCL`");
        assert_eq!(says("SHPQH-7\n\nXXX\n"), "line 3: a record XXX is not allowed here");
        assert_eq!(says("SHPQH-7\nADRa\nADRb\n"), "line 3: the record ADR is there twice");
        assert_eq!(says("SHPQH-7    20261301\n"), "line 1: left_on: `20261301` is not a date of the form `%Y%m%d`");
        assert_eq!(says("SHPQH-7\nPCL00x2500\n"), "line 2: weight: expected a number, found `x2500`");
        assert_eq!(says(""), "the document has no records");
        let long = shipment().write(Written::Records, &json!({ "order": "QH-7003100" }));
        assert_eq!(long, Err("order: `QH-7003100` has 10 characters; the field has 8".to_owned()));
        let fine = shipment().write(Written::Records, &json!({ "parcels": [{ "weight": 1.2345 }] }));
        assert_eq!(fine, Err("weight: 1.2345 has more than 3 decimal places".to_owned()));
    }

    #[test]
    fn places_that_cannot_be_are_faults() {
        let mut schema = shipment();
        schema.root["properties"]["left_on"]["x-record"] = json!({ "at": 8, "length": 8, "date": "%!" });
        schema.root["properties"]["to"]["properties"]["name"]["x-record"] = json!({ "at": 2 });
        assert_eq!(
            schema.writing_faults(),
            ["`left_on`: `%!` is not a date pattern", "`left_on` overlaps `order`", "`name` has no length"]
        );
        assert_eq!(shipment().writing_faults(), Vec::<String>::new());
    }

    fn columns() -> Schema {
        let item = json!({ "type": "object", "x-record": { "tag": "L" }, "properties": {
            "item": { "type": "string", "x-record": { "at": 2 } },
            "price": { "type": "number", "x-record": { "at": 4 } } } });
        Schema {
            name: "prices".to_owned(),
            root: json!({ "type": "array", "items": item, "x-record": { "separator": "|", "tag_at": 1, "line_end": "\r\n" } }),
        }
    }

    #[test]
    fn records_of_columns() {
        let rows = json!([{ "item": "QH-1", "price": 2.10 }, { "price": 3 }, {}]);
        let text = columns().write(Written::Records, &rows).unwrap();
        assert_eq!(String::from_utf8(text.clone()).unwrap(), "L|QH-1||2.1\r\nL|||3\r\nL\r\n");
        assert_eq!(columns().read(Written::Records, &text), Ok(rows));
        let inside = columns().write(Written::Records, &json!([{ "item": "a|b" }]));
        assert_eq!(inside, Err("item: `a|b` contains a line end or a separator".to_owned()));
    }

    proptest! {
        #[test]
        fn what_is_written_reads_back(
            order in "[A-Z0-9é]([A-Z0-9 é-]{0,6}[A-Z0-9])?",
            parcels in prop::collection::vec((-99999i64..999999, prop::collection::vec(("[A-Z]{1,12}", 0..99999u32), 0..3)), 0..3),
        ) {
            let lines = |lines: &[(String, u32)]| lines.iter().map(|(item, pieces)| json!({ "item": item, "pieces": pieces })).collect::<Value>();
            let weight = |grams: i64| serde_json::from_str::<Value>(&rust_decimal::Decimal::new(grams, 3).to_string()).unwrap();
            let parcel = |(grams, inner): &(i64, Vec<(String, u32)>)| match inner.is_empty() {
                true => json!({ "weight": weight(*grams) }),
                false => json!({ "weight": weight(*grams), "lines": lines(inner) }),
            };
            let mut document = json!({ "order": order });
            if !parcels.is_empty() {
                document["parcels"] = parcels.iter().map(parcel).collect();
            }
            let schema = shipment();
            prop_assert_eq!(schema.read(Written::Records, &schema.write(Written::Records, &document).unwrap()), Ok(document));
        }

        #[test]
        fn any_text_is_read_or_refused(text in "((SHP|ADR|PCL|LIN)?[ -~é]{0,20}\n){0,5}") {
            if let Ok(document) = shipment().read(Written::Records, text.as_bytes()) {
                prop_assert_eq!(misfits(&shipment(), &document), Vec::<String>::new());
            }
        }
    }
}
