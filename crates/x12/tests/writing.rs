//! A written tree reads back unchanged with any separators; values that cannot be written are errors.

use proptest::prelude::*;
use std::path::Path;
use wirewatch_x12::plain::{Element, Node, compose};
use wirewatch_x12::{
    Definitions, Delimiters, Envelope, GroupHead, OnSeparator, Party, Reader, SetDefinition, SetTree, Style, Writer,
};

fn writer(delimiters: Delimiters, style: Style, definition: &SetDefinition) -> Writer {
    let version = definition.version.as_str();
    let party = |id: &str| Party { qualifier: "ZZ".into(), id: id.into() };
    let envelope = Envelope {
        sender: party("QUILLHAVEN"),
        receiver: party("MARROWFIELD"),
        date: "20261123".into(),
        time: "0700".into(),
        version: version[..5].into(),
        control: 101,
        wants_ta1: false,
        usage: "T".into(),
        delimiters,
    };
    let mut writer = Writer::new(envelope, style);
    let head = GroupHead {
        functional_id: definition.functional_id.clone(),
        sender: "Q".into(),
        receiver: "M".into(),
        control: 101,
        version: version.into(),
    };
    writer.start_group(&head);
    writer
}

/// Writes a set and reads it back.
fn there_and_back(definition: &std::sync::Arc<SetDefinition>, nodes: &[Node], delimiters: Delimiters, style: Style) -> Vec<Node> {
    let mut writer = writer(delimiters, style, definition);
    compose(definition, nodes, &mut writer).expect("values that can be written");
    let bytes = writer.finish().expect("no separator stands in a value");
    let reading = Reader::read(Definitions::standard(), &bytes);
    let [interchange] = &reading.interchanges[..] else { panic!("{}", String::from_utf8_lossy(&bytes)) };
    assert_eq!(interchange.faults, [], "{}", String::from_utf8_lossy(&bytes));
    let set = &interchange.groups[0].sets[0];
    assert!(set.faults.iter().all(|fault| fault.level != wirewatch_x12::Level::Set), "{:?}", set.faults);
    let own = &bytes[set.bytes.start as usize..set.bytes.end as usize];
    inner(&SetTree::new(definition.clone(), own, interchange.header.delimiters).expect("a set").plain())
}

/// Without ST and SE, which the writer makes.
fn inner(nodes: &[Node]) -> Vec<Node> {
    nodes.iter().filter(|node| !matches!(node, Node::Segment { id, .. } if id == "ST" || id == "SE")).cloned().collect()
}

#[test]
fn every_sound_document_of_the_corpus_is_written_as_it_was_read() {
    let mut written = 0;
    for entry in std::fs::read_dir(Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/corpus")).expect("the corpus") {
        let text = std::fs::read(entry.expect("an entry").path()).expect("a file");
        let at = text.windows(5).position(|window| window == b"\n---\n").expect("dashes") + 5;
        let document = &text[at..];
        let reading = Reader::read(Definitions::standard(), document);
        for interchange in reading.interchanges.iter().filter(|one| one.faults.is_empty()) {
            for group in &interchange.groups {
                for set in group.accepted() {
                    let definition = Definitions::standard().find(&group.version, &set.set).expect("it was checked by one");
                    let own = &document[set.bytes.start as usize..set.bytes.end as usize];
                    let tree = SetTree::new(definition.clone(), own, interchange.header.delimiters).expect("a set");
                    let nodes = inner(&tree.plain());
                    let delimiters = Delimiters { element: b'|', component: b':', repetition: None, segment: b'\'' };
                    assert_eq!(
                        there_and_back(definition, &nodes, delimiters, Style { line_ends: true, ..Style::default() }),
                        nodes
                    );
                    written += 1;
                }
            }
        }
    }
    assert!(written > 30, "{written}");
}

fn text() -> impl Strategy<Value = Element> {
    // Without separators, and without spaces at the ends, which look like padding.
    prop_oneof![Just(Element::Empty), "[A-Za-z0-9.,-]([A-Za-z0-9 .,-]{0,10}[A-Za-z0-9])?".prop_map(Element::Text)]
}

fn segment(id: &'static str, elements: usize) -> impl Strategy<Value = Node> {
    prop::collection::vec(text(), 1..=elements).prop_map(move |mut elements| {
        // A segment that ends with nothing is written without it.
        while elements.last().is_some_and(Element::is_empty) {
            elements.pop();
        }
        Node::Segment { id: id.into(), elements }
    })
}

fn order() -> impl Strategy<Value = Vec<Node>> {
    let party = (segment("N1", 4), prop::collection::vec(segment("N3", 2), 0..2));
    let party = party.prop_map(|(first, rest)| Node::Loop { id: "N1".into(), of: [vec![first], rest].concat() });
    let described = segment("PID", 5).prop_map(|pid| Node::Loop { id: "PID".into(), of: vec![pid] });
    let line = (segment("PO1", 9), prop::collection::vec(described, 0..3));
    let line = line.prop_map(|(first, rest)| Node::Loop { id: "PO1".into(), of: [vec![first], rest].concat() });
    let parties = prop::collection::vec(party, 0..4);
    let lines = prop::collection::vec(line, 1..8);
    let references = prop::collection::vec((text(), text(), text()), 0..3).prop_map(|all| {
        let one = |(a, b, c): (Element, Element, Element)| {
            let parts = [a, b, c].into_iter().map(|part| match part {
                Element::Text(text) => text,
                _ => String::new(),
            });
            let mut parts: Vec<String> = parts.collect();
            while parts.last().is_some_and(String::is_empty) {
                parts.pop();
            }
            let mut elements =
                vec![Element::Text("DP".into()), Element::Text("X".into()), Element::Empty, Element::Components(parts)];
            while elements.last().is_some_and(Element::is_empty) {
                elements.pop();
            }
            Node::Segment { id: "REF".into(), elements }
        };
        all.into_iter().map(one).collect::<Vec<_>>()
    });
    (segment("BEG", 5), references, parties, lines)
        .prop_map(|(beg, references, parties, lines)| [vec![beg], references, parties, lines].concat())
}

proptest! {
    #[test]
    fn what_was_written_reads_back_as_the_same_tree(nodes in order(), line_ends: bool, version in prop_oneof![Just("004010"), Just("005010")]) {
        let definition = Definitions::standard().find(version, "850").unwrap();
        let repetition = (version == "005010").then_some(b'^');
        let delimiters = Delimiters { repetition, ..Delimiters::default() };
        let style = Style { line_ends, on_separator: OnSeparator::Refuse };
        prop_assert_eq!(there_and_back(definition, &nodes, delimiters, style), nodes);
    }
}

#[test]
fn a_separator_in_a_value_is_replaced_or_refused() {
    let definition = Definitions::standard().find("004010", "850").unwrap();
    let nodes = [Node::Segment { id: "N3".into(), elements: vec![Element::Text("4~Clover*Lane".into())] }];
    let write = |on_separator| {
        let mut writer = writer(Delimiters::default(), Style { on_separator, line_ends: false }, definition);
        compose(definition, &nodes, &mut writer).unwrap();
        writer.finish()
    };
    let written = String::from_utf8(write(OnSeparator::Replace).unwrap()).unwrap();
    assert!(written.contains("~N3*4 Clover Lane~"), "{written}");
    assert_eq!(
        write(OnSeparator::Refuse).unwrap_err().to_string(),
        "N301 contains a separator of the interchange: 4~Clover*Lane"
    );
}

#[test]
fn a_value_that_its_element_cannot_hold_is_said_with_its_place() {
    let definition = Definitions::standard().find("004010", "850").unwrap();
    let number = |text: &str| Node::Segment {
        id: "SAC".into(),
        elements: vec![
            Element::Text("C".into()),
            Element::Text("D240".into()),
            Element::Empty,
            Element::Empty,
            Element::Number(text.into()),
        ],
    };
    let mut first = writer(Delimiters::default(), Style::default(), definition);
    compose(definition, &[number("15.5")], &mut first).unwrap();
    let written = String::from_utf8(first.finish().unwrap()).unwrap();
    assert!(written.contains("~SAC*C*D240***1550~"), "two decimal places are implied: {written}");
    let mut second = writer(Delimiters::default(), Style::default(), definition);
    let refused = compose(definition, &[number("15.555")], &mut second).unwrap_err();
    assert_eq!(refused.to_string(), "SAC05 (Amount): `15.555` has more than 2 decimal places");
}
