//! From records to the tree that they say.

use super::{Layout, Record};
use crate::outline::Outline;
use crate::outline::rows::put;
use serde_json::{Map, Value};

/// One line with its number, from 1.
struct Line<'a> {
    number: usize,
    characters: Vec<char>,
    columns: Vec<&'a str>,
}

impl Line<'_> {
    fn piece(&self, layout: &Layout<'_>, at: usize, length: Option<usize>) -> String {
        let from = at.saturating_sub(1);
        match layout.separator {
            Some(_) => self.columns.get(from).copied().unwrap_or_default().to_owned(),
            None => {
                let until = length.map_or(self.characters.len(), |length| (from + length).min(self.characters.len()));
                self.characters.get(from..until).unwrap_or_default().iter().collect()
            }
        }
    }

    fn tag(&self, layout: &Layout<'_>) -> String {
        self.piece(layout, layout.tag.0, Some(layout.tag.1)).trim().to_owned()
    }
}

struct Reading<'a> {
    outline: &'a Outline,
    layout: Layout<'a>,
    lines: Vec<Line<'a>>,
    at: usize,
}

/// The document that records say.
pub(in crate::outline) fn read(outline: &Outline, text: &str) -> Result<Value, String> {
    let root = Record::root(outline);
    let layout = Layout::of(outline, &root);
    let mut lines = Vec::new();
    for (n, line) in text.lines().enumerate().filter(|(_, line)| !line.trim_matches(['\u{1A}', ' ']).is_empty()) {
        let columns = layout.separator.map(|separator| line.split(separator).collect()).unwrap_or_default();
        lines.push(Line { number: n + 1, characters: line.chars().collect(), columns });
    }
    let mut reading = Reading { outline, layout, lines, at: 0 };
    if root.is_written() {
        match reading.lines.first() {
            None => return Err("there is no record".to_owned()),
            Some(first) if !reading.is(&root, first) => {
                return Err(format!(
                    "line {}: a record {} should begin it, not `{}`",
                    first.number,
                    root.tag,
                    first.tag(&reading.layout)
                ));
            }
            Some(_) => {}
        }
    }
    let fields = reading.record(&root)?;
    if let Some(line) = reading.lines.get(reading.at) {
        return Err(format!("line {}: no record {} stands here", line.number, line.tag(&reading.layout)));
    }
    Ok(match outline.item(&outline.schema) {
        Some(_) => fields.into_iter().next().map_or_else(|| Value::Array(Vec::new()), |(_, rows)| rows),
        None => Value::Object(fields),
    })
}

impl Reading<'_> {
    fn is(&self, record: &Record<'_>, line: &Line<'_>) -> bool {
        record.tag.is_empty() || line.tag(&self.layout) == record.tag
    }

    /// What a record says with those below it; it stands at the line at hand, where it has one.
    fn record(&mut self, record: &Record<'_>) -> Result<Map<String, Value>, String> {
        let mut fields = Map::new();
        if record.is_written() {
            let line = &self.lines[self.at];
            for place in &record.fields {
                let at = || format!("line {}: {}", line.number, place.name());
                let piece = line.piece(&self.layout, place.at, place.length);
                if let Some(value) = place.read(self.outline, &piece, &at())? {
                    put(&mut fields, &place.path, value);
                }
            }
            self.at += 1;
        }
        while let Some(line) = self.lines.get(self.at) {
            let Some(inner) = record.inner.iter().find(|inner| self.is(inner, line)) else { break };
            let number = line.number;
            let value = Value::Object(self.record(inner)?);
            // The list that is the document has no name.
            let path = if inner.path.is_empty() { vec![String::new()] } else { inner.path.clone() };
            match (inner.many, found(&mut fields, &path)) {
                (true, Some(Value::Array(items))) => items.push(value),
                (true, _) => put(&mut fields, &path, Value::Array(vec![value])),
                (false, Some(_)) => return Err(format!("line {number}: the record {} stands there twice", inner.tag)),
                (false, None) => put(&mut fields, &path, value),
            }
        }
        Ok(fields)
    }
}

fn found<'f>(fields: &'f mut Map<String, Value>, path: &[String]) -> Option<&'f mut Value> {
    let (first, rest) = path.split_first()?;
    rest.iter().try_fold(fields.get_mut(first)?, |value, name| value.get_mut(name))
}
