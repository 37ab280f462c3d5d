//! Arrivals: in lists, one with everything that belongs to it, and the ledger.

use super::words::{Direction, DocumentForm, Verdict};
use super::{ActView, Message};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::{IntoParams, ToSchema};

/// An arrival: one thing that was received, once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Arrival {
    pub id: String,
    pub connection: String,
    pub partner: Option<String>,
    pub name: String,
    pub verdict: Verdict,
    pub says: String,
    pub size: i64,
    pub messages: i32,
    pub received: String,
    /// The person who submitted it; `null` when it was received by a connection.
    pub by: Option<String>,
    /// Business keys of its first messages, at most four; only in lists.
    pub keys: Vec<String>,
}

/// A page of arrivals.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Arrivals {
    pub arrivals: Vec<Arrival>,
    pub next: Option<String>,
}

/// An arrival with all that belongs to it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ArrivalStory {
    pub arrival: Arrival,
    /// Headers of a call, or properties and headers of a message at a broker; secrets are masked. Empty for a file.
    #[schema(value_type = Object)]
    pub headers: Map<String, Value>,
    pub form: DocumentForm,
    /// Bytes as text: one segment a line, JSON indented.
    pub text: String,
    /// The text is only the start of it.
    pub cut: bool,
    pub ledger: Vec<LedgerEntry>,
    pub acts: Vec<ActView>,
    pub messages: Vec<Message>,
}

/// An interchange in or out.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LedgerEntry {
    pub direction: Direction,
    pub sender: String,
    pub receiver: String,
    /// `P` production, `T` test.
    pub usage: String,
    pub control: String,
    /// The control number that it acknowledges.
    pub answers: Option<String>,
    pub message: Option<String>,
    pub at: String,
}

/// Result of a submitted document.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Handed {
    pub arrival: String,
    pub verdict: Verdict,
    pub says: String,
}

/// Which arrivals.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct ArrivalQuery {
    pub connection: String,
    pub partner: String,
    #[param(value_type = Option<Verdict>)]
    pub verdict: String,
    /// The exact file name.
    pub name: String,
    /// RFC 3339.
    pub since: String,
    pub until: String,
    pub before: String,
    pub limit: Option<u32>,
}
