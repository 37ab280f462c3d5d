//! X12 on one core: tokens beside a loop over the bytes, verdicts and trees beside parsing the same orders as JSON, and a
//! gigabyte checked by the command.

use crate::report::middle;
use std::hint::black_box;
use std::io::Write;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};
use wirewatch_core::x12::{Definitions, Delimiters, Item, Limits, Reader, Reading, Scanner, SetTree, Tokens};

/// Bytes of the file of orders, and of the one that is checked by the command.
const FILE: usize = 200 << 20;
const LARGE: u64 = 1 << 30;
/// Bytes of the part that is parsed as JSON: values take some twenty times the memory.
const PART: usize = 20 << 20;
/// Rounds in which all measurements take turns; the median of each figure and of each ratio counts.
const ROUNDS: usize = 5;
/// Pairs of tokens and byte loop in a round: they are quick, and the machine's pace changes.
const PAIRS: usize = 3;

/// Megabytes a second of each, and what the check of a gigabyte took.
pub struct Edi {
    byte_loop: f64,
    tokens: f64,
    /// Tokens to byte loop, pair by pair.
    paired: f64,
    json: f64,
    verdicts: f64,
    verdicts_and_trees: f64,
    large: (Duration, u64),
}

/// Measures everything, in turns.
pub fn measure(program: &Path) -> Edi {
    let bytes = interchange(FILE as u64);
    let part = interchange(PART as u64);
    let json = as_json(&part);
    let definitions = Definitions::standard();
    let mut rates: [Vec<f64>; 5] = Default::default();
    let mut paired = Vec::new();
    for _ in 0..ROUNDS {
        for _ in 0..PAIRS {
            let beside = rate(bytes.len(), || byte_loop(&bytes));
            let own = rate(bytes.len(), || tokens(&bytes));
            rates[0].push(beside);
            rates[1].push(own);
            paired.push(own / beside);
        }
        rates[2].push(rate(json.len(), || {
            let value: serde_json::Value = serde_json::from_str(&json).expect("JSON");
            value.as_array().map_or(0, Vec::len)
        }));
        rates[3].push(rate(part.len(), || sound(&Reader::read(definitions, &part))));
        rates[4].push(rate(part.len(), || trees(&part, &Reader::read(definitions, &part))));
    }
    let [byte_loop, tokens, json, verdicts, verdicts_and_trees] = rates.map(|mut all| middle(&mut all));
    Edi { byte_loop, tokens, paired: middle(&mut paired), json, verdicts, verdicts_and_trees, large: large(program) }
}

/// Returns megabytes a second, including dropping the result.
fn rate(bytes: usize, run: impl FnOnce() -> usize) -> f64 {
    let begun = Instant::now();
    black_box(run());
    bytes as f64 / 1e6 / begun.elapsed().as_secs_f64()
}

/// Builds one interchange of orders of about `size` bytes, with a realistic number of lines in each order.
fn interchange(size: u64) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(size as usize + 4096);
    write_interchange(size, &mut bytes);
    bytes
}

fn write_interchange(size: u64, out: &mut impl Write) {
    let mut written = 0;
    let mut put = |text: String| {
        written += text.len() as u64;
        out.write_all(text.as_bytes()).expect("written");
        written
    };
    put("ISA*00*          *00*          *ZZ*MARROWFIELD    *ZZ*QUILLHAVEN     *261123*0700*U*00401*000000101*0*T*>~\n\
         GS*PO*MARROWFIELD*QUILLHAVEN*20261123*0700*101*X*004010~\n"
        .to_owned());
    let mut sets = 0;
    loop {
        sets += 1;
        if put(order(sets)) >= size {
            break;
        }
    }
    put(format!("GE*{sets}*101~\nIEA*1*000000101~\n"));
}

fn order(set: u32) -> String {
    let lines = 3 + set * 7 % 15;
    let mut text = format!(
        "ST*850*{set:04}~\nBEG*00*SA*MF-{set}**20261123~\nCUR*BY*USD~\nREF*DP*{}~\nDTM*002*20261201~\n\
         N1*ST*Marrowfield Store {}*92*{:04}~\nN3*{} Clover Lane~\nN4*Tansy Bottom*HV*HV104*US~\n",
        set * 31 % 1000,
        set % 90,
        set % 90,
        set % 400
    );
    for line in 1..=lines {
        let quantity = line * set % 97 + 1;
        text += &format!(
            "PO1*{line}*{quantity}*EA*{}.{:02}**VP*QH-{:05}*SK*10-{:04}~\nPID*F****{}~\n",
            set * line % 300,
            line * 7 % 100,
            set * line % 99_999,
            line * 13,
            ["TEN FRAME HIVE, PINE", "SMOKER", "DEEP FRAME", "VEIL, SQUARE"][(set + line) as usize % 4]
        );
    }
    text + &format!("CTT*{lines}~\nAMT*TT*{}.00~\nSE*{}*{set:04}~\n", set % 10_000, 11 + 2 * lines)
}

/// The same as JSON: a list of segments, each an object with its elements by designator.
fn as_json(bytes: &[u8]) -> String {
    let tokens = Tokens::new(bytes, Delimiters::default());
    let segment = |segment: wirewatch_core::x12::Segment<'_>| {
        let id = segment.text(0);
        let filled = (1..=segment.count()).filter(|n| !segment.element(*n).is_empty());
        let elements = filled.map(|n| (format!("{id}{n:02}"), serde_json::Value::from(segment.text(n))));
        serde_json::Value::Object(elements.collect())
    };
    serde_json::to_string(&tokens.iter().map(segment).collect::<Vec<_>>()).expect("it was text")
}

/// Every element, found by looking at each byte once.
fn byte_loop(bytes: &[u8]) -> usize {
    let (mut start, mut sum) = (0, 0);
    for (at, byte) in bytes.iter().enumerate() {
        if *byte == b'*' || *byte == b'~' {
            sum += black_box(&bytes[start..at]).len();
            start = at + 1;
        }
    }
    sum
}

fn tokens(bytes: &[u8]) -> usize {
    let mut scanner = Scanner::over(bytes, Limits::default());
    let mut sum = 0;
    while let Some(item) = scanner.next_item() {
        if let Item::Segment(segment) = item {
            sum += segment.elements().map(|element| black_box(element).len()).sum::<usize>();
        }
    }
    sum
}

fn sound(reading: &Reading) -> usize {
    let group = &reading.interchanges[0].groups[0];
    assert_eq!(group.accepted_count(), group.received, "the orders are sound");
    group.received as usize
}

fn trees(bytes: &[u8], reading: &Reading) -> usize {
    let definition = Definitions::standard().find("004010", "850").expect("the set");
    let tree = |set: &wirewatch_core::x12::SetReading| {
        let own: Arc<[u8]> = bytes[set.bytes.start as usize..set.bytes.end as usize].into();
        SetTree::new(definition.clone(), own, Delimiters::default()).expect("a set")
    };
    let all: Vec<SetTree> = reading.interchanges[0].groups[0].sets.iter().map(tree).collect();
    all.iter().map(|tree| tree.root().loops("PO1").count()).sum()
}

/// Time and most memory in kilobytes of the command on a gigabyte.
fn large(program: &Path) -> (Duration, u64) {
    let mut file = tempfile::NamedTempFile::new().expect("a file");
    write_interchange(LARGE, &mut std::io::BufWriter::new(file.as_file_mut()));
    let begun = Instant::now();
    let mut child = std::process::Command::new(program)
        .args(["edi", "check"])
        .arg(file.path())
        .stdout(std::process::Stdio::null())
        .spawn()
        .expect("the command starts");
    let mut most = 0;
    let status = loop {
        // The high-water mark only grows, so the last look before the end shows nearly all of it.
        let text = std::fs::read_to_string(format!("/proc/{}/status", child.id())).unwrap_or_default();
        let mark = text.lines().find_map(|line| line.strip_prefix("VmHWM:")?.split_whitespace().next()?.parse().ok());
        most = most.max(mark.unwrap_or(0));
        if let Some(status) = child.try_wait().expect("a child") {
            break status;
        }
        std::thread::sleep(Duration::from_millis(20));
    };
    assert!(status.success(), "the orders are sound");
    (begun.elapsed(), most)
}

impl Edi {
    /// The section of the page.
    pub fn markdown(&self) -> String {
        let (took, memory) = self.large;
        format!(
            "
## X12

On one core, in turns, the median of {ROUNDS} rounds; 850s of 3 to 17 lines, {} MB of them for tokens, {} MB else. The byte loop looks
at each byte once and gives every element; tokens give the same with positions and segments, from the same bytes in memory. The JSON
is the same segments as objects by designator, parsed to values by serde_json.

| | MB/s | beside |
|---|--:|--:|
| byte loop | {:.0} | |
| tokens with positions | {:.0} | {:.2} of the byte loop |
| serde_json to values | {:.0} | |
| events and verdicts | {:.0} | {:.1} of serde_json |
| read, checked, as trees | {:.0} | {:.1} of serde_json |

`wirewatch edi check` on one interchange of {} MB: {:.1} s ({:.0} MB/s), {} MB of memory at most.
",
            FILE >> 20,
            PART >> 20,
            self.byte_loop,
            self.tokens,
            self.paired,
            self.json,
            self.verdicts,
            self.verdicts / self.json,
            self.verdicts_and_trees,
            self.verdicts_and_trees / self.json,
            LARGE >> 20,
            took.as_secs_f64(),
            LARGE as f64 / 1e6 / took.as_secs_f64(),
            memory / 1024
        )
    }
}
