//! A document run through a flow with nothing sent and nothing stored.

use super::words::{MessageState, Verdict};
use super::{DocumentView, RequestView};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Result of a dry run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DryRunView {
    /// The verdict that the arrival would get, if it was not received before.
    pub verdict: Verdict,
    pub says: String,
    /// Acknowledgments that would be sent, e.g. `997 for group 101`.
    pub acknowledgments: Vec<String>,
    /// The first five messages it would become, and those that branch off from them.
    pub messages: Vec<DryRunMessage>,
    /// Further messages.
    pub left_out: usize,
}

/// A message of a dry run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DryRunMessage {
    /// Business key; may be empty.
    pub key: String,
    /// The branch that it is, in words; empty for the message itself.
    pub way: String,
    /// The state it would end in, if every request succeeds.
    pub ends: MessageState,
    /// Why it would be skipped or fail; empty otherwise.
    pub says: String,
    pub steps: Vec<DryRunStep>,
}

/// A step of a dry run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DryRunStep {
    pub step: String,
    pub verb: String,
    /// A note or a choice; may be empty.
    pub says: String,
    /// The document after it; `null` where it did not change.
    pub document: Option<DocumentView>,
    /// The request that would be sent.
    pub request: Option<RequestView>,
}
