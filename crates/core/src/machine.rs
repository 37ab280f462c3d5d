//! One message on its way: a state machine that is a fold over the log of its effects' outcomes.
//!
//! ```text
//!            begin                         outcome(answer) / woken / released
//!              │                 ┌────────────────────────────────────────────────┐
//!              ▼                 ▼                                                │
//!        pure steps ──▶ Perform(effect) ──outcome──▶ again ──▶ WaitUntil ─────────┤
//!              │                 │                   held  ──▶ WaitFor(connection)┘
//!              ▼                 ├── refused, in doubt, gave up ──▶ End(aside) ──resend, amend──▶ begin
//!           End(done, skipped)   └── answer of the last effect ───▶ End(done)  ──discard──▶ End(discarded)
//! ```
//!
//! The caller performs at most one effect at a time, gives its outcome to [`Machine::outcome`], commits the
//! [`LogEntry`] of the [`Turn`], and only then follows [`Turn::next`]. [`Machine::rebuild`] feeds the same
//! entries through the same code, so recovery, rehearsal, history and simulation share one mechanism. What was
//! decided stands in the entry ([`Then`]): the retry policy of today never changes what happened yesterday.

mod effect;
mod failing;
mod parts;
mod run;
mod turn;

pub use effect::{Body, Claim, Effect, Outcome, Post, Work};
pub use parts::Part;
pub use turn::{End, LogEntry, Logged, Next, Pass, Passed, State, Then, Turn};

use crate::act::{Act, Answers};
use crate::course::Point;
use crate::document::Form;
use crate::flow::{Flow, Recording, Retry, Verb};
use crate::reason::Reason;
use crate::workspace::Workspace;
use crate::{ArrivalId, Digest, Document, Id, MessageId, Timestamp};
use failing::Failed;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::ops::Range;
use std::sync::Arc;

/// Where a message came from; never changes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Origin {
    pub id: MessageId,
    pub arrival: ArrivalId,
    /// Whose stored body holds the document: the arrival's, or the message's own.
    pub body: Id,
    /// Where in that body.
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
    #[error("the message is {}; only one that is aside or has ended can be resent or amended", .0.as_str())]
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
    /// What a `note` says, which way was chosen, until when it pauses; empty otherwise.
    pub note: String,
    /// The document after the step, where it changed.
    pub after: Option<Document>,
    /// The request of an effect.
    pub effect: Option<Effect>,
}

/// Code of the reason when a resend meets a step that was done with another request.
const OTHER_REQUEST: &str = "other-request";

/// A message under way.
#[derive(Debug, Clone)]
pub struct Machine {
    logic: Logic,
    origin: Arc<Origin>,
    /// The document the message runs from: as it came, or as amended.
    source: Document,
    current: Document,
    kept: Map<String, Value>,
    at: usize,
    generation: u16,
    tries: u16,
    /// How much of what comes of its effects is kept.
    recording: Recording,
    /// An intent was logged and no attempt after it: nobody knows whether the effect was carried out.
    in_doubt: bool,
    /// The last outcome was a definite refusal: a resend takes the next generation.
    refused: bool,
    /// Set while the flow's steps on failure run.
    failed: Option<Failed>,
    /// When the last thing happened that the log tells of: a pause counts from here.
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

    /// The machine as it was when the last entry of `log` had been committed.
    ///
    /// # Errors
    /// [`Diverged`] when an entry speaks of another step or request than this logic asks for.
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

    /// What is next as things stand.
    #[must_use]
    pub fn next(&self) -> &Next {
        &self.next
    }

    /// Where it came from.
    #[must_use]
    pub fn origin(&self) -> &Arc<Origin> {
        &self.origin
    }

    /// Whether an effect that must not be repeated blindly may have been carried out.
    #[must_use]
    pub fn in_doubt(&self) -> bool {
        self.in_doubt
    }

    /// What it runs.
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

    /// What steps kept, `meta` among them.
    #[must_use]
    pub fn kept(&self) -> &Map<String, Value> {
        &self.kept
    }

    /// The documents of each step, when rebuilt with `traced`.
    #[must_use]
    pub fn trace(&self) -> &[Trace] {
        self.trace.as_deref().unwrap_or_default()
    }

    /// What the message is known by, and what the target knows it by; empty where nothing is.
    #[must_use]
    pub fn keys(&self) -> (String, String) {
        let flow = self.logic.flow.clone();
        let part = parts::part(&self.origin);
        let value = |expr: &Option<crate::expr::Expr>| {
            let scope = crate::map::scope_of(&self.source, &self.kept, &self.logic.workspace.library);
            let value = expr.as_ref().and_then(|expr| expr.eval(&scope).ok()).and_then(crate::expr::Item::one);
            value.map_or(String::new(), |value| plain(&value))
        };
        (part.map_or_else(|| value(&flow.key), |part| part.key), value(&flow.result))
    }

    /// The key that orders it, in a flow that says `in_order_by`.
    #[must_use]
    pub fn order_key(&self) -> Option<String> {
        if let Some(part) = parts::part(&self.origin) {
            return (!part.order_key.is_empty()).then_some(part.order_key);
        }
        let scope = crate::map::scope_of(&self.source, &self.kept, &self.logic.workspace.library);
        let value = self.logic.flow.in_order_by.as_ref()?.eval(&scope).ok()?.one()?;
        Some(plain(&value))
    }

    /// Switches how much is kept of what comes of its effects from now on; `None` as its flow says.
    pub fn record(&mut self, switched: Option<Recording>) {
        self.recording = switched.unwrap_or(self.logic.flow.record);
    }

    /// Takes the outcome of the effect that was to be performed.
    ///
    /// `retry` is the policy in force now; `now` becomes the entry's time.
    pub fn outcome(&mut self, outcome: Outcome, retry: &Retry, now: Timestamp) -> Turn {
        let Next::Perform(work) = &self.next else {
            // A late or doubled outcome: the log already holds one for this try.
            return Turn::still(self.next.clone());
        };
        let work = work.clone();
        let then = self.decide(&work, &outcome, retry, now);
        let how = match &then {
            Then::Go => Pass::Done,
            Then::RetryAt(_) | Then::WaitFor(_) => Pass::Failed,
            Then::Aside(_) => Pass::Aside,
        };
        let passed = Passed { step: work.step.clone(), how };
        let outcome = match outcome {
            Outcome::Answer { status, .. } if matches!(then, Then::Go) && self.is_let_go() => {
                Outcome::Answer { status, body: Body::default() }
            }
            other => other,
        };
        // A connection that is of no use to anybody does not use up this message's tries.
        let counts = u16::from(!matches!(outcome, Outcome::Held { .. }));
        let what = Logged::Attempt {
            step: work.step.clone(),
            generation: work.generation,
            tries: self.tries + counts,
            request: work.request,
            outcome,
            then,
        };
        let entry = LogEntry { at: now, what };
        let mut turn = self.log(entry);
        turn.passed.insert(0, passed);
        turn
    }

    /// The wait is over: the same effect again, or the step behind the pause; the end of a pause is logged.
    pub fn woken(&mut self, now: Timestamp) -> Turn {
        match self.next {
            Next::WaitUntil(_) | Next::WaitFor(_) => self.run(),
            Next::Pause(_) => self.log(LogEntry { at: now, what: Logged::Woken { step: self.step().to_owned() } }),
            Next::Perform(_) | Next::Part(_) | Next::End(_) => Turn::still(self.next.clone()),
        }
    }

    /// Logs what was made for this machine, and goes on from it.
    fn log(&mut self, entry: LogEntry) -> Turn {
        let turn = self.apply(&entry).unwrap_or_else(|says| unreachable!("an entry made for this machine fits it: {says}"));
        Turn { entry: Some(entry), ..turn }
    }

    /// A person's act.
    ///
    /// # Errors
    /// [`ActRefused`]; nothing has changed then.
    pub fn act(&mut self, act: Act, by: &str, why: &str, now: Timestamp) -> Result<Turn, ActRefused> {
        let state = self.next.state();
        match &act {
            Act::Discard if state.is_final() => return Err(ActRefused::Ended(state)),
            Act::Discard => {}
            Act::Resend { .. } | Act::Amend { .. } if !state.is_final() && state != State::Aside => {
                return Err(ActRefused::NotStopped(state));
            }
            Act::Amend { form, document, .. } => {
                let read = self.logic.workspace.document(form, document.as_bytes());
                read.map_err(|error| ActRefused::Unreadable(error.to_string()))?;
            }
            Act::Resend { .. } => {}
        }
        let entry = LogEntry { at: now, what: Logged::Act { act, by: by.to_owned(), why: why.to_owned() } };
        // On a copy first: an act that stops at once for want of a decision is better not begun.
        let trial = self.clone().apply(&entry).map_err(ActRefused::Unreadable)?;
        if let Next::End(End::Aside(reason)) = trial.next
            && reason.code == OTHER_REQUEST
        {
            return Err(ActRefused::OtherRequest { step: reason.step });
        }
        let mut turn = self.apply(&entry).map_err(ActRefused::Unreadable)?;
        turn.entry = Some(entry);
        Ok(turn)
    }

    /// The entry to commit before an effect that must not be repeated blindly.
    #[must_use]
    pub fn intent(work: &Work, now: Timestamp) -> LogEntry {
        LogEntry { at: now, what: Logged::Intent { step: work.step.clone(), request: work.request } }
    }

    /// Folds one entry into the machine.
    fn apply(&mut self, entry: &LogEntry) -> Result<Turn, String> {
        self.now = entry.at;
        match &entry.what {
            Logged::Intent { .. } => {
                if matches!(self.next, Next::WaitUntil(_) | Next::WaitFor(_)) {
                    self.run();
                }
                self.in_doubt = true;
                Ok(Turn::still(self.next.clone()))
            }
            Logged::Attempt { step, request, outcome, then, tries, .. } => {
                if matches!(self.next, Next::WaitUntil(_) | Next::WaitFor(_)) {
                    self.run();
                }
                let Next::Perform(work) = &self.next else {
                    return Err(format!("step `{step}` performs nothing here"));
                };
                if work.step != *step || work.request != *request {
                    return Err(format!("step `{step}` was asked for another request than step `{}` asks for now", work.step));
                }
                let work = work.clone();
                self.tries = *tries;
                self.in_doubt = false;
                // What the steps on failure meet says nothing about the request that failed.
                if self.failed.is_none() {
                    self.refused = matches!(outcome, Outcome::Refused { .. });
                }
                Ok(self.follow(&work, outcome, then))
            }
            Logged::Act { act, .. } => self.apply_act(act),
            Logged::Stopped { reason } => {
                self.next = Next::End(End::Aside(reason.clone()));
                Ok(Turn { points: vec![Point::Aside], ..Turn::still(self.next.clone()) })
            }
            Logged::Woken { step } => match self.next {
                Next::Pause(_) if self.step() == step => Ok(self.passed_by_log(step)),
                _ => Err(format!("step `{step}` does not pause here")),
            },
            Logged::Parted { step, request } => match self.next {
                Next::Part(_) if self.step() == step && self.parting() == *request => {
                    let made = Outcome::Answer { status: 0, body: Body::default() };
                    self.remember(step, *request, made);
                    Ok(self.passed_by_log(step))
                }
                _ => Err(format!("step `{step}` makes no messages of this document here")),
            },
        }
    }

    fn follow(&mut self, work: &Work, outcome: &Outcome, then: &Then) -> Turn {
        match then {
            Then::Go => {
                self.remember(&work.step, work.request, outcome.clone());
                self.keep_answer(outcome);
                self.go_on(&work.step)
            }
            Then::RetryAt(due) => {
                self.next = Next::WaitUntil(*due);
                Turn::still(self.next.clone())
            }
            Then::WaitFor(connection) => {
                self.next = Next::WaitFor(connection.clone());
                Turn::still(self.next.clone())
            }
            Then::Aside(reason) => self.fail(reason.clone()),
        }
    }

    /// Goes on behind a step that is done.
    fn go_on(&mut self, step: &str) -> Turn {
        self.at = self.logic.flow.steps[self.at].next;
        self.tries = 0;
        let mut turn = self.run();
        turn.points.insert(0, Point::Step(step.to_owned()));
        turn
    }

    /// Goes on behind a step that has no effect but is logged.
    fn passed_by_log(&mut self, step: &str) -> Turn {
        let mut turn = self.go_on(step);
        turn.passed.insert(0, Passed { step: step.to_owned(), how: Pass::Done });
        turn
    }

    /// A resend does not do again what is remembered. What people were told on failure they are told again.
    fn remember(&mut self, step: &str, request: Digest, outcome: Outcome) {
        if self.failed.is_none() {
            self.memory.retain(|(known, ..)| known != step);
            self.memory.push((step.to_owned(), request, outcome));
        }
    }

    fn apply_act(&mut self, act: &Act) -> Result<Turn, String> {
        match act {
            Act::Discard => {
                self.next = Next::End(End::Discarded);
                return Ok(Turn { points: vec![Point::Discarded], ..Turn::still(self.next.clone()) });
            }
            Act::Resend { answers } => {
                self.answers = *answers;
                self.generation += u16::from(self.refused || *answers == Answers::Again);
            }
            Act::Amend { form, document, answers } => {
                self.answers = *answers;
                let read = self.logic.workspace.document(form, document.as_bytes());
                self.source = read.map_err(|error| error.to_string())?;
                self.generation += 1;
            }
        }
        if self.answers == Answers::Again {
            self.memory.clear();
        }
        self.current = self.source.clone();
        (self.at, self.kept) = parts::beginning(&self.logic.flow, &self.origin);
        self.failed = None;
        self.tries = 0;
        self.refused = false;
        if let Some(trace) = &mut self.trace {
            trace.clear();
        }
        Ok(self.run())
    }

    fn decide(&self, work: &Work, outcome: &Outcome, retry: &Retry, now: Timestamp) -> Then {
        let reason = |code: String, says: &str| Reason {
            flow: self.origin.flow.clone(),
            step: work.step.clone(),
            connection: work.effect.connection().to_owned(),
            code,
            says: says.to_owned(),
        };
        match outcome {
            Outcome::Answer { .. } => Then::Go,
            Outcome::Held { .. } => Then::WaitFor(work.effect.connection().to_owned()),
            Outcome::InDoubt { says } => Then::Aside(reason("in-doubt".to_owned(), says)),
            Outcome::Refused { status, says, .. } => {
                let code = if *status == 0 { "refused".to_owned() } else { format!("refused-{status}") };
                Then::Aside(reason(code, says))
            }
            Outcome::Again { says, after_ms, .. } => {
                let tries = self.tries + 1;
                if tries > retry.times {
                    return Then::Aside(reason("gave-up".to_owned(), says));
                }
                let wait = retry.wait(tries, self.origin.id.0 as u64);
                let asked = std::time::Duration::from_millis(after_ms.unwrap_or(0));
                Then::RetryAt(now.after(wait.max(asked)))
            }
        }
    }

    /// Whether the answer of the step at hand is of no more use once it went well.
    fn is_let_go(&self) -> bool {
        let step = self.logic.flow.steps.get(self.at);
        let keeps = step.is_some_and(|step| matches!(step.verb, Verb::Call { keep: Some(_), .. }));
        self.recording == Recording::Failures && !keeps
    }

    fn keep_answer(&mut self, outcome: &Outcome) {
        let keep = match self.logic.flow.steps.get(self.at).map(|step| &step.verb) {
            Some(Verb::Call { keep: Some(name), .. }) => name.clone(),
            _ => return,
        };
        if let Outcome::Answer { body, .. } = outcome {
            let value = serde_json::from_slice(&body.0).unwrap_or_else(|_| Value::String(body.text()));
            self.kept.insert(keep, value);
        }
    }
}

fn plain(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        Value::Null => String::new(),
        other => other.to_string(),
    }
}
