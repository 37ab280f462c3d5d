//! Partners' acknowledgments as sentences.

use wirewatch_x12::ack::{AckKind, Acknowledged, acknowledgments};

const ISA: &str = "ISA*00*          *00*          *ZZ*MARROWFIELD    *ZZ*QUILLHAVEN     *261123*0700*U*00401*000000101*0*T*>~\n";

/// The acknowledgments in an interchange of these segments.
fn read(segments: &[&str]) -> Vec<Acknowledged> {
    let segments: String = segments.iter().map(|segment| format!("{segment}~\n")).collect();
    acknowledgments(format!("{ISA}{segments}IEA*0*000000101~\n").as_bytes())
}

fn reported(segments: &[&str]) -> Vec<String> {
    read(segments).iter().flat_map(Acknowledged::sentences).collect()
}

#[test]
fn a_997_reports_group_sets_segments_and_elements() {
    let segments = [
        "ST*997*0001",
        "AK1*PO*101",
        "AK2*850*0001",
        "AK5*A",
        "AK2*850*0002",
        "AK3*PO1*9**8",
        "AK4*2*330*6*twelve",
        "AK4*3>2*355*7",
        "AK3*QQQ*11*N1*1",
        "AK5*R*5",
        "AK2*850*0003",
        "AK5*E*4",
        "AK9*P*3*3*2*5",
        "SE*14*0001",
    ];
    assert_eq!(
        reported(&segments),
        [
            "group PO 101: partly accepted, 2 of 3 sets accepted",
            "group 101: Number of Included Transaction Sets Does Not Match Actual Count",
            "850 0002: rejected",
            "850 0002, segment 9 (PO1), PO102: Invalid Character In Data Element (twelve)",
            "850 0002, segment 9 (PO1), PO103-2: Invalid Code Value",
            "850 0002, segment 11 (QQQ): Unrecognized Segment ID",
            "850 0003: accepted, with errors",
            "850 0003: Number of Included Segments Does Not Match Actual Count",
        ]
    );
    let [one] = &read(&segments)[..] else { panic!("one group") };
    assert_eq!((one.kind, one.included, one.received, one.accepted), (AckKind::Functional, 3, 3, 2));
    let notes = &one.sets[1].segments;
    assert_eq!((notes[1].in_loop.as_str(), notes[0].elements[1].reference.as_str()), ("N1", "355"));
}

#[test]
fn a_999_has_codes_of_its_own() {
    let segments = ["AK1*PO*7*005010", "AK2*850*0001", "IK3*N1*4**8", "CTX*BEG", "IK4*3*66*I13*ZZ", "IK5*R*I5", "AK9*R*1*1*0"];
    assert_eq!(read(&segments)[0].kind, AckKind::Implementation);
    assert_eq!(
        reported(&segments),
        [
            "group PO 7: rejected, 0 of 1 sets accepted",
            "850 0001: rejected",
            "850 0001, segment 4 (N1), N103: Implementation Dependent \"Not Used\" Data Element Present (ZZ)",
        ]
    );
}

#[test]
fn a_ta1_reports_of_an_interchange_alone() {
    assert_eq!(reported(&["TA1*000000101*261123*0700*A*000"]), ["interchange 000000101: accepted"]);
    let refused = reported(&["TA1*000000101*261123*0700*R*025", "TA1*000000102*261123*0700*E*777"]);
    assert_eq!(
        refused,
        [
            "interchange 000000101: rejected",
            "Duplicate interchange control number",
            "interchange 000000102: accepted, with errors",
            "note 777"
        ]
    );
}

#[test]
fn what_is_unknown_is_reported_as_it_stands_and_what_belongs_to_nothing_is_passed_over() {
    let stray = ["AK2*850*0001", "AK5*A", "TA1*000000001*261123*0700*A*000", "AK3*BEG*2**1", "AK9*A*1*1*1"];
    assert_eq!(reported(&stray), ["interchange 000000001: accepted"], "no group is open");
    let odd = ["AK1*PO*1", "AK3*BEG*2**1", "AK5*A", "AK2*850*0001", "AK4*1*2*3", "AK5*Q*99", "AK9**x*-1*"];
    assert_eq!(reported(&odd), ["group PO 1: no verdict, 0 of 0 sets accepted", "850 0001: Q", "850 0001: code 99"]);
    assert_eq!(read(&[]), []);
}
