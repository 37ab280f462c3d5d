//! The official tests of JSON Schema 2020-12 (`json-schema-suite/README.md`), against our validation.

use serde_json::Value;
use std::path::Path;
use wirewatch_core::schema::{Schema, Validator};

/// Tests that treat a format as an annotation by default; here formats are asserted.
const REMARK: &str = "is only an annotation by default";
/// Base address of schemas that the suite refers to. Nothing is downloaded: such a schema is refused by `check`.
const ELSEWHERE: &str = "http://localhost:1234/";

/// A schema counts as 2020-12 whatever other vocabulary it names.
const EXCEPTIONS: [&str; 1] =
    ["vocabulary: schema that uses custom metaschema with with no validation vocabulary: no validation: \
                               invalid number, but it still validates"];

/// Each test of a file that does not come out as it should, as `file: schema: test`. Gives how many there are, and how many of
/// them are exceptions.
fn run(path: &Path, wrong: &mut Vec<String>) -> (usize, usize) {
    let name = path.file_stem().unwrap_or_default().to_string_lossy().into_owned();
    let groups: Value = serde_json::from_slice(&std::fs::read(path).expect("a file")).expect("JSON");
    let (mut count, mut exceptions) = (0, 0);
    for group in groups.as_array().expect("a list") {
        let validator = Validator::of(&Schema { name: name.clone(), root: group["schema"].clone() });
        for test in group["tests"].as_array().expect("a list") {
            count += 1;
            let elsewhere = validator.is_err() && group["schema"].to_string().contains(ELSEWHERE);
            let remark = test["description"].as_str().is_some_and(|text| text.contains(REMARK));
            if elsewhere || remark {
                exceptions += 1;
                continue;
            }
            let holds = validator.as_ref().is_ok_and(|validator| Value::Bool(validator.fits(&test["data"])) == test["valid"]);
            let misfits = validator.as_ref().map(|validator| validator.misfits(&test["data"])).unwrap_or_default();
            let explained = validator.is_err() || misfits.is_empty() == (test["valid"] == true);
            if !holds || !explained {
                let part = |of: &Value| of["description"].as_str().unwrap_or_default().to_owned();
                wrong.push(format!("{name}: {}: {}", part(group), part(test)));
            }
        }
    }
    (count, exceptions)
}

#[test]
fn the_official_tests_hold_but_for_the_exceptions_that_are_listed() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/json-schema-suite/tests");
    let files = |folder: &Path| {
        let mut all: Vec<_> = std::fs::read_dir(folder).expect("a folder").map(|entry| entry.expect("an entry").path()).collect();
        all.retain(|path| path.extension().is_some_and(|end| end == "json"));
        all.sort();
        all
    };
    let mut wrong = Vec::new();
    let (mut count, mut exceptions) = (0, 0);
    for path in files(&folder).into_iter().chain(files(&folder.join("optional/format"))) {
        let (tests, left) = run(&path, &mut wrong);
        count += tests;
        exceptions += left;
    }
    assert_eq!(wrong, EXCEPTIONS, "of {count} tests");
    println!("measured: {count} official tests of JSON Schema 2020-12, {exceptions} of them exceptions");
}
