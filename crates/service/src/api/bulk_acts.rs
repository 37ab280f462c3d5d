//! Acts on many messages: previewed, started, followed, stopped.

use super::messages::source;
use super::problem::Problem;
use super::rows::by_state;
use super::{Answer, given_reason, id, message_id, rows, storable};
use crate::access::Person;
use crate::bulk::{self, Each};
use crate::run::App;
use crate::view::words::{BulkState, MessageAct};
use crate::view::{BulkAct, BulkPreview, BulkRequest, CorrectedMessage, CorrectionView, SuggestedValue, some, sure_time, time};
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use std::collections::BTreeMap;
use std::sync::Arc;
use wirewatch_core::correction::{self, Correction, FieldValue};
use wirewatch_core::machine::State as MessageState;
use wirewatch_core::{Id, Timestamp};
use wirewatch_engine::{Clock, Journal, SystemClock, beside};
use wirewatch_journal::{BulkActRow, NewBulkAct};

/// Messages of a preview; all are counted. A correction is tried on fewer.
const PREVIEWED: usize = 100;
const CORRECTED: usize = 20;
/// Bulk acts of the list.
const LISTED: u32 = 50;

/// The messages that an act would be done to. Nothing is done.
#[utoipa::path(post, path = "/api/bulk-acts/preview", request_body = BulkRequest,
    responses((status = 200, body = BulkPreview), (status = 400, body = Problem), (status = 404, body = Problem)))]
pub async fn preview(State(app): State<Arc<App>>, Json(request): Json<BulkRequest>) -> Answer<BulkPreview> {
    storable(&request.why)?;
    let ids = meant(&app, &request).await?;
    let (mut messages, mut passed_over) = (Vec::new(), 0);
    for wanted in &ids {
        // All that failed for one reason need attention, so only the first of them are read.
        if request.messages.is_empty() && messages.len() == PREVIEWED {
            break;
        }
        match app.store.message(Id(*wanted)).await? {
            Some(row) if row.state == MessageState::Failed.as_str() => messages.push(rows::message(row)),
            _ => passed_over += 1,
        }
    }
    let total = ids.len() - passed_over;
    messages.truncate(PREVIEWED);
    let mut preview = BulkPreview { total, passed_over, messages, corrected: Vec::new(), suggested: Vec::new() };
    if request.act == MessageAct::Amend {
        preview.suggested = suggested(&app, &preview).await?;
        if let Some(each) = each(&request)? {
            preview.corrected = corrected(&app, &preview, &each).await?;
        }
    }
    Ok(Json(preview))
}

/// Returns the values of the first document that its failure names.
async fn suggested(app: &App, preview: &BulkPreview) -> Result<Vec<SuggestedValue>, Problem> {
    let Some(first) = preview.messages.first() else { return Ok(Vec::new()) };
    let Some(stored) = app.store.stored(id(&first.id)?).await? else { return Ok(Vec::new()) };
    let (form, bytes) = source(&stored);
    let (_, workspace) = app.engine.releases().current();
    let named = beside(bytes.len(), || correction::named_in(&first.says, &workspace, form, bytes));
    Ok(named.into_iter().map(|FieldValue { field, value }| SuggestedValue { field, value }).collect())
}

/// Tries a correction on the first messages of a preview.
async fn corrected(app: &App, preview: &BulkPreview, each: &Each) -> Result<Vec<CorrectedMessage>, Problem> {
    let Each::Correct { correction, answers, release } = each else { return Ok(Vec::new()) };
    let mut corrected = Vec::new();
    for message in preview.messages.iter().take(CORRECTED) {
        let wanted = id(&message.id)?;
        let Some(stored) = app.store.stored(wanted).await? else { continue };
        let (fields, says, next) = match bulk::correct(app, wanted, &stored, correction, *answers, *release).await {
            Ok((tried, fields)) => (fields, String::new(), tried.plan.map(|plan| plan.next)),
            Err(problem) if problem.status == StatusCode::SERVICE_UNAVAILABLE.as_u16() => return Err(problem),
            Err(problem) => (Vec::new(), bulk::sentence(&problem), None),
        };
        corrected.push(CorrectedMessage { message: message.id.clone(), key: message.key.clone(), fields, says, next });
    }
    Ok(corrected)
}

/// Resends, amends or discards all messages that failed for one reason, or those named, in the background.
#[utoipa::path(post, path = "/api/bulk-acts", request_body = BulkRequest,
    responses((status = 202, body = BulkAct), (status = 400, body = Problem), (status = 404, body = Problem)))]
pub async fn start(
    State(app): State<Arc<App>>,
    Extension(Person(by_whom)): Extension<Person>,
    Json(request): Json<BulkRequest>,
) -> Result<(StatusCode, Json<BulkAct>), Problem> {
    storable(&request.why)?;
    if each(&request)?.is_none() {
        let title = "an amendment of many messages needs a `correction`: the value to replace, and its successor";
        return Err(Problem::new(StatusCode::BAD_REQUEST, title));
    }
    if request.act == MessageAct::Discard {
        given_reason(&request.why, "they are discarded")?;
    }
    let messages = meant(&app, &request).await?;
    let reasons = if request.messages.is_empty() { app.store.reasons("").await? } else { Vec::new() };
    let reason = reasons.into_iter().map(rows::reason).find(|one| one.id == request.reason);
    let (now, new) = (SystemClock.now(), app.journal.mint(SystemClock.now()).0);
    let correction = correction_of(&request)?.map(|one| serde_json::to_string(&one).unwrap_or_default()).unwrap_or_default();
    let BulkRequest { act, answers, why, release, .. } = request;
    let (reason, says) = reason.map(|one| (one.id, one.says)).unwrap_or_default();
    let (act, answers, release) = (act.to_string(), answers.to_string(), release.unwrap_or_default());
    let stored = NewBulkAct { id: new, act, answers, release, correction, reason, says, why, by_whom, messages };
    app.store.add_bulk_act(stored, now).await?;
    app.bulk_acts.added();
    let row = app.store.bulk_act(new).await?.ok_or_else(|| unknown(&Id(new).to_string()))?;
    Ok((StatusCode::ACCEPTED, Json(view(row, BTreeMap::new()))))
}

/// The newest bulk acts, newest first; those that ended more than 30 days ago are forgotten.
#[utoipa::path(get, path = "/api/bulk-acts", responses((status = 200, body = Vec<BulkAct>)))]
pub async fn list(State(app): State<Arc<App>>) -> Answer<Vec<BulkAct>> {
    Ok(Json(app.store.bulk_acts(LISTED).await?.into_iter().map(|row| view(row, BTreeMap::new())).collect()))
}

/// One bulk act with its progress and the present states of its messages.
#[utoipa::path(get, path = "/api/bulk-acts/{id}", params(("id" = String, Path)),
    responses((status = 200, body = BulkAct), (status = 404, body = Problem)))]
pub async fn one(State(app): State<Arc<App>>, Path(text): Path<String>) -> Answer<BulkAct> {
    let wanted = id(&text)?.0;
    let row = app.store.bulk_act(wanted).await?.ok_or_else(|| unknown(&text))?;
    Ok(Json(view(row, app.store.bulk_act_states(wanted).await?)))
}

/// Stops a bulk act; what was done to messages stays done.
#[utoipa::path(post, path = "/api/bulk-acts/{id}/stop", params(("id" = String, Path)),
    responses((status = 200, body = BulkAct), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn stop(State(app): State<Arc<App>>, Path(text): Path<String>) -> Answer<BulkAct> {
    let wanted = id(&text)?.0;
    let stopped = app.store.end_bulk_act(wanted, "stopped", SystemClock.now()).await?;
    let row = app.store.bulk_act(wanted).await?.ok_or_else(|| unknown(&text))?;
    if !stopped {
        return Err(Problem::new(StatusCode::CONFLICT, format!("the bulk act {text} has already ended: it is {}", row.state)));
    }
    Ok(Json(view(row, app.store.bulk_act_states(wanted).await?)))
}

fn unknown(text: &str) -> Problem {
    Problem::not_found(format!("there is no bulk act {text}; bulk acts are deleted 30 days after their end"))
}

/// Returns what a request does to each message; `None` for an amendment without a correction.
///
/// # Errors
/// 400 for a correction that cannot be stored or fits no document.
fn each(request: &BulkRequest) -> Result<Option<Each>, Problem> {
    Ok(Each::of(request.act, request.answers, request.release, correction_of(request)?))
}

/// Returns the correction of an amendment.
fn correction_of(request: &BulkRequest) -> Result<Option<Correction>, Problem> {
    let Some(CorrectionView { replace, with, field }) = request.correction.clone() else { return Ok(None) };
    for text in [&replace, &with].into_iter().chain(&field) {
        storable(text)?;
    }
    let unfit = |says: &str| Err(Problem::new(StatusCode::BAD_REQUEST, says));
    match () {
        () if request.act != MessageAct::Amend => unfit("a `correction` belongs to an amendment"),
        () if replace.is_empty() => unfit("the value to replace is empty"),
        () if replace == with => unfit("the value would be replaced with itself"),
        () => Ok(Some(Correction { replace, with, field: field.filter(|field| !field.is_empty()) })),
    }
}

/// Returns the ids of the request's messages, oldest first.
///
/// # Errors
/// 404 when there are none, or when a named message does not exist.
async fn meant(app: &App, request: &BulkRequest) -> Result<Vec<i64>, Problem> {
    if request.messages.is_empty() {
        let no_id = || Problem::new(StatusCode::BAD_REQUEST, format!("`{}` is not the id of a reason", request.reason));
        let ids = app.store.failed_for(rows::parse_reason(&request.reason).ok_or_else(no_id)?).await?;
        let none = || {
            let says = format!("no failed message has the reason {} any more", request.reason);
            Problem::not_found(says).detail("`wirewatch reasons` lists the current reasons")
        };
        return if ids.is_empty() { Err(none()) } else { Ok(ids) };
    }
    let parsed: Vec<i64> = request.messages.iter().filter_map(|text| Some(id(text).ok()?.0)).collect();
    let mut ids = app.store.stored_among(&parsed).await?;
    // What is left is named by a key, or does not exist.
    for text in &request.messages {
        if id(text).is_ok_and(|id| ids.contains(&id.0)) {
            continue;
        }
        ids.insert(message_id(app, text).await?.0);
    }
    Ok(ids.into_iter().collect())
}

fn view(row: BulkActRow, states: BTreeMap<String, i64>) -> BulkAct {
    let states = by_state(states);
    BulkAct {
        id: Id(row.id).to_string(),
        act: MessageAct::parse(&row.act).unwrap_or(MessageAct::Resend),
        reason: some(&row.reason),
        says: row.says,
        correction: serde_json::from_str(&row.correction).ok().map(|Correction { replace, with, field }| CorrectionView {
            replace,
            with,
            field,
        }),
        why: row.why,
        by: row.by_whom,
        state: BulkState::parse(&row.state).unwrap_or(BulkState::Stopped),
        total: row.total,
        done: row.done,
        refused: row.refused,
        refusals: serde_json::from_str(&row.refusals).unwrap_or_default(),
        started: sure_time(Timestamp(row.started)),
        ended: time(row.ended),
        states,
    }
}
