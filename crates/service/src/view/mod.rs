//! What the API says: the JSON forms that command line and console read. Times are RFC 3339 in UTC; spans end in `_ms`.

mod act;
mod arrival;
mod capture;
mod connection;
mod edi;
mod live;
mod map;
mod message;
mod order;
mod overview;
mod release;
mod secret;

pub use act::{
    ActRequest, ActResult, BulkAct, BulkPreview, BulkRefusal, BulkRequest, BulkState, SubmitBegin, SubmitField, SubmitLast,
    Submitted, Why,
};
pub use arrival::{Arrival, ArrivalQuery, ArrivalStory, Arrivals, Handed, LedgerEntry};
pub use capture::{CaptureRequest, CaptureStory, CaptureView, CaughtView};
pub use connection::{
    AskRequest, Asked, ConnectionView, FileFault, HeardView, HeldConnection, QueueView, TurnedView, WebhookView,
};
pub use edi::{EdiFact, EdiFinding, EdiItem, EdiLine, EdiLook, EdiParty, EdiRequest, EdiSet, EdiSummary};
pub use live::{LiveEvent, PassedCount, Pulse};
pub use map::{
    MapDraft, MapDraftRequest, MapOpen, MapProposal, MapRule, MapRuleRequest, MapSample, MapSource, MapStory, MapText, MapTried,
    MapTry, MapView, MapWithin,
};
pub use message::{
    ActView, Attempt, DescribedElement, DescribedSegment, DocumentView, Message, MessageQuery, Messages, Reason, RequestView,
    Step, Story,
};
pub use order::{MilestoneView, Order, OrderQuery, OrderStory, Orders};
pub use overview::{
    FlowLine, FlowStep, HeldStep, Intake, Named, Overview, PartnerShare, PausedFlow, RecordRequest, RecordedFlow, ResumedFlow,
    Workspace,
};
pub use release::{FileView, FindingView, Release, ReleaseStory, ReleaseView, WorkspaceFiles};
pub use secret::{SecretRequest, SecretSet, SecretView};

use jiff::Timestamp as Instant;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wirewatch_core::Timestamp;

/// A moment as RFC 3339; `None` for 0.
#[must_use]
pub fn time(us: i64) -> Option<String> {
    (us != 0).then(|| Instant::from_microsecond(us).map(|at| format!("{at:.3}")).unwrap_or_default())
}

pub(crate) fn sure_time(at: Timestamp) -> String {
    time(at.0).unwrap_or_default()
}

/// Where a service runs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EnvironmentView {
    pub name: String,
    pub title: String,
    /// What is sent from here is meant.
    pub production: bool,
}

/// How the service stands.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Status {
    /// Version of the service.
    pub version: String,
    /// Title of the workspace.
    pub title: String,
    /// Where it runs; absent when that is not said.
    pub environment: Option<EnvironmentView>,
    pub release: i64,
    pub since: String,
    /// What somebody should see to, in sentences.
    pub warnings: Vec<String>,
    /// Unfinished messages by state.
    pub unfinished: std::collections::BTreeMap<String, i64>,
    pub held: Vec<HeldConnection>,
    pub held_steps: Vec<HeldStep>,
    pub reasons: Vec<Reason>,
    /// The processes that share the work.
    pub processes: Vec<ProcessView>,
}

/// A process of the service.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ProcessView {
    /// Which it is, in words.
    pub process: String,
    /// Shards of the work that are its, of 64.
    pub shards: i64,
    /// The one that answers.
    pub answers: bool,
}
