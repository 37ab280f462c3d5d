//! A partner's extra rules and tolerances.

use std::sync::Arc;
use wirewatch_x12::ack::{AckForm, AckStyle, GroupAck, Stamp, functional_ack};
use wirewatch_x12::{
    Definitions, Delimiters, Guide, Level, Limits, Reader, Reading, SetAck, Source, Terms, Tolerance, check_set,
};

const SET: &str = "ST*850*0001~
BEG*00*SA*MF-20417**20261123~
CUR*BY*USD~
N1*ST*Marrowfield Store 12*92*0012~
N3*4 Clover Lane~
PO1*1*12*EA*64.50**VP*QH-HIVE-10~
CTT*1~
SE*8*0001~
";

const GUIDE: &str = r#"
title = "Orders of Marrowfield"
of    = "x12/004010/850"

[[segment]]
at  = "BEG"
[segment.elements]
BEG02 = { codes = ["SA", "NE"], says = "Marrowfield sends new and stand-alone orders only." }
BEG03 = { longest = 10 }
BEG04 = { use = "forbidden" }
BEG06 = { use = "required" }

[[segment]]
at  = "CUR"
use = "forbidden"

[[segment]]
at  = "DTM"
use = "required"

[[segment]]
at  = "PO1"
max = 2

[[segment]]
at = "N1/N3"
max = 1

[[add]]
segment = "K9"
after   = "CUR"
max     = 3

[[rule]]
in    = "N1"
when  = "N101"
is    = ["ST"]
needs = ["N103", "N104"]
says  = "Stores are given by our number (N103 is 92)."

[dictionary.segments]
K9 = { name = "Season", elements = ["352 M"] }
"#;

fn narrowed(guide: &str) -> Arc<wirewatch_x12::SetDefinition> {
    let guide = Guide::read(guide).expect("a guide");
    let (version, set) = guide.set().expect("a set");
    Arc::new(guide.apply("marrowfield-850", Definitions::standard().find(version, set).expect("the set")).expect("it applies"))
}

fn found(text: &str) -> Vec<String> {
    let faults = check_set(&narrowed(GUIDE), text.as_bytes(), Delimiters::default()).faults;
    assert!(faults.iter().filter(|fault| fault.level != Level::Set).all(|fault| fault.source == Source::Guide), "{faults:?}");
    faults.iter().map(|fault| format!("{} {} {}: {}", fault.level.as_str(), fault.code, fault.designator(), fault.says)).collect()
}

#[test]
fn what_a_guide_asks_for_is_found_in_the_order_of_the_document() {
    assert_eq!(
        found(&SET.replace("SA*MF-20417*", "BK*MF-20417-LONG*7").replace("*92*0012", "")),
        [
            "element 7 BEG02: Marrowfield sends new and stand-alone orders only.",
            "element 5 BEG03: BEG03 (Purchase Order Number): longer than the partner's guide allows",
            "element 10 BEG04: BEG04 (Release Number) is not used by the partner's guide",
            "element 1 BEG06: BEG06 (Contract Number) is asked for by the partner's guide but empty",
            "segment 2 CUR: the partner's guide does not use CUR here",
            "segment 3 DTM: the mandatory segment DTM, which the partner's guide asks for, is missing before N1",
            "element 2 N103: Stores are given by our number (N103 is 92).",
            "element 2 N104: Stores are given by our number (N103 is 92).",
        ]
    );
}

#[test]
fn a_document_as_the_guide_has_it_is_sound_and_added_segments_have_their_place() {
    let sound = SET
        .replace("BEG*00*SA*MF-20417**20261123~", "BEG*00*SA*MF-20417**20261123*C-1~")
        .replace("CUR*BY*USD~", "K9*Spring~\nDTM*002*20261201~")
        .replace("SE*8", "SE*9");
    assert_eq!(found(&sound), Vec::<String>::new());
    let thrice = sound.replace("PO1*1", "PO1*1*1*EA~\nPO1*2*1*EA~\nPO1*1").replace("SE*9", "SE*11");
    assert_eq!(found(&thrice), ["segment 4 PO1: the loop PO1 is here more often than 2 times"]);
}

#[test]
fn a_guide_that_speaks_of_what_is_not_there_says_so() {
    let standard = Definitions::standard().find("004010", "850").expect("the set");
    let wrong = |text: &str| {
        Guide::read(&format!("of = \"x12/004010/850\"\n{text}")).expect("TOML").apply("g", standard).unwrap_err().says
    };
    assert_eq!(wrong("[[segment]]\nat = \"N3\""), "850 has no place N3: write a segment of a loop as N1/PER");
    assert_eq!(
        wrong("[[segment]]\nat = \"BEG\"\n[segment.elements]\nBEG99 = { use = \"required\" }"),
        "BEG99 is not an element of BEG: it has BEG01 to BEG12"
    );
    assert_eq!(wrong("[[rule]]\nin = \"QQ\"\nsays = \"x\""), "a rule uses QQ, which is not a segment");
    assert_eq!(wrong("[[add]]\nsegment = \"QQ\"\nafter = \"BEG\""), "004010 850 uses segment QQ, which is not in the dictionary");
    assert!(Guide::read("[[segment]]\nat = \"BEG\"\nmux = 1").unwrap_err().says.contains("unknown field `mux`"));
}

#[test]
fn a_guide_written_out_reads_as_the_same_guide() {
    let guide = Guide::read(&GUIDE[..GUIDE.find("[dictionary").unwrap()]).unwrap();
    assert_eq!(Guide::read(&guide.to_text()), Ok(guide));
}

fn interchange(set: &str) -> String {
    format!(
        "ISA*00*          *00*          *ZZ*MARROWFIELD    *ZZ*QUILLHAVEN     *261123*0700*U*00401*000000101*0*T*>~\
         GS*PO*MARROWFIELD*QUILLHAVEN*20261123*0700*101*X*004010~{set}GE*1*101~IEA*1*000000101~"
    )
}

fn read(terms: Terms, text: &str) -> Reading {
    let mut reader = Reader::choosing(move |_| terms.clone(), Limits::default());
    reader.feed(text.as_bytes());
    reader.finish()
}

fn ack(reading: &Reading, form: AckForm) -> Vec<String> {
    let interchange = &reading.interchanges[0];
    let stamp = Stamp { interchange_control: 7, group_control: 9, date: "20261123".into(), time: "0701".into() };
    let bytes = functional_ack(&interchange.header, &interchange.groups[0], AckStyle { form, ..AckStyle::default() }, &stamp);
    let text = String::from_utf8(bytes).unwrap();
    text.split('~').filter(|segment| ["AK", "IK"].iter().any(|id| segment.starts_with(id))).map(str::to_owned).collect()
}

#[test]
fn a_999_has_codes_of_its_own_for_what_only_a_guide_asks_for() {
    let mut definitions = (**Definitions::standard()).clone();
    definitions.replace(narrowed(GUIDE));
    let terms = Terms { definitions: Arc::new(definitions), tolerated: [].into() };
    let reading = read(terms, &interchange(SET));
    assert_eq!(
        ack(&reading, AckForm::Functional),
        ["AK1*PO*101", "AK2*850*0001", "AK3*BEG*2**8", "AK4*6*367*1", "AK3*CUR*3**2", "AK3*DTM*4*N1*3", "AK5*R*5", "AK9*R*1*1*0"]
    );
    assert_eq!(
        ack(&reading, AckForm::Implementation),
        [
            "AK1*PO*101*004010",
            "AK2*850*0001",
            "IK3*BEG*2**8",
            "IK4*6*367*I9",
            "IK3*CUR*3**I4",
            "IK3*DTM*4*N1*I6",
            "IK5*R*I5",
            "AK9*R*1*1*0"
        ]
    );
}

#[test]
fn what_is_let_pass_is_reported_and_accepted() {
    let text = interchange(&SET.replace("CUR*BY*USD", "CUR*BY*US"));
    let tolerance = |code: &str, at: &str| Terms {
        definitions: Definitions::standard().clone(),
        tolerated: [Tolerance { level: Level::Element, code: code.into(), at: at.into() }].into(),
    };
    let verdict = |terms| {
        let reading = read(terms, &text);
        let group = &reading.interchanges[0].groups[0];
        (group.sets[0].ack(), GroupAck::of(group), group.accepted_count())
    };
    assert_eq!(verdict(tolerance("4", "CUR02")), (SetAck::Noted, GroupAck::Noted, 1));
    assert_eq!(verdict(tolerance("4", "CUR")), (SetAck::Noted, GroupAck::Noted, 1));
    assert_eq!(verdict(tolerance("5", "")), (SetAck::Rejected, GroupAck::Rejected, 0));
    // An error of the whole set is tolerated in the same way.
    let miscounted = interchange(&SET.replace("SE*8*", "SE*9*"));
    let counts = Tolerance { level: Level::Set, code: "4".into(), at: String::new() };
    let terms = Terms { definitions: Definitions::standard().clone(), tolerated: [counts].into() };
    let reading = read(terms, &miscounted);
    assert_eq!(reading.interchanges[0].groups[0].sets[0].ack(), SetAck::Noted);
    assert_eq!(ack(&reading, AckForm::Functional), ["AK1*PO*101", "AK2*850*0001", "AK5*E*4", "AK9*E*1*1*1"]);
    let reported = ack(&read(tolerance("", "CUR02"), &text), AckForm::Functional);
    assert_eq!(reported, ["AK1*PO*101", "AK2*850*0001", "AK3*CUR*3**8", "AK4*2*100*4*US", "AK5*E*5", "AK9*E*1*1*1"]);
}
