//! Findings of interchanges, as cases: `values/edi.txt`.

use wirewatch_core::edi::Report;
use wirewatch_core::x12::{Definitions, Limits, Reader, Terms};

const SOUND: &str = "ISA*00*          *00*          *ZZ*MARROWFIELD    *ZZ*QUILLHAVEN     *261123*0700*U*00401*000000001*0*P*>~\
                     GS*PO*MARROWFIELD*QUILLHAVEN*20261123*0700*1*X*004010~ST*850*0001~BEG*00*SA*MF-1**20261123~SAC*C*D240***77400~\
                     N1*ST*Store 12*92*0012~PO1*1*12*EA*3.10**VP*A-1~PID*F****DEEP FRAME~CTT*1~AMT*TT*37.20~SE*9*0001~GE*1*1~IEA*1*000000001~";

/// Level, code and place of each finding.
fn found(document: &str) -> String {
    let terms = Terms { definitions: Definitions::standard().clone(), tolerated: [].into() };
    let mut reader = Reader::choosing(move |_| terms.clone(), Limits::default());
    reader.feed(document.as_bytes());
    let reading = reader.finish();
    let report = Report::of(&reading);
    let mut all = Vec::new();
    for interchange in &reading.interchanges {
        let groups = interchange.groups.iter().flat_map(|group| {
            let sets = group.sets.iter().flat_map(|set| &set.faults);
            group.faults.iter().chain(sets)
        });
        for fault in interchange.faults.iter().chain(groups).filter(|fault| fault.is_reported()) {
            let element = fault.element.map_or(String::new(), |n| format!("{n:02}"));
            all.push(format!("{} {} {}{element}", fault.level.as_str(), fault.code, fault.segment));
        }
    }
    if reading.interchanges.is_empty() {
        all.push("no interchange".to_owned());
    } else if !reading.unread.is_empty() {
        all.push("unread".to_owned());
    }
    assert_eq!(report.valid, all.is_empty(), "the verdict is that of the findings: {all:?}");
    if all.is_empty() { "valid".to_owned() } else { all.join("; ") }
}

#[test]
fn every_case_of_interchanges_holds() {
    let (mut wrong, mut count) = (Vec::new(), 0);
    for line in include_str!("values/edi.txt").lines().filter(|line| !line.is_empty() && !line.starts_with('#')) {
        let (case, expected) = line.split_once(" => ").expect("a case");
        let mut texts = serde_json::Deserializer::from_str(case).into_iter::<String>();
        let (from, to) = (texts.next().unwrap().unwrap(), texts.next().unwrap().unwrap());
        let document = match from.as_str() {
            "+" => format!("{SOUND}{to}"),
            from => {
                assert!(SOUND.contains(from), "{from} stands in the document");
                SOUND.replacen(from, &to, 1)
            }
        };
        let received = found(&document);
        if received != expected {
            wrong.push(format!("{case} => {received}, not {expected}"));
        }
        count += 1;
    }
    assert!(wrong.is_empty(), "{} of {count} cases do not hold:\n{}", wrong.len(), wrong.join("\n"));
    println!("measured: {count} cases of interchanges");
}
