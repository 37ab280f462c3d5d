//! From a tree to records.

use super::{Layout, Record};
use crate::outline::Outline;
use serde_json::Value;

/// The records of a document.
pub(in crate::outline) fn write(outline: &Outline, document: &Value) -> Result<String, String> {
    if !outline.has_records() {
        return Err(format!("the outline {} does not say where fields stand in records (`x-record`)", outline.name));
    }
    let root = Record::root(outline);
    let layout = Layout::of(outline, &root);
    let mut text = String::new();
    match document {
        Value::Array(items) => {
            items
                .iter()
                .try_for_each(|item| root.inner.iter().try_for_each(|inner| write_record(&layout, inner, item, &mut text)))?;
        }
        one => write_record(&layout, &root, one, &mut text)?,
    }
    Ok(text)
}

fn at<'v>(value: &'v Value, path: &[String]) -> Option<&'v Value> {
    path.iter().try_fold(value, |value, name| value.get(name))
}

fn write_record(layout: &Layout<'_>, record: &Record<'_>, value: &Value, text: &mut String) -> Result<(), String> {
    if record.is_written() {
        let mut pieces: Vec<(usize, String)> = Vec::new();
        if !record.tag.is_empty() {
            pieces.push((layout.tag.0, record.tag.to_owned()));
        }
        for place in &record.fields {
            if let Some(value) = at(value, &place.path).filter(|value| !value.is_null()) {
                pieces.push((place.at, place.write(value, layout.separator)?));
            }
        }
        text.push_str(&line_of(layout, pieces));
        text.push_str(layout.line_end);
    }
    for inner in &record.inner {
        match at(value, &inner.path) {
            Some(Value::Array(items)) if inner.many => {
                items.iter().try_for_each(|item| write_record(layout, inner, item, text))?
            }
            Some(one) if !one.is_null() => write_record(layout, inner, one, text)?,
            _ => {}
        }
    }
    Ok(())
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
