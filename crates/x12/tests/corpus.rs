//! Documents, each with what the standard's rules say of it: `corpus/NAME.txt` begins with a sentence and the verdict, the
//! document follows behind a line of dashes.
//!
//! ```text
//! interchange ISA13 TA105
//! group GS01 GS06 AK901 included/received/accepted  codes of AK905
//! set ST01 ST02 AK501
//!   level code segment position element-component     (or `note` for what changes no verdict)
//! unread from..to                                      (bytes outside any interchange)
//! ```

use std::fmt::Write;
use std::path::Path;
use wirewatch_x12::ack::{AckForm, AckStyle, GroupAck, Stamp, acknowledgments, functional_ack, interchange_verdict};
use wirewatch_x12::{Definitions, Fault, Reader, Reading, Weight};

fn verdict(reading: &Reading) -> String {
    let mut text = String::new();
    for interchange in &reading.interchanges {
        writeln!(text, "interchange {} {}", interchange.header.control, interchange_verdict(interchange).1).unwrap();
        for group in &interchange.groups {
            let included = group.included.map_or("-".to_owned(), |included| included.to_string());
            let counts = format!("{included}/{}/{}", group.received, group.accepted_count());
            let codes: String = group.faults.iter().map(|fault| format!(" {}", fault.code)).collect();
            let ack = GroupAck::of(group).code();
            writeln!(text, "group {} {} {ack} {counts}{codes}", group.functional_id, group.control).unwrap();
            for set in &group.sets {
                let number = if set.set.is_empty() { "-" } else { &set.set };
                writeln!(text, "set {number} {} {}", set.control, set.ack().code()).unwrap();
                set.faults.iter().for_each(|fault| writeln!(text, "  {}", line(fault)).unwrap());
            }
        }
    }
    for unread in &reading.unread {
        writeln!(text, "unread {}..{}", unread.bytes.start, unread.bytes.end).unwrap();
    }
    text
}

fn line(fault: &Fault) -> String {
    let what = match fault.weight {
        Weight::Note => "note".to_owned(),
        Weight::Error | Weight::Tolerated => format!("{} {}", fault.level.as_str(), fault.code),
    };
    let element = fault.element.map_or(String::new(), |element| format!(" {element}"));
    let component = fault.component.map_or(String::new(), |component| format!("-{component}"));
    format!("{what} {} {}{element}{component}", fault.segment, fault.position)
}

/// Name, expected verdict and document of each file.
fn corpus() -> Vec<(String, String, Vec<u8>)> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/corpus");
    let mut all = Vec::new();
    for entry in std::fs::read_dir(folder).expect("the corpus") {
        let path = entry.expect("an entry").path();
        let bytes = std::fs::read(&path).expect("a file");
        let dashes = b"\n---\n";
        let at = bytes.windows(dashes.len()).position(|window| window == dashes).expect("a line of dashes");
        let head = String::from_utf8(bytes[..at + 1].to_vec()).expect("text");
        let expected = head.split_once("\n\n").map_or("", |(_, expected)| expected).to_owned();
        let name = path.file_stem().expect("a name").to_string_lossy().into_owned();
        all.push((name, expected, bytes[at + dashes.len()..].to_vec()));
    }
    all.sort();
    all
}

#[test]
fn every_document_gets_the_verdict_of_the_standard() {
    let corpus = corpus();
    assert!(corpus.len() >= 80, "{} documents", corpus.len());
    let mut wrong = String::new();
    for (name, expected, document) in &corpus {
        let found = verdict(&Reader::read(Definitions::standard(), document));
        if found != *expected {
            write!(wrong, "\n{name}\nexpected\n{expected}found\n{found}").unwrap();
        }
    }
    assert!(wrong.is_empty(), "{wrong}");
}

#[test]
fn how_a_document_is_cut_into_pieces_changes_no_verdict() {
    for (name, expected, document) in corpus() {
        for size in [1, 7, 64] {
            let mut reader = Reader::new(Definitions::standard(), wirewatch_x12::Limits::default());
            document.chunks(size).for_each(|piece| reader.feed(piece));
            assert_eq!(verdict(&reader.finish()), expected, "{name} in pieces of {size}");
        }
    }
}

#[test]
fn every_acknowledgment_is_sound_and_says_what_was_found() {
    let stamp = Stamp { interchange_control: 5, group_control: 6, date: "20261123".into(), time: "0701".into() };
    for (name, _, document) in corpus() {
        let reading = Reader::read(Definitions::standard(), &document);
        for interchange in &reading.interchanges {
            for group in interchange.groups.iter().filter(|group| group.functional_id != "FA") {
                for form in [AckForm::Functional, AckForm::Implementation] {
                    let style = AckStyle { form, ..AckStyle::default() };
                    let bytes = functional_ack(&interchange.header, group, style, &stamp);
                    let shown = String::from_utf8_lossy(&bytes).into_owned();
                    let nameless = interchange.header.sender.id.is_empty() || interchange.header.receiver.id.is_empty();
                    let again = Reader::read(Definitions::standard(), &bytes);
                    let acknowledgment = &again.interchanges[0].groups[0];
                    // Text quoted from a broken envelope may break the acknowledgment; a valid envelope never does.
                    if !nameless
                        && group.faults.is_empty()
                        && group.sets.iter().all(|set| set.control.len() >= 4 && !set.set.is_empty())
                    {
                        assert_eq!(GroupAck::of(acknowledgment), GroupAck::Accepted, "{name}: {shown}\n{acknowledgment:?}");
                    }
                    let read = acknowledgments(&bytes);
                    assert_eq!(read.len(), 1, "{name}");
                    assert_eq!(
                        (read[0].verdict.as_str(), read[0].accepted),
                        (GroupAck::of(group).code(), group.accepted_count())
                    );
                    let verdicts: Vec<&str> = read[0].sets.iter().map(|set| set.verdict.as_str()).collect();
                    let expected: Vec<&str> = group.sets.iter().map(|set| set.ack().code()).collect();
                    assert_eq!(verdicts, expected, "{name}: {shown}");
                }
            }
        }
    }
}

#[test]
fn a_header_too_short_to_be_one_inside_an_interchange_is_reported_and_read_past() {
    let document = altered("CUR*BY*USD~", b"ISA*00*   ~");
    let reading = Reader::read(Definitions::standard(), &document);
    let notes: Vec<&str> = reading.interchanges.iter().map(|one| interchange_verdict(one).1).collect();
    assert_eq!(notes, ["023", "012"], "the first ends too early, the second is no header");
}

/// The valid order of the corpus with one change.
fn altered(from: &str, to: &[u8]) -> Vec<u8> {
    let text = std::fs::read_to_string(Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/corpus/850-4010.txt")).expect("text");
    let document = text.split_once("\n---\n").expect("a document").1;
    let (before, after) = document.split_once(from).expect("it is there");
    [before.as_bytes(), to, after.as_bytes()].concat()
}

#[test]
fn an_interchange_with_odd_separators_gets_an_answer_that_reads() {
    let letter = altered("*T*>~", b"*T*S~");
    let beyond_ascii = altered("*U*00401*", b"*\xfd*00402*");
    for document in [letter, beyond_ascii, altered("*T*>~", b"*T*\xfd~")] {
        let reading = Reader::read(Definitions::standard(), &document);
        let interchange = &reading.interchanges[0];
        let stamp = Stamp { interchange_control: 5, group_control: 6, date: "20261123".into(), time: "0701".into() };
        let ack = functional_ack(&interchange.header, &interchange.groups[0], AckStyle::default(), &stamp);
        let answer = Reader::read(Definitions::standard(), &ack);
        assert_eq!(answer.interchanges.len(), 1, "{}", String::from_utf8_lossy(&ack));
        assert_eq!(answer.interchanges[0].faults, []);
    }
}
