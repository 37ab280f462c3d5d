//! An X12 document: its segments with findings, and summaries of its sets.

use super::message::DescribedSegment;
use super::words::{AcknowledgmentSet, EdiAck, EdiLevel, EdiWeight};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A document to read: a text, or the bytes of an arrival.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct EdiRequest {
    /// The text, at most a megabyte.
    pub document: String,
    /// The arrival whose bytes are read instead; empty for the text.
    pub arrival: String,
    /// The partner whose guides apply; empty for the one that the interchange names.
    pub partner: String,
}

/// A document with its verdicts.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EdiLook {
    /// No part of it would be rejected.
    pub valid: bool,
    /// Why it cannot be read as X12, or what was skipped.
    pub says: Vec<String>,
    /// The partner whose guides were applied.
    pub partner: Option<String>,
    /// The segments; at most 5,000.
    pub lines: Vec<EdiLine>,
    /// There are more segments than `lines` holds.
    pub cut: bool,
    pub sets: Vec<EdiSet>,
    /// The acknowledgments that we would send, in the partner's style; empty where nothing is acknowledged.
    pub acknowledgments: Vec<EdiAcknowledgment>,
}

/// An acknowledgment that would be sent.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EdiAcknowledgment {
    pub set: AcknowledgmentSet,
    /// Control number of the group that it answers, or of the interchange.
    pub answers: String,
    /// What it says, in sentences.
    pub says: Vec<String>,
    /// Its segments, one a line. The service numbers what it sends: the control numbers are made up.
    pub text: String,
}

/// A segment.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EdiLine {
    /// Which segment of the document, from 1.
    pub number: u32,
    pub text: String,
    pub findings: Vec<EdiFinding>,
}

/// A finding, with its place in a line.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EdiFinding {
    pub weight: EdiWeight,
    pub level: EdiLevel,
    /// Error code of that level in an acknowledgment; `null` for a note.
    pub code: Option<String>,
    pub says: String,
    /// Columns of the line, counted in characters from 0: the first, and the one after the last.
    pub from: u32,
    pub to: u32,
}

/// A transaction set.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EdiSet {
    /// E.g. `850`.
    pub set: String,
    pub control: String,
    /// English name; empty for a set that is not defined.
    pub name: String,
    /// `null` where sets are not acknowledged.
    pub ack: Option<EdiAck>,
    pub interchange: String,
    /// Numbers of its first and last line.
    pub first: u32,
    pub last: u32,
    /// Summary of its content; empty for a set that is not defined.
    pub summary: EdiSummary,
    /// Every segment with its names; lines count within the document.
    pub segments: Vec<DescribedSegment>,
}

/// A set in words for people.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct EdiSummary {
    pub title: String,
    pub kind: String,
    pub facts: Vec<EdiFact>,
    pub parties: Vec<EdiParty>,
    pub lines: Vec<EdiItem>,
    pub totals: Vec<EdiFact>,
    /// Totals that do not agree with the lines, in sentences.
    pub warnings: Vec<String>,
    /// Sentences of an acknowledgment.
    pub says: Vec<String>,
}

/// A labelled value.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EdiFact {
    pub label: String,
    pub value: String,
}

/// A party of an order.
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
