//! Acts of people on messages, and their results.

use super::words::{AnswerRule, BulkState, DocumentForm, FieldType, MessageAct, MessageState, SubmitOutcome};
use super::{FileView, FindingView, Message, RequestView};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;
use wirewatch_core::Finding;

/// An act on one message.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ActRequest {
    pub act: MessageAct,
    #[serde(default)]
    pub why: String,
    /// For resend and amend; `ask` when left out.
    #[serde(default)]
    pub answers: AnswerRule,
    /// For resend and amend: the number of the release to run. Left out: the current one if the completed steps fit it,
    /// otherwise the one that the message ran before.
    #[serde(default)]
    pub release: Option<i64>,
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

/// One act on many messages: those that failed for one reason, or those named.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BulkRequest {
    #[serde(default)]
    pub reason: String,
    /// Ids of messages; if there are any, `reason` is ignored.
    #[serde(default)]
    pub messages: Vec<String>,
    pub act: MessageAct,
    #[serde(default)]
    pub why: String,
    /// For resend and amend; `ask` when left out.
    #[serde(default)]
    pub answers: AnswerRule,
    /// For resend and amend: as in an act on one message.
    #[serde(default)]
    pub release: Option<i64>,
    /// For amend: the value to replace in each document. A preview without it suggests values.
    #[serde(default)]
    pub correction: Option<CorrectionView>,
}

/// A value to replace in the documents of many messages.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct CorrectionView {
    /// The whole value, exactly as in the documents.
    pub replace: String,
    /// Its successor; may be empty.
    pub with: String,
    /// The field to replace it in: PO107, or lines.sku in JSON, XML, CSV and records; `null` for every field.
    #[serde(default)]
    pub field: Option<String>,
}

/// A message with a correction tried on it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CorrectedMessage {
    pub message: String,
    pub key: String,
    /// The field of each value that would be replaced.
    pub fields: Vec<String>,
    /// Why it would be left as it is; empty when it would be corrected.
    pub says: String,
    /// Next action of the corrected message; `null` when it would be left as it is.
    pub next: Option<NextAction>,
}

/// A value that the failure names.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SuggestedValue {
    pub field: String,
    pub value: String,
}

/// Plan of a resend or an amendment.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ActPlan {
    pub message: String,
    /// The release that the message runs then.
    pub release: i64,
    /// The release that it ran before.
    pub before: i64,
    /// Files that differ between the two releases.
    pub changes: Vec<FileView>,
    /// Why the current release is not run; empty when it is, or when a release was named.
    pub says: String,
    /// Completed steps that are not done again.
    pub skipped: Vec<String>,
    pub next: NextAction,
}

/// Next action of a message, up to its next request.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct NextAction {
    /// The step of the next request, or where the message fails or waits; empty at the end of the flow.
    pub step: String,
    /// `running` before a request.
    pub state: MessageState,
    /// Why it fails or is skipped, or until when it pauses; otherwise empty.
    pub says: String,
    /// The next request, before the outside system has seen it.
    pub request: Option<RequestView>,
}

/// The messages that a bulk act would be done to.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BulkPreview {
    pub total: usize,
    /// Named messages that do not need attention: the act would skip them.
    pub passed_over: usize,
    /// The first 100 of them, oldest first.
    pub messages: Vec<Message>,
    /// For amend: the first 20 of them with the correction tried on each.
    pub corrected: Vec<CorrectedMessage>,
    /// For amend: values of the first document that its failure names, as values to replace.
    pub suggested: Vec<SuggestedValue>,
}

/// An act on many messages, and how far it has come.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BulkAct {
    pub id: String,
    pub act: MessageAct,
    /// Id of the reason for which its messages had failed; `null` where the messages were named.
    pub reason: Option<String>,
    /// Sentence of that reason.
    pub says: String,
    /// The value replaced in each document; `null` for other acts than amend.
    pub correction: Option<CorrectionView>,
    pub why: String,
    pub by: String,
    pub state: BulkState,
    pub total: i64,
    /// Messages that were resent, amended or discarded so far.
    pub done: i64,
    /// Messages that could not be, or no longer needed it.
    pub refused: i64,
    /// The first 100 of these.
    pub refusals: Vec<BulkRefusal>,
    pub started: String,
    pub ended: Option<String>,
    /// The states in which the messages acted on so far are now, with their numbers. Empty in lists.
    pub states: BTreeMap<MessageState, i64>,
}

/// A message that a bulk act was not done to.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BulkRefusal {
    pub message: String,
    pub key: String,
    pub says: String,
}

/// Result of an act on one message.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ActResult {
    pub message: Message,
    pub done: bool,
    /// Why not.
    pub says: String,
    /// Plan of a resend or an amendment; `null` for a discard.
    pub plan: Option<ActPlan>,
    /// Findings in the document of a previewed amendment.
    #[schema(value_type = Vec<FindingView>)]
    pub findings: Vec<Finding>,
}

/// Result of a message or request that was submitted by hand.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Submitted {
    pub what: SubmitOutcome,
    /// The request as one line.
    pub request: String,
    /// Why it was not done; empty when it was.
    pub says: String,
    /// Status of the answer; `null` where there was none, or the protocol has none.
    pub status: Option<u16>,
    /// The answer's text.
    pub answer: String,
}

/// Starting points for submitting a document to a flow by hand.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SubmitBegin {
    /// The flow's title.
    pub flow: String,
    /// The connection of the flow's first intake.
    pub from: String,
    /// A schema, `x12/850` or `text`.
    pub takes: String,
    pub form: DocumentForm,
    /// Names of events that the intake takes; empty when it takes all.
    pub events: Vec<String>,
    /// A made-up document; empty where there is no schema to make one from.
    pub made_up: String,
    /// The fields of the schema.
    pub fields: Vec<SubmitField>,
    /// The last document received there.
    pub last: Option<SubmitLast>,
}

/// A field of a schema.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SubmitField {
    /// Path with the lists it is in: `basket[].article`.
    pub path: String,
    /// `null` where it may be several.
    pub kind: Option<FieldType>,
    /// Format by its name in JSON Schema.
    pub format: Option<String>,
    pub required: bool,
    /// The field in words; empty where the schema has no title.
    pub title: String,
    pub examples: Vec<String>,
}

/// A document that was received.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SubmitLast {
    pub arrival: String,
    pub text: String,
}
