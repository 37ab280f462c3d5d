//! Acknowledgments: the functional one (997), the implementation one (999), the interchange one (TA1), and reading those
//! that partners send.

mod notes;
mod read;

pub use read::{AckKind, Acknowledged, AcknowledgedSet, ElementNote, SegmentNote, acknowledgments};

use crate::envelope::Header;
use crate::reading::{Group, Interchange, SetAck};
use crate::writer::{Envelope, GroupHead, Style, Writer};
use serde::{Deserialize, Serialize};

/// AK901, data element 715.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum GroupAck {
    #[serde(rename = "A")]
    Accepted,
    /// Accepted, but errors were noted.
    #[serde(rename = "E")]
    Noted,
    /// At least one set was rejected and at least one was accepted.
    #[serde(rename = "P")]
    Partly,
    #[serde(rename = "R")]
    Rejected,
}

impl GroupAck {
    /// Returns the code in AK901.
    #[must_use]
    pub fn code(self) -> &'static str {
        match self {
            Self::Accepted => "A",
            Self::Noted => "E",
            Self::Partly => "P",
            Self::Rejected => "R",
        }
    }

    /// The verdict of a whole group.
    #[must_use]
    pub fn of(group: &Group) -> Self {
        let accepted = group.accepted_count();
        if !group.faults.is_empty() || accepted == 0 {
            Self::Rejected
        } else if accepted < group.received {
            Self::Partly
        } else if group.sets.iter().any(|set| set.ack() == SetAck::Noted) {
            Self::Noted
        } else {
            Self::Accepted
        }
    }
}

/// Returns whether a group is acknowledged at all: a group of acknowledgments is not (X12.20).
#[must_use]
pub fn is_acknowledged(group: &Group) -> bool {
    group.functional_id != "FA"
}

/// Which transaction set acknowledges.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub enum AckForm {
    /// X12.20, in 004010 or 005010 as the group that is acknowledged.
    #[default]
    #[serde(rename = "997")]
    Functional,
    /// X12.X231, 005010: it has codes for requirements of a guide beyond the standard.
    #[serde(rename = "999")]
    Implementation,
}

/// Detail of an acknowledgment.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AckDepth {
    /// Every set, with what is wrong in it.
    #[default]
    Set,
    /// The group's verdict and counts alone.
    Group,
}

/// Form and detail of a partner's acknowledgments.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct AckStyle {
    pub form: AckForm,
    pub depth: AckDepth,
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

/// The acknowledgment of one group, as a whole interchange.
///
/// The same arguments always give the same bytes. Source: X12.20 (997) and X12.X231 (999).
#[must_use]
pub fn functional_ack(received: &Header, group: &Group, style: AckStyle, stamp: &Stamp) -> Vec<u8> {
    let version = match style.form {
        AckForm::Functional if group.version.as_str() < "005010" => "004010",
        AckForm::Functional | AckForm::Implementation => "005010",
    };
    let industry = if style.form == AckForm::Implementation { "005010X231A1" } else { version };
    let mut writer = Writer::new(turned(received, stamp), Style::default());
    writer.start_group(&GroupHead {
        functional_id: "FA".to_owned(),
        sender: group.receiver.clone(),
        receiver: group.sender.clone(),
        control: stamp.group_control,
        version: industry.to_owned(),
    });
    match style.form {
        AckForm::Functional => writer.start_set("997"),
        AckForm::Implementation => writer.start_set_of("999", industry),
    }
    if version == "005010" {
        writer.segment(&["AK1", &group.functional_id, &group.control, &group.version]);
    } else {
        writer.segment(&["AK1", &group.functional_id, &group.control]);
    }
    if style.depth == AckDepth::Set {
        for set in &group.sets {
            notes::one_set(&mut writer, set, style.form);
        }
    }
    let included = group.included.unwrap_or(group.received).to_string();
    let (received, accepted) = (group.received.to_string(), group.accepted_count().to_string());
    let mut ak9 = vec!["AK9", GroupAck::of(group).code(), &included, &received, &accepted];
    ak9.extend(group.faults.iter().take(5).map(|fault| fault.code.as_ref()));
    writer.segment(&ak9);
    writer.finish_own()
}

/// Code and note of an interchange's acknowledgment: TA104 and TA105.
#[must_use]
pub fn interchange_verdict(interchange: &Interchange) -> (&'static str, &str) {
    match interchange.faults.first() {
        None => ("A", "000"),
        Some(fault) => ("R", &fault.code),
    }
}

/// Returns the TA1 of an interchange, as an interchange of its own without groups. Source: X12.5.
#[must_use]
pub fn interchange_ack(interchange: &Interchange, stamp: &Stamp) -> Vec<u8> {
    let header = &interchange.header;
    let (verdict, note) = interchange_verdict(interchange);
    let mut writer = Writer::new(turned(header, stamp), Style::default());
    writer.segment(&["TA1", &header.control, &header.date, &header.time, verdict, note]);
    writer.finish_own()
}

/// Returns the envelope of an answer: sender and receiver swapped, separators and versions as received.
fn turned(received: &Header, stamp: &Stamp) -> Envelope {
    Envelope {
        sender: received.receiver.clone(),
        receiver: received.sender.clone(),
        date: stamp.date.clone(),
        time: stamp.time.clone(),
        version: received.version.clone(),
        control: stamp.interchange_control,
        // An acknowledgment requests none.
        wants_ta1: false,
        usage: received.usage.clone(),
        delimiters: received.delimiters.usable(),
    }
}

/// Returns the group that a functional acknowledgment answers: AK101 and AK102. `None` without an AK1.
#[must_use]
pub fn speaks_of(bytes: &[u8]) -> Option<(String, String)> {
    acknowledgments(bytes).into_iter().find(|one| one.kind != AckKind::Interchange).map(|one| (one.functional_id, one.control))
}
