//! What the API says: the JSON forms that command line and console read. Times are RFC 3339 in UTC; spans end in `_ms`.

use jiff::Timestamp as Instant;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};
use wirewatch_core::{Finding, Timestamp};
use wirewatch_journal::Event;

/// A moment as RFC 3339; `None` for 0.
#[must_use]
pub fn time(us: i64) -> Option<String> {
    (us != 0).then(|| Instant::from_microsecond(us).map(|at| format!("{at:.3}")).unwrap_or_default())
}

fn sure_time(at: Timestamp) -> String {
    time(at.0).unwrap_or_default()
}

/// How the service stands.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Status {
    /// Version of the service.
    pub version: String,
    /// Title of the workspace.
    pub title: String,
    pub release: i64,
    pub since: String,
    /// What somebody should see to, in sentences.
    pub warnings: Vec<String>,
    /// Unfinished messages by state.
    pub unfinished: std::collections::BTreeMap<String, i64>,
    pub held: Vec<HeldConnection>,
    pub reasons: Vec<Reason>,
}

/// A connection that is held.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct HeldConnection {
    pub connection: String,
    pub since: String,
    pub says: String,
    pub waiting: usize,
}

/// Why messages stand aside, and how many.
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
    /// When the first of them came to stand aside.
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
    /// `moving`, `waiting`, `retrying`, `aside`, `done`, `skipped` or `discarded`.
    pub state: String,
    pub step: String,
    pub tries: i32,
    /// When the next try is due.
    pub due: Option<String>,
    /// The connection it waits for.
    pub waits_for: String,
    /// Reason id, when it stands aside.
    pub reason: Option<String>,
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
    pub text: String,
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
    pub acts: Vec<ActView>,
    /// Other messages of the same arrival: acknowledgments and the rest of the file.
    pub beside: Vec<Message>,
}

/// What one step did.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Step {
    pub step: String,
    /// `map`, `only`, `set`, `call` or `send`.
    pub verb: String,
    /// The document after the step, where the step changed it.
    pub after: Option<DocumentView>,
    pub request: Option<RequestView>,
    pub attempts: Vec<Attempt>,
}

/// What was asked of the outside.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RequestView {
    pub connection: String,
    /// `POST /orders`, or a file name.
    pub line: String,
    pub body: Option<String>,
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
    pub answer: Option<String>,
    /// `done`, `again`, `held`, `aside`.
    pub then: String,
    pub due: Option<String>,
}

/// A person's act.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ActView {
    pub at: String,
    pub by: String,
    /// `resent`, `amended`, `discarded`, `let through`.
    pub act: String,
    pub why: String,
}

/// What came in, once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Arrival {
    pub id: String,
    pub connection: String,
    pub partner: String,
    pub name: String,
    /// `taken`, `unfolding`, `repeat`, `refused` or `aside`.
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
    /// The start of its bytes, as text.
    pub text: String,
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

/// An order along its course.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Order {
    pub course: String,
    pub partner: String,
    pub key: String,
    /// `open`, `trouble` or `ended`.
    pub state: String,
    pub milestones: Vec<MilestoneView>,
    pub begun: String,
    pub changed: String,
}

/// A milestone of an order.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MilestoneView {
    pub name: String,
    /// `begins`, `passes`, `trouble` or `ends`.
    pub mark: String,
    /// When it was first reached; absent when it is still ahead.
    pub at: Option<String>,
    /// Since the milestone reached before it.
    pub after_ms: Option<u64>,
    pub times: u32,
    pub message: Option<String>,
}

/// A page of orders.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Orders {
    pub orders: Vec<Order>,
    pub next: Option<String>,
}

/// One order with its messages.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct OrderStory {
    pub orders: Vec<Order>,
    pub messages: Vec<Message>,
}

/// A connection.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ConnectionView {
    pub name: String,
    pub title: String,
    /// `folder` or `http`.
    pub kind: String,
    pub place: String,
    /// Flows that use it.
    pub used_by: Vec<String>,
    pub held: Option<HeldConnection>,
}

/// What an act should do.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ActRequest {
    /// `resend`, `amend` or `discard`.
    pub act: String,
    #[serde(default)]
    pub why: String,
    /// For resend and amend: `ask` (the default), `keep` or `again`.
    #[serde(default)]
    pub answers: String,
    /// For amend: the document.
    #[serde(default)]
    pub document: String,
    /// Check only; nothing is done.
    #[serde(default)]
    pub preview: bool,
}

/// One act for all messages with the same reason.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BulkRequest {
    pub reason: String,
    /// `resend` or `discard`.
    pub act: String,
    #[serde(default)]
    pub why: String,
    #[serde(default)]
    pub answers: String,
    #[serde(default)]
    pub preview: bool,
}

/// What became of an act on one message.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ActResult {
    pub message: Message,
    pub done: bool,
    /// Why not.
    pub says: String,
}

/// What became of a handed-in document.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Handed {
    pub arrival: String,
    pub verdict: String,
    pub says: String,
}

/// A workspace to release or check.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WorkspaceFiles {
    /// Path with forward slashes, and text.
    pub files: std::collections::BTreeMap<String, String>,
}

/// What came of a release.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Release {
    pub release: i64,
    /// `new`, or `same` when nothing differs.
    pub what: String,
    #[schema(value_type = Vec<Object>)]
    pub findings: Vec<Finding>,
}

/// Which messages.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct MessageQuery {
    pub flow: String,
    pub partner: String,
    pub state: String,
    /// What it is known by, here or in the target.
    pub key: String,
    pub reason: String,
    pub arrival: String,
    /// RFC 3339.
    pub since: String,
    pub until: String,
    pub before: String,
    pub limit: Option<u32>,
}

/// Which arrivals.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct ArrivalQuery {
    pub connection: String,
    pub partner: String,
    pub verdict: String,
    pub before: String,
    pub limit: Option<u32>,
}

/// Which orders.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct OrderQuery {
    pub course: String,
    pub partner: String,
    pub state: String,
    pub before: String,
    pub limit: Option<u32>,
}

/// One thing that happened, as the live stream tells it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LiveEvent {
    pub at: String,
    /// `message`, `arrival` or `hold`.
    pub kind: String,
    pub id: String,
    pub flow: String,
    pub partner: String,
    /// The step of a message, the connection of an arrival or a hold.
    pub step: String,
    /// State of a message, verdict of an arrival, `held` or `free`.
    pub state: String,
    pub key: String,
    pub result: String,
    pub says: String,
    pub tries: u16,
    pub due: Option<String>,
    /// How long the effect took, in microseconds.
    pub took_us: u64,
}

impl From<&Event> for LiveEvent {
    fn from(event: &Event) -> Self {
        Self {
            at: sure_time(event.at),
            kind: event.kind.clone(),
            id: if event.id.0 == 0 { String::new() } else { event.id.to_string() },
            flow: event.flow.clone(),
            partner: event.partner.clone(),
            step: event.step.clone(),
            state: event.state.clone(),
            key: event.key.clone(),
            result: event.result.clone(),
            says: event.says.clone(),
            tries: event.tries,
            due: time(event.due.0),
            took_us: event.took,
        }
    }
}
