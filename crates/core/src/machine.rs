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
//! decided is in the entry ([`Then`]): the retry policy of today never changes what happened yesterday.

mod answer;
mod effect;
mod failing;
mod inputs;
mod parts;
mod run;
mod turn;

pub use answer::meaning;
pub use effect::{Body, Claim, Effect, Outcome, Post, Work};
pub use parts::Part;
pub use turn::{End, LogEntry, Logged, Next, Pass, Passed, State, Then, Turn};

use crate::act::Answers;
use crate::document::Form;
use crate::flow::{Flow, Recording};
use crate::guard::guarded;
use crate::plan::Point;
use crate::reason::Reason;
use crate::workspace::Workspace;
use crate::{ArrivalId, Digest, Document, Id, MessageId, Timestamp, key};
use failing::Failed;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::collections::BTreeSet;
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
    /// Number of the release that was current when it arrived; an act may choose another one, see [`Machine::release`].
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

/// The logic of every release that a message has run.
#[derive(Debug, Clone)]
pub struct Logics {
    /// Of the release of its origin.
    first: Logic,
    /// Of the releases that acts have chosen, by number.
    chosen: Vec<(i64, Logic)>,
}

impl From<Logic> for Logics {
    fn from(first: Logic) -> Self {
        Self { first, chosen: Vec::new() }
    }
}

impl Logics {
    /// Returns the logic of the release that the message arrived under.
    #[must_use]
    pub fn first(&self) -> &Logic {
        &self.first
    }

    /// Adds the logic of a release that an act has chosen.
    pub fn add(&mut self, release: i64, logic: Logic) {
        self.chosen.push((release, logic));
    }

    /// Returns the numbers of the releases that the acts of a log have chosen.
    #[must_use]
    pub fn chosen_in(log: &[LogEntry]) -> BTreeSet<i64> {
        let of = |entry: &LogEntry| match &entry.what {
            Logged::Act { act, .. } => act.release(),
            _ => None,
        };
        log.iter().filter_map(of).collect()
    }

    fn of(&self, entry: &LogEntry, origin: &Origin) -> Result<Option<Logic>, String> {
        let Logged::Act { act, .. } = &entry.what else { return Ok(None) };
        let Some(release) = act.release() else { return Ok(None) };
        if release == origin.release {
            return Ok(Some(self.first.clone()));
        }
        let found = self.chosen.iter().find(|(no, _)| *no == release);
        found.map(|(_, logic)| Some(logic.clone())).ok_or_else(|| format!("release {release} is needed and missing"))
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
    #[error("the message is {}; only a message that failed or ended can be resent or amended", .0.as_str())]
    NotStopped(State),
    #[error("the message is {} already", .0.as_str())]
    Ended(State),
    #[error("the amended document cannot be read: {0}")]
    Unreadable(String),
    #[error("step `{step}` is complete, but its request would now be different: choose the earlier answer, or send again")]
    OtherRequest { step: String },
    #[error("step `{step}` is complete, but the message would no longer pass it: choose to keep what was done, or send again")]
    NotPassed { step: String },
    #[error("release {release} has no {what} for this message")]
    NoLogic { release: i64, what: String },
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
    /// Number of the release that `logic` is of.
    release: i64,
    origin: Arc<Origin>,
    /// The document that the message runs from: as received, or as amended.
    source: Document,
    current: Document,
    variables: Map<String, Value>,
    at: usize,
    generation: u16,
    tries: u16,
    /// How much of its effects' answers is stored; `None` for what the flow declares.
    recording: Option<Recording>,
    /// Key of its lane: that of its arrival, whatever release or document it runs later.
    order_key: Option<String>,
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
    /// Steps of the memory that were skipped since the last act.
    skipped: Vec<String>,
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
    /// [`Diverged`] when an entry is of another step or request than this logic asks for, or chooses a release that `logics`
    /// does not have.
    pub fn rebuild(
        logics: impl Into<Logics>,
        origin: Arc<Origin>,
        document: Document,
        log: &[LogEntry],
        traced: bool,
    ) -> Result<Self, Diverged> {
        let logics = logics.into();
        let mut machine = Self::fresh(logics.first.clone(), origin, document, traced);
        machine.run();
        for (n, entry) in log.iter().enumerate() {
            let chosen = logics.of(entry, &machine.origin);
            let applied = chosen.and_then(|chosen| machine.apply(entry, chosen));
            applied.map_err(|says| Diverged { entry: n + 1, says })?;
        }
        Ok(machine)
    }

    fn fresh(logic: Logic, origin: Arc<Origin>, document: Document, traced: bool) -> Self {
        let (at, variables) = parts::beginning(&logic.flow, &origin).unwrap_or_default();
        let order_key = order_key(&logic, &origin, &document, &variables);
        Self {
            now: origin.id.made(),
            recording: None,
            order_key,
            release: origin.release,
            logic,
            origin,
            source: document.clone(),
            current: document,
            variables,
            at,
            generation: 0,
            tries: 0,
            in_doubt: false,
            refused: false,
            failed: None,
            memory: Vec::new(),
            skipped: Vec::new(),
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

    /// Returns the number of the release that it runs.
    #[must_use]
    pub fn release(&self) -> i64 {
        self.release
    }

    /// Returns the completed steps that were skipped since the last resend or amendment.
    #[must_use]
    pub fn skipped(&self) -> &[String] {
        &self.skipped
    }

    /// Returns why it fails while its steps on failure run.
    #[must_use]
    pub fn failing(&self) -> Option<&Reason> {
        self.failed.as_ref().map(Failed::reason)
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

    /// Returns the variables that steps have set, `meta` among them.
    #[must_use]
    pub fn variables(&self) -> &Map<String, Value> {
        &self.variables
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
            let scope = crate::map::scope_of(&self.source, &self.variables, &self.logic.workspace.library);
            let text = guarded(|| expr.as_ref().and_then(|expr| expr.text(&scope).ok()?));
            key::stored(text.ok().flatten().unwrap_or_default())
        };
        (part.map_or_else(|| value(&flow.key), |part| part.key), value(&flow.result))
    }

    /// Returns the key of its lane, in a flow with `in_order_by`. It never changes: neither an amended document nor another
    /// release moves a message to another lane.
    #[must_use]
    pub fn order_key(&self) -> Option<String> {
        self.order_key.clone()
    }

    /// Sets how much of its effects' answers is stored from now on; `None` for what the flow declares.
    pub fn record(&mut self, switched: Option<Recording>) {
        self.recording = switched;
    }
}

/// Returns the key of the lane of a message that begins.
fn order_key(logic: &Logic, origin: &Origin, document: &Document, variables: &Map<String, Value>) -> Option<String> {
    if let Some(part) = parts::part(origin) {
        return (!part.order_key.is_empty()).then_some(part.order_key);
    }
    let by = logic.flow.in_order_by.as_ref()?;
    let scope = crate::map::scope_of(document, variables, &logic.workspace.library);
    guarded(|| by.text(&scope).ok()?).ok()?.map(key::stored)
}
