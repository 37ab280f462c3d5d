//! What people do to messages, and what became of it.

use super::{FindingView, Message};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;
use wirewatch_core::Finding;

/// What an act should do.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ActRequest {
    /// `resend`, `amend` or `discard`.
    pub act: String,
    #[serde(default)]
    pub why: String,
    /// For resend and amend: `ask` (the default), `keep` or `again`.
    #[serde(default)]
    pub answers: String,
    /// For amend: the document.
    #[serde(default)]
    pub document: String,
    /// Check only; nothing is done.
    #[serde(default)]
    pub preview: bool,
}

/// Why a person does something: never empty.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Why {
    pub why: String,
}

/// One act for many messages: those that failed for one reason, or those named.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BulkRequest {
    #[serde(default)]
    pub reason: String,
    /// Message ids; where there are any, `reason` is not looked at.
    #[serde(default)]
    pub messages: Vec<String>,
    /// `resend` or `discard`.
    pub act: String,
    #[serde(default)]
    pub why: String,
    /// For a resend: `ask` (the default), `keep` or `again`.
    #[serde(default)]
    pub answers: String,
}

/// The messages that a bulk act would be done to.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BulkPreview {
    pub total: usize,
    /// How many of those named do not need attention (any more): nothing would be done to them.
    pub passed_over: usize,
    /// The first 100 of them, oldest first.
    pub messages: Vec<Message>,
}

/// An act on many messages, and how far it has come.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BulkAct {
    pub id: String,
    /// `resend` or `discard`.
    pub act: String,
    /// The id of the reason for which its messages had failed, and its sentence; empty where they were named.
    pub reason: String,
    pub says: String,
    pub why: String,
    pub by: String,
    pub state: BulkState,
    pub total: i64,
    /// Messages that were resent or discarded so far.
    pub done: i64,
    /// Messages that could not be, or no longer needed it.
    pub refused: i64,
    /// The first 100 of these.
    pub refusals: Vec<BulkRefusal>,
    pub started: String,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub ended: Option<String>,
    /// The states in which the messages acted on so far are now, with their numbers. Empty in lists.
    #[serde(default)]
    pub states: BTreeMap<String, i64>,
}

/// Whether a bulk act is still under way.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum BulkState {
    Running,
    /// All its messages have been acted on.
    Done,
    /// A person stopped it before its end.
    Stopped,
}

/// A message that a bulk act was not done to.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BulkRefusal {
    pub message: String,
    pub key: String,
    pub says: String,
}

/// What became of an act on one message.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ActResult {
    pub message: Message,
    pub done: bool,
    /// Why not.
    pub says: String,
    /// Of an amendment that was only looked at: what is wrong with the document.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    #[schema(value_type = Vec<FindingView>)]
    pub findings: Vec<Finding>,
}

/// What came of a message or request that was submitted by hand.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Submitted {
    /// `done`, `again` (it failed in a way that passes), `refused`, `held` (not reached, or not let in) or `in-doubt`.
    pub what: String,
    /// The request as one line.
    pub request: String,
    /// Why it was not done; empty when it was.
    pub says: String,
    /// 0 where the protocol has none.
    pub status: u16,
    /// What came back.
    pub answer: String,
}

/// What to begin with when a document is submitted at a flow by hand.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SubmitBegin {
    /// The flow's title.
    pub flow: String,
    /// The connection it would have come by.
    pub from: String,
    /// A schema, `x12/850` or `text`.
    pub takes: String,
    /// How it is written: `json`, `csv`, `xml`, `x12` or `bytes`.
    pub form: String,
    /// The names of events that the intake takes; empty when it takes whatever comes.
    pub events: Vec<String>,
    /// A made-up document; empty where there is no schema to make one from.
    pub made_up: String,
    /// The fields of the schema.
    pub fields: Vec<SubmitField>,
    /// The last that came in there.
    pub last: Option<SubmitLast>,
}

/// A field of a schema.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SubmitField {
    /// Where it stands: `basket[].article`.
    pub path: String,
    /// `string`, `number`, `integer`, `boolean`, or `list`; empty where it may be several.
    pub kind: String,
    /// As JSON Schema names formats; empty where it has none.
    pub format: String,
    pub required: bool,
    /// What it is in words; empty where nobody has said.
    pub title: String,
    pub examples: Vec<String>,
}

/// A document that came in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SubmitLast {
    pub arrival: String,
    pub text: String,
}
