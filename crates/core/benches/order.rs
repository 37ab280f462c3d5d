//! The pure work on an order, each part beside the copying of its bytes, which is the least that reading can cost.

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use std::collections::BTreeMap;
use std::hint::black_box;
use std::path::Path;
use std::sync::Arc;
use wirewatch_core::document::Form;
use wirewatch_core::machine::{Logic, Machine, Origin};
use wirewatch_core::propose::propose;
use wirewatch_core::trial::{Tryout, map_table};
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
    let document = Document::read(Definitions::standard(), |_| None, &form, bytes).expect("a tree");
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

/// An order of ten lines to JSON, beside serde_json parsing the same set as JSON to a value and writing it again.
fn mapping(c: &mut Criterion) {
    let mut set = "ST*850*0001~BEG*00*SA*MF-1**20261123~CUR*BY*USD~DTM*002*20261201~N1*ST*Marrowfield Store 12*92*0012~\
                   N3*4 Clover Lane~N4*Tansy Mills*HV*HV104*US~"
        .to_owned();
    for n in 1..=10 {
        set += &format!("PO1*{n}*{n}*EA*64.50**VP*QH-HIVE-{n}*SK*10-044{n}~PID*F****TEN FRAME HIVE~");
    }
    set += "CTT*10~AMT*TT*3547.50~SE*28*0001~";
    let definition = Definitions::standard().find("004010", "850").expect("the set").clone();
    let tree =
        |bytes: &[u8]| SetTree::new(definition.clone(), bytes, wirewatch_core::x12::Delimiters::default()).expect("a tree");
    let workspace = Workspace::read(&files()).workspace.expect("sound");
    let map = &workspace.maps["po-to-order"];
    let variables = serde_json::Map::from_iter([("meta".to_owned(), serde_json::json!({ "partner": "marrowfield" }))]);
    let ours = |bytes: &[u8]| {
        let document = Document::X12(Arc::new(tree(bytes)));
        let scope = wirewatch_core::map::scope_of(&document, &variables, &workspace.library);
        serde_json::to_vec(&map.apply(&scope).expect("an order")).expect("bytes")
    };
    assert!(String::from_utf8_lossy(&ours(set.as_bytes())).contains("QH-HIVE-10"));
    let json = serde_json::to_vec(&wirewatch_core::edi::tree::to_json(&tree(set.as_bytes()))).expect("bytes");
    let mut group = c.benchmark_group("850 to JSON");
    group.throughput(Throughput::Elements(1));
    group.bench_function("tree and map", |b| b.iter(|| ours(black_box(set.as_bytes()))));
    group.bench_function("serde_json there and back", |b| {
        b.iter(|| {
            let value: serde_json::Value = serde_json::from_slice(black_box(&json)).expect("JSON");
            serde_json::to_vec(&value).expect("bytes")
        })
    });
    group.finish();
}

/// Reading and checking a workspace: one map of 500 rules, and 200 flows with a map each.
fn compiling(c: &mut Criterion) {
    let base = || {
        let schema = |fields: usize| {
            let fields = (0..fields).map(|n| (format!("f{n}"), serde_json::json!({ "type": "string" })));
            serde_json::json!({ "type": "object", "properties": fields.collect::<serde_json::Map<_, _>>() }).to_string()
        };
        BTreeMap::from([
            ("workspace.toml".to_owned(), "format = 1\n".to_owned()),
            ("connections/in.toml".to_owned(), "kind = \"folder\"\npath = \"in\"\n".to_owned()),
            ("schemas/wide.schema.json".to_owned(), schema(500)),
            ("schemas/slim.schema.json".to_owned(), schema(20)),
        ])
    };
    let map = |schema: &str, rules: usize| {
        let rules: String = (0..rules).map(|n| format!("f{n} = \"upper(trim(f{n})) & '-' & (f1 else 'none')\"\n")).collect();
        format!("from = \"{schema}\"\nto = \"{schema}\"\n[set]\n{rules}")
    };
    let mut large_map = base();
    large_map.insert("maps/m.toml".to_owned(), map("wide", 500));
    let mut many = base();
    for n in 0..200 {
        many.insert(format!("maps/m{n}.toml"), map("slim", 20));
        let flow = "[[intake]]\nfrom = \"in\"\ntakes = \"slim\"\n[[step]]\nname = \"map\"\nmap = \"m0\"\n"
            .replace("m0", &format!("m{n}"));
        many.insert(format!("flows/f{n}.toml"), flow);
    }
    // The map table at a keystroke, and what is proposed for it once.
    let mut table = base();
    let wide = (0..1000).map(|n| (format!("f{n}"), serde_json::json!({ "type": "string" })));
    let schema = serde_json::json!({ "type": "object", "properties": wide.collect::<serde_json::Map<_, _>>() });
    table.insert("schemas/wide.schema.json".to_owned(), schema.to_string());
    let text = map("wide", 900);
    table.insert("maps/m.toml".to_owned(), text.clone());
    let fields = (0..1000).map(|n| (format!("f{n}"), serde_json::json!("x")));
    let given = serde_json::Value::Object(fields.collect()).to_string();
    let on = Tryout { given: given.into_bytes(), ..Tryout::default() };
    let shown = map_table(&table, None, "m", &text, &on);
    assert_eq!((shown.rules.len(), shown.open.len(), shown.source.len()), (900, 100, 1000));
    let wide = Workspace::read(&table).workspace.expect("sound");
    for files in [&large_map, &many] {
        let checked = Workspace::read(files);
        assert!(checked.workspace.is_some(), "{:?}", checked.findings);
    }
    let mut group = c.benchmark_group("workspace");
    group.sample_size(10);
    group.bench_function("a map of 500 rules", |b| b.iter(|| Workspace::read(black_box(&large_map))));
    group.bench_function("map table of 1000 fields", |b| b.iter(|| map_table(black_box(&table), None, "m", &text, &on)));
    group.bench_function("proposals for 1000 fields", |b| b.iter(|| propose(black_box(&wide), "wide", "wide")));
    group.bench_function("200 flows and maps", |b| b.iter(|| Workspace::read(black_box(&many))));
    group.finish();
}

criterion_group!(benches, reading, one_order, mapping, compiling);
criterion_main!(benches);
