//! An expression, and behind the first line end a JSON document: any text is parsed or refused, and over any document it has a value or an
//! error, the same one each time.
#![no_main]

use libfuzzer_sys::fuzz_target;
use serde_json::Map;
use wirewatch_core::Document;
use wirewatch_core::expr::{Item, Library, Scope, Template, Work, parse};

fuzz_target!(|bytes: &[u8]| {
    let text = String::from_utf8_lossy(bytes);
    let (expression, document) = text.split_once('\n').unwrap_or((&text, "{}"));
    let _ = Template::parse(expression);
    let Ok(expr) = parse(expression) else { return };
    let Ok(document) = Document::json(document.as_bytes()) else { return };
    let (variables, library) = (Map::new(), Library::default());
    let (it, doc) = (Item::of(&document), Item::of(&document));
    let scope = || Scope {
        it: it.clone(), doc: doc.clone(), variables: &variables, library: &library, given: None, position: None, work: Work::up_to(100_000),
    };
    let value = || format!("{:?}", expr.value(&scope()));
    assert_eq!(value(), value());
    let _ = (expr.holds(&scope()), expr.text(&scope()), expr.one(&scope()), expr.single(&scope()));
});
