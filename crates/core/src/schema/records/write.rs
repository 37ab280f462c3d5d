//! From a tree to records.

use super::{Layout, Record, is_blank};
use crate::schema::Schema;
use crate::schema::rows::without_place;
use serde_json::Value;

/// The records of a document.
pub(in crate::schema) fn write(schema: &Schema, document: &Value) -> Result<String, String> {
    if !schema.has_records() {
        return Err(format!("the schema {} has no positions for records (`x-record`)", schema.name));
    }
    let root = Record::root(schema);
    let layout = Layout::of(schema, &root);
    if schema.item(&schema.root).is_some() != document.is_array() {
        return Err(format!(
            "the schema {} expects a {}, and the document is not one",
            schema.name,
            if document.is_array() { "single document" } else { "list" }
        ));
    }
    let mut known = Vec::new();
    places(&root, &[], &mut known);
    if let Some(field) = without_place(document, &known, &mut Vec::new()) {
        return Err(format!("{field}: no record has a field for it"));
    }
    let mut writer = Writer { schema, layout, text: String::new() };
    match document {
        Value::Array(items) => {
            items.iter().try_for_each(|item| root.inner.iter().try_for_each(|inner| writer.record(inner, item)))?;
        }
        one => writer.record(&root, one)?,
    }
    Ok(writer.text)
}

fn at<'v>(value: &'v Value, path: &[String]) -> Option<&'v Value> {
    path.iter().try_fold(value, |value, name| value.get(name))
}

/// The paths of all fields that have a place.
fn places(record: &Record<'_>, at: &[String], known: &mut Vec<Vec<String>>) {
    let below = |path: &[String]| at.iter().chain(path).cloned().collect::<Vec<_>>();
    known.extend(record.fields.iter().map(|place| below(&place.path)));
    record.inner.iter().for_each(|inner| places(inner, &below(&inner.path), known));
}

struct Writer<'a> {
    schema: &'a Schema,
    layout: Layout<'a>,
    text: String,
}

impl Writer<'_> {
    fn record(&mut self, record: &Record<'_>, value: &Value) -> Result<(), String> {
        if record.is_written() {
            let mut pieces: Vec<(usize, String)> = Vec::new();
            if !record.tag.is_empty() {
                pieces.push((self.layout.tag.0, record.tag.to_owned()));
            }
            for place in &record.fields {
                if let Some(value) = at(value, &place.path).filter(|value| !value.is_null()) {
                    pieces.push((place.at, place.write(self.schema, value, &self.layout)?));
                }
            }
            let line = line_of(&self.layout, pieces);
            if is_blank(&line) {
                return Err("a record without a value would be a blank line, which cannot be read back".to_owned());
            }
            self.text.push_str(&line);
            self.text.push_str(self.layout.line_end);
        }
        for inner in &record.inner {
            match at(value, &inner.path) {
                Some(Value::Array(items)) if inner.many => items.iter().try_for_each(|item| self.record(inner, item))?,
                Some(one) if !one.is_null() => self.record(inner, one)?,
                _ => {}
            }
        }
        Ok(())
    }
}

fn line_of(layout: &Layout<'_>, pieces: Vec<(usize, String)>) -> String {
    if let Some(separator) = layout.separator {
        let count = pieces.iter().map(|(at, _)| *at).max().unwrap_or(0);
        let mut columns = vec![String::new(); count];
        for (at, piece) in pieces {
            columns[at.saturating_sub(1)] = piece;
        }
        return columns.join(&separator.to_string());
    }
    let mut line: Vec<char> = Vec::new();
    for (at, piece) in pieces {
        let from = at.saturating_sub(1);
        let piece: Vec<char> = piece.chars().collect();
        line.resize(line.len().max(from + piece.len()), ' ');
        line[from..from + piece.len()].copy_from_slice(&piece);
    }
    let line: String = line.into_iter().collect();
    line.trim_end().to_owned()
}
