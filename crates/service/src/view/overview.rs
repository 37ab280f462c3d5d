//! Flows as the console draws them: a line of steps with their messages.

use super::words::{FigureRange, RecordingDepth, StepVerb};
use super::{ActView, Arrival, Assignment, ConnectionView, Reason, ReleaseView};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Every flow with its figures, the connections, and the reasons of failures.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Overview {
    pub at: String,
    pub lines: Vec<FlowLine>,
    pub connections: Vec<ConnectionView>,
    pub reasons: Vec<Reason>,
    /// The newest arrivals of the last day that failed, and so became no messages.
    pub arrivals_failed: Vec<Arrival>,
    /// Warnings for an operator, in sentences.
    pub warnings: Vec<String>,
    /// Who works on what needs attention.
    pub assignments: Vec<Assignment>,
}

/// A flow.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FlowLine {
    pub flow: String,
    pub title: String,
    pub intakes: Vec<Intake>,
    /// The pause, if a person has paused it.
    pub paused: Option<PausedFlow>,
    /// The recording depth, if a person has changed it for a time.
    pub recorded: Option<RecordedFlow>,
    /// The beginning, then each step, then steps of earlier releases that still have messages.
    pub steps: Vec<FlowStep>,
    /// Messages that ended in the last minute.
    pub done_minute: u64,
    /// The same in 12 spans of five seconds, oldest first.
    pub done_slots: Vec<u64>,
}

/// An intake of a flow.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Intake {
    pub connection: String,
    /// The queue, where the connection is a broker.
    pub queue: Option<String>,
    /// E.g. `x12/850`.
    pub takes: String,
}

/// One flow with all that a person asks about it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FlowStory {
    pub line: FlowLine,
    /// For people, from its file; may be empty.
    pub notes: String,
    pub intakes: Vec<FlowIntake>,
    /// The connections that its line names.
    pub connections: Vec<ConnectionView>,
    /// Why its messages failed.
    pub reasons: Vec<Reason>,
    /// Releases that changed its file or one of its maps, newest first, each with these changes alone; of the newest 50 releases.
    pub versions: Vec<ReleaseView>,
    /// Acts of people on the flow, newest first.
    pub acts: Vec<ActView>,
}

/// An intake of a flow with its newest arrival.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FlowIntake {
    pub connection: String,
    /// The queue, where the connection is a broker.
    pub queue: Option<String>,
    /// E.g. `x12/850`.
    pub takes: String,
    /// When the newest arrival was received at its connection or queue; `null` before the first, or when it is no longer stored.
    pub received: Option<String>,
    /// The id of that arrival.
    pub sample: Option<String>,
}

/// A flow that a person has paused.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PausedFlow {
    pub flow: String,
    pub since: String,
    pub by: String,
    pub says: String,
    /// Messages that wait for it to be resumed.
    pub waiting: usize,
}

/// A step on hold, because message after message failed there for the same reason.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct StepHold {
    pub flow: String,
    pub step: String,
    pub since: String,
    pub says: String,
    /// When the next message tries; when it succeeds, the others follow.
    pub next_try: String,
    /// Messages that wait for that.
    pub waiting: usize,
}

/// Result of resuming a flow.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ResumedFlow {
    /// Steps on hold, where one waiting message tries now.
    pub trying: Vec<String>,
}

/// Recording depth of a flow that a person has changed for a time.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RecordedFlow {
    pub depth: RecordingDepth,
    pub until: String,
    pub by: String,
}

/// A change of a flow's recording depth.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RecordRequest {
    pub depth: RecordingDepth,
    /// Duration; 0 returns to what the flow declares.
    pub seconds: u32,
}

/// A step of a flow, with figures of the last minute and the messages there now.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct FlowStep {
    /// Empty for the beginning.
    pub step: String,
    /// The branch it is in, in words; empty on the main line.
    pub way: String,
    /// `null` for a step that only an earlier release has.
    pub verb: Option<StepVerb>,
    /// The map, the request, or the recipient: `po-to-order`, `POST /orders`.
    pub what: String,
    /// The connection it uses.
    pub connection: Option<String>,
    /// Messages that passed in the last minute.
    pub passed_minute: u64,
    /// The same in 12 spans of five seconds, oldest first.
    pub passed_slots: Vec<u64>,
    /// Duration of its requests in microseconds: median and 95th percentile.
    pub median_us: Option<u64>,
    pub slow_us: Option<u64>,
    pub running: i64,
    pub waiting: i64,
    pub retrying: i64,
    pub failed: i64,
    /// Since when the oldest waiting, retrying or failed message has been in that state.
    pub stuck_since: Option<String>,
    /// When the next retry is due.
    pub next_due: Option<String>,
    /// Partners whose messages wait, retry or failed, most messages first.
    pub affects: Vec<PartnerShare>,
    pub on_hold: Option<StepHold>,
}

/// Messages of one partner.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PartnerShare {
    /// `null` for messages of no partner.
    pub partner: Option<String>,
    pub messages: i64,
}

/// Figures of orders in a range of time.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Figures {
    pub range: FigureRange,
    /// Where the range begins; it ends now.
    pub from: String,
    /// Orders that began in the range.
    pub orders: OrderCounts,
    /// Orders that began in the range of the same length before it.
    pub before: OrderCounts,
    /// The range in 30 spans, oldest first.
    pub slots: Vec<FigureSlot>,
    /// Failed messages now, whenever they failed.
    pub failed: i64,
    /// When the first of their reasons was first seen.
    pub failed_since: Option<String>,
    /// Failed arrivals of the last day; at most 20 are counted.
    pub arrivals_failed: usize,
    /// Acknowledgments that are not delivered to their partners yet.
    pub acknowledgments: i64,
    /// Since when the oldest of them has been in its present state.
    pub acknowledgments_since: Option<String>,
}

/// Orders that began in a span of time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OrderCounts {
    pub orders: i64,
    /// Orders that are not done yet.
    pub open: i64,
    /// Of the open ones: those in trouble.
    pub trouble: i64,
    /// Duration of those that are done, from the first milestone to the last, in microseconds: median and 95th percentile.
    pub median_us: Option<i64>,
    pub p95_us: Option<i64>,
}

/// A span of a range.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FigureSlot {
    /// Where it begins.
    pub at: String,
    pub orders: i64,
    /// Median duration of those that are done, in microseconds.
    pub median_us: Option<i64>,
}

/// Figures of a flow in a range of time.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FlowFigures {
    pub range: FigureRange,
    /// Where the range begins; it ends now.
    pub from: String,
    /// The range in 30 spans, oldest first.
    pub slots: Vec<FlowSlot>,
    /// Messages done in the range. One that was done more than a day after the day of its arrival is not counted.
    pub done: i64,
    /// Messages that failed in the range, and still need attention.
    pub failed: i64,
    /// Duration of those done, from their arrival, in microseconds: median and 95th percentile; `null` when there are none.
    pub median_us: Option<i64>,
    pub p95_us: Option<i64>,
}

/// A span of a flow's range; its figures are as those of the range.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FlowSlot {
    /// Where it begins.
    pub at: String,
    pub done: i64,
    pub failed: i64,
    pub median_us: Option<i64>,
    pub p95_us: Option<i64>,
}

/// The names that filters offer.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Workspace {
    pub title: String,
    /// The environment; `null` when the workspace names none.
    pub environment: Option<super::EnvironmentView>,
    pub release: i64,
    /// People may deploy changed files from the console.
    pub deploy_from_console: bool,
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
