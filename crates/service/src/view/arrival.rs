//! Arrivals: in lists, one with all that belongs to it, and what the ledger says.

use super::{ActView, Message};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// What came in, once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Arrival {
    pub id: String,
    pub connection: String,
    pub partner: String,
    pub name: String,
    /// `received`, `splitting`, `duplicate`, `rejected`, `failed` or `resolved`.
    pub verdict: String,
    pub says: String,
    pub size: i64,
    pub messages: i32,
    pub received: String,
    /// The person who handed it in; empty when it came by itself.
    pub by: String,
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
    /// What a broker told of it beside its body, as a JSON object; empty when nothing.
    pub told: String,
    /// How its bytes read: `x12`, `json` or `text`.
    pub form: String,
    /// Its bytes as text, made readable: one segment a line, JSON indented.
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
    /// `in` or `out`.
    pub direction: String,
    pub sender: String,
    pub receiver: String,
    /// `P` production, `T` test.
    pub usage: String,
    pub control: String,
    /// The control number it answers.
    pub answers: String,
    pub message: Option<String>,
    pub at: String,
}

/// What became of a handed-in document.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Handed {
    pub arrival: String,
    pub verdict: String,
    pub says: String,
}

/// Which arrivals.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct ArrivalQuery {
    pub connection: String,
    pub partner: String,
    pub verdict: String,
    /// The exact file name.
    pub name: String,
    /// RFC 3339.
    pub since: String,
    pub until: String,
    pub before: String,
    pub limit: Option<u32>,
}
