//! Messages in lists.

use super::problem::Problem;
use super::{Answer, maybe_id, message_id, moment, next_of, page, rows};
use crate::run::App;
use crate::view::words::{DocumentForm, ListOrder};
use crate::view::{DescribedSegment, DocumentView, MessageQuery, Messages};
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use serde::Deserialize;
use std::sync::Arc;
use utoipa::IntoParams;
use wirewatch_core::document::Form;
use wirewatch_core::edi::tree;
use wirewatch_core::key;
use wirewatch_core::machine::{Logged, State as MessageState};
use wirewatch_core::x12::describe::describe;
use wirewatch_core::{Document, act::Act};
use wirewatch_engine::{Stored, beside};
use wirewatch_journal::MessageFilter;

/// Segments that are described at a time.
const SEGMENTS: usize = 2000;

/// Messages, newest first unless another order is asked for.
#[utoipa::path(get, path = "/api/messages", operation_id = "messages", params(MessageQuery), responses((status = 200, body = Messages)))]
pub async fn list(State(app): State<Arc<App>>, Query(query): Query<MessageQuery>) -> Answer<Messages> {
    let filter = filter(&app, &query)?;
    let found = app.store.messages(&filter).await?;
    let next = next_of(&found, filter.limit, |row| wirewatch_core::Id(row.id).to_string());
    Ok(Json(Messages { messages: found.into_iter().map(rows::message).collect(), next }))
}

fn filter(app: &App, query: &MessageQuery) -> Result<MessageFilter, Problem> {
    let bad = |says: String| Problem::new(StatusCode::BAD_REQUEST, says);
    let states: Vec<String> = query.state.split(',').filter(|state| !state.is_empty()).map(str::to_owned).collect();
    if let Some(unknown) = states.iter().find(|state| MessageState::parse(state).is_none()) {
        let known: Vec<&str> = MessageState::ALL.iter().map(|state| state.as_str()).collect();
        return Err(bad(format!("`{unknown}` is not a state; states are {}", known.join(", "))));
    }
    let reason = match query.reason.as_str() {
        "" => None,
        text => Some(rows::parse_reason(text).ok_or_else(|| bad(format!("`{text}` is not the id of a reason")))?),
    };
    let (_, workspace) = app.engine.releases().current();
    let comes_in = match query.direction.as_str() {
        "" => None,
        "in" => Some(true),
        "out" => Some(false),
        other => return Err(bad(format!("`{other}` is not a direction; directions are in and out"))),
    };
    // Flows without an intake carry messages made here, to be sent out.
    let in_direction = |wanted| workspace.flows.values().filter(move |flow| flow.intakes.is_empty() != wanted);
    Ok(MessageFilter {
        flow: query.flow.clone(),
        flows: comes_in.map(|wanted| in_direction(wanted).map(|flow| flow.name.clone()).collect()),
        connection: query.connection.clone(),
        partner: query.partner.clone(),
        states,
        step: query.step.clone(),
        key: key::stored(query.key.clone()),
        key_prefix: query.key_prefix.clone(),
        oldest_first: query.order == Some(ListOrder::Oldest),
        arrival: maybe_id(&query.arrival)?,
        reason,
        since: moment(&query.since)?,
        until: moment(&query.until)?,
        before: maybe_id(&query.before)?,
        limit: page(query.limit)?,
    })
}

/// Which document of a message.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct DocumentQuery {
    /// The document after this step; when left out, the document that the message runs from, amendments included.
    #[serde(default)]
    pub step: String,
    /// Return the content as JSON, whatever its form.
    #[serde(default)]
    pub tree: bool,
}

/// A document of a message, whole, as a person reads it.
#[utoipa::path(get, path = "/api/messages/{id}/document", params(("id" = String, Path), DocumentQuery), responses((status = 200, body = DocumentView)))]
pub async fn document(
    State(app): State<Arc<App>>,
    Path(text): Path<String>,
    Query(DocumentQuery { step, tree: as_tree }): Query<DocumentQuery>,
) -> Answer<DocumentView> {
    let stored = stored(&app, &text).await?;
    if !step.is_empty() {
        let machine = super::story::rebuilt(&app, &stored).await?.ok();
        let traced = machine.as_ref().and_then(|machine| machine.trace().iter().find(|traced| traced.step == step));
        let after = traced.and_then(|traced| traced.after.as_ref());
        let after = after.ok_or_else(|| Problem::not_found(format!("the step `{step}` of {text} has no document")))?;
        return Ok(Json(match as_tree {
            true => content(after),
            false => rows::document(after.into(), after.readable(), usize::MAX),
        }));
    }
    let (form, bytes) = source(&stored);
    let (_, workspace) = app.engine.releases().current();
    beside(bytes.len(), || {
        if as_tree {
            let read = workspace.document(form, bytes);
            let read = read.map_err(|error| Problem::new(StatusCode::CONFLICT, format!("message {text}: {error}")))?;
            return Ok(Json(content(&read)));
        }
        Ok(Json(rows::document(form.into(), workspace.shown(form, bytes), usize::MAX)))
    })
}

/// Returns the content of a document as JSON: a transaction set by its loops, bytes as a string.
fn content(document: &Document) -> DocumentView {
    let text = match document {
        Document::Json(value) => serde_json::to_string_pretty(&**value),
        Document::X12(tree) => serde_json::to_string_pretty(&tree::to_json(tree)),
        Document::Bytes(bytes) => serde_json::to_string(&String::from_utf8_lossy(bytes)),
    };
    rows::document(DocumentForm::Json, text.unwrap_or_default(), usize::MAX)
}

/// Which part of a described document.
#[derive(Debug, Default, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct DescribedQuery {
    /// Segments to pass over.
    #[serde(default)]
    pub skip: usize,
}

/// The X12 document a message runs from, segment by segment with its names; at most 2,000 at a time.
#[utoipa::path(get, path = "/api/messages/{id}/segments", params(("id" = String, Path), DescribedQuery),
    responses((status = 200, body = Vec<DescribedSegment>), (status = 409, body = Problem)))]
pub async fn described(
    State(app): State<Arc<App>>,
    Path(text): Path<String>,
    Query(DescribedQuery { skip }): Query<DescribedQuery>,
) -> Answer<Vec<DescribedSegment>> {
    let stored = stored(&app, &text).await?;
    let (form, bytes) = source(&stored);
    let (_, workspace) = app.engine.releases().current();
    beside(bytes.len(), || {
        let Ok(Document::X12(tree)) = workspace.document(form, bytes) else {
            return Err(Problem::new(StatusCode::CONFLICT, format!("message {text} was not made from an X12 document")));
        };
        let all = describe(&tree);
        Ok(Json(all.into_iter().enumerate().skip(skip).take(SEGMENTS).map(|(n, one)| rows::described(n, one)).collect()))
    })
}

async fn stored(app: &App, text: &str) -> Result<Stored, Problem> {
    app.store.stored(message_id(app, text).await?).await?.ok_or_else(|| Problem::not_found(format!("there is no message {text}")))
}

/// Returns the form and the bytes of the document that a message runs from: its newest amendment, or what was received.
pub fn source(stored: &Stored) -> (&Form, &[u8]) {
    let amended = stored.log.iter().rev().find_map(|entry| match &entry.what {
        Logged::Act { act: Act::Amend { form, document, .. }, .. } => Some((form, document.as_bytes())),
        Logged::Act { .. }
        | Logged::Intent { .. }
        | Logged::Attempt { .. }
        | Logged::Stopped { .. }
        | Logged::Woken { .. }
        | Logged::Parted { .. } => None,
    });
    amended.unwrap_or((&stored.origin.form, &stored.document))
}
