//! Messages: in lists, and the whole story of one.

use super::Arrival;
use super::words::{
    AttemptResult, Direction, DocumentForm, ListOrder, MessageAct, MessageState, PersonAct, ReasonCode as ReasonCodeName,
    StepVerb,
};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use wirewatch_core::reason::ReasonCode;

/// Why messages failed, and how many.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Reason {
    pub id: String,
    pub flow: String,
    pub step: String,
    /// The connection involved; `null` for steps that use none.
    pub connection: Option<String>,
    #[schema(value_type = ReasonCodeName)]
    pub code: ReasonCode,
    pub says: String,
    /// Next action of a person.
    pub advice: String,
    /// The act that usually helps.
    pub helps: MessageAct,
    pub messages: i64,
    /// When the reason was first seen. A resend does not change it; a reason that was away for a day is a new one.
    pub first_seen: Option<String>,
}

/// A message in a list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Message {
    pub id: String,
    pub flow: String,
    pub partner: Option<String>,
    /// Business key, e.g. the purchase order number.
    pub key: String,
    /// Key in the target system, once it is there.
    pub result: Option<String>,
    pub state: MessageState,
    /// The step it is at, or ended at; empty for the beginning of the flow.
    pub step: String,
    pub tries: i32,
    /// When the next try is due.
    pub due: Option<String>,
    /// The connection it waits for.
    pub waits_for: Option<String>,
    /// Reason id, when it failed.
    pub reason: Option<String>,
    /// Code of that reason.
    #[schema(value_type = Option<ReasonCodeName>)]
    pub code: Option<ReasonCode>,
    pub says: String,
    pub arrival: String,
    /// The release that was current when it arrived.
    pub release: i64,
    pub received: String,
    /// When it last changed.
    pub changed: String,
}

/// A page of messages.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Messages {
    pub messages: Vec<Message>,
    /// Give this as `before` for the next page; `null` on the last.
    pub next: Option<String>,
}

/// A document as text.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DocumentView {
    pub form: DocumentForm,
    /// Text, or the start of it if `cut`.
    pub text: String,
    /// Bytes of the whole text.
    pub size: usize,
    /// Only the start is included: request the document itself.
    pub cut: bool,
}

/// The whole story of a message.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Story {
    pub message: Message,
    /// The release that it runs: the one that was current when it arrived, or the one that the last resend or amendment chose.
    pub release: i64,
    pub from: Option<Arrival>,
    /// Metadata of its origin: partner, file, interchange, group, set, headers.
    #[schema(value_type = Object)]
    pub meta: serde_json::Value,
    /// The document it runs from, amendments included.
    pub document: DocumentView,
    pub steps: Vec<Step>,
    /// Values that steps stored with `as`, by name: `$name` in expressions.
    #[schema(value_type = Object)]
    pub variables: serde_json::Value,
    pub acts: Vec<ActView>,
    /// Other messages of the same arrival: acknowledgments and the rest of the file.
    pub beside: Vec<Message>,
    /// Next action of a person about a failed message; empty for any other.
    pub advice: String,
    /// The act that usually helps a failed message; `null` for any other.
    pub helps: Option<MessageAct>,
}

/// A step and what it did.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Step {
    pub step: String,
    /// `null` for a step that the release of this message no longer has.
    pub verb: Option<StepVerb>,
    /// Text of a `note`, the branch chosen, or the end of a pause; empty otherwise.
    pub note: String,
    /// The document after the step, where the step changed it.
    pub after: Option<DocumentView>,
    pub request: Option<RequestView>,
    pub attempts: Vec<Attempt>,
}

/// A request to an outside system.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RequestView {
    pub connection: String,
    /// `POST /orders`, a file name, or exchange and routing key.
    pub line: String,
    /// Properties of a message at a broker, one a line.
    pub with: Vec<String>,
    pub body: Option<DocumentView>,
}

/// An attempt.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Attempt {
    pub at: String,
    pub number: u16,
    /// Status of the answer; `null` where there was none, or the protocol has none.
    pub status: Option<u16>,
    /// Empty when it went well.
    pub says: String,
    pub answer: Option<DocumentView>,
    pub then: AttemptResult,
    pub due: Option<String>,
}

/// A person's act.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ActView {
    pub at: String,
    pub by: String,
    pub act: PersonAct,
    pub why: String,
}

/// An act of a person, on one subject or on several for the same reason.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RecentAct {
    /// The newest of them.
    pub at: String,
    pub by: String,
    pub act: PersonAct,
    pub why: String,
    /// Number of messages, arrivals or parts of the workspace, within the newest 500 acts.
    pub subjects: usize,
    /// The key of the message, the name of the arrival, or the title of the flow or connection; `null` for several, and for what is no
    /// longer stored or in the workspace.
    pub name: Option<String>,
    pub message: Option<String>,
    pub arrival: Option<String>,
}

/// A segment of an X12 document with its names, for people.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DescribedSegment {
    /// Line of the document's text, from 1.
    pub line: u32,
    pub id: String,
    /// English name; empty when the standard's tables do not have it.
    pub name: String,
    /// Number of loops it is in.
    pub depth: u32,
    pub elements: Vec<DescribedElement>,
}

/// An element of a segment.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DescribedElement {
    /// Reference designator, e.g. `BEG03`.
    pub at: String,
    pub name: String,
    pub value: String,
    /// Meaning of a code; empty for any other value, or an unknown code.
    pub meaning: String,
    /// Columns of the line, counted in characters from 0: the first, and the one after the last.
    pub from: u32,
    pub to: u32,
}

/// Which messages.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct MessageQuery {
    pub flow: String,
    pub partner: String,
    /// One state, or several separated by commas.
    #[param(style = Form, explode = false, value_type = Vec<MessageState>)]
    pub state: String,
    /// The step it is at, or ended at.
    pub step: String,
    /// Key, here or in the target system.
    pub key: String,
    /// How the key begins, here or in the target system.
    pub key_prefix: String,
    pub reason: String,
    pub arrival: String,
    /// Messages received by it, or waiting for it.
    pub connection: String,
    /// `in` for messages of flows with an intake, `out` for those made here, such as acknowledgments.
    #[param(value_type = Option<Direction>)]
    pub direction: String,
    /// RFC 3339.
    pub since: String,
    pub until: String,
    /// Newest first when left out.
    pub order: Option<ListOrder>,
    /// The next page, as `next` of the page before it.
    pub before: String,
    pub limit: Option<u32>,
}
