//! The rules of a map file, and behind a line `---` a document: any map is read with findings or runs, and what its schema says of a result
//! is what is found.
#![no_main]

use libfuzzer_sys::fuzz_target;
use serde_json::Map;
use wirewatch_core::Document;
use wirewatch_core::map::scope_of;
use wirewatch_core::workspace::{Files, Workspace};

const SCHEMA: &str = r#"{ "type": "object", "properties": { "a": { "type": "string" }, "n": { "type": "number" }, "o": { "type": "object",
    "required": ["x"], "properties": { "x": {}, "y": { "type": "array" } } }, "l": { "type": "array", "items": { "type": "object", "properties": {
    "a": { "type": "string" }, "l": { "type": "array", "items": { "type": "integer" } } } } } } }"#;

fuzz_target!(|bytes: &[u8]| {
    let text = String::from_utf8_lossy(bytes);
    let (rules, document) = text.split_once("---\n").unwrap_or((&text, "{}"));
    let files: Files = [
        ("workspace.toml".to_owned(), "format = 1\n".to_owned()),
        ("schemas/s.schema.json".to_owned(), SCHEMA.to_owned()),
        ("maps/m.toml".to_owned(), format!("from = \"s\"\nto = \"s\"\n{rules}")),
    ]
    .into();
    let Some(workspace) = Workspace::read_draft(&files, None, "maps/m.toml").workspace else { return };
    let Ok(document) = Document::json(document.as_bytes()) else { return };
    let variables = Map::new();
    let map = &workspace.maps["m"];
    let scope = || scope_of(&document, &variables, &workspace.library);
    if let (Ok(value), Ok((explained, _))) = (map.apply(&scope()), map.explain(&scope())) {
        assert_eq!(value, explained);
        assert_eq!(map.misfits(&value).is_empty(), workspace.validators["s"].fits(&value));
    }
    let _ = map.source(&document);
});
