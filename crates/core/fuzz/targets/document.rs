//! The first byte chooses the form: what is read is written, or refused, and what is written reads back as the same tree.
#![no_main]

use libfuzzer_sys::fuzz_target;
use serde_json::{Value, json};
use std::sync::LazyLock;
use wirewatch_core::schema::{Schema, Written, infer, infer_of_texts, read_sample, sample};

static SCHEMAS: LazyLock<Vec<Schema>> = LazyLock::new(|| {
    let object = json!({ "type": "object", "x-record": { "tag": "A" }, "properties": {
        "a": { "type": "string", "x-record": { "at": 2, "length": 4 }, "xml": { "attribute": true } },
        "n": { "type": "number", "x-record": { "at": 6, "length": 5, "pad": "0", "places": 2 } },
        "d": { "type": "string", "x-record": { "at": 11, "length": 8, "date": "%Y%m%d" } },
        "l": { "type": "array", "xml": { "wrapped": true }, "items": { "type": "object", "x-record": { "tag": "B" }, "properties": {
            "t": { "type": "string", "x-record": { "at": 2, "length": 6 } }, "f": { "type": "boolean", "x-record": { "at": 8, "length": 5 } } } } } } });
    let rows = json!({ "type": "array", "x-record": { "separator": "|", "line_end": "~" }, "items": { "type": "object", "properties": {
        "a": { "type": "string", "x-record": { "at": 1 } }, "n": { "type": "integer", "x-record": { "at": 2 } } } } });
    [object, rows, json!({})].into_iter().map(|node| Schema { name: "x".to_owned(), root: node }).collect()
});

fuzz_target!(|bytes: &[u8]| {
    let Some((first, rest)) = bytes.split_first() else { return };
    let (_, written) = Written::WORDS[usize::from(first % 4)];
    let schema = &SCHEMAS[usize::from(first / 4 % 3)];
    if let Ok(read) = schema.read(written, rest)
        && let Ok(text) = schema.write(written, &read)
    {
        let back = schema.read(written, &text).expect("what is written is read");
        // A second writing is the same: what one form cannot distinguish, such as null and nothing, is decided by the first.
        assert_eq!(schema.write(written, &back).expect("written again"), text);
    }
    if let Ok(samples) = read_sample(written, rest) {
        for node in [infer(&samples, "x"), infer_of_texts(&samples, "x")] {
            let _: Value = sample(&Schema { name: "x".to_owned(), root: node }, 7);
        }
    }
});
