//! A flow from its intake to its end, every effect shown and none performed.

use crate::document::Content;
use crate::flow::{Flow, Retry, Takes};
use crate::intake::{Decision, Head, Known, Provenance, Received, Seal, decide_document, decide_x12};
use crate::machine::{Body, Effect, End, LogEntry, Logic, Machine, Next, Origin, Outcome, State, Trace, Work, meaning};
use crate::workspace::Workspace;
use crate::x12::{Limits, Reader};
use crate::{Digest, Document, Id, Timestamp};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::{BTreeMap, VecDeque};
use std::ops::Range;
use std::sync::Arc;

/// Turns of one message, at most: a flow ends long before.
const TURNS: usize = 10_000;

/// Answers to the requests of steps, by step.
pub type Answers = BTreeMap<String, Answer>;

/// An answer of an outside system.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Answer {
    /// HTTP status, which means what it means to the running service.
    #[serde(default = "fine")]
    pub status: u16,
    #[serde(default)]
    pub body: Value,
}

const fn fine() -> u16 {
    200
}

impl Default for Answer {
    fn default() -> Self {
        Self { status: fine(), body: json!({}) }
    }
}

impl Answer {
    /// Returns the outcome of a request with this answer.
    #[must_use]
    pub fn outcome(&self) -> Outcome {
        let body = match &self.body {
            Value::String(text) => Body::from(text.as_str()),
            other => Body::from(other.to_string().as_str()),
        };
        meaning(self.status, body, None)
    }
}

/// Result of a dry run.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct DryRun {
    /// Verdict that the arrival would get: `received`, `rejected`, `failed` …
    pub verdict: &'static str,
    /// Why; empty when all is plain.
    pub says: String,
    /// Acknowledgments that would be sealed, e.g. `997 for group 101`.
    pub acknowledgments: Vec<String>,
    pub messages: Vec<Passage>,
    /// Messages that were left out because enough had been shown.
    pub left_out: usize,
}

/// A message of a dry run.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Passage {
    /// Business key; may be empty.
    pub key: String,
    /// Branch, if it belongs to another message.
    pub way: String,
    /// The state it ends in.
    pub ends: &'static str,
    /// Why it was skipped or failed; empty otherwise.
    pub says: String,
    pub stages: Vec<Stage>,
}

/// A step that was passed.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Stage {
    pub step: String,
    pub verb: &'static str,
    /// Note or choice; may be empty.
    pub says: String,
    /// The document after it, where it changed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub document: Option<Value>,
    /// Request that would be sent.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub request: Option<Called>,
}

/// A request that was not made.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Called {
    pub connection: String,
    /// `POST /orders`, a file name, or exchange and routing key.
    pub line: String,
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub properties: BTreeMap<String, String>,
    /// JSON where it is JSON, otherwise text.
    pub body: Value,
    /// Status of the answer.
    pub status: u16,
}

/// Runs the content of `bytes` through a flow, at most `limit` messages, as if received at `now`.
///
/// `event` is the sender's name of the event, for intakes that select by event. Steps without an answer in [`Answers`] get an
/// empty object with success. Retries and pauses pass at once.
#[must_use]
pub fn dry_run(
    workspace: &Arc<Workspace>,
    flow: &Arc<Flow>,
    bytes: &[u8],
    event: &str,
    outside: &dyn Answering,
    limit: usize,
    now: Timestamp,
) -> DryRun {
    let decision = decide(workspace, flow, bytes, event);
    let mut ids = Ids(Id::first_of(now).0);
    let logic = Logic { workspace: workspace.clone(), flow: flow.clone() };
    let own = |part: &&(u32, Range<u64>, String)| decision.split.heads[part.0 as usize].flow == flow.name;
    let parts: Vec<_> = decision.split.parts.iter().filter(own).collect();
    let mut messages = Vec::new();
    for (head, slice, _) in parts.iter().take(limit) {
        let head = &decision.split.heads[*head as usize];
        messages.extend(passages(&logic, head, slice, bytes, outside, &mut ids));
    }
    DryRun {
        verdict: decision.verdict.as_str(),
        says: decision.says,
        acknowledgments: decision.seal.iter().map(acknowledgment).collect(),
        messages,
        left_out: parts.len().saturating_sub(limit),
    }
}

fn acknowledgment(seal: &Seal) -> String {
    match seal.group() {
        "" => format!("{} for interchange {}", seal.set(), seal.header.control),
        group => format!("{} for group {group}", seal.set()),
    }
}

/// Decides on the arrival as the flow's own intake does: the one whose documents look like this.
fn decide(workspace: &Arc<Workspace>, flow: &Flow, bytes: &[u8], event: &str) -> Decision {
    let looks_x12 = bytes.trim_ascii_start().starts_with(b"ISA");
    let fits = |takes: &Takes| matches!(takes, Takes::X12(_)) == looks_x12;
    let hears = |events: &[String]| event.is_empty() || events.iter().any(|known| known == event);
    let intake = flow.intakes.iter().find(|intake| fits(&intake.takes) && hears(&intake.events)).or(flow.intakes.first());
    let Some(intake) = intake else {
        return Decision::only(crate::intake::Verdict::Failed, "the flow has no intake");
    };
    let event = if event.is_empty() { intake.events.first().cloned().unwrap_or_default() } else { event.to_owned() };
    let name = intake.queue.clone().unwrap_or_else(|| "dry_run".to_owned());
    let provenance = Provenance { connection: intake.from.clone(), name, event, ..Provenance::default() };
    if !matches!(intake.takes, Takes::X12(_)) {
        return decide_document(workspace, &provenance, bytes.len() as u64, &Content::new(bytes.to_vec(), None), &Known::NEW);
    }
    let own = workspace.clone();
    let mut reader = Reader::choosing(move |header| own.terms(header), Limits::default());
    reader.feed(bytes);
    let mut reading = reader.finish();
    let digest = Digest::of(&[bytes]);
    let received: Vec<Received> =
        std::mem::take(&mut reading.interchanges).into_iter().map(|interchange| Received { interchange, digest }).collect();
    let known = vec![Known::NEW; received.len()];
    decide_x12(workspace, &provenance, &received, &reading, &known)
}

/// Ids that are the same in every dry run at the same moment.
struct Ids(i64);

impl Ids {
    fn next(&mut self) -> Id {
        self.0 += 1;
        Id(self.0)
    }
}

/// A message and those that go ways of their own from it.
fn passages(
    logic: &Logic,
    head: &Head,
    slice: &Range<u64>,
    bytes: &[u8],
    outside: &dyn Answering,
    ids: &mut Ids,
) -> Vec<Passage> {
    let id = ids.next();
    let own = &bytes[slice.start as usize..slice.end as usize];
    let document = match logic.workspace.document(&head.form, own) {
        Ok(document) => document,
        Err(error) => {
            let says = error.to_string();
            return vec![Passage { key: String::new(), way: String::new(), ends: "failed", says, stages: Vec::new() }];
        }
    };
    let origin = Origin {
        id,
        arrival: id,
        body: id,
        slice: slice.clone(),
        flow: logic.flow.name.clone(),
        release: 0,
        form: head.form.clone(),
        meta: head.meta.clone(),
    };
    let mut waiting = VecDeque::from([(Arc::new(origin), document, String::new())]);
    let mut done = Vec::new();
    while let Some((origin, document, way)) = waiting.pop_front() {
        let (passage, ways) = one(logic, &origin, document, way, outside, ids);
        done.push(passage);
        waiting.extend(ways);
    }
    done
}

type Waiting = (Arc<Origin>, Document, String);

fn one(
    logic: &Logic,
    origin: &Arc<Origin>,
    document: Document,
    way: String,
    outside: &dyn Answering,
    ids: &mut Ids,
) -> (Passage, Vec<Waiting>) {
    let mut now = origin.id.made();
    let mut log: Vec<LogEntry> = Vec::new();
    let mut statuses: BTreeMap<String, u16> = BTreeMap::new();
    let mut ways = Vec::new();
    // Why the connection of a step would be on hold; empty while none is.
    let mut on_hold = String::new();
    let (mut machine, mut turn) = Machine::begin(logic.clone(), origin.clone(), document.clone());
    for _ in 0..TURNS {
        log.extend(turn.entry.take());
        turn = match &turn.next {
            Next::End(_) => break,
            Next::Perform(work) => {
                let outcome = outside.answer(work);
                statuses.insert(work.step.clone(), outcome.status());
                if let Outcome::Held { says, .. } = &outcome {
                    on_hold = format!("{}: {says}; the connection would be put on hold", work.step);
                }
                machine.outcome(outcome, retry(logic, work), now)
            }
            Next::WaitUntil(due) | Next::Pause(due) => {
                now = now.max(*due);
                machine.woken(now)
            }
            // The connection would be on hold: the message waits until it responds again.
            Next::WaitFor(_) if !on_hold.is_empty() => break,
            Next::WaitFor(_) => machine.woken(now),
            Next::Part(parts) => {
                for part in parts {
                    let (origin, document) = machine.part(part, ids.next());
                    ways.push((origin, document, part.name.clone()));
                }
                machine.parted(now)
            }
        };
    }
    let (ends, says) = match machine.next() {
        Next::End(End::Done) => ("done", String::new()),
        Next::End(End::Skipped(because)) => ("skipped", because.clone()),
        Next::End(End::Failed(reason)) => ("failed", format!("{}: {}", reason.step, reason.says)),
        Next::WaitFor(_) => (State::Waiting.as_str(), on_hold),
        other => (other.state().as_str(), "it does not end".to_owned()),
    };
    let traced = Machine::rebuild(logic.clone(), origin.clone(), document, &log, true);
    let stages = traced.map(|machine| machine.trace().iter().map(|trace| stage(trace, &statuses)).collect()).unwrap_or_default();
    (Passage { key: machine.keys().0, way, ends, says, stages }, ways)
}

fn retry<'l>(logic: &'l Logic, work: &Work) -> &'l Retry {
    const NONE: &Retry = &Retry { times: 0, first: std::time::Duration::ZERO, longest: std::time::Duration::ZERO };
    logic.flow.step(&work.step).map_or(NONE, |(_, step)| &step.retry)
}

/// Source of the answers in a dry run.
pub trait Answering {
    /// Returns the outcome of an effect.
    fn answer(&self, work: &Work) -> Outcome;
}

impl Answering for Answers {
    fn answer(&self, work: &Work) -> Outcome {
        match (self.get(&work.step), &work.effect) {
            (Some(answer), _) => answer.outcome(),
            (None, Effect::Call { .. }) => Answer::default().outcome(),
            // A file or a message at a broker has no answer but that it is there.
            (None, Effect::Send { .. } | Effect::Publish { .. }) => Outcome::Answer { status: 0, body: Body::default() },
        }
    }
}

fn stage(trace: &Trace, statuses: &BTreeMap<String, u16>) -> Stage {
    let request = trace.effect.as_ref().map(|effect| Called {
        connection: effect.connection().to_owned(),
        line: effect.line(),
        properties: effect.properties().into_iter().collect(),
        body: effect.body().map_or(Value::Null, |body| shown(&body.0)),
        status: statuses.get(&trace.step).copied().unwrap_or_default(),
    });
    let document = trace.after.as_ref().map(|document| match document {
        Document::Json(value) => (**value).clone(),
        Document::X12(_) | Document::Bytes(_) => Value::String(document.readable()),
    });
    Stage { step: trace.step.clone(), verb: trace.verb, says: trace.note.clone(), document, request }
}

fn shown(bytes: &[u8]) -> Value {
    serde_json::from_slice(bytes).unwrap_or_else(|_| Value::String(String::from_utf8_lossy(bytes).into_owned()))
}
