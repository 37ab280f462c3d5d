//! Messages in lists.

use super::problem::Problem;
use super::{Answer, id, maybe_id, moment, next_of, page, rows};
use crate::run::App;
use crate::view::{DocumentView, MessageQuery, Messages};
use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use std::sync::Arc;
use wirewatch_core::document::Form;
use wirewatch_core::machine::{LogEntry, Logged};
use wirewatch_core::{Document, act::Act};
use wirewatch_journal::MessageFilter;

/// Messages, newest first.
#[utoipa::path(get, path = "/api/messages", params(MessageQuery), responses((status = 200, body = Messages)))]
pub async fn list(State(app): State<Arc<App>>, Query(query): Query<MessageQuery>) -> Answer<Messages> {
    let filter = filter(&query)?;
    let found = app.store.messages(&filter).await?;
    let next = next_of(&found, filter.limit, |row| wirewatch_core::Id(row.id).to_string());
    Ok(Json(Messages { messages: found.into_iter().map(rows::message).collect(), next }))
}

fn filter(query: &MessageQuery) -> Result<MessageFilter, Problem> {
    let bad = |says: String| Problem::new(StatusCode::BAD_REQUEST, says);
    if !query.state.is_empty() && wirewatch_core::machine::State::parse(&query.state).is_none() {
        let known: Vec<&str> = wirewatch_core::machine::State::ALL.iter().map(|state| state.as_str()).collect();
        return Err(bad(format!("`{}` is no state; there are {}", query.state, known.join(", "))));
    }
    let reason = match query.reason.as_str() {
        "" => None,
        text => Some(rows::parse_reason(text).ok_or_else(|| bad(format!("`{text}` is no reason id")))?),
    };
    Ok(MessageFilter {
        flow: query.flow.clone(),
        partner: query.partner.clone(),
        state: query.state.clone(),
        key: query.key.clone(),
        arrival: maybe_id(&query.arrival)?,
        reason,
        since: moment(&query.since)?,
        until: moment(&query.until)?,
        before: maybe_id(&query.before)?,
        limit: page(query.limit),
    })
}

/// The document a message runs from, amendments included, as it is sent and stored.
#[utoipa::path(get, path = "/api/messages/{id}/document", params(("id" = String, Path)), responses((status = 200, body = DocumentView)))]
pub async fn document(State(app): State<Arc<App>>, Path(text): Path<String>) -> Answer<DocumentView> {
    let stored = app.store.stored(id(&text)?).await?.ok_or_else(|| Problem::not_found(format!("there is no message {text}")))?;
    let (form, bytes) = source(&stored.origin.form, stored.document, &stored.log);
    let readable = Document::read(&form, &bytes)
        .map_or_else(|_| String::from_utf8_lossy(&bytes).into_owned(), |document| document.readable());
    Ok(Json(DocumentView { form: form_name(&form).to_owned(), text: readable }))
}

/// The newest amendment, or the document as it came.
pub fn source(form: &Form, document: Vec<u8>, log: &[LogEntry]) -> (Form, Vec<u8>) {
    let amended = log.iter().rev().find_map(|entry| match &entry.what {
        Logged::Act { act: Act::Amend { form, document, .. }, .. } => Some((form.clone(), document.clone().into_bytes())),
        Logged::Act { .. } | Logged::Intent { .. } | Logged::Attempt { .. } | Logged::Stopped { .. } => None,
    });
    amended.unwrap_or_else(|| (form.clone(), document))
}

pub const fn form_name(form: &Form) -> &'static str {
    match form {
        Form::Json => "json",
        Form::X12 { .. } => "x12",
        Form::Bytes => "bytes",
    }
}
