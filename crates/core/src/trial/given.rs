//! Documents of a file, as a map takes them.

use crate::Document;
use crate::document::Form;
use crate::map;
use crate::schema::Written;
use crate::workspace::Workspace;
use crate::x12::{Limits, Reader};
use serde_json::{Map, Value, json};
use std::sync::Arc;

/// A document with its metadata.
#[derive(Debug, Clone)]
pub struct Given {
    /// `850 0001` for a transaction set; empty where the file is the document.
    pub title: String,
    pub document: Document,
    pub meta: Map<String, Value>,
}

impl Given {
    /// Returns the variables for expressions: `with` by its names, and as `$meta` the document's metadata with `meta` over it.
    #[must_use]
    pub fn variables(&self, with: &Map<String, Value>, meta: &Map<String, Value>) -> Map<String, Value> {
        let mut all = self.meta.clone();
        all.extend(meta.clone());
        let mut variables = with.clone();
        variables.insert("meta".to_owned(), Value::Object(all));
        variables
    }
}

/// Returns the documents in `bytes` that `map` takes: every set of its kind in an X12 file, or the whole file by its form: JSON,
/// XML, or by the schema CSV or records.
///
/// # Errors
/// A sentence: bytes in none of these forms, or X12 without such a set.
pub fn given_to_map(workspace: &Workspace, map: &map::Map, bytes: &[u8]) -> Result<Vec<Given>, String> {
    match map.from.strip_prefix("x12/").and_then(|rest| rest.split_once('/')) {
        Some((version, set)) => sets(workspace, bytes, version, set),
        None => {
            let schema = workspace.schemas.get(&map.from).ok_or_else(|| format!("there is no schema {}", map.from))?;
            let form = match schema.written_in(bytes) {
                Written::Json => Form::Json,
                Written::Csv if !looks_csv(bytes) => Form::Json,
                written => Form::Shaped { written, schema: map.from.clone() },
            };
            let document = workspace.document(&form, bytes).map_err(|error| error.to_string())?;
            Ok(vec![Given { title: String::new(), document, meta: Map::new() }])
        }
    }
}

/// Returns whether the first line has columns: a single word is rather broken JSON.
fn looks_csv(bytes: &[u8]) -> bool {
    let first = bytes.split(|byte| *byte == b'\n').next().unwrap_or_default();
    first.iter().any(|byte| matches!(byte, b',' | b';' | b'\t' | b'|'))
}

fn sets(workspace: &Workspace, bytes: &[u8], version: &str, set: &str) -> Result<Vec<Given>, String> {
    let own = Arc::new(workspace.clone());
    let mut reader = Reader::choosing(move |header| own.terms(header), Limits::default());
    reader.feed(bytes);
    let mut given = Vec::new();
    for interchange in reader.finish().interchanges {
        let header = &interchange.header;
        let partner = workspace.partner_of(header).map_or("", |partner| partner.name.as_str());
        for group in interchange.groups.iter().filter(|group| group.version.starts_with(version)) {
            for one in group.sets.iter().filter(|one| one.set == set) {
                let form = Form::X12 { version: group.version.clone(), set: set.to_owned(), delimiters: header.delimiters };
                let own = &bytes[one.bytes.start as usize..one.bytes.end as usize];
                let document = workspace.document(&form, own).map_err(|error| error.to_string())?;
                let known = [
                    ("partner", json!(partner)),
                    ("interchange", json!(header.control)),
                    ("group", json!(group.control)),
                    ("usage", json!(header.usage)),
                ];
                let meta = known.into_iter().map(|(name, value)| (name.to_owned(), value)).collect();
                given.push(Given { title: format!("{set} {}", one.control), document, meta });
            }
        }
    }
    if given.is_empty() {
        return Err(format!("no {set} in {version}; `wirewatch edi check` shows what it has"));
    }
    Ok(given)
}
