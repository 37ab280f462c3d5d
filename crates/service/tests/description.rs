//! The API's description, from which the console's client is made: `console/openapi.json` is what the code says.

use std::path::Path;

#[test]
fn the_description_that_the_console_is_built_from_is_the_current_one() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../console/openapi.json");
    let current = wirewatch_service::api::description().to_pretty_json().unwrap() + "\n";
    if std::env::var_os("WRITE_OPENAPI").is_some() {
        std::fs::write(&path, &current).unwrap();
    }
    let kept = std::fs::read_to_string(&path).unwrap_or_default();
    assert!(kept == current, "the API has changed: run `make console-api` and look at the difference");
}

#[test]
fn every_operation_has_a_name_of_its_own() {
    let description = serde_json::to_value(wirewatch_service::api::description()).unwrap();
    let paths = description["paths"].as_object().unwrap().values();
    let operations = paths.flat_map(|path| path.as_object().unwrap().values());
    let names: Vec<&str> = operations.filter_map(|operation| operation["operationId"].as_str()).collect();
    let unique: std::collections::BTreeSet<&str> = names.iter().copied().collect();
    assert!(names.len() > 20, "they are there: {}", names.len());
    assert_eq!(names.len(), unique.len(), "clients are made from these names: {names:?}");
}
