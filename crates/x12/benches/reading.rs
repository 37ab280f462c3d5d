//! Reading, checking and nesting, beside the least that could be done: a loop over the bytes that finds every element.

use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use std::hint::black_box;
use std::sync::Arc;
use wirewatch_x12::{Definitions, Delimiters, Item, Limits, Reader, Scanner, SetTree, Tokens};

/// About 8 MB of purchase orders, as many lines in each as real ones have.
fn orders() -> Vec<u8> {
    let mut text = "ISA*00*          *00*          *ZZ*MARROWFIELD    *ZZ*QUILLHAVEN     *261123*0700*U*00401*000000101*0*T*>~\n\
                    GS*PO*MARROWFIELD*QUILLHAVEN*20261123*0700*101*X*004010~\n"
        .to_owned();
    let sets = 8000;
    for set in 1..=sets {
        let lines = 3 + set % 15;
        text += &format!("ST*850*{set:04}~\nBEG*00*SA*MF-{set}**20261123~\nCUR*BY*USD~\nREF*DP*440~\nDTM*002*20261201~\n");
        text += "N1*ST*Marrowfield Store 12*92*0012~\nN3*4 Clover Lane~\nN4*Tansy Bottom*HV*HV104*US~\n";
        for line in 1..=lines {
            text += &format!(
                "PO1*{line}*{}*EA*64.50**VP*QH-HIVE-{line:02}*SK*10-{line:04}~\nPID*F****TEN FRAME HIVE, PINE~\n",
                line * 3
            );
        }
        text += &format!("CTT*{lines}~\nAMT*TT*774.00~\nSE*{}*{set:04}~\n", 11 + 2 * lines);
    }
    text += &format!("GE*{sets}*101~\nIEA*1*000000101~\n");
    text.into_bytes()
}

/// Every element, found by looking at each byte once: what reading costs at least.
fn byte_loop(bytes: &[u8], mut each: impl FnMut(&[u8])) {
    let mut start = 0;
    for (at, byte) in bytes.iter().enumerate() {
        if *byte == b'*' || *byte == b'~' {
            each(&bytes[start..at]);
            start = at + 1;
        }
    }
}

fn tokens(bytes: &[u8], mut each: impl FnMut(&[u8])) {
    let mut scanner = Scanner::over(bytes, Limits::default());
    while let Some(item) = scanner.next_item() {
        if let Item::Segment(segment) = item {
            segment.elements().for_each(&mut each);
        }
    }
}

fn trees(bytes: &[u8], reading: &wirewatch_x12::Reading) -> usize {
    let definition = Definitions::standard().find("004010", "850").expect("the set");
    let sets = &reading.interchanges[0].groups[0].sets;
    let tree = |set: &wirewatch_x12::SetReading| {
        let own: Arc<[u8]> = bytes[set.bytes.start as usize..set.bytes.end as usize].into();
        SetTree::new(definition.clone(), own, Delimiters::default()).expect("a set").root().loops("PO1").count()
    };
    sets.iter().map(tree).sum()
}

/// The same orders as JSON: an array of segments, each an array of its elements.
fn as_json(bytes: &[u8]) -> String {
    let element = |element: &[u8]| serde_json::Value::from(String::from_utf8_lossy(element));
    let segments = Tokens::new(bytes, Delimiters::default());
    let all: Vec<serde_json::Value> = segments.iter().map(|segment| segment.elements().map(element).collect()).collect();
    serde_json::to_string(&all).expect("it was text")
}

fn reading(c: &mut Criterion) {
    let bytes = orders();
    let read = Reader::read(Definitions::standard(), &bytes);
    assert_eq!(read.interchanges[0].groups[0].accepted_count(), 8000, "{:?}", read.interchanges[0].groups[0].sets[0]);
    let mut group = c.benchmark_group("850");
    group.throughput(Throughput::Bytes(bytes.len() as u64)).sample_size(20);
    let length = |sum: &mut usize, element: &[u8]| *sum += element.len();
    group.bench_function("byte loop", |b| {
        b.iter(|| {
            let mut sum = 0;
            byte_loop(black_box(&bytes), |element| length(&mut sum, element));
            sum
        })
    });
    group.bench_function("tokens", |b| {
        b.iter(|| {
            let mut sum = 0;
            tokens(black_box(&bytes), |element| length(&mut sum, element));
            sum
        })
    });
    let json = as_json(&bytes);
    group.throughput(Throughput::Bytes(json.len() as u64));
    group.bench_function("serde_json", |b| b.iter(|| serde_json::from_str::<serde_json::Value>(black_box(&json)).expect("JSON")));
    group.throughput(Throughput::Bytes(bytes.len() as u64));
    group.bench_function("verdicts", |b| b.iter(|| Reader::read(Definitions::standard(), black_box(&bytes))));
    group.bench_function("verdicts and trees", |b| {
        b.iter(|| {
            let read = Reader::read(Definitions::standard(), black_box(&bytes));
            trees(&bytes, &read)
        })
    });
    group.finish();
}

criterion_group!(benches, reading);
criterion_main!(benches);
