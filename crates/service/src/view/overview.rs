//! Flows as the console draws them: a line with a step per step, and what stands at each.

use super::{Arrival, ConnectionView, Reason};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Every flow with what passes and what stands, the connections they use, and why messages failed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Overview {
    pub at: String,
    pub lines: Vec<FlowLine>,
    pub connections: Vec<ConnectionView>,
    pub reasons: Vec<Reason>,
    /// The newest arrivals of the last day that failed, and so became no messages.
    pub arrivals_failed: Vec<Arrival>,
    /// What somebody should see to, in sentences.
    pub warnings: Vec<String>,
}

/// One flow.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FlowLine {
    pub flow: String,
    pub title: String,
    pub intakes: Vec<Intake>,
    /// Who has paused it, where somebody has.
    pub paused: Option<PausedFlow>,
    /// How much is recorded of it, where somebody has switched that for a time.
    pub recorded: Option<RecordedFlow>,
    /// The beginning, then one for each step, then steps of earlier releases at which something still stands.
    pub steps: Vec<FlowStep>,
    /// Messages that came to their end in the last minute.
    pub done_minute: u64,
}

/// What a flow takes.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Intake {
    pub connection: String,
    /// The queue, where the connection is a broker.
    pub queue: Option<String>,
    /// E.g. `x12/850`.
    pub takes: String,
}

/// A flow that a person has paused.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PausedFlow {
    pub flow: String,
    pub since: String,
    pub by: String,
    pub says: String,
    /// Messages that wait for it to go on.
    pub waiting: usize,
}

/// A step that is on hold since message after message failed there for the same reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct HeldStep {
    pub flow: String,
    pub step: String,
    pub since: String,
    pub says: String,
    /// When the next message is let through to see; when that goes well, the others follow.
    pub next_look: String,
    /// Messages that wait for that.
    pub waiting: usize,
}

/// A flow goes on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ResumedFlow {
    /// Its steps that are held, where one that waits tries now.
    pub trying: Vec<String>,
}

/// How much is recorded of a flow for a time, whatever the flow says.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RecordedFlow {
    /// `calls` or `failures`.
    pub depth: String,
    pub until: String,
    pub by: String,
}

/// How much is to be recorded of a flow.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RecordRequest {
    /// `calls` (every answer) or `failures` (answers of what failed).
    pub depth: String,
    /// For how long; 0 switches back to what the flow says.
    pub seconds: u32,
}

/// A step of a flow, with the last minute and what stands there now.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct FlowStep {
    /// Empty for the beginning.
    pub step: String,
    /// The way it stands on, in words, where it is not on the main line.
    pub way: String,
    /// The step's verb; `intake` for the beginning; empty for a step of an earlier release.
    pub verb: String,
    /// The map, the request, or to whom: `po-to-order`, `POST /orders`.
    pub what: String,
    /// The connection it uses.
    pub connection: Option<String>,
    /// Messages that passed in the last minute.
    pub passed_minute: u64,
    /// How long its effect took, in microseconds: half were faster, and nineteen of twenty.
    pub median_us: Option<u64>,
    pub slow_us: Option<u64>,
    pub running: i64,
    pub waiting: i64,
    pub retrying: i64,
    pub failed: i64,
    /// Since when the oldest of those waiting, retrying or failed has stood as it stands.
    pub stuck_since: Option<String>,
    /// When the next retry is due.
    pub next_due: Option<String>,
    /// Whose messages wait, retry or failed, most first.
    pub hurts: Vec<PartnerShare>,
    pub held: Option<HeldStep>,
}

/// Messages of one partner.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PartnerShare {
    /// Empty when there is none.
    pub partner: String,
    pub messages: i64,
}

/// The names that filters offer.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Workspace {
    pub title: String,
    /// Where it runs; absent when that is not said.
    pub environment: Option<super::EnvironmentView>,
    pub release: i64,
    pub flows: Vec<Named>,
    pub partners: Vec<Named>,
    pub connections: Vec<Named>,
    pub plans: Vec<Named>,
}

/// A part of the workspace.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Named {
    pub name: String,
    pub title: String,
}
