//! The JSON forms of the API, read by the command line and the console.
//!
//! Times are RFC 3339 in UTC; durations end in `_ms` or `_us`. A response always has every property: a name, id, code, moment or
//! number that does not apply is `null`; a sentence that does not apply is empty.

mod act;
mod arrival;
mod assignment;
mod capture;
mod connection;
mod dry_run;
mod edi;
mod live;
mod map;
mod message;
mod order;
mod overview;
mod release;
mod secret;
pub mod words;

pub use act::{
    ActPlan, ActRequest, ActResult, BulkAct, BulkPreview, BulkRefusal, BulkRequest, CorrectedMessage, CorrectionView, NextAction,
    SubmitBegin, SubmitField, SubmitLast, Submitted, SuggestedValue, Why,
};
pub use arrival::{Arrival, ArrivalQuery, ArrivalStory, Arrivals, Handed, LedgerEntry};
pub use assignment::{Assignment, AssignmentRequest};
pub use capture::{CaptureRequest, CaptureStory, CaptureView, CaughtView, FirstFlow, FirstFlowRequest, ProposedFile};
pub use connection::{
    AskRequest, Asked, ConnectionHold, ConnectionView, FileFault, HeardView, QueueView, TurnedView, WebhookView,
};
pub use dry_run::{DryRunMessage, DryRunStep, DryRunView};
pub use edi::{EdiAcknowledgment, EdiFact, EdiFinding, EdiItem, EdiLine, EdiLook, EdiParty, EdiRequest, EdiSet, EdiSummary};
pub use live::{LiveEvent, PassedCount, Pulse};
pub use map::{
    Changed, MapDraft, MapDraftRequest, MapOpen, MapProposal, MapRule, MapRuleRequest, MapSample, MapSource, MapStory, MapText,
    MapTried, MapTry, MapView, MapWithin,
};
pub use message::{
    ActView, Attempt, DescribedElement, DescribedSegment, DocumentView, Message, MessageQuery, Messages, Reason, RecentAct,
    RequestView, Step, Story,
};
pub use order::{MilestoneView, Order, OrderEvent, OrderQuery, OrderStory, Orders};
pub use overview::{
    FigureSlot, Figures, FlowFigures, FlowIntake, FlowLine, FlowSlot, FlowStep, FlowStory, Intake, Named, OrderCounts, Overview,
    PartnerShare, PausedFlow, RecordRequest, RecordedFlow, ResumedFlow, StepHold, Workspace,
};
pub use release::{
    CaseDifference, CaseView, ChangedFiles, FileView, FindingView, Release, ReleaseChange, ReleaseFiles, ReleaseStory,
    ReleaseView, WorkspaceFiles,
};
pub use secret::{SecretRequest, SecretSet, SecretView};

use jiff::Timestamp as Instant;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wirewatch_core::Timestamp;
use words::MessageState;

/// A moment as RFC 3339; `None` for 0.
#[must_use]
pub fn time(us: i64) -> Option<String> {
    (us != 0).then(|| Instant::from_microsecond(us).map(|at| format!("{at:.3}")).unwrap_or_default())
}

/// A name that may be missing: `None` for an empty text, which is how the journal stores absence.
pub(crate) fn some(text: &str) -> Option<String> {
    (!text.is_empty()).then(|| text.to_owned())
}

pub(crate) fn sure_time(at: Timestamp) -> String {
    time(at.0).unwrap_or_default()
}

/// The environment of a service.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct EnvironmentView {
    pub name: String,
    pub title: String,
    /// Production: what is sent from here has real effects.
    pub production: bool,
}

/// Status of the service.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Status {
    /// Version of the service.
    pub version: String,
    /// Title of the workspace.
    pub title: String,
    /// The environment; `null` when the workspace names none.
    pub environment: Option<EnvironmentView>,
    pub release: i64,
    pub since: String,
    /// Warnings for an operator, in sentences.
    pub warnings: Vec<String>,
    /// Unfinished messages by state.
    pub unfinished: std::collections::BTreeMap<MessageState, i64>,
    pub on_hold: Vec<ConnectionHold>,
    pub steps_on_hold: Vec<StepHold>,
    /// Flows that a person has paused.
    pub paused: Vec<PausedFlow>,
    /// The newest arrivals of the last day that failed, and so became no messages; at most 20.
    pub arrivals_failed: Vec<Arrival>,
    pub reasons: Vec<Reason>,
    /// Who works on what needs attention.
    pub assignments: Vec<Assignment>,
    /// The processes that share the work.
    pub processes: Vec<ProcessView>,
}

/// A process of the service.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ProcessView {
    /// Name, in words.
    pub process: String,
    /// Shards of the work that are its, of 64.
    pub shards: i64,
    /// The one that answers.
    pub answers: bool,
}
