//! The API description, from which the console's client is made: `console/openapi.json` equals the description made by the code.

use serde_json::Value;
use std::collections::BTreeSet;
use std::path::Path;
use wirewatch_core::reason::ReasonCode;
use wirewatch_service::view::words::ProblemCode;

#[test]
fn the_description_that_the_console_is_built_from_is_the_current_one() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/openapi.json");
    let current = serde_json::to_string_pretty(&wirewatch_service::api::description()).unwrap() + "\n";
    if std::env::var_os("WRITE_OPENAPI").is_some() {
        std::fs::write(&path, &current).unwrap();
    }
    let written = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(written == current, "the API has changed: run `make console-api` and look at the difference");
}

#[test]
fn every_operation_has_a_name_of_its_own() {
    let description = wirewatch_service::api::description();
    let paths = description["paths"].as_object().unwrap().values();
    let operations = paths.flat_map(|path| path.as_object().unwrap().values());
    let names: Vec<&str> = operations.filter_map(|operation| operation["operationId"].as_str()).collect();
    let unique: BTreeSet<&str> = names.iter().copied().collect();
    assert!(names.len() > 20, "they are there: {}", names.len());
    assert_eq!(names.len(), unique.len(), "clients are made from these names: {names:?}");
}

/// Each operation of the description with its method and path.
fn operations(description: &Value) -> impl Iterator<Item = (String, &Value)> {
    let paths = description["paths"].as_object().unwrap().iter();
    paths.flat_map(|(path, item)| item.as_object().unwrap().iter().map(move |(method, one)| (format!("{method} {path}"), one)))
}

#[test]
fn it_validates_against_the_official_schema_of_openapi_3_1() {
    // The schema of the OpenAPI Initiative (Apache-2.0), https://spec.openapis.org/oas/3.1/schema/2022-10-07, unchanged.
    let schema: Value = serde_json::from_str(include_str!("openapi/schema-3.1.json")).unwrap();
    let validator = jsonschema::draft202012::new(&schema).unwrap();
    let description = wirewatch_service::api::description();
    let errors: Vec<String> =
        validator.iter_errors(&description).map(|error| format!("{}: {error}", error.instance_path())).collect();
    assert!(errors.is_empty(), "{errors:#?}");
    for (name, schema) in description["components"]["schemas"].as_object().unwrap() {
        assert!(jsonschema::draft202012::meta::is_valid(schema), "{name} is not a JSON Schema");
    }
    let mut broken = description;
    broken["paths"]["/api/status"]["get"]["responses"]["200"].as_object_mut().unwrap().remove("description");
    assert!(!validator.is_valid(&broken), "the schema finds what is missing");
}

#[test]
fn every_reference_leads_somewhere_and_every_schema_is_used() {
    fn references(value: &Value, found: &mut BTreeSet<String>) {
        match value {
            Value::Object(object) => {
                found.extend(object.get("$ref").and_then(Value::as_str).map(str::to_owned));
                object.values().for_each(|value| references(value, found));
            }
            Value::Array(items) => items.iter().for_each(|value| references(value, found)),
            _ => {}
        }
    }
    let description = wirewatch_service::api::description();
    let mut found = BTreeSet::new();
    references(&description, &mut found);
    for reference in &found {
        let place = reference.strip_prefix('#').expect("every reference is local");
        assert!(description.pointer(place).is_some(), "{reference} leads nowhere");
    }
    for name in description["components"]["schemas"].as_object().unwrap().keys() {
        assert!(found.contains(&format!("#/components/schemas/{name}")), "nothing uses {name}");
    }
}

#[test]
fn every_operation_is_tagged_and_documents_its_problems() {
    let description = wirewatch_service::api::description();
    let tags: BTreeSet<&str> = description["tags"].as_array().unwrap().iter().map(|tag| tag["name"].as_str().unwrap()).collect();
    for (name, operation) in operations(&description) {
        assert!(tags.contains(operation["tags"][0].as_str().unwrap()), "{name}");
        let responses = operation["responses"].as_object().unwrap();
        for status in ["400", "401", "403", "421", "500", "503"] {
            assert!(responses.contains_key(status), "{name} does not document {status}");
        }
        if name.contains('{') {
            assert!(responses.contains_key("404"), "{name} does not document 404");
        }
        assert!(responses.keys().any(|status| status.starts_with('2')), "{name} documents no success");
    }
    let session = operations(&description).filter(|(_, one)| one["tags"][0] == "session").map(|(name, _)| name);
    assert_eq!(
        session.collect::<Vec<_>>(),
        ["post /api/links", "get /api/me", "delete /api/me"],
        "the rest has a tag of its own"
    );
}

/// Lists of values in prose go out of date: a closed set is an enum.
#[test]
fn closed_sets_are_enums() {
    let description = wirewatch_service::api::description();
    let schemas = description["components"]["schemas"].as_object().unwrap();
    for (name, schema) in schemas {
        for (property, of) in schema["properties"].as_object().into_iter().flatten() {
            let about = of["description"].as_str().unwrap_or_default();
            assert!(about.matches('`').count() < 6, "{name}.{property} lists words in prose: {about}");
        }
    }
    for (name, property) in
        [("Message", "state"), ("Arrival", "verdict"), ("Order", "state"), ("Problem", "code"), ("Reason", "code")]
    {
        let of = &schemas[name]["properties"][property];
        let reference = of["$ref"].as_str().unwrap_or_else(|| panic!("{name}.{property}: {of}"));
        let set = description.pointer(reference.strip_prefix('#').unwrap()).unwrap();
        let words =
            set["enum"].as_array().or(set["anyOf"][0]["enum"].as_array()).unwrap_or_else(|| panic!("{name}.{property}: {set}"));
        assert!(
            words.iter().all(|word| word.as_str().unwrap().chars().all(|char| char.is_ascii_lowercase() || char == '-')),
            "{set}"
        );
    }
}

#[test]
fn the_page_about_the_api_has_every_code() {
    let page = include_str!("../../../docs/api.md");
    let (problems, reasons) = page.split_once("## Reasons of failed messages").unwrap();
    for code in ProblemCode::ALL {
        assert!(problems.contains(&format!("\n| `{code}` | ")), "{code} is missing under Problems");
    }
    for code in ReasonCode::ALL {
        let row = reasons.lines().find(|line| line.starts_with("| ") && line.contains(&format!("`{code}`")));
        assert!(row.is_some_and(|row| row.ends_with(&format!("| {} |", code.advice()))), "{code}: {}", code.advice());
    }
}
