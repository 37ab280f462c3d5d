//! Maps as cases: `values/maps.txt`.

use serde_json::{Map, Value};
use std::collections::BTreeMap;
use wirewatch_core::map::scope_of;
use wirewatch_core::workspace::{Files, Workspace};
use wirewatch_core::{Document, Severity};

/// Returns the result of rules for a document.
fn received(schemas: &BTreeMap<String, String>, from: &str, to: &str, rules: &str, document: &Value) -> String {
    let mut files: Files = schemas.iter().map(|(name, text)| (format!("schemas/{name}.schema.json"), text.clone())).collect();
    files.insert("workspace.toml".to_owned(), "format = 1\n".to_owned());
    files.insert("maps/m.toml".to_owned(), format!("from = \"{from}\"\nto = \"{to}\"\n{rules}\n"));
    let checked = Workspace::read(&files);
    let errors = checked.findings.iter().filter(|finding| finding.severity == Severity::Error);
    let mut codes: Vec<&str> = errors.map(|finding| finding.code.as_str()).collect();
    codes.sort_unstable();
    codes.dedup();
    let Some(workspace) = checked.workspace else { return format!("check: {}", codes.join(" ")) };
    let document = Document::json(document.to_string().as_bytes()).expect("a document");
    let variables = Map::new();
    let map = &workspace.maps["m"];
    let (value, explained) = match map.explain(&scope_of(&document, &variables, &workspace.library)) {
        Ok((value, rules)) => (value, rules),
        Err(error) => return format!("error: {error}"),
    };
    // The explanation agrees with the result.
    for rule in explained.iter().filter(|rule| rule.value.is_some()) {
        let pointer = rule.target.replace(['.', '['], "/").replace(']', "");
        let tokens = pointer.split('/').map(|token| token.parse::<usize>().map_or(token.to_owned(), |n| (n - 1).to_string()));
        let pointer = format!("/{}", tokens.collect::<Vec<_>>().join("/"));
        assert_eq!(value.pointer(&pointer), rule.value.as_ref(), "{} in {value}", rule.target);
    }
    let misfits = map.misfits(&value);
    match misfits.first() {
        None => value.to_string(),
        Some(misfit) => format!("{value} misfit {}", misfit.says),
    }
}

#[test]
fn every_case_of_maps_holds() {
    let mut schemas = BTreeMap::new();
    let (mut from, mut to) = (String::new(), String::new());
    let (mut wrong, mut count) = (Vec::new(), 0);
    let text = include_str!("values/maps.txt");
    for (n, line) in text.lines().enumerate().filter(|(_, line)| !line.is_empty() && !line.starts_with('#')) {
        match line.split_once(' ').expect("a word and more") {
            ("schema", rest) => {
                let (name, node) = rest.split_once(' ').expect("a name and a schema");
                schemas.insert(name.to_owned(), node.to_owned());
                continue;
            }
            ("from", name) => name.clone_into(&mut from),
            ("to", name) => name.clone_into(&mut to),
            _ => {
                let (case, expected) = line.rsplit_once(" => ").unwrap_or_else(|| panic!("line {}: no `=>`", n + 1));
                let mut parts = serde_json::Deserializer::from_str(case).into_iter::<Value>();
                let rules = parts.next().expect("rules").unwrap_or_else(|error| panic!("line {}: {error}", n + 1));
                let document = parts.next().expect("a document").unwrap_or_else(|error| panic!("line {}: {error}", n + 1));
                let received = received(&schemas, &from, &to, rules.as_str().expect("a text"), &document);
                let holds = match (expected.strip_prefix("error: "), expected.split_once(" misfit ")) {
                    (Some(part), _) => received.starts_with("error: ") && received.contains(part),
                    (None, Some(_)) => received.starts_with(expected),
                    (None, None) => received == expected,
                };
                if !holds {
                    wrong.push(format!("line {}: {case} => {received}, not {expected}", n + 1));
                }
                count += 1;
            }
        }
    }
    assert!(wrong.is_empty(), "{} of {count} cases do not hold:\n{}", wrong.len(), wrong.join("\n"));
    println!("measured: {count} cases of maps");
}
