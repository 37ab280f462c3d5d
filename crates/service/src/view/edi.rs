//! An X12 document looked at: its segments with what is wrong, and what its sets say.

use super::message::DescribedSegment;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What is to be looked at: a text, or the bytes of an arrival.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct EdiRequest {
    /// At most a megabyte.
    pub document: String,
    /// The arrival whose bytes are looked at instead; empty for the text.
    pub arrival: String,
    /// By whose guides; empty for the partner that the interchange names.
    pub partner: String,
}

/// A document with its verdicts.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EdiLook {
    /// Nothing in it would be rejected.
    pub valid: bool,
    /// What stands in the way of reading it as X12, or was passed over.
    pub says: Vec<String>,
    /// The partner by whose guides it was read; empty for none.
    pub partner: String,
    /// One for each segment; at most 5,000.
    pub lines: Vec<EdiLine>,
    /// There are more segments than `lines` holds.
    pub cut: bool,
    pub sets: Vec<EdiSet>,
}

/// One segment.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EdiLine {
    /// Which segment of the document, from 1.
    pub number: u32,
    pub text: String,
    pub findings: Vec<EdiFinding>,
}

/// One thing found, at its place in a line.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EdiFinding {
    /// `error`, `tolerated` or `note`.
    pub weight: String,
    /// `interchange`, `group`, `set`, `segment` or `element`.
    pub level: String,
    /// The X12 code of the level; empty for a note.
    pub code: String,
    pub says: String,
    /// Columns of the line, counted in characters from 0, and the one behind the last.
    pub from: u32,
    pub to: u32,
}

/// One transaction set.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EdiSet {
    /// E.g. `850`.
    pub set: String,
    pub control: String,
    /// English name; empty for a set that is not defined.
    pub name: String,
    /// `A`, `E` or `R`; empty where sets are not acknowledged.
    pub ack: String,
    pub interchange: String,
    /// Its first and last line.
    pub first: u32,
    pub last: u32,
    /// What it says; empty for a set that is not defined.
    pub summary: EdiSummary,
    /// Every segment with its names; lines count within the document.
    pub segments: Vec<DescribedSegment>,
}

/// A set in a person's words.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct EdiSummary {
    pub title: String,
    pub kind: String,
    pub facts: Vec<EdiFact>,
    pub parties: Vec<EdiParty>,
    pub lines: Vec<EdiItem>,
    pub totals: Vec<EdiFact>,
    /// Sentences of an acknowledgment.
    pub says: Vec<String>,
}

/// A labelled value.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EdiFact {
    pub label: String,
    pub value: String,
}

/// Somebody who takes part.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EdiParty {
    pub role: String,
    pub name: String,
    pub id: String,
    pub address: Vec<String>,
    pub facts: Vec<EdiFact>,
}

/// A line of an order.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EdiItem {
    pub number: String,
    pub quantity: String,
    pub unit: String,
    pub price: String,
    pub amount: String,
    pub description: String,
    pub ids: Vec<EdiFact>,
    pub facts: Vec<EdiFact>,
}
