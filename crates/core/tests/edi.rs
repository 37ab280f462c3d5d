//! X12 documents as people read them, as data, compared, drafted from, and written again.

use proptest::prelude::*;
use serde_json::json;
use std::sync::Arc;
use wirewatch_core::edi::acknowledge::acknowledgments;
use wirewatch_core::edi::{Report, Summary, differences, draft, page, tree, write};
use wirewatch_core::partner::{Envelopes, Partner, Sending};
use wirewatch_core::x12::ack::{AckForm, AckKind, AckStyle, Stamp};
use wirewatch_core::x12::{Definitions, Delimiters, OnSeparator, Party, Reader, Reading, SetDefinition, SetTree, check_set};

fn definition(set: &str) -> Arc<SetDefinition> {
    Definitions::standard().find("004010", set).expect("a set of the standard").clone()
}

/// A set of these segments, numbered 0001.
fn set(id: &str, segments: &[&str]) -> SetTree {
    let mut all = vec![format!("ST*{id}*0001")];
    all.extend(segments.iter().map(|segment| (*segment).to_owned()));
    all.push(format!("SE*{}*0001", segments.len() + 2));
    let bytes = all.iter().map(|segment| format!("{segment}~\n")).collect::<String>();
    SetTree::new(definition(id), bytes.as_bytes(), Delimiters::default()).expect("a set")
}

/// An order that uses many segments.
const ORDER: [&str; 24] = [
    "BEG*00*SA*MF-20417*7*20261123**C-88",
    "CUR*BY*USD",
    "REF*DP*HIVES*Hives and frames",
    "PER*BD*Mina Alder*TE*802 555 0142*EM*mina@marrowfield.example",
    "FOB*CC*OR*Brattle Mills",
    "SAC*C*D240***1250**********Freight",
    "ITD*01*3*2**10**30",
    "DTM*002*20261201*0730",
    "TD5**2*BEEX*M*Bee Express",
    "N1*ST*Marrowfield Store 12*92*0012",
    "N2*Garden centre*Yard 3",
    "N3*4 Clover Lane*Rear gate",
    "N4*Tansy Mills*HV*HV104*US",
    "N1*BY*Marrowfield <Farm> & \"Stores\"",
    "PO1*1*12*EA*64.50**VP*QH-HIVE-10*SK*10-0440",
    "PID*F****TEN FRAME HIVE",
    "PID*F****with <stand>",
    "REF*CO*LINE-1",
    "SCH*6*EA***002*20261201",
    "PO1*2*48*EA*3.1**VP*QH-FRAME-D",
    "PO1*3*1*CA",
    "CTT*3",
    "AMT*TT*922.80",
    "N9*ZZ*unread*further on",
];

/// The order without what its table has no place for.
fn order() -> SetTree {
    set("850", &ORDER[..23])
}

#[test]
fn an_order_is_reported_with_everything_it_says() {
    insta::assert_snapshot!(Summary::of(&order()).to_string());
}

#[test]
fn totals_that_do_not_agree_with_the_lines_are_warned_of() {
    const HIVE: &str = "PO1*1*12*EA*64.5**VP*QH-HIVE-10";
    const FRAME: &str = "PO1*2*48*EA*3.1**VP*QH-FRAME-D";
    let cases: [(&[&str], &[&str]); 10] = [
        (&[HIVE, FRAME, "CTT*2*60", "AMT*TT*922.8"], &[]),
        (&[HIVE, FRAME, "CTT*3"], &["CTT01 is 3, but the number of lines is 2"]),
        (&[HIVE, FRAME, "CTT*2*61"], &["CTT02 is 61, but the quantities of the lines add up to 60"]),
        (&[HIVE, FRAME, "CTT*2", "AMT*TT*900"], &["AMT02 is 900, but the lines add up to 922.8"]),
        // What cannot be added up is not warned of.
        (&[HIVE, "PO1*2**EA*3.1**VP*QH-FRAME-D", "CTT*2*12", "AMT*TT*1"], &[]),
        (&[HIVE, "PO1*2*48*EA*3.1*HP*VP*QH-FRAME-D", "CTT*2*60", "AMT*TT*1"], &[]),
        (&["SAC*C*D240***1250**********Freight", HIVE, "CTT*1", "AMT*TT*786.50"], &[]),
        (&[HIVE, "SAC*C*D240***1250**********Freight", "CTT*1", "AMT*TT*786.50"], &[]),
        (&[HIVE, "TXI*ST*50", "CTT*1", "AMT*TT*824"], &[]),
        (&["CTT*1"], &["CTT01 is 1, but the number of lines is 0"]),
    ];
    for (segments, warnings) in cases {
        let summary = Summary::of(&set("850", &[&["BEG*00*SA*MF-1**20261123"], segments].concat()));
        assert_eq!(summary.warnings, warnings, "{segments:?}");
        assert_eq!(summary.to_string().matches("warning: ").count(), warnings.len());
        assert_eq!(page::page(&[summary]).matches("Warning:").count(), warnings.len());
    }
}

#[test]
fn an_input_is_acknowledged_group_by_group_in_its_partners_style() {
    let text = include_str!("../../../demo/samples/marrowfield-850.edi");
    let twice = format!("{text}{}", text.replacen("*000000101*0*T*", "*000000101*1*T*", 1));
    let stamp = Stamp { interchange_control: 7, group_control: 7, date: "20261123".into(), time: "0700".into() };
    let style = |form| AckStyle { form, ..AckStyle::default() };
    let reading = Reader::read(Definitions::standard(), twice.as_bytes());
    let drafted = acknowledgments(&reading, |_| style(AckForm::Implementation), &stamp);
    let kinds: Vec<AckKind> = drafted.iter().map(|one| one.kind).collect();
    assert_eq!(kinds.iter().filter(|kind| **kind == AckKind::Implementation).count(), 2);
    assert_eq!(kinds.iter().filter(|kind| **kind == AckKind::Interchange).count(), 1, "{kinds:?}");
    let controls: Vec<String> =
        drafted.iter().map(|one| String::from_utf8_lossy(&one.bytes).split('*').nth(13).unwrap_or_default().to_owned()).collect();
    let expected: Vec<String> = (7..7 + drafted.len()).map(|n| format!("{n:09}")).collect();
    assert_eq!(controls, expected, "numbers count up");
    for one in &drafted {
        let lines = String::from_utf8(one.lines()).unwrap();
        assert!(lines.starts_with("ISA*") && lines.lines().all(|line| line.ends_with('~')), "{lines}");
    }
    assert!(acknowledgments(&Reader::read(Definitions::standard(), b""), |_| AckStyle::default(), &stamp).is_empty());
}

#[test]
fn an_answer_is_reported_by_what_became_of_each_line() {
    let answer = set(
        "855",
        &[
            "BAK*00*AC*MF-20417*20261123****Q-100042*20261124",
            "REF*VN*Q-100042",
            "PO1*1*12*EA*64.50**VP*QH-HIVE-10",
            "ACK*IA*12*EA*068*20261201",
            "PO1*2*48*EA*3.10**VP*QH-FRAME-D",
            "ACK*IB*40*EA*068*20261202",
            "ACK*IR*8*EA",
            "CTT*2",
        ],
    );
    insta::assert_snapshot!(Summary::of(&answer).to_string());
}

#[test]
fn an_acknowledgment_is_reported_in_sentences() {
    let segments =
        ["AK1*PO*101", "AK2*850*0001", "AK3*PO1*9**8", "AK4*2*330*6*twelve", "AK5*R*5", "AK2*850*0002", "AK5*A", "AK9*P*2*2*1"];
    let reported = Summary::of(&set("997", &segments));
    assert_eq!(reported.says[0], "group PO 101: partly accepted, 1 of 2 sets accepted");
    assert_eq!(reported.says[1], "850 0001: rejected");
    assert_eq!(reported.says[2], "850 0001, segment 9 (PO1), PO102: Invalid Character In Data Element (twelve)");
    assert_eq!((reported.says.len(), reported.facts.len()), (3, 0));
}

#[test]
fn a_page_stands_alone_and_lets_no_text_become_markup() {
    let html = page::page(&[Summary::of(&order()), Summary::of(&order())]);
    assert_eq!(html.matches("<section>").count(), 2);
    assert!(html.contains("Marrowfield &lt;Farm&gt; &amp; &quot;Stores&quot;") && html.contains("with &lt;stand&gt;"), "{html}");
    assert!(html.contains("<td class=\"n\">774.00</td>") && html.contains("<dt>Sum of the lines</dt><dd>922.80</dd>"), "{html}");
    let markup = ["<Farm>", "<stand>", "<script", "http:", "https:", "src=", "url("];
    assert_eq!(markup.iter().find(|one| html.contains(**one)), None);
    assert!(page::page(&[]).contains("<body></body>"), "nothing to show is a page, too");
}

#[test]
fn differences_are_reported_by_meaning() {
    let reported = |change: &dyn Fn(&mut Vec<String>)| {
        let mut segments: Vec<String> = ORDER[..23].iter().map(|segment| (*segment).to_owned()).collect();
        change(&mut segments);
        let after = set("850", &segments.iter().map(String::as_str).collect::<Vec<_>>());
        let reported = differences(&order(), &after).into_iter();
        let text = |side: Option<String>| side.unwrap_or_else(|| "-".to_owned());
        reported.map(|one| format!("{} ({}): {} → {}", one.at, one.name, text(one.before), text(one.after))).collect::<Vec<_>>()
    };
    let at = |start: &str| ORDER.iter().position(|segment| segment.starts_with(start)).expect("a segment");
    let replace =
        |start: &'static str, with: &'static str| move |segments: &mut Vec<String>| with.clone_into(&mut segments[at(start)]);
    assert_eq!(reported(&|_| {}), [""; 0]);
    assert_eq!(reported(&replace("PO1*2", "PO1*2*50*EA*3.1**VP*QH-FRAME-D")), ["PO1[2]/PO102 (Quantity Ordered): 48 → 50"]);
    assert_eq!(reported(&replace("REF*DP", "REF*DP*HIVES")), ["REF03 (Description): Hives and frames → -"]);
    // One more party before the others counts as one more party, not as a change of every party; the segment count in SE is
    // ignored.
    assert_eq!(
        reported(&|segments| segments.insert(at("N1*ST"), "N1*BT*Marrowfield Office".to_owned())),
        ["N1[1] (Name): - → N1*BT*Marrowfield Office"]
    );
    assert_eq!(reported(&|segments| drop(segments.remove(at("CUR")))), ["CUR (Currency): CUR*BY*USD → -"]);
    assert_eq!(reported(&replace("CTT", "CTT*3*0")), ["CTT/CTT02 (Hash Total): - → 0"]);
}

#[test]
fn a_tree_that_is_none_says_where() {
    let says = |json: serde_json::Value| tree::from_json(&json).expect_err("no tree").to_string();
    assert_eq!(says(json!({ "loop": "850" })), "tree: a loop needs a list `of` of segments and loops");
    assert_eq!(says(json!({ "of": [7] })), "tree.of[0]: expected an object with `loop` or `segment`");
    assert_eq!(
        says(json!({ "of": [{ "loop": "N1", "of": [{ "segment": "N1", "N201": "x" }] }] })),
        "tree.of[0].of[0].N201: elements of N1 are named N101, N102, …"
    );
    assert_eq!(
        says(json!({ "of": [{ "segment": "N1", "N1100": "x" }] })),
        "tree.of[0].N1100: elements of N1 are named N101, N102, …"
    );
    for wrong in [json!(true), json!({}), json!([[1]]), json!({ "repeats": [false] })] {
        let says = says(json!({ "of": [{ "segment": "N1", "N101": wrong }] }));
        assert!(says.starts_with("tree.of[0].N101: expected a text, a number, a list"), "{says}");
    }
}

fn partner(envelopes: Envelopes) -> Partner {
    let party = |id: &str| Party { qualifier: "ZZ".to_owned(), id: id.to_owned() };
    Partner {
        name: "marrowfield".to_owned(),
        title: "Marrowfield Farm Stores".to_owned(),
        them: party("MARROWFIELD"),
        us: party("QUILLHAVEN"),
        acknowledge: None,
        tolerated: Vec::new().into(),
        definitions: Definitions::standard().clone(),
        sending: Sending { envelopes, ..Sending::default() },
    }
}

fn numbering(interchange: u32, group: u32) -> write::Numbering {
    let [date, time, usage] = ["20261124", "0815", "T"].map(str::to_owned);
    write::Numbering { interchange, group, date, time, usage }
}

/// Two orders with an answer between them, written for a partner.
fn written(envelopes: Envelopes) -> Vec<Reading> {
    let outgoing = |id: &str, first: &[&str]| {
        let tree = set(id, first);
        write::Outgoing { definition: tree.definition().clone(), nodes: tree.plain() }
    };
    let orders = |number: &str| outgoing("850", &[&format!("BEG*00*SA*{number}**20261123"), "PO1*1*1*EA*2", "CTT*1"]);
    let answer = outgoing("855", &["BAK*00*AD*MF-1*20261123", "PO1*1*1*EA*2", "CTT*1"]);
    let all = write::interchanges(&partner(envelopes), &[orders("MF-1"), answer, orders("MF-2")], &numbering(41, 71));
    all.expect("written").iter().map(|bytes| Reader::read(Definitions::standard(), bytes)).collect()
}

#[test]
fn sets_go_out_in_as_many_interchanges_as_the_partner_wants() {
    let reported = |envelopes: Envelopes| {
        let readings = written(envelopes);
        let reported = readings.iter().map(|reading| {
            let report = Report::of(reading);
            assert!(report.valid && report.rejected().0 == 0, "{report:#?}");
            let [one] = &report.interchanges[..] else { panic!("one each") };
            assert_eq!((one.sender.as_str(), one.receiver.as_str(), one.note.as_str()), ("QUILLHAVEN", "MARROWFIELD", "000"));
            let groups =
                one.groups.iter().map(|group| format!("{} {} of {}", group.functional_id, group.control, group.received));
            format!("{}: {}", one.control, groups.collect::<Vec<_>>().join(", "))
        });
        reported.collect::<Vec<_>>()
    };
    assert_eq!(reported(Envelopes::One), ["000000041: PO 71 of 2, PR 72 of 1"]);
    assert_eq!(reported(Envelopes::PerGroup), ["000000041: PO 71 of 2", "000000042: PR 72 of 1"]);
    assert_eq!(reported(Envelopes::PerSet), ["000000041: PO 71 of 1", "000000042: PR 72 of 1", "000000043: PO 73 of 1"]);
}

#[test]
fn a_value_that_cannot_be_written_stops_all_of_them() {
    let sent = |wrong: serde_json::Value| {
        let tree = set("850", &["BEG*00*SA*MF-1**20261123", "CTT*1"]);
        let mut nodes = tree.plain();
        nodes.insert(2, tree::from_json(&json!({ "of": [wrong] })).expect("a segment").remove(0));
        let outgoing = write::Outgoing { definition: tree.definition().clone(), nodes };
        let mut partner = partner(Envelopes::One);
        partner.sending.style.on_separator = OnSeparator::Refuse;
        write::interchanges(&partner, &[outgoing], &numbering(1, 1)).expect_err("it cannot be written").to_string()
    };
    assert_eq!(
        sent(json!({ "segment": "SAC", "SAC01": "C", "SAC05": 1.234 })),
        "SAC05 (Amount): `1.234` has more than 2 decimal places"
    );
    assert_eq!(
        sent(json!({ "segment": "REF", "REF01": "DP", "REF02": "A*B" })),
        "REF02 contains a separator of the interchange: A*B"
    );
}

#[test]
fn what_is_no_interchange_is_not_valid() {
    let report = Report::of(&Reader::read(Definitions::standard(), b"Dear Sir or Madam"));
    assert_eq!((report.valid, report.rejected(), report.errors.len()), (false, (0, 0), 1));
    let [unread] = &report.unread[..] else { panic!("{report:?}") };
    assert_eq!((unread.from, unread.to), (0, 17));
}

#[test]
fn samples_of_different_sets_make_no_guide() {
    assert_eq!(draft::draft(&[]), None);
    assert_eq!(draft::draft(&[order(), set("997", &["AK1*PO*1", "AK9*A*1*1*1"])]), None);
}

/// Lines of an order: quantity, unit, and whether they are described.
fn orders() -> impl Strategy<Value = Vec<SetTree>> {
    let line = (1u32..1000, prop::sample::select(vec!["EA", "CA", "PK"]), any::<bool>());
    let one = (prop::collection::vec(line, 1..6), any::<bool>(), "[A-Z0-9-]{1,12}").prop_map(|(lines, dated, number)| {
        let mut segments = vec![format!("BEG*00*SA*{number}**20261123")];
        segments.extend(dated.then(|| "DTM*002*20261201".to_owned()));
        for (n, (quantity, unit, described)) in lines.iter().enumerate() {
            segments.push(format!("PO1*{}*{quantity}*{unit}*1.5**VP*QH-{n}", n + 1));
            segments.extend(described.then(|| format!("PID*F****ITEM {n}")));
        }
        segments.push(format!("CTT*{}", lines.len()));
        set("850", &segments.iter().map(String::as_str).collect::<Vec<_>>())
    });
    prop::collection::vec(one, 1..6)
}

proptest! {
    #[test]
    fn a_set_is_the_same_after_its_tree_as_json(orders in orders()) {
        for order in orders {
            let back = tree::from_json(&tree::to_json(&order)).expect("a tree");
            prop_assert_eq!(tree::from_json(&tree::to_json(&order)).expect("a tree"), back.clone());
            let outgoing = write::Outgoing { definition: order.definition().clone(), nodes: back };
            let bytes = write::interchanges(&partner(Envelopes::One), &[outgoing], &numbering(1, 1)).expect("written").remove(0);
            let reading = Reader::read(Definitions::standard(), &bytes);
            let (header, read) = (&reading.interchanges[0].header, &reading.interchanges[0].groups[0].sets[0]);
            let own = &bytes[read.bytes.start as usize..read.bytes.end as usize];
            let again = SetTree::new(order.definition().clone(), own, header.delimiters).expect("a set");
            prop_assert_eq!(differences(&order, &again), vec![]);
            prop_assert_eq!(Summary::of(&order), Summary::of(&again));
        }
    }

    /// A guide drafted from samples finds nothing wrong with any of them.
    #[test]
    fn a_drafted_guide_asks_for_no_more_than_every_sample_has(orders in orders()) {
        let guide = draft::draft(&orders).expect("a guide");
        let narrowed = guide.apply("draft", &definition("850")).expect("a guide that fits the standard");
        let narrowed = Arc::new(narrowed);
        for order in &orders {
            prop_assert_eq!(check_set(&narrowed, order.bytes(), Delimiters::default()).faults, vec![]);
        }
    }
}
