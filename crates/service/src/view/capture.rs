//! Captures and what arrived in them.

use super::words::{CaptureType, DocumentForm};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

/// A capture to open.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CaptureRequest {
    pub kind: CaptureType,
    /// For a queue capture: the broker's connection, the exchange, and a pattern of routing keys (`#` matches every one).
    #[serde(default)]
    pub connection: String,
    #[serde(default)]
    pub exchange: String,
    #[serde(default)]
    pub pattern: String,
    /// How long it stays open, in minutes; 60 when left out, at most a day.
    #[serde(default)]
    pub minutes: Option<u32>,
}

/// A capture.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CaptureView {
    pub name: String,
    pub kind: CaptureType,
    /// Address to send to, or the exchange and pattern it is bound to.
    pub address: String,
    /// The address can be reached from this machine alone.
    pub local_only: bool,
    pub by: String,
    pub until: String,
    /// Items that arrived; only the newest hundred are stored.
    pub arrived: u64,
    /// Why nothing more arrives; empty while it does.
    pub says: String,
}

/// A capture with its items, newest first.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CaptureStory {
    pub capture: CaptureView,
    pub caught: Vec<CaughtView>,
}

/// A flow to make of a recorded item.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FirstFlowRequest {
    /// Name of the flow, and of its other files.
    pub flow: String,
}

/// Files that make a flow of a recorded item.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FirstFlow {
    /// The event that its intake takes; empty where the item names none.
    pub event: String,
    pub files: Vec<ProposedFile>,
}

/// A file as it would be.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ProposedFile {
    pub file: String,
    /// Its text in the running release; `null` for a new file.
    pub before: Option<String>,
    pub after: String,
}

/// Something that arrived in a capture.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CaughtView {
    /// Counted from 1 in its capture.
    pub n: u64,
    pub at: String,
    /// The request's first line, or exchange and routing key.
    pub line: String,
    /// What happened, in the sender's words: the `type` of a message at a broker, the event in a header or in the body; empty where
    /// none is found.
    pub event: String,
    /// Headers of a call, or properties and headers of a message at a broker; secrets are masked.
    #[schema(value_type = Object)]
    pub headers: Map<String, Value>,
    pub size: usize,
    pub form: DocumentForm,
    /// Why the body is not well formed; empty when it is.
    pub fault: String,
    /// The body made readable, its first 256 KB.
    pub text: String,
}
