//! The demo workspace, and messages made from its sample.

use std::path::Path;
use std::sync::Arc;
use wirewatch_core::document::Form;
use wirewatch_core::machine::{Logic, Machine, Origin, Turn};
use wirewatch_core::workspace::{Files, Workspace};
use wirewatch_core::x12::{Definitions, Reader};
use wirewatch_core::{Document, Id};

pub const SAMPLE: &str = include_str!("../../../../demo/samples/marrowfield-850.edi");

pub fn files() -> Files {
    fn collect(root: &Path, folder: &Path, into: &mut Files) {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                collect(root, &path, into);
            } else {
                let name = path.strip_prefix(root).unwrap().to_string_lossy().into_owned();
                into.insert(name, std::fs::read_to_string(&path).unwrap());
            }
        }
    }
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/workspace");
    let mut files = Files::new();
    collect(&root, &root, &mut files);
    files
}

pub fn workspace(files: &Files) -> Arc<Workspace> {
    let checked = Workspace::read(files);
    Arc::new(checked.workspace.unwrap_or_else(|| panic!("{:#?}", checked.findings)))
}

/// The n-th order of the sample as a document.
#[allow(dead_code)] // not every test file has orders
pub fn order(n: usize) -> (Form, Document) {
    let reading = Reader::read(Definitions::standard(), SAMPLE.as_bytes());
    let interchange = &reading.interchanges[0];
    let set = &interchange.groups[0].sets[n];
    let form = Form::X12 { version: "004010".into(), set: "850".into(), delimiters: interchange.header.delimiters };
    let bytes = &SAMPLE.as_bytes()[set.bytes.start as usize..set.bytes.end as usize];
    let document = Document::read(Definitions::standard(), |_| None, &form, bytes).unwrap();
    (form, document)
}

#[allow(dead_code)] // nor origins
pub fn origin(form: Form) -> Arc<Origin> {
    let serde_json::Value::Object(meta) = serde_json::json!({ "partner": "marrowfield" }) else { unreachable!() };
    Arc::new(Origin {
        id: Id(7_000_000),
        arrival: Id(1),
        body: Id(1),
        slice: 0..0,
        flow: "partner-orders".into(),
        release: 1,
        form,
        meta,
    })
}

#[allow(dead_code)] // not every test file begins a message
pub fn begin() -> (Machine, Turn) {
    let (form, document) = order(0);
    let logic = Logic::of(&workspace(&files()), "partner-orders").unwrap();
    Machine::begin(logic, origin(form), document)
}

/// Returns the findings of a document as sentences, in alphabetical order.
#[allow(dead_code, reason = "not every suite holds documents against their schemas")]
pub fn misfits(schema: &wirewatch_core::schema::Schema, document: &serde_json::Value) -> Vec<String> {
    let validator = wirewatch_core::schema::Validator::of(schema).expect("a schema");
    let mut all: Vec<String> = validator.misfits(document).into_iter().map(|one| one.says).collect();
    all.sort();
    all
}
