//! Whole interchanges, good and bad, with the acknowledgment each one earns.

use proptest::prelude::*;
use wirewatch_x12::ack::{AckStyle, GroupAck, Stamp, functional_ack};
use wirewatch_x12::{Definitions, Delimiters, Envelope, GroupHead, Party, Reader, Reading, SetAck, SetTree, Style, Writer};

const SAMPLE: &str = include_str!("../../../demo/samples/marrowfield-850.edi");

fn read(text: &str) -> Reading {
    Reader::read(Definitions::standard(), text.as_bytes())
}

fn ack(text: &str) -> String {
    let reading = read(text);
    let interchange = &reading.interchanges[0];
    let stamp = Stamp { interchange_control: 7, group_control: 9, date: "20261123".into(), time: "0701".into() };
    let bytes = functional_ack(&interchange.header, &interchange.groups[0], AckStyle::default(), &stamp);
    String::from_utf8(bytes).unwrap().replace('~', "~\n")
}

#[test]
fn a_sound_interchange_is_accepted_whole() {
    let reading = read(SAMPLE);
    let [interchange] = &reading.interchanges[..] else { panic!("one interchange") };
    assert_eq!(interchange.faults, []);
    let group = &interchange.groups[0];
    assert_eq!(GroupAck::of(group), GroupAck::Accepted, "{:?}", group.sets);
    let sets: Vec<_> = group.sets.iter().map(|set| (set.control.as_str(), set.segments, set.ack())).collect();
    assert_eq!(sets, [("0001", 15, SetAck::Accepted), ("0002", 13, SetAck::Accepted)]);
    insta::assert_snapshot!(ack(SAMPLE));
}

#[test]
fn every_fault_of_a_set_is_found_and_reported() {
    let bad = SAMPLE
        .replacen("BEG*00*SA*MF-20417**20261123", "BEG*00*SA***20261332", 1)
        .replacen("CUR*BY*USD~\n", "CUR*BY*USD~\nZZZ*1~\nPO3*AB~\n", 1)
        .replacen("N4*Tansy", "N3*a~\nN3*b~\nN4*Tansy", 1)
        .replacen("PO1*1*12*EA*64.50**VP*QH", "PO1*1*x2*EACH*64.50**VP*", 1);
    insta::assert_snapshot!(ack(&bad));
}

/// (what is done to the sample, the level and code that must be found)
#[test]
fn broken_envelopes_get_the_codes_of_the_standard() {
    let without = |from: &str| SAMPLE.replacen(from, "", 1);
    let cases = [
        ("no SE", without("SE*15*0001~\n"), "Set 2"),
        ("wrong SE01", SAMPLE.replacen("SE*15*", "SE*16*", 1), "Set 4"),
        ("wrong SE02", SAMPLE.replacen("SE*15*0001", "SE*15*0009", 1), "Set 3"),
        ("unknown set", SAMPLE.replacen("ST*850", "ST*851", 1), "Set 1"),
        ("no GE", without("GE*2*101~\n"), "Group 3"),
        ("wrong GE01", SAMPLE.replacen("GE*2", "GE*3", 1), "Group 5"),
        ("wrong GE02", SAMPLE.replacen("GE*2*101", "GE*2*102", 1), "Group 4"),
        ("other version", SAMPLE.replacen("*X*004010", "*X*002001", 1), "Group 2"),
        ("no IEA", without("IEA*1*000000101~\n"), "Interchange 023"),
        ("wrong IEA01", SAMPLE.replacen("IEA*1", "IEA*2", 1), "Interchange 021"),
        ("wrong IEA02", SAMPLE.replacen("IEA*1*000000101", "IEA*1*000000102", 1), "Interchange 001"),
        ("cut inside", SAMPLE[..600].to_owned(), "Interchange 023"),
    ];
    for (what, text, expected) in cases {
        let reading = read(&text);
        let interchange = &reading.interchanges[0];
        let groups = interchange.groups.iter();
        let sets = groups.clone().flat_map(|group| group.sets.iter().flat_map(|set| &set.faults));
        let all: Vec<String> = interchange
            .faults
            .iter()
            .chain(groups.flat_map(|group| &group.faults))
            .chain(sets)
            .map(|fault| format!("{:?} {}", fault.level, fault.code))
            .collect();
        assert!(all.iter().any(|found| found == expected), "{what}: {expected} not in {all:?}");
    }
}

#[test]
fn a_tree_nests_segments_by_loop() {
    let reading = read(SAMPLE);
    let set = &reading.interchanges[0].groups[0].sets[0];
    let bytes = &SAMPLE.as_bytes()[set.bytes.start as usize..set.bytes.end as usize];
    let definition = Definitions::standard().find("004010", "850").unwrap().clone();
    let tree = SetTree::new(definition, bytes, Delimiters::default()).unwrap();
    assert_eq!(tree.root().segment("BEG").unwrap().text(3), "MF-20417");
    assert_eq!(tree.root().loops("N1").next().unwrap().segment("N4").unwrap().text(2), "HV");
    let lines: Vec<String> = tree.root().loops("PO1").map(|line| line.segment("PID").unwrap().text(5)).collect();
    assert_eq!(lines, ["TEN FRAME HIVE", "DEEP FRAME"]);
}

proptest! {
    /// No bytes make the reader, the checker, the tree or the acknowledgment panic.
    #[test]
    fn mutated_documents_never_panic(cuts in prop::collection::vec((0usize..900, prop::collection::vec(any::<u8>(), 0..6), 0usize..40), 1..6)) {
        let mut bytes = SAMPLE.as_bytes().to_vec();
        for (at, new, gone) in cuts {
            let at = at.min(bytes.len());
            let end = (at + gone).min(bytes.len());
            bytes.splice(at..end, new);
        }
        let reading = Reader::read(Definitions::standard(), &bytes);
        for interchange in &reading.interchanges {
            for group in &interchange.groups {
                let stamp = Stamp { interchange_control: 1, group_control: 1, date: "20261123".into(), time: "0701".into() };
                let ack = functional_ack(&interchange.header, group, AckStyle::default(), &stamp);
                let again = Reader::read(Definitions::standard(), &ack);
                prop_assert_eq!(again.interchanges.len(), 1);
                for set in &group.sets {
                    let slice = bytes.get(set.bytes.start as usize..set.bytes.end as usize).expect("ranges lie in the input");
                    let definition = Definitions::standard().find("004010", "850").unwrap().clone();
                    let _ = SetTree::new(definition, slice, interchange.header.delimiters);
                }
            }
        }
    }

    /// Everything the writer writes reads back unchanged.
    #[test]
    fn written_values_read_back(values in prop::collection::vec("[ -)+-=?-}]{0,12}", 1..9), number in 1u32..999_999_999) {
        let party = |id: &str| Party { qualifier: "ZZ".into(), id: id.into() };
        let envelope = Envelope {
            sender: party("QUILLHAVEN"), receiver: party("MARROWFIELD"), date: "20261123".into(), time: "0700".into(),
            version: "00401".into(), control: number, wants_ta1: false, usage: "T".into(), delimiters: Delimiters::default(),
        };
        let mut writer = Writer::new(envelope, Style::default());
        writer.start_group(&GroupHead {
            functional_id: "FA".into(), sender: "Q".into(), receiver: "M".into(), control: number, version: "004010".into(),
        });
        writer.start_set("997");
        let mut parts = vec!["MSG"];
        parts.extend(values.iter().map(String::as_str));
        writer.segment(&parts);
        let bytes = writer.finish().expect("separators are replaced");
        let mut scanner = wirewatch_x12::Scanner::over(&bytes, wirewatch_x12::Limits::default());
        let mut found = None;
        while let Some(item) = scanner.next_item() {
            if let wirewatch_x12::Item::Segment(segment) = item && segment.id() == b"MSG" {
                found = Some(segment.elements().skip(1).map(|e| String::from_utf8(e.to_vec()).unwrap()).collect::<Vec<_>>());
            }
        }
        let used = values.iter().rposition(|value| !value.is_empty()).map_or(0, |last| last + 1);
        prop_assert_eq!(found.unwrap(), values[..used].to_vec());
    }
}
