//! The whole story of a message, rebuilt by the same fold that ran it.

use super::messages::source;
use super::problem::Problem;
use super::{Answer, message_id, rows};
use crate::run::App;
use crate::view::words::{DocumentForm, MessageState, StepVerb};
use crate::view::{Attempt, DocumentView, RequestView, Step, Story, time};
use axum::Json;
use axum::extract::{Path, State};
use std::sync::Arc;
use wirewatch_core::machine::{Effect, LogEntry, Logged, Machine, Outcome, Then, Trace};
use wirewatch_engine::{Damaged, Stored, beside, logics};
use wirewatch_journal::MessageFilter;

/// Bytes of a document that are sent with the story; the whole document has a path of its own.
const SHOWN: usize = 128 << 10;
/// Other messages of the same arrival that are listed.
const BESIDE: u32 = 20;

/// The whole story of a message: its origin, the document after each step, every attempt, and what it led to.
#[utoipa::path(get, path = "/api/messages/{id}", params(("id" = String, Path)), responses((status = 200, body = Story)))]
pub async fn story(State(app): State<Arc<App>>, Path(text): Path<String>) -> Answer<Story> {
    let unknown = || Problem::not_found(format!("there is no message {text}"));
    let wanted = message_id(&app, &text).await?;
    let row = app.store.message(wanted).await?.ok_or_else(unknown)?;
    let stored = app.store.stored(wanted).await?.ok_or_else(unknown)?;
    let from = app.store.arrival(stored.origin.arrival).await?.map(rows::arrival);
    let others = MessageFilter { arrival: Some(stored.origin.arrival), limit: BESIDE, ..MessageFilter::default() };
    let others = app.store.messages(&others).await?.into_iter().filter(|other| other.id != wanted.0).map(rows::message).collect();
    let acts = app.store.audit_of(&[wanted]).await?.into_iter().filter_map(rows::act).collect();
    let (form, bytes) = source(&stored);
    let shown = beside(bytes.len(), || app.engine.releases().current().1.shown(form, bytes));
    let document = rows::document(form.into(), shown, SHOWN);
    let machine = rebuilt(&app, &stored).await?.ok();
    let mut variables = machine.as_ref().map(|machine| machine.variables().clone()).unwrap_or_default();
    variables.remove("meta");
    let message = rows::message(row);
    let failed = message.code.filter(|_| message.state == MessageState::Failed);
    Ok(Json(Story {
        release: machine.as_ref().map_or(stored.origin.release, Machine::release),
        helps: failed.map(|code| code.help().into()),
        advice: failed.map(|code| code.advice().to_owned()).unwrap_or_default(),
        message,
        from,
        meta: serde_json::Value::Object(stored.origin.meta.clone()),
        document,
        steps: steps(machine.as_ref(), &stored),
        variables: serde_json::Value::Object(variables),
        acts,
        beside: others,
    }))
}

fn steps(machine: Option<&Machine>, stored: &Stored) -> Vec<Step> {
    let mut steps: Vec<Step> = machine.iter().flat_map(|machine| machine.trace()).cloned().map(step).collect();
    for entry in &stored.log {
        let Logged::Attempt { step: name, .. } = &entry.what else { continue };
        let attempt = attempt(entry);
        match steps.iter_mut().find(|step| step.step == *name) {
            Some(step) => step.attempts.extend(attempt),
            // A step that this logic no longer reaches: its attempts are shown all the same.
            None => steps.push(Step {
                step: name.clone(),
                verb: None,
                note: String::new(),
                after: None,
                request: None,
                attempts: attempt.into_iter().collect(),
            }),
        }
    }
    steps
}

/// Returns the machine as its log left it, or why it cannot be rebuilt: its log, its logic or its document cannot be read.
pub async fn rebuilt(app: &App, stored: &Stored) -> Result<Result<Machine, String>, Problem> {
    if let Some(Damaged { says, .. }) = &stored.damaged {
        return Ok(Err(format!("damaged: {says}")));
    }
    let found = logics(&stored.origin, &stored.log, app.engine.releases(), &*app.journal).await?;
    Ok(found.and_then(|(workspace, logics)| {
        beside(stored.document.len(), || {
            let document = workspace.document(&stored.origin.form, &stored.document).map_err(|error| error.to_string())?;
            let machine = Machine::rebuild(logics, stored.origin.clone(), document, &stored.log, true);
            machine.map_err(|diverged| diverged.to_string())
        })
    }))
}

fn step(trace: Trace) -> Step {
    Step {
        step: trace.step,
        verb: StepVerb::parse(trace.verb),
        note: trace.note,
        after: trace.after.map(|document| rows::document((&document).into(), document.readable(), SHOWN)),
        request: trace.effect.as_ref().map(request),
        attempts: Vec::new(),
    }
}

/// A request as it is shown.
pub fn request(effect: &Effect) -> RequestView {
    RequestView {
        connection: effect.connection().to_owned(),
        line: effect.line(),
        with: effect.properties().into_iter().map(|(name, value)| format!("{name}: {value}")).collect(),
        body: effect.body().map(|body| text(&body.text())),
    }
}

fn attempt(entry: &LogEntry) -> Option<Attempt> {
    let Logged::Attempt { tries, outcome, then, .. } = &entry.what else { return None };
    let due = match then {
        Then::RetryAt(due) => time(due.0),
        Then::Go | Then::WaitFor(_) | Then::Failed(_) => None,
    };
    let answer = match outcome {
        Outcome::Answer { body, .. } | Outcome::Again { body, .. } | Outcome::Refused { body, .. } => Some(body.text()),
        Outcome::Held { .. } | Outcome::InDoubt { .. } => None,
    };
    Some(Attempt {
        at: time(entry.at.0).unwrap_or_default(),
        number: *tries,
        status: Some(outcome.status()).filter(|status| *status != 0),
        says: outcome.says().to_owned(),
        answer: answer.filter(|answer| !answer.is_empty()).map(|answer| text(&answer)),
        then: then.into(),
        due,
    })
}

/// A text as a document: JSON indented; anything else as it is.
fn text(text: &str) -> DocumentView {
    let json: Option<serde_json::Value> = serde_json::from_str(text).ok();
    match json.filter(|value| value.is_object() || value.is_array()) {
        Some(value) => rows::document(DocumentForm::Json, serde_json::to_string_pretty(&value).unwrap_or_default(), SHOWN),
        None => rows::document(DocumentForm::Bytes, text.to_owned(), SHOWN),
    }
}
