//! Captures and what arrived in them.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What kind of capture to open.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct CaptureRequest {
    /// `http` or `queue`.
    pub kind: String,
    /// Of a queue capture: the broker's connection, the exchange, and a pattern of routing keys (`#` is every one).
    pub connection: String,
    pub exchange: String,
    pub pattern: String,
    /// How long it is open, in minutes (60; at most a day).
    pub minutes: Option<u32>,
}

/// A capture.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CaptureView {
    pub name: String,
    /// `http` or `queue`.
    pub kind: String,
    /// Where to send to, or what it is bound to.
    pub address: String,
    /// The address can be reached from this machine alone.
    pub local_only: bool,
    pub by: String,
    pub until: String,
    /// How much arrived; only the newest hundred are kept.
    pub arrived: u64,
    /// Why nothing more arrives; empty while it does.
    pub says: String,
}

/// A capture with what it keeps, newest first.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CaptureStory {
    pub capture: CaptureView,
    pub caught: Vec<CaughtView>,
}

/// Something that arrived in a capture.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CaughtView {
    /// Counted from 1 in its capture.
    pub n: u64,
    pub at: String,
    /// The request's first line, or exchange and routing key.
    pub line: String,
    /// Headers of a call, or what a broker told, as a JSON object.
    pub told: String,
    pub size: usize,
    /// `x12`, `json` or `text`.
    pub form: String,
    /// Where it is not well formed; empty when it is, or when there is nothing to be said.
    pub fault: String,
    /// The body made readable, its first 256 KB.
    pub text: String,
}
