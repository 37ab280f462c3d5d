//! Dry runs of a document through a flow of the running release.

use super::problem::Problem;
use super::{Answer, flows, rows};
use crate::run::App;
use crate::view::words::{DocumentForm, MessageState, Verdict};
use crate::view::{DryRunMessage, DryRunStep, DryRunView, RequestView};
use axum::Json;
use axum::body::Bytes;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use serde::Deserialize;
use serde_json::Value;
use std::sync::Arc;
use utoipa::IntoParams;
use wirewatch_core::trial::{Answers, Called, DryRun, Passage, Stage, dry_run};
use wirewatch_engine::{Clock, SystemClock, beside};

/// Messages of a dry run that are shown, without their branches.
const SHOWN: usize = 5;
/// Bytes of a document that are shown.
const MOST: usize = 64 << 10;
/// Largest document, in bytes, that is run.
const LARGEST: usize = 4 << 20;

/// How the document would arrive.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct DryRunQuery {
    /// The sender's name of the event, for intakes that select by event.
    #[serde(default)]
    pub event: String,
}

/// Runs a document through a flow of the running release: every request is shown as it would be sent, and answered with an empty
/// object. Nothing is sent and nothing is stored.
#[utoipa::path(post, path = "/api/flows/{flow}/dry-run", operation_id = "dry_run", params(("flow" = String, Path), DryRunQuery),
    request_body(content = String, content_type = "application/octet-stream"), responses((status = 200, body = DryRunView)))]
pub async fn run(
    State(app): State<Arc<App>>,
    Path(name): Path<String>,
    Query(DryRunQuery { event }): Query<DryRunQuery>,
    body: Bytes,
) -> Answer<DryRunView> {
    let (_, workspace) = app.engine.releases().current();
    let flow = flows::flow_of(&workspace, &name)?;
    if body.len() > LARGEST {
        let title = format!("the document has {} bytes; a dry run takes at most {LARGEST}", body.len());
        return Err(
            Problem::new(StatusCode::PAYLOAD_TOO_LARGE, title).detail("`wirewatch dry-run` runs larger ones in the terminal")
        );
    }
    let outside = Answers::new();
    let shown = beside(body.len(), || dry_run(&workspace, flow, &body, &event, &outside, SHOWN, SystemClock.now()));
    let DryRun { verdict, says, acknowledgments, messages, left_out } = shown;
    Ok(Json(DryRunView {
        verdict: Verdict::parse(verdict).unwrap_or(Verdict::Failed),
        says,
        acknowledgments,
        messages: messages.into_iter().map(message).collect(),
        left_out,
    }))
}

fn message(Passage { key, way, ends, says, stages }: Passage) -> DryRunMessage {
    let ends = MessageState::parse(ends).unwrap_or(MessageState::Failed);
    DryRunMessage { key, way, ends, says, steps: stages.into_iter().map(step).collect() }
}

fn step(Stage { step, verb, says, document, request }: Stage) -> DryRunStep {
    DryRunStep { step, verb: verb.to_owned(), says, document: document.map(shown), request: request.map(called) }
}

fn called(Called { connection, line, properties, body, .. }: Called) -> RequestView {
    let with = properties.into_iter().map(|(name, value)| format!("{name} {value}")).collect();
    RequestView { connection, line, with, body: Some(body).filter(|body| !body.is_null()).map(shown) }
}

fn shown(value: Value) -> crate::view::DocumentView {
    match value {
        Value::String(text) => rows::document(DocumentForm::Bytes, text, MOST),
        json => rows::document(DocumentForm::Json, serde_json::to_string_pretty(&json).unwrap_or_default(), MOST),
    }
}
