//! Samples as they come: JSON, one value a line, CSV, XML.

use quick_xml::events::Event;
use serde_json::{Map, Value};

/// Deepest nesting of an XML sample.
const DEPTH: usize = 64;

/// How a sample is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SampleForm {
    /// One JSON value, or several behind one another.
    Json,
    /// CSV (RFC 4180) whose first line names the columns: a list of rows.
    Csv,
    Xml,
}

impl SampleForm {
    /// What `bytes` look like.
    #[must_use]
    pub fn of(bytes: &[u8]) -> Self {
        match bytes.trim_ascii_start().first() {
            Some(b'{' | b'[') => Self::Json,
            Some(b'<') => Self::Xml,
            _ => Self::Csv,
        }
    }
}

/// The samples in `bytes`.
///
/// # Errors
/// A sentence with the line: what is not the form it should be, or XML that is nested too deeply.
pub fn read_sample(form: SampleForm, bytes: &[u8]) -> Result<Vec<Value>, String> {
    let bytes = bytes.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(bytes);
    match form {
        SampleForm::Json => serde_json::Deserializer::from_slice(bytes)
            .into_iter()
            .collect::<Result<_, _>>()
            .map_err(|error| format!("not JSON: {error}")),
        SampleForm::Csv => csv_rows(bytes).map(|rows| vec![Value::Array(rows)]),
        SampleForm::Xml => xml(bytes).map(|value| vec![value]),
    }
}

fn csv_rows(bytes: &[u8]) -> Result<Vec<Value>, String> {
    let first = bytes.split(|byte| *byte == b'\n').next().unwrap_or_default();
    let times = |separator: u8| first.iter().filter(|byte| **byte == separator).count();
    let separator = [b',', b';', b'\t', b'|'].into_iter().rev().max_by_key(|separator| times(*separator)).unwrap_or(b',');
    let mut reader = csv::ReaderBuilder::new().delimiter(separator).trim(csv::Trim::Headers).from_reader(bytes);
    let columns = reader.headers().map_err(|error| error.to_string())?.clone();
    if let Some(twice) =
        columns.iter().enumerate().find_map(|(n, name)| columns.iter().take(n).any(|one| one == name).then_some(name))
    {
        return Err(format!("line 1 names the column `{twice}` twice"));
    }
    let mut rows = Vec::new();
    for row in reader.records() {
        let row = row.map_err(|error| error.to_string())?;
        // Nothing in a cell is no field.
        let cells = columns.iter().zip(row.iter()).filter(|(_, cell)| !cell.is_empty());
        let cells = cells.map(|(name, cell)| (name.to_owned(), scalar(cell)));
        rows.push(Value::Object(cells.collect()));
    }
    Ok(rows)
}

/// A number where writing it again gives the same text: `0012` and `1e5` are codes. Nothing is null.
fn scalar(text: &str) -> Value {
    if text.is_empty() {
        return Value::Null;
    }
    let plain = text.bytes().all(|byte| byte.is_ascii_digit() || matches!(byte, b'.' | b'-'));
    match serde_json::from_str::<Value>(text) {
        Ok(Value::Number(number)) if plain && number.as_str() == text => Value::Number(number),
        _ => Value::from(text),
    }
}

/// The root's content: child elements and attributes as fields, an element that comes twice as a list, text alone as text;
/// text beside them as `text`. Prefixes of names are left out.
fn xml(bytes: &[u8]) -> Result<Value, String> {
    let text = std::str::from_utf8(bytes).map_err(|_| "not XML in UTF-8; other encodings are not read".to_owned())?;
    let mut reader = quick_xml::Reader::from_str(text);
    let mut open: Vec<(String, Map<String, Value>, String)> = Vec::new();
    let mut root = None;
    let wrong = |reader: &quick_xml::Reader<&[u8]>, says: String| {
        let at = usize::try_from(reader.buffer_position()).unwrap_or(usize::MAX).min(bytes.len());
        let line = bytes[..at].iter().filter(|byte| **byte == b'\n').count() + 1;
        format!("not XML: line {line}: {says}")
    };
    loop {
        let event = reader.read_event().map_err(|error| wrong(&reader, error.to_string()))?;
        // Comments and blanks may stand beside the root; what else does would be lost.
        let stray = match &event {
            Event::Start(_) | Event::Empty(_) => root.is_some(),
            Event::Text(text) => open.is_empty() && !text.trim_start_matches('\u{feff}').trim().is_empty(),
            Event::CData(_) | Event::GeneralRef(_) => open.is_empty(),
            Event::End(_) | Event::Eof | Event::Comment(_) | Event::Decl(_) | Event::PI(_) | Event::DocType(_) => false,
        };
        if stray {
            return Err(wrong(&reader, "something stands beside its root".to_owned()));
        }
        match event {
            Event::Start(start) | Event::Empty(start) if open.len() >= DEPTH => {
                let name = start.local_name().as_ref().to_owned();
                return Err(wrong(&reader, format!("{name} is nested more than {DEPTH} deep")));
            }
            Event::Start(start) => open.push(opened(&start).map_err(|says| wrong(&reader, says))?),
            Event::Empty(start) => {
                open.push(opened(&start).map_err(|says| wrong(&reader, says))?);
                root = close(&mut open).or(root);
            }
            Event::End(_) => root = close(&mut open).or(root),
            Event::Text(text) => {
                if let Some((_, _, own)) = open.last_mut() {
                    own.push_str(&text);
                }
            }
            Event::CData(text) => {
                if let Some((_, _, own)) = open.last_mut() {
                    own.push_str(&text);
                }
            }
            Event::GeneralRef(name) => {
                let name = name.to_string();
                let number = name.strip_prefix('#').and_then(|digits| match digits.strip_prefix('x') {
                    Some(hex) => u32::from_str_radix(hex, 16).ok(),
                    None => digits.parse().ok(),
                });
                let text = match number {
                    Some(number) => char::from_u32(number).map(String::from),
                    None => quick_xml::escape::resolve_predefined_entity(&name).map(str::to_owned),
                };
                // Entities of one's own are not expanded: they can grow without bound.
                let text = text.ok_or_else(|| wrong(&reader, format!("the entity &{name}; is not known")))?;
                if let Some((_, _, own)) = open.last_mut() {
                    own.push_str(&text);
                }
            }
            Event::Eof => {
                let whole = root.filter(|_| open.is_empty());
                return whole.ok_or_else(|| wrong(&reader, "it ends before its root does".to_owned()));
            }
            Event::Comment(_) | Event::Decl(_) | Event::PI(_) | Event::DocType(_) => {}
        }
    }
}

fn opened(start: &quick_xml::events::BytesStart<'_>) -> Result<(String, Map<String, Value>, String), String> {
    let mut fields = Map::new();
    for attribute in start.attributes() {
        let attribute = attribute.map_err(|error| error.to_string())?;
        if attribute.key.as_ref().starts_with("xmlns") {
            continue;
        }
        let value = quick_xml::escape::unescape(&attribute.value).map_err(|error| error.to_string())?;
        fields.insert(attribute.key.local_name().as_ref().to_owned(), scalar(&value));
    }
    Ok((start.local_name().as_ref().to_owned(), fields, String::new()))
}

/// Ends the innermost element; gives the root's value when that was it.
fn close(open: &mut Vec<(String, Map<String, Value>, String)>) -> Option<Value> {
    let (name, mut fields, text) = open.pop()?;
    let text = text.trim();
    let value = match (fields.is_empty(), text.is_empty()) {
        (true, _) => scalar(text),
        (false, true) => Value::Object(fields),
        (false, false) => {
            add(&mut fields, "text".to_owned(), scalar(text));
            Value::Object(fields)
        }
    };
    let Some((_, outer, _)) = open.last_mut() else { return Some(value) };
    add(outer, name, value);
    None
}

/// What comes again under a name makes a list of both.
fn add(fields: &mut Map<String, Value>, name: String, value: Value) {
    match fields.get_mut(&name) {
        None => {
            fields.insert(name, value);
        }
        Some(Value::Array(items)) => items.push(value),
        Some(other) => *other = Value::Array(vec![other.take(), value]),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn one(text: &str) -> String {
        match read_sample(SampleForm::of(text.as_bytes()), text.as_bytes()) {
            Ok(values) => values.iter().map(ToString::to_string).collect::<Vec<_>>().join(" | "),
            Err(says) => says,
        }
    }

    #[test]
    fn samples_are_read_as_what_they_look_like() {
        assert_eq!(one("{\"a\":1}\n{\"a\":2}"), r#"{"a":1} | {"a":2}"#);
        assert_eq!(
            one("\u{feff}item;pieces;store\nQH-1;12;0012\n\"QH;2\";3.50;\n"),
            r#"[{"item":"QH-1","pieces":12,"store":"0012"},{"item":"QH;2","pieces":3.50}]"#
        );
        assert_eq!(
            one(
                r#"<?xml version="1.0"?><p:pick xmlns:p="urn:x" no="7"><line>Ta &amp; &#66;o</line><line n="2">b</line><![CDATA[ ]]></p:pick>"#
            ),
            r#"{"no":7,"line":["Ta & Bo",{"n":2,"text":"b"}]}"#
        );
    }

    #[test]
    fn what_is_not_that_form_is_told_with_its_line() {
        assert!(one("{\"a\":").starts_with("not JSON: EOF while parsing"), "{}", one("{\"a\":"));
        assert_eq!(one("<a>\n<b>"), "not XML: line 2: it ends before its root does");
        assert_eq!(one("<!DOCTYPE a [<!ENTITY b \"bee\">]><a>&b;</a>"), "not XML: line 1: the entity &b; is not known");
        assert_eq!(one("<a/>\n<!-- so --><b/>"), "not XML: line 2: something stands beside its root");
        assert_eq!(one("<a>1</a>\n\nand so on"), "not XML: line 3: something stands beside its root");
        assert!(one("<a b='&c;'/>").contains("`c`"), "{}", one("<a b='&c;'/>"));
        assert!(one("<a b=1/>").starts_with("not XML: line 1: "), "{}", one("<a b=1/>"));
        assert_eq!(one("a,b,a\n1,2,3\n"), "line 1 names the column `a` twice");
        assert!(one("a,b\n1\n").contains("line: 2"), "{}", one("a,b\n1\n"));
        let deep = "<a>".repeat(70);
        assert_eq!(one(&deep), "not XML: line 1: a is nested more than 64 deep");
    }
}
