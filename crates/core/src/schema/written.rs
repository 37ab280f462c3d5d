//! Written forms of documents with a schema: JSON, XML, CSV, records. All are read to the same tree and written from it.

use super::{Schema, records, rows, xml};
use encoding_rs::{Encoding, UTF_8, UTF_16BE, UTF_16LE};
use serde_json::Value;
use std::borrow::Cow;

/// A written form.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Written {
    Json,
    /// CSV (RFC 4180): a list of rows.
    Csv,
    Xml,
    /// Lines whose fields have fixed positions, or columns; a tag distinguishes kinds of lines.
    Records,
}

impl Written {
    /// Every form with its word in files.
    pub const WORDS: [(&'static str, Self); 4] =
        [("json", Self::Json), ("csv", Self::Csv), ("xml", Self::Xml), ("records", Self::Records)];

    /// Parses the word.
    #[must_use]
    pub fn of(word: &str) -> Option<Self> {
        Self::WORDS.iter().find(|(known, _)| *known == word).map(|(_, written)| *written)
    }

    /// Returns its word in files.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Json => "json",
            Self::Csv => "csv",
            Self::Xml => "xml",
            Self::Records => "records",
        }
    }

    /// Detects the form of `bytes`; without their schema, records look like CSV.
    #[must_use]
    pub fn seen_in(bytes: &[u8]) -> Self {
        match bytes.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(bytes).trim_ascii_start().first() {
            Some(b'{' | b'[') => Self::Json,
            Some(b'<') => Self::Xml,
            _ => Self::Csv,
        }
    }
}

impl Schema {
    /// Detects the form of `bytes`, if they are a document of this schema.
    #[must_use]
    pub fn written_in(&self, bytes: &[u8]) -> Written {
        match Written::seen_in(bytes) {
            Written::Csv if self.has_records() => Written::Records,
            seen => seen,
        }
    }

    /// Returns whether it describes positions of records.
    #[must_use]
    pub fn has_records(&self) -> bool {
        records::has_places(&self.root)
    }

    /// Reads a document in this form, with values of the schema's types.
    ///
    /// # Errors
    /// A sentence with the line or field: a malformed document, or a value of the wrong type.
    pub fn read(&self, written: Written, bytes: &[u8]) -> Result<Value, String> {
        match written {
            Written::Json => crate::json::read(bytes).map_err(|says| format!("not JSON: {says}")),
            Written::Csv => rows::read(Some(self), &self.text(bytes)?),
            Written::Xml => xml::read(&xml_text(bytes)?).and_then(|root| xml::fit(self, &root)),
            Written::Records => records::read(self, &self.text(bytes)?),
        }
    }

    /// Writes a document in this form.
    ///
    /// # Errors
    /// A sentence with the field: a value without a place, that does not fit, or with characters that the form or its encoding
    /// cannot hold.
    pub fn write(&self, written: Written, document: &Value) -> Result<Vec<u8>, String> {
        let encoding = self.encoding()?.unwrap_or(UTF_8);
        match written {
            Written::Json => Ok(serde_json::to_vec(document).unwrap_or_default()),
            // Characters missing in the encoding are written as character references.
            Written::Xml => Ok(encode(encoding, &xml::write(self, document, encoding.name())?).0),
            Written::Csv => encoded(encoding, &rows::write(self, document)?),
            Written::Records => encoded(encoding, &records::write(self, document)?),
        }
    }

    /// The encoding that its `x-encoding` names; texts are UTF-8 where it does not.
    fn encoding(&self) -> Result<Option<&'static Encoding>, String> {
        let Some(label) = self.root.get("x-encoding") else { return Ok(None) };
        let known = label.as_str().and_then(|label| Encoding::for_label(label.as_bytes()));
        known.map(Some).ok_or_else(|| format!("`x-encoding` is {label}, which is not a known encoding (WHATWG names)"))
    }

    /// Returns the text of a document in this form, for people; undecodable bytes are replaced.
    #[must_use]
    pub fn text_of<'b>(&self, written: Written, bytes: &'b [u8]) -> Cow<'b, str> {
        let text = if written == Written::Xml { xml_text(bytes) } else { self.text(bytes) };
        text.unwrap_or_else(|_| String::from_utf8_lossy(bytes))
    }

    fn text<'b>(&self, bytes: &'b [u8]) -> Result<Cow<'b, str>, String> {
        decoded(bytes, self.encoding()?)
    }

    /// Returns the faults in the schema's written forms.
    pub(crate) fn writing_faults(&self) -> Vec<String> {
        self.encoding().err().into_iter().chain(records::faults(self)).collect()
    }
}

/// Decodes bytes by their byte order mark; as UTF-8 if they are valid; otherwise by the given encoding.
fn decoded<'b>(bytes: &'b [u8], declared: Option<&'static Encoding>) -> Result<Cow<'b, str>, String> {
    // A text in an encoding that is not compatible with ASCII may look like UTF-8.
    let trusted = declared.filter(|encoding| !encoding.is_ascii_compatible());
    match Encoding::for_bom(bytes) {
        Some((encoding, length)) => decode(encoding, &bytes[length..]),
        None if trusted.is_none() && std::str::from_utf8(bytes).is_ok() => Ok(String::from_utf8_lossy(bytes)),
        None => decode(declared.unwrap_or(UTF_8), bytes),
    }
}

fn decode<'b>(encoding: &'static Encoding, bytes: &'b [u8]) -> Result<Cow<'b, str>, String> {
    let says = || format!("not a text in {}; set its encoding with `x-encoding` in the schema", encoding.name());
    encoding.decode_without_bom_handling_and_without_replacement(bytes).ok_or_else(says)
}

/// Decodes XML by the encoding in its declaration (XML 1.0, 4.3.3).
fn xml_text(bytes: &[u8]) -> Result<Cow<'_, str>, String> {
    let start = String::from_utf8_lossy(&bytes[..bytes.len().min(200)]);
    let declaration = start.split("?>").next().filter(|start| start.contains("<?xml")).unwrap_or_default();
    let label = declaration.split("encoding").nth(1).and_then(|rest| rest.split(['"', '\'']).nth(1));
    let declared = label
        .map(|label| Encoding::for_label(label.as_bytes()).ok_or_else(|| format!("not XML: `{label}` is not a known encoding")));
    decoded(bytes, declared.transpose()?).map_err(|_| "not XML: it is not in the encoding that it declares".to_owned())
}

/// A text as bytes, and whether some of it was written as character references. UTF-16 begins with its mark.
fn encode(encoding: &'static Encoding, text: &str) -> (Vec<u8>, bool) {
    let wide = |order: fn(u16) -> [u8; 2]| {
        let units = std::iter::once(0xFEFF).chain(text.encode_utf16());
        (units.flat_map(order).collect(), false)
    };
    match encoding {
        known if known == UTF_16LE => wide(u16::to_le_bytes),
        known if known == UTF_16BE => wide(u16::to_be_bytes),
        other => {
            let (bytes, _, referred) = other.encode(text);
            (bytes.into_owned(), referred)
        }
    }
}

fn encoded(encoding: &'static Encoding, text: &str) -> Result<Vec<u8>, String> {
    if text.starts_with('\u{FEFF}') {
        return Err("it begins with U+FEFF, which would be read as a byte order mark".to_owned());
    }
    let (bytes, referred) = encode(encoding, text);
    if !referred {
        return Ok(bytes);
    }
    let lost = text.chars().find(|c| encoding.encode(&c.to_string()).2).unwrap_or_default();
    Err(format!("`{lost}` is not a character of {}", encoding.name()))
}

/// Reads the samples in `bytes` without a schema: texts that look like numbers are numbers.
///
/// # Errors
/// A sentence with the line: a malformed document. Records are not read without a schema.
pub fn read_sample(written: Written, bytes: &[u8]) -> Result<Vec<Value>, String> {
    match written {
        Written::Json => crate::json::read_all(bytes).map_err(|says| format!("not JSON: {says}")),
        Written::Csv => rows::read(None, &decoded(bytes, None)?).map(|rows| vec![rows]),
        Written::Xml => xml::read(&xml_text(bytes)?).map(|root| vec![xml::guess(&root)]),
        Written::Records => Err("records need a schema with the positions of their fields".to_owned()),
    }
}

/// Notes at the schema of a sample how that is written, where its values do not show it.
pub fn annotate(node: &mut Value, written: Written, bytes: &[u8]) {
    match written {
        Written::Xml => {
            if let Ok(root) = xml_text(bytes).and_then(|text| xml::read(&text)) {
                xml::annotate(node, &root);
            }
        }
        Written::Csv => {
            let Ok(text) = decoded(bytes, None) else { return };
            let separator = rows::separator_in(&text);
            if separator != b',' {
                node["x-csv"] = serde_json::json!({ "separator": char::from(separator).to_string() });
            }
        }
        Written::Json | Written::Records => {}
    }
}

/// Most digits of a number without a schema: longer ones are ids.
const DIGITS: usize = 15;

/// A number where writing it again gives the same text: `0012`, `1e5` and long ids are texts. Nothing is null.
pub(super) fn guess(text: &str) -> Value {
    if text.is_empty() {
        return Value::Null;
    }
    if text.len() > DIGITS {
        return Value::from(text);
    }
    let plain = text.bytes().all(|byte| byte.is_ascii_digit() || matches!(byte, b'.' | b'-'));
    match serde_json::from_str::<Value>(text) {
        Ok(Value::Number(number)) if plain && number.as_str() == text => Value::Number(number),
        _ => Value::from(text),
    }
}

/// Returns a text as the schema's type; `None` for an empty text that may be missing. `at` is the field, for errors.
pub(super) fn typed(schema: &Schema, node: &Value, text: &str, at: &str) -> Result<Option<Value>, String> {
    let nullable =
        matches!(schema.resolve(node).get("type"), Some(Value::Array(names)) if names.iter().any(|name| name == "null"));
    let wrong = |expected: &str| Err(format!("{at}: expected {expected}, found `{text}`"));
    match (schema.json_type(node), text.trim()) {
        (_, "") if nullable => Ok(Some(Value::Null)),
        (Some("string"), _) => Ok(Some(Value::from(text))),
        (_, "") => Ok(None),
        (Some("number"), trimmed) => match number(trimmed) {
            Some(number) => Ok(Some(number)),
            None => wrong("a number"),
        },
        (Some("boolean"), "true" | "1") => Ok(Some(Value::Bool(true))),
        (Some("boolean"), "false" | "0") => Ok(Some(Value::Bool(false))),
        (Some("boolean"), _) => wrong("true or false"),
        _ => Ok(Some(guess(text))),
    }
}

/// The number with the digits it is written with, in JSON's form.
fn number(text: &str) -> Option<Value> {
    serde_json::from_str(&crate::number::read(text)?).ok()
}

/// A single value as a text; none of an object or a list.
pub(super) fn plain(value: &Value) -> Option<Cow<'_, str>> {
    match value {
        Value::Null => Some(Cow::Borrowed("")),
        Value::String(text) => Some(Cow::Borrowed(text)),
        Value::Bool(_) | Value::Number(_) => Some(Cow::Owned(value.to_string())),
        Value::Array(_) | Value::Object(_) => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn one(text: &str) -> String {
        match read_sample(Written::seen_in(text.as_bytes()), text.as_bytes()) {
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
    fn what_is_not_that_form_is_reported_with_its_line() {
        assert!(one("{\"a\":").starts_with("not JSON: EOF while parsing"), "{}", one("{\"a\":"));
        assert_eq!(one("<a>\n<b>"), "not XML: line 2: it ends before its root element ends");
        assert_eq!(one("<!DOCTYPE a [<!ENTITY b \"bee\">]><a>&b;</a>"), "not XML: line 1: the entity &b; is not known");
        assert_eq!(one("<a/>\n<!-- so --><b/>"), "not XML: line 2: it has something beside its root element");
        assert_eq!(one("<a>1</a>\n\nand so on"), "not XML: line 3: it has something beside its root element");
        assert!(one("<a b='&c;'/>").contains("`c`"), "{}", one("<a b='&c;'/>"));
        assert!(one("<a b=1/>").starts_with("not XML: line 1: "), "{}", one("<a b=1/>"));
        assert_eq!(one("a,b,a\n1,2,3\n"), "line 1 names the column `a` twice");
        assert_eq!(one("a,b\n1\n"), "line 2 has 1 cells, but there are 2 columns");
        let deep = "<a>".repeat(70);
        assert_eq!(one(&deep), "not XML: line 1: a is nested more than 64 deep");
    }

    #[test]
    fn encodings_are_what_the_document_or_its_schema_says() {
        let latin = b"<?xml version='1.0' encoding='ISO-8859-1'?><a>caf\xE9</a>";
        assert_eq!(read_sample(Written::Xml, latin), Ok(vec![Value::from("café")]));
        assert_eq!(
            read_sample(Written::Xml, b"<a>caf\xE9</a>"),
            Err("not XML: it is not in the encoding that it declares".to_owned())
        );
        let declared = "<?xml version='1.0' encoding='moon'?><a/>";
        assert_eq!(read_sample(Written::Xml, declared.as_bytes()), Err("not XML: `moon` is not a known encoding".to_owned()));
        let wide: Vec<u8> = [0xFF, 0xFE].into_iter().chain("a\nb\n".encode_utf16().flat_map(u16::to_le_bytes)).collect();
        assert_eq!(read_sample(Written::Csv, &wide), Ok(vec![serde_json::json!([{ "a": "b" }])]));
        let schema = Schema { name: "x".to_owned(), root: serde_json::json!({ "type": "array", "x-encoding": "windows-1252" }) };
        let rows = serde_json::json!([{ "price": "5 €" }]);
        let bytes = schema.write(Written::Csv, &rows).unwrap();
        assert_eq!(bytes, b"price\r\n5 \x80\r\n");
        assert_eq!(schema.read(Written::Csv, &bytes), Ok(rows.clone()));
        assert_eq!(schema.text_of(Written::Csv, &bytes), "price\r\n5 €\r\n");
        for label in ["utf-16le", "utf-16be"] {
            let node = serde_json::json!({ "type": "array", "x-encoding": label });
            let wide = Schema { name: "x".to_owned(), root: node };
            let (csv, xml) = (wide.write(Written::Csv, &rows).unwrap(), wide.write(Written::Xml, &rows).unwrap());
            assert_eq!((csv.len(), wide.read(Written::Csv, &csv)), (26, Ok(rows.clone())), "{label}");
            assert!(wide.text_of(Written::Xml, &xml).contains(&label.to_uppercase()), "{label}");
        }
        let lost = schema.write(Written::Csv, &serde_json::json!([{ "price": "蜂" }]));
        assert_eq!(lost, Err("`蜂` is not a character of windows-1252".to_owned()));
    }
}
