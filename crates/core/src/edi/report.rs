//! Report on an input, in the documented JSON form.

use crate::x12::ack::{GroupAck, interchange_verdict, is_acknowledged};
use crate::x12::{Fault, Group, Interchange, Level, Reading, SetAck, SetReading, Weight};
use serde::{Deserialize, Serialize};

/// Every verdict of an input.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Report {
    /// There is an interchange, no part of it would be rejected, and no other bytes were left unread.
    pub valid: bool,
    pub interchanges: Vec<InterchangeReport>,
    /// Why the input cannot be read as X12 at all.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub errors: Vec<ReportedFault>,
    /// Bytes outside any interchange, which were passed over.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unread: Vec<UnreadBytes>,
}

/// A code with its sentence.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReportedFault {
    pub code: String,
    pub says: String,
}

/// Bytes that were passed over.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct UnreadBytes {
    pub from: u64,
    pub to: u64,
    pub says: String,
}

/// The verdict of an interchange.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct InterchangeReport {
    /// ISA13.
    pub control: String,
    /// ISA06 and ISA08 without their padding.
    pub sender: String,
    pub receiver: String,
    /// TA105: `000` when nothing is wrong with the envelope.
    pub note: String,
    /// Codes of TA105.
    pub errors: Vec<ReportedFault>,
    pub groups: Vec<GroupReport>,
}

/// The verdict of a group.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct GroupReport {
    /// GS01.
    pub functional_id: String,
    /// GS06.
    pub control: String,
    /// AK901.
    pub ack: GroupAck,
    /// AK902 to AK904; `included` is the count in GE01, `null` without one.
    pub included: Option<u32>,
    pub received: u32,
    pub accepted: u32,
    /// Codes of AK905 (data element 716).
    pub errors: Vec<ReportedFault>,
    pub sets: Vec<SetReport>,
}

/// The verdict of a set.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SetReport {
    /// ST01 and ST02.
    pub set: String,
    pub control: String,
    /// AK501; null for a set that is not acknowledged, such as a 997.
    pub ack: Option<SetAck>,
    pub errors: Vec<Finding>,
    /// Notes, which change no verdict and are not reported to the partner.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<Finding>,
}

/// A fault in a set.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    /// `segment`, `element` or `set`.
    pub level: Level,
    pub segment: String,
    /// ST counts as 1.
    pub position: u32,
    #[serde(rename = "loop")]
    pub in_loop: Option<String>,
    pub element: Option<u8>,
    pub component: Option<u8>,
    /// The X12 code of the level: data element 720, 723 or 718; empty for a note.
    pub code: String,
    pub value: Option<String>,
    pub says: String,
}

impl Report {
    /// Converts a reading to its report.
    #[must_use]
    pub fn of(reading: &Reading) -> Self {
        let interchanges: Vec<InterchangeReport> = reading.interchanges.iter().map(InterchangeReport::of).collect();
        let unread = reading.unread.iter();
        let unread = unread.map(|one| UnreadBytes { from: one.bytes.start, to: one.bytes.end, says: one.says.clone() }).collect();
        let errors = match reading.interchanges.is_empty() {
            true => vec![ReportedFault {
                code: String::new(),
                says: "no interchange: expected `ISA` followed by its fixed-length elements".to_owned(),
            }],
            false => Vec::new(),
        };
        let sound = |group: &Group| group.faults.is_empty() && group.accepted_count() == group.received;
        let valid = !reading.interchanges.is_empty()
            && reading.unread.is_empty()
            && reading.interchanges.iter().all(|one| one.faults.is_empty() && one.groups.iter().all(sound));
        Self { valid, interchanges, errors, unread }
    }

    /// Returns how many sets would be rejected, of how many.
    #[must_use]
    pub fn rejected(&self) -> (u32, u32) {
        let groups = || self.interchanges.iter().flat_map(|one| &one.groups);
        let received: u32 = groups().map(|group| group.received).sum();
        (received - groups().map(|group| group.accepted).sum::<u32>(), received)
    }
}

impl InterchangeReport {
    fn of(interchange: &Interchange) -> Self {
        let header = &interchange.header;
        Self {
            control: header.control.clone(),
            sender: header.sender.id.clone(),
            receiver: header.receiver.id.clone(),
            note: interchange_verdict(interchange).1.to_owned(),
            errors: reported(&interchange.faults),
            groups: interchange.groups.iter().map(GroupReport::of).collect(),
        }
    }
}

impl GroupReport {
    fn of(group: &Group) -> Self {
        Self {
            functional_id: group.functional_id.clone(),
            control: group.control.clone(),
            ack: GroupAck::of(group),
            included: group.included,
            received: group.received,
            accepted: group.accepted_count(),
            errors: reported(&group.faults),
            sets: group.sets.iter().map(|set| SetReport::of(set, is_acknowledged(group))).collect(),
        }
    }
}

impl SetReport {
    fn of(set: &SetReading, acknowledged: bool) -> Self {
        let of = |notes: bool| {
            set.faults.iter().filter(move |fault| (fault.weight == Weight::Note) == notes).map(Finding::of).collect()
        };
        Self {
            set: set.set.clone(),
            control: set.control.clone(),
            ack: acknowledged.then(|| set.ack()),
            errors: of(false),
            notes: of(true),
        }
    }
}

impl Finding {
    fn of(fault: &Fault) -> Self {
        Self {
            level: fault.level,
            segment: fault.segment.clone(),
            position: fault.position,
            in_loop: fault.in_loop.clone(),
            element: fault.element,
            component: fault.component,
            code: fault.code.to_string(),
            value: fault.value.clone(),
            says: fault.says.clone(),
        }
    }
}

fn reported(faults: &[Fault]) -> Vec<ReportedFault> {
    faults.iter().map(|fault| ReportedFault { code: fault.code.to_string(), says: fault.says.clone() }).collect()
}
