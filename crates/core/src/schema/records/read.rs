//! From records to the tree that they say.

use super::{Layout, Record, is_blank};
use crate::schema::Schema;
use crate::schema::rows::put;
use serde_json::{Map, Value};

/// A line with its number, from 1.
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

    /// Returns text outside of all fields of its record, with its position.
    fn stray(&self, layout: &Layout<'_>, record: &Record<'_>) -> Option<String> {
        let tag = (!record.tag.is_empty()).then_some((layout.tag.0, layout.tag.1.max(1)));
        let fields = record.fields.iter().map(|place| (place.at, place.length.unwrap_or(usize::MAX)));
        let covered: Vec<(usize, usize)> = tag.into_iter().chain(fields).collect();
        if layout.separator.is_some() {
            let known = |at: usize| covered.iter().any(|(from, _)| *from == at);
            let mut columns = self.columns.iter().enumerate().filter(|(n, text)| !known(n + 1) && !text.trim().is_empty());
            return columns
                .next()
                .map(|(n, text)| format!("column {} has `{}`, but no field is defined there", n + 1, text.trim()));
        }
        let known = |at: usize| covered.iter().any(|(from, length)| (*from..from.saturating_add(*length)).contains(&at));
        let mut strays = self.characters.iter().enumerate().filter(|(n, c)| !c.is_whitespace() && !known(n + 1));
        strays.next().map(|(n, _)| {
            let text: String = self.characters[n..].iter().take(20).collect();
            format!("`{}` at {} belongs to no field", text.trim_end(), n + 1)
        })
    }

    fn tag(&self, layout: &Layout<'_>) -> String {
        self.piece(layout, layout.tag.0, Some(layout.tag.1)).trim().to_owned()
    }
}

struct Reading<'a> {
    schema: &'a Schema,
    layout: Layout<'a>,
    lines: Vec<Line<'a>>,
    at: usize,
}

/// The document that records say.
pub(in crate::schema) fn read(schema: &Schema, text: &str) -> Result<Value, String> {
    let root = Record::root(schema);
    let layout = Layout::of(schema, &root);
    let mut lines = Vec::new();
    let all: Vec<&str> = match layout.line_end {
        "\n" | "\r\n" => text.lines().collect(),
        // Files with another record end may also have line ends, for people.
        other => text.split(other).map(|line| line.trim_matches(['\r', '\n'])).collect(),
    };
    for (n, line) in all.into_iter().enumerate().filter(|(_, line)| !is_blank(line)) {
        let columns = layout.separator.map(|separator| line.split(separator).collect()).unwrap_or_default();
        lines.push(Line { number: n + 1, characters: line.chars().collect(), columns });
    }
    let mut reading = Reading { schema, layout, lines, at: 0 };
    if root.is_written() {
        match reading.lines.first() {
            None => return Err("the document has no records".to_owned()),
            Some(first) if !reading.is(&root, first) => {
                return Err(format!(
                    "line {}: expected a record {}, found `{}`",
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
        return Err(format!("line {}: a record {} is not allowed here", line.number, line.tag(&reading.layout)));
    }
    Ok(match schema.item(&schema.root) {
        Some(_) => fields.into_iter().next().map_or_else(|| Value::Array(Vec::new()), |(_, rows)| rows),
        None => Value::Object(fields),
    })
}

impl Reading<'_> {
    fn is(&self, record: &Record<'_>, line: &Line<'_>) -> bool {
        record.tag.is_empty() || line.tag(&self.layout) == record.tag
    }

    /// Reads a record and those below it, beginning at the current line.
    fn record(&mut self, record: &Record<'_>) -> Result<Map<String, Value>, String> {
        let mut fields = Map::new();
        if record.is_written() {
            let line = &self.lines[self.at];
            for place in &record.fields {
                let at = || format!("line {}: {}", line.number, place.name());
                let ends_inside = place.cut_by(line.characters.len()) && self.layout.separator.is_none();
                if ends_inside {
                    return Err(format!("{}: the line ends within this field", at()));
                }
                let piece = line.piece(&self.layout, place.at, place.length);
                if let Some(value) = place.read(self.schema, &piece, &at())? {
                    put(&mut fields, &place.path, value).map_err(|says| format!("{}: {says}", at()))?;
                }
            }
            if let Some(says) = line.stray(&self.layout, record) {
                return Err(format!("line {}: {says}", line.number));
            }
            self.at += 1;
        }
        while let Some(line) = self.lines.get(self.at) {
            let Some(inner) = record.inner.iter().find(|inner| self.is(inner, line)) else { break };
            let number = line.number;
            let value = Value::Object(self.record(inner)?);
            // The list that is the document has no name.
            let path = if inner.path.is_empty() { vec![String::new()] } else { inner.path.clone() };
            let placed = match (inner.many, found(&mut fields, &path)) {
                (true, Some(Value::Array(items))) => {
                    items.push(value);
                    Ok(())
                }
                (true, _) => put(&mut fields, &path, Value::Array(vec![value])),
                (false, Some(_)) => Err(format!("the record {} is there twice", inner.tag)),
                (false, None) => put(&mut fields, &path, value),
            };
            placed.map_err(|says| format!("line {number}: {says}"))?;
        }
        Ok(fields)
    }
}

fn found<'f>(fields: &'f mut Map<String, Value>, path: &[String]) -> Option<&'f mut Value> {
    let (first, rest) = path.split_first()?;
    rest.iter().try_fold(fields.get_mut(first)?, |value, name| value.get_mut(name))
}
