//! One message on its way: a state machine that is a fold over the log of its effects' outcomes.
//!
//! ```text
//!            begin                         outcome(answer) / woken / released
//!              │                 ┌────────────────────────────────────────────────┐
//!              ▼                 ▼                                                │
//!        pure steps ──▶ Perform(effect) ──outcome──▶ again ──▶ WaitUntil ─────────┤
//!              │                 │                   held  ──▶ WaitFor(connection)┘
//!              ▼                 ├── refused, in doubt, gave up ──▶ End(failed) ──resend, amend──▶ begin
//!           End(done, skipped)   └── answer of the last effect ───▶ End(done)  ──discard──▶ End(discarded)
//! ```
//!
//! The caller performs at most one effect at a time, gives its outcome to [`Machine::outcome`], commits the
//! [`LogEntry`] of the [`Turn`], and only then follows [`Turn::next`]. [`Machine::rebuild`] feeds the same
//! entries through the same code, so recovery, dry run, history and simulation share one mechanism. What was
//! decided stands in the entry ([`Then`]): the retry policy of today never changes what happened yesterday.

mod effect;
mod failing;
mod inputs;
mod parts;
mod run;
mod turn;

pub use effect::{Body, Claim, Effect, Outcome, Post, Work};
pub use parts::Part;
pub use turn::{End, LogEntry, Logged, Next, Pass, Passed, State, Then, Turn};

use crate::act::Answers;
use crate::document::Form;
use crate::flow::{Flow, Recording};
use crate::guard::guarded;
use crate::plan::Point;
use crate::workspace::Workspace;
use crate::{ArrivalId, Digest, Document, Id, MessageId, Timestamp, key};
use failing::Failed;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::ops::Range;
use std::sync::Arc;

/// Origin of a message; never changes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Origin {
    pub id: MessageId,
    pub arrival: ArrivalId,
    /// Id of the stored body with the document: the arrival's, or the message's own.
    pub body: Id,
    /// Span of the document in that body.
    pub slice: Range<u64>,
    pub flow: String,
    /// Number of the release whose logic it runs.
    pub release: i64,
    pub form: Form,
    pub meta: Map<String, Value>,
}

impl Origin {
    /// Bytes of the document.
    #[must_use]
    pub fn size(&self) -> u64 {
        self.slice.end.saturating_sub(self.slice.start)
    }
}

/// The logic a message runs: one flow of one release.
#[derive(Debug, Clone)]
pub struct Logic {
    pub workspace: Arc<Workspace>,
    pub flow: Arc<Flow>,
}

impl Logic {
    /// The flow of that name in a release.
    #[must_use]
    pub fn of(workspace: &Arc<Workspace>, flow: &str) -> Option<Self> {
        workspace.flows.get(flow).map(|flow| Self { workspace: workspace.clone(), flow: flow.clone() })
    }
}

/// A log that this logic would not have written.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("entry {entry} of the log does not fit the flow: {says}")]
pub struct Diverged {
    pub entry: usize,
    pub says: String,
}

/// An act that the message's state does not allow.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum ActRefused {
    #[error("the message is {}; only one that failed or has ended can be resent or amended", .0.as_str())]
    NotStopped(State),
    #[error("the message is {} already", .0.as_str())]
    Ended(State),
    #[error("the amended document cannot be read: {0}")]
    Unreadable(String),
    #[error("step `{step}` was done before with another request; say whether to keep that answer or to do it again")]
    OtherRequest { step: String },
}

/// A step's document, for showing a message's story.
#[derive(Debug, Clone)]
pub struct Trace {
    pub step: String,
    pub verb: &'static str,
    /// Text of a `note`, the branch chosen, or the end of a pause; empty otherwise.
    pub note: String,
    /// The document after the step, where it changed.
    pub after: Option<Document>,
    /// The request of an effect.
    pub effect: Option<Effect>,
}

/// A message under way.
#[derive(Debug, Clone)]
pub struct Machine {
    logic: Logic,
    origin: Arc<Origin>,
    /// The document that the message runs from: as received, or as amended.
    source: Document,
    current: Document,
    kept: Map<String, Value>,
    at: usize,
    generation: u16,
    tries: u16,
    /// How much of its effects' answers is stored.
    recording: Recording,
    /// An intent was logged and no attempt after it: nobody knows whether the effect was carried out.
    in_doubt: bool,
    /// The last outcome was a refusal: a resend uses the next generation.
    refused: bool,
    /// Set while the flow's steps on failure run.
    failed: Option<Failed>,
    /// Time of the last log entry; pauses count from it.
    now: Timestamp,
    /// Answers from before a resend, and what a resend does with them.
    answers: Answers,
    memory: Vec<(String, Digest, Outcome)>,
    next: Next,
    trace: Option<Vec<Trace>>,
}

impl Machine {
    /// A message at its beginning, and what to do first.
    #[must_use]
    pub fn begin(logic: Logic, origin: Arc<Origin>, document: Document) -> (Self, Turn) {
        let mut machine = Self::fresh(logic, origin, document, false);
        let mut turn = machine.run();
        turn.points.insert(0, Point::Begun);
        (machine, turn)
    }

    /// Rebuilds the machine as it was after the last entry of `log`.
    ///
    /// # Errors
    /// [`Diverged`] when an entry is of another step or request than this logic asks for.
    pub fn rebuild(
        logic: Logic,
        origin: Arc<Origin>,
        document: Document,
        log: &[LogEntry],
        traced: bool,
    ) -> Result<Self, Diverged> {
        let mut machine = Self::fresh(logic, origin, document, traced);
        machine.run();
        for (n, entry) in log.iter().enumerate() {
            machine.apply(entry).map_err(|says| Diverged { entry: n + 1, says })?;
        }
        Ok(machine)
    }

    fn fresh(logic: Logic, origin: Arc<Origin>, document: Document, traced: bool) -> Self {
        let (at, kept) = parts::beginning(&logic.flow, &origin);
        Self {
            now: origin.id.made(),
            recording: logic.flow.record,
            logic,
            origin,
            source: document.clone(),
            current: document,
            kept,
            at,
            generation: 0,
            tries: 0,
            in_doubt: false,
            refused: false,
            failed: None,
            memory: Vec::new(),
            answers: Answers::default(),
            next: Next::End(End::Done),
            trace: traced.then(Vec::new),
        }
    }

    /// Returns the next action.
    #[must_use]
    pub fn next(&self) -> &Next {
        &self.next
    }

    /// Returns its origin.
    #[must_use]
    pub fn origin(&self) -> &Arc<Origin> {
        &self.origin
    }

    /// Returns whether an effect that must not be repeated blindly may have been performed.
    #[must_use]
    pub fn in_doubt(&self) -> bool {
        self.in_doubt
    }

    /// Returns whether the steps on failure are running.
    #[must_use]
    pub fn is_failing(&self) -> bool {
        self.failed.is_some()
    }

    /// Returns its flow.
    #[must_use]
    pub fn logic(&self) -> &Logic {
        &self.logic
    }

    /// The flow it runs.
    #[must_use]
    pub fn flow(&self) -> &Flow {
        &self.logic.flow
    }

    /// The step it is at; empty when it has passed the last.
    #[must_use]
    pub fn step(&self) -> &str {
        self.logic.flow.steps.get(self.at).map_or("", |step| step.name.as_str())
    }

    /// Tries of the current effect so far.
    #[must_use]
    pub fn tries(&self) -> u16 {
        self.tries
    }

    /// The document it runs from, amendments included.
    #[must_use]
    pub fn source(&self) -> &Document {
        &self.source
    }

    /// Returns the values that steps kept, `meta` among them.
    #[must_use]
    pub fn kept(&self) -> &Map<String, Value> {
        &self.kept
    }

    /// The documents of each step, when rebuilt with `traced`.
    #[must_use]
    pub fn trace(&self) -> &[Trace] {
        self.trace.as_deref().unwrap_or_default()
    }

    /// Returns its business key and its key in the target system; empty if unknown.
    #[must_use]
    pub fn keys(&self) -> (String, String) {
        let flow = self.logic.flow.clone();
        let part = parts::part(&self.origin);
        let value = |expr: &Option<crate::expr::Expr>| {
            let scope = crate::map::scope_of(&self.source, &self.kept, &self.logic.workspace.library);
            let text = guarded(|| expr.as_ref().and_then(|expr| expr.text(&scope).ok()?));
            key::kept(text.ok().flatten().unwrap_or_default())
        };
        (part.map_or_else(|| value(&flow.key), |part| part.key), value(&flow.result))
    }

    /// Returns the key of its lane, in a flow with `in_order_by`.
    #[must_use]
    pub fn order_key(&self) -> Option<String> {
        if let Some(part) = parts::part(&self.origin) {
            return (!part.order_key.is_empty()).then_some(part.order_key);
        }
        let scope = crate::map::scope_of(&self.source, &self.kept, &self.logic.workspace.library);
        let by = self.logic.flow.in_order_by.as_ref()?;
        guarded(|| by.text(&scope).ok()?).ok()?.map(key::kept)
    }

    /// Sets how much of its effects' answers is stored from now on; `None` for what the flow declares.
    pub fn record(&mut self, switched: Option<Recording>) {
        self.recording = switched.unwrap_or(self.logic.flow.record);
    }
}
