//! Results of reading: interchanges, groups and sets, each with its verdict.

use crate::envelope::Header;
use crate::fault::Fault;
use serde::{Deserialize, Serialize};
use std::ops::Range;

/// Everything read from one input.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reading {
    pub interchanges: Vec<Interchange>,
    /// Stretches of bytes that were passed over.
    pub unread: Vec<Unread>,
}

/// A stretch of the input that was passed over.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Unread {
    pub bytes: Range<u64>,
    pub says: String,
}

/// An interchange, ISA to IEA.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Interchange {
    pub header: Header,
    /// Span in the input.
    pub bytes: Range<u64>,
    pub groups: Vec<Group>,
    /// Faults of the envelope itself; none is needed for the interchange to be accepted.
    pub faults: Vec<Fault>,
}

/// A functional group, GS to GE.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Group {
    /// GS01, e.g. `PO`.
    pub functional_id: String,
    /// GS02 and GS03.
    pub sender: String,
    pub receiver: String,
    /// GS06.
    pub control: String,
    /// GS08, e.g. `004010`.
    pub version: String,
    /// GE01 as written; `None` when the trailer is missing or the count is not a number.
    pub included: Option<u32>,
    /// Sets received, and those accepted; `sets` may hold fewer, see [`Reader::keeping_faulty`](crate::Reader::keeping_faulty).
    #[serde(default)]
    pub received: u32,
    #[serde(default)]
    pub sound: u32,
    pub sets: Vec<SetReading>,
    /// Faults of the group's envelope.
    pub faults: Vec<Fault>,
}

/// A transaction set, ST to SE.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SetReading {
    /// ST01, e.g. `850`.
    pub set: String,
    /// ST02.
    pub control: String,
    /// Span in the input, ST to SE with its terminator.
    pub bytes: Range<u64>,
    pub segments: u32,
    pub faults: Vec<Fault>,
}

/// AK501, data element 717.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum SetAck {
    #[serde(rename = "A")]
    Accepted,
    /// Accepted, with errors that the partner's profile lets pass.
    #[serde(rename = "E")]
    Noted,
    #[serde(rename = "R")]
    Rejected,
}

impl SetAck {
    /// Returns the code in AK501.
    #[must_use]
    pub const fn code(self) -> &'static str {
        match self {
            Self::Accepted => "A",
            Self::Noted => "E",
            Self::Rejected => "R",
        }
    }
}

impl SetReading {
    /// The verdict: what is only noted changes none.
    #[must_use]
    pub fn ack(&self) -> SetAck {
        if self.faults.iter().any(Fault::rejects) {
            SetAck::Rejected
        } else if self.faults.iter().any(Fault::is_reported) {
            SetAck::Noted
        } else {
            SetAck::Accepted
        }
    }
}

impl Group {
    /// Returns the accepted sets: those not rejected, in a group with a valid envelope.
    pub fn accepted(&self) -> impl Iterator<Item = &SetReading> {
        let sound = self.faults.is_empty();
        self.sets.iter().filter(move |set| sound && set.ack() != SetAck::Rejected)
    }

    /// Returns the number of accepted sets.
    #[must_use]
    pub fn accepted_count(&self) -> u32 {
        if self.faults.is_empty() { self.sound } else { 0 }
    }
}
