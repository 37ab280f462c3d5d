//! The functional acknowledgment (997): what was received, and what is wrong with it.

use crate::fault::{Fault, Level};
use crate::reader::{Group, Header, SetAck, SetReading};
use crate::writer::{Envelope, Writer};
use serde::{Deserialize, Serialize};

/// AK901, data element 715.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum GroupAck {
    #[serde(rename = "A")]
    Accepted,
    /// At least one set was rejected and at least one was not.
    #[serde(rename = "P")]
    Partly,
    #[serde(rename = "R")]
    Rejected,
}

impl GroupAck {
    /// The code as it stands in AK901.
    #[must_use]
    pub fn code(self) -> &'static str {
        match self {
            Self::Accepted => "A",
            Self::Partly => "P",
            Self::Rejected => "R",
        }
    }

    /// The verdict of a whole group.
    #[must_use]
    pub fn of(group: &Group) -> Self {
        let accepted = group.accepted().count();
        if !group.faults.is_empty() || accepted == 0 {
            Self::Rejected
        } else if accepted == group.sets.len() {
            Self::Accepted
        } else {
            Self::Partly
        }
    }
}

/// Whether a group is acknowledged at all: a group of acknowledgments is not (X12.20).
#[must_use]
pub fn is_acknowledged(group: &Group) -> bool {
    group.functional_id != "FA"
}

/// Control numbers and moment of an acknowledgment; the rest is what was received, turned round.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stamp {
    pub interchange_control: u32,
    pub group_control: u32,
    /// `CCYYMMDD` and `HHMM`.
    pub date: String,
    pub time: String,
}

/// The 997 for one group, as a whole interchange.
///
/// The same arguments always give the same bytes. Source: X12.20, transaction set 997, 004010.
#[must_use]
pub fn functional_ack(received: &Header, group: &Group, stamp: &Stamp) -> Vec<u8> {
    let mut writer = Writer::new(Envelope {
        sender: received.receiver.clone(),
        receiver: received.sender.clone(),
        group_sender: group.receiver.clone(),
        group_receiver: group.sender.clone(),
        functional_id: "FA".to_owned(),
        version: "004010".to_owned(),
        date: stamp.date.clone(),
        time: stamp.time.clone(),
        interchange_control: stamp.interchange_control,
        group_control: stamp.group_control,
        usage: received.usage.clone(),
        delimiters: crate::Delimiters { repetition: None, ..received.delimiters },
    });
    writer.start_set("997");
    writer.segment(&["AK1", &group.functional_id, &group.control]);
    for set in &group.sets {
        one_set(&mut writer, set);
    }
    let included = group.included.unwrap_or(group.sets.len() as u32).to_string();
    let received = group.sets.len().to_string();
    let accepted = group.accepted().count().to_string();
    let mut ak9 = vec!["AK9", GroupAck::of(group).code(), &included, &received, &accepted];
    ak9.extend(group.faults.iter().take(5).map(|fault| fault.code.as_str()));
    writer.segment(&ak9);
    writer.finish()
}

fn one_set(writer: &mut Writer, set: &SetReading) {
    writer.segment(&["AK2", &set.set, &set.control]);
    let told: Vec<&Fault> = set.faults.iter().filter(|fault| matches!(fault.level, Level::Segment | Level::Element)).collect();
    // One AK3 for all faults of a segment, the AK4 of its elements behind it; AK304 8 announces them.
    for faults in told.chunk_by(|a, b| (a.position, &a.segment) == (b.position, &b.segment)) {
        let elements: Vec<&&Fault> = faults.iter().filter(|fault| fault.level == Level::Element).collect();
        let mut codes: Vec<&str> =
            faults.iter().filter(|fault| fault.level == Level::Segment).map(|fault| fault.code.as_str()).collect();
        codes.dedup();
        codes.truncate(4);
        if !elements.is_empty() {
            codes.push("8");
        }
        let position = faults[0].position.to_string();
        let mut ak3 = vec!["AK3", &faults[0].segment, &position, faults[0].in_loop.as_deref().unwrap_or_default()];
        ak3.extend(codes);
        writer.segment(&ak3);
        for fault in elements {
            element(writer, fault);
        }
    }
    let mut codes: Vec<&str> =
        set.faults.iter().filter(|fault| fault.level == Level::Set).map(|fault| fault.code.as_str()).collect();
    if !told.is_empty() {
        codes.push("5");
    }
    let verdict = match set.ack() {
        SetAck::Accepted => "A",
        SetAck::Rejected => "R",
    };
    let mut ak5 = vec!["AK5", verdict];
    ak5.extend(codes.into_iter().take(5));
    writer.segment(&ak5);
}

fn element(writer: &mut Writer, fault: &Fault) {
    let at = fault.element.map_or(String::new(), |at| at.to_string());
    let reference = fault.reference.map_or(String::new(), |number| number.to_string());
    writer.segment(&["AK4", &at, &reference, &fault.code, fault.value.as_deref().unwrap_or_default()]);
}

/// Reads back which group a 997 speaks of: AK101 and AK102. `None` when the bytes hold no AK1.
#[must_use]
pub fn speaks_of(bytes: &[u8]) -> Option<(String, String)> {
    let mut scanner = crate::Scanner::new(crate::Limits::default());
    scanner.feed(bytes);
    scanner.finish();
    while let Some(item) = scanner.next_item() {
        if let crate::Item::Segment(segment) = item
            && segment.id() == b"AK1"
        {
            return Some((segment.text(1), segment.text(2)));
        }
    }
    None
}
