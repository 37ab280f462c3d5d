//! Messages: in lists, and the whole story of one.

use super::Arrival;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Why messages failed, and how many.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Reason {
    pub id: String,
    pub flow: String,
    pub step: String,
    pub connection: String,
    /// Short stable name, e.g. `refused-422`.
    pub code: String,
    pub says: String,
    pub messages: i64,
    /// When the first of them failed.
    pub oldest: Option<String>,
}

/// A message in a list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Message {
    pub id: String,
    pub flow: String,
    pub partner: String,
    /// What it is known by, e.g. the purchase order number.
    pub key: String,
    /// What the target knows it by, once there.
    pub result: String,
    /// `running`, `waiting`, `retrying`, `failed`, `done`, `skipped` or `discarded`.
    pub state: String,
    pub step: String,
    pub tries: i32,
    /// When the next try is due.
    pub due: Option<String>,
    /// The connection it waits for.
    pub waits_for: String,
    /// Reason id, when it failed.
    pub reason: Option<String>,
    /// The reason's short name, e.g. `refused-422`.
    pub code: String,
    pub says: String,
    pub arrival: String,
    pub release: i64,
    pub received: String,
    /// When it last changed.
    pub changed: String,
}

/// A page of messages.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Messages {
    pub messages: Vec<Message>,
    /// Give this as `before` for the next page; absent on the last.
    pub next: Option<String>,
}

/// A document as text.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DocumentView {
    /// `json`, `x12` or `bytes`.
    pub form: String,
    /// The start of it, where `cut` says so.
    pub text: String,
    /// Bytes of the whole text.
    pub size: usize,
    /// Only the start is here: ask for the document itself.
    pub cut: bool,
}

/// The whole story of a message.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Story {
    pub message: Message,
    pub from: Option<Arrival>,
    /// What is known about where it came from: partner, file, interchange, group, set.
    #[schema(value_type = Object)]
    pub meta: serde_json::Value,
    /// The document it runs from, amendments included.
    pub document: DocumentView,
    pub steps: Vec<Step>,
    /// What steps kept, by name.
    #[schema(value_type = Object)]
    pub kept: serde_json::Value,
    pub acts: Vec<ActView>,
    /// Other messages of the same arrival: acknowledgments and the rest of the file.
    pub beside: Vec<Message>,
}

/// What one step did.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Step {
    pub step: String,
    /// What it does, e.g. `map` or `call`.
    pub verb: String,
    /// What a `note` says, which way was chosen, until when it pauses; empty otherwise.
    pub note: String,
    /// The document after the step, where the step changed it.
    pub after: Option<DocumentView>,
    pub request: Option<RequestView>,
    pub attempts: Vec<Attempt>,
}

/// What was asked of the outside.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RequestView {
    pub connection: String,
    /// `POST /orders`, a file name, or exchange and routing key.
    pub line: String,
    /// What goes with a message at a broker, one a line.
    pub with: Vec<String>,
    pub body: Option<DocumentView>,
}

/// One try.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Attempt {
    pub at: String,
    pub number: u16,
    /// 0 where the protocol has none.
    pub status: u16,
    /// Empty when it went well.
    pub says: String,
    pub answer: Option<DocumentView>,
    /// `done`, `again`, `held`, `failed`.
    pub then: String,
    pub due: Option<String>,
}

/// A person's act.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ActView {
    pub at: String,
    pub by: String,
    /// `resent`, `amended`, `discarded`, `accepted`.
    pub act: String,
    pub why: String,
}

/// A segment of an X12 document with its names, for people.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DescribedSegment {
    /// Line of the document's text, from 1.
    pub line: u32,
    pub id: String,
    /// English name; empty when the standard's tables do not have it.
    pub name: String,
    /// How many loops it stands in.
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
    /// What a code stands for; empty when it is none, or not known.
    pub meaning: String,
    /// Columns of the line, counted in characters from 0, and the one behind the last.
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
    /// One state, or several with commas between.
    pub state: String,
    /// The step it is at, or ended at.
    pub step: String,
    /// What it is known by, here or in the target.
    pub key: String,
    pub reason: String,
    pub arrival: String,
    /// Messages that came by it, or wait for it.
    pub connection: String,
    /// `in` for what comes to us, `out` for what goes to partners.
    pub direction: String,
    /// RFC 3339.
    pub since: String,
    pub until: String,
    pub before: String,
    pub limit: Option<u32>,
}
