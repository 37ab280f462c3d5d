//! The pure work on an order, each part beside the copying of its bytes, which is the least that reading can cost.

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use std::collections::BTreeMap;
use std::hint::black_box;
use std::path::Path;
use std::sync::Arc;
use wirewatch_core::document::Form;
use wirewatch_core::machine::{Logic, Machine, Origin};
use wirewatch_core::workspace::{Files, Workspace};
use wirewatch_core::x12::{Definitions, Reader, SetTree};
use wirewatch_core::{Document, Id};

const SAMPLE: &str = include_str!("../../../demo/samples/marrowfield-850.edi");

/// Workspace files of the demo.
fn files() -> Files {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/workspace");
    let mut files = BTreeMap::new();
    let mut folders = vec![root.clone()];
    while let Some(folder) = folders.pop() {
        for entry in std::fs::read_dir(folder).expect("the demo workspace") {
            let path = entry.expect("an entry").path();
            if path.is_dir() {
                folders.push(path);
                continue;
            }
            let name = path.strip_prefix(&root).expect("below the root").to_string_lossy().into_owned();
            files.insert(name, std::fs::read_to_string(&path).expect("text"));
        }
    }
    files
}

fn reading(c: &mut Criterion) {
    // A thousand interchanges of two orders each.
    let bytes = SAMPLE.repeat(1000).into_bytes();
    let mut group = c.benchmark_group("reading");
    group.throughput(Throughput::Bytes(bytes.len() as u64));
    group.bench_function("copy", |b| b.iter(|| black_box(&bytes).clone()));
    group.bench_function("check", |b| b.iter(|| Reader::read(Definitions::standard(), black_box(&bytes))));
    group.finish();
}

fn one_order(c: &mut Criterion) {
    let reading = Reader::read(Definitions::standard(), SAMPLE.as_bytes());
    let interchange = &reading.interchanges[0];
    let set = &interchange.groups[0].sets[0];
    let bytes = &SAMPLE.as_bytes()[set.bytes.start as usize..set.bytes.end as usize];
    let delimiters = interchange.header.delimiters;
    let definition = Definitions::standard().find("004010", "850").expect("the set");
    let form = Form::X12 { version: "004010".into(), set: "850".into(), delimiters };
    let workspace = Arc::new(Workspace::read(&files()).workspace.expect("sound"));
    let logic = Logic::of(&workspace, "partner-orders").expect("the flow");
    let document = Document::read(&form, bytes).expect("a tree");
    let origin = Arc::new(Origin {
        id: Id(1),
        arrival: Id(1),
        body: Id(1),
        slice: 0..bytes.len() as u64,
        flow: "partner-orders".into(),
        release: 1,
        form,
        meta: serde_json::Map::from_iter([("partner".to_owned(), "marrowfield".into())]),
    });
    let mut group = c.benchmark_group("one order");
    group.throughput(Throughput::Elements(1));
    group.bench_function("tree", |b| b.iter(|| SetTree::new(definition.clone(), black_box(bytes), delimiters)));
    // Map, request and idempotency key: all that is done before the order system is called.
    group.bench_function("map and request", |b| {
        b.iter(|| Machine::begin(logic.clone(), origin.clone(), black_box(&document).clone()))
    });
    group.finish();
}

criterion_group!(benches, reading, one_order);
criterion_main!(benches);
