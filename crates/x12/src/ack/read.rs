//! Reads the acknowledgments that partners send: which interchange, group and sets they speak of, and what they say.

use crate::definitions::Definitions;
use crate::envelope::NOTES;
use crate::{Item, Limits, Scanner, Segment};

/// Which kind of acknowledgment it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AckKind {
    /// TA1
    Interchange,
    /// 997
    Functional,
    /// 999
    Implementation,
}

/// An acknowledgment of an interchange or group that we sent.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Acknowledged {
    pub kind: AckKind,
    /// AK101; empty for an interchange.
    pub functional_id: String,
    /// The group control number (AK102), or the interchange control number (TA101).
    pub control: String,
    /// AK901 or TA104.
    pub verdict: String,
    /// AK902 to AK904; 0 for an interchange, or if it is not a number.
    pub included: u32,
    pub received: u32,
    pub accepted: u32,
    /// AK905 and following, or TA105.
    pub codes: Vec<String>,
    pub sets: Vec<AcknowledgedSet>,
}

/// Answer to one set.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AcknowledgedSet {
    /// AK201 and AK202.
    pub set: String,
    pub control: String,
    /// AK501 or IK501.
    pub verdict: String,
    pub codes: Vec<String>,
    pub segments: Vec<SegmentNote>,
}

/// Note on one segment: AK3 or IK3.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SegmentNote {
    pub segment: String,
    /// ST being 1.
    pub position: String,
    pub in_loop: String,
    pub codes: Vec<String>,
    pub elements: Vec<ElementNote>,
}

/// Note on one element: AK4 or IK4.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ElementNote {
    pub element: String,
    pub component: String,
    /// Data element reference number.
    pub reference: String,
    pub code: String,
    pub value: String,
}

/// Every acknowledgment in an input, in order.
#[must_use]
pub fn acknowledgments(bytes: &[u8]) -> Vec<Acknowledged> {
    let mut scanner = Scanner::over(bytes, Limits::default());
    let mut all = Vec::new();
    while let Some(item) = scanner.next_item() {
        if let Item::Segment(segment) = item {
            take(&mut all, &segment);
        }
    }
    all
}

fn take(all: &mut Vec<Acknowledged>, segment: &Segment<'_>) {
    let codes = |from: usize| (from..=segment.count()).map(|n| segment.text(n)).filter(|code| !code.is_empty()).collect();
    let number = |n: usize| segment.text(n).parse().unwrap_or(0);
    match segment.id() {
        b"TA1" => all.push(Acknowledged {
            verdict: segment.text(4),
            codes: codes(5),
            ..new(AckKind::Interchange, "", &segment.text(1))
        }),
        b"AK1" => all.push(new(AckKind::Functional, &segment.text(1), &segment.text(2))),
        id => {
            let Some(ack) = all.last_mut().filter(|ack| ack.kind != AckKind::Interchange) else { return };
            match id {
                b"AK2" => {
                    ack.sets.push(AcknowledgedSet {
                        set: segment.text(1),
                        control: segment.text(2),
                        ..AcknowledgedSet::default()
                    });
                }
                b"AK9" => {
                    ack.verdict = segment.text(1);
                    (ack.included, ack.received, ack.accepted) = (number(2), number(3), number(4));
                    ack.codes = codes(5);
                }
                b"AK3" | b"AK4" | b"AK5" | b"IK3" | b"IK4" | b"IK5" => {
                    if id[0] == b'I' {
                        ack.kind = AckKind::Implementation;
                    }
                    if let Some(set) = ack.sets.last_mut() {
                        within(set, segment);
                    }
                }
                _ => {}
            }
        }
    }
}

fn within(set: &mut AcknowledgedSet, segment: &Segment<'_>) {
    let codes = |from: usize| (from..=segment.count()).map(|n| segment.text(n)).filter(|code| !code.is_empty()).collect();
    match segment.id() {
        b"AK3" | b"IK3" => set.segments.push(SegmentNote {
            segment: segment.text(1),
            position: segment.text(2),
            in_loop: segment.text(3),
            codes: codes(4),
            elements: Vec::new(),
        }),
        b"AK4" | b"IK4" => {
            let position = segment.text(1);
            let mut parts = position.split(char::from(segment.delimiters.component)).map(str::to_owned);
            let note = ElementNote {
                element: parts.next().unwrap_or_default(),
                component: parts.next().unwrap_or_default(),
                reference: segment.text(2),
                code: segment.text(3),
                value: segment.text(4),
            };
            if let Some(of) = set.segments.last_mut() {
                of.elements.push(note);
            }
        }
        _ => (set.verdict, set.codes) = (segment.text(1), codes(2)),
    }
}

fn new(kind: AckKind, functional_id: &str, control: &str) -> Acknowledged {
    Acknowledged {
        kind,
        functional_id: functional_id.to_owned(),
        control: control.to_owned(),
        verdict: String::new(),
        included: 0,
        received: 0,
        accepted: 0,
        codes: Vec::new(),
        sets: Vec::new(),
    }
}

impl Acknowledged {
    /// Returns its content as sentences.
    #[must_use]
    pub fn sentences(&self) -> Vec<String> {
        let what = match self.kind {
            AckKind::Interchange => format!("interchange {}", self.control),
            AckKind::Functional | AckKind::Implementation => format!("group {} {}", self.functional_id, self.control),
        };
        let mut all = vec![format!("{what}: {}", verdict(&self.verdict))];
        if self.kind == AckKind::Interchange {
            let known = self.codes.iter().filter(|code| *code != "000");
            all.extend(known.map(|code| {
                NOTES.iter().find(|(note, _)| note == code).map_or(format!("note {code}"), |(_, says)| (*says).to_owned())
            }));
            return all;
        }
        all[0].push_str(&format!(", {} of {} sets accepted", self.accepted, self.received));
        all.extend(self.codes.iter().map(|code| format!("group {}: {}", self.control, meaning(716, code))));
        for set in &self.sets {
            let name = format!("{} {}", set.set, set.control);
            if set.verdict != "A" {
                all.push(format!("{name}: {}", verdict(&set.verdict)));
            }
            for segment in &set.segments {
                let place = format!("{name}, segment {} ({})", segment.position, segment.segment);
                let codes = segment.codes.iter().filter(|code| *code != "8" || segment.elements.is_empty());
                all.extend(
                    codes.map(|code| {
                        format!("{place}: {}", meaning(if self.kind == AckKind::Functional { 720 } else { 620 }, code))
                    }),
                );
                all.extend(segment.elements.iter().map(|element| {
                    let list = if self.kind == AckKind::Functional { 723 } else { 621 };
                    let value = if element.value.is_empty() { String::new() } else { format!(" ({})", element.value) };
                    let part = if element.component.is_empty() { String::new() } else { format!("-{}", element.component) };
                    format!("{place}, {}{:0>2}{part}: {}{value}", segment.segment, element.element, meaning(list, &element.code))
                }));
            }
            let codes = set.codes.iter().filter(|code| !matches!(code.as_str(), "5" | "I5") || set.segments.is_empty());
            all.extend(codes.map(|code| format!("{name}: {}", meaning(718, code))));
        }
        all
    }
}

/// Returns the meaning of a verdict: data elements 715, 717 and I17 share the codes.
fn verdict(code: &str) -> &str {
    match code {
        "A" => "accepted",
        "E" => "accepted, with errors",
        "P" => "partly accepted",
        "R" => "rejected",
        "M" | "W" | "X" => "rejected for its security",
        "" => "no verdict",
        other => other,
    }
}

/// Returns the standard's text for a code of a data element; the code itself if it is unknown.
fn meaning(element: u16, code: &str) -> String {
    let known = Definitions::standard().dictionary("005010").and_then(|dictionary| dictionary.element(element));
    known.and_then(|element| element.meaning(code)).map_or_else(|| format!("code {code}"), str::to_owned)
}
