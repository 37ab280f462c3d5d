//! Arrivals: listed, shown, accepted, discarded; documents submitted by hand.

use super::flows::known;
use super::problem::Problem;
use super::{Answer, given_reason, id, maybe_id, moment, next_of, page, rows};
use crate::access::Person;
use crate::run::App;
use crate::view::words::{DocumentForm, PersonAct, ProblemCode};
use crate::view::{Arrival, ArrivalQuery, ArrivalStory, Arrivals, Handed, Why};
use axum::body::{Body, Bytes};
use axum::extract::{Path, Query, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use futures_util::stream::{self, StreamExt};
use serde::Deserialize;
use std::sync::Arc;
use wirewatch_core::act::Act;
use wirewatch_core::intake::{Provenance, Verdict};
use wirewatch_core::{Document, Id};
use wirewatch_engine::{Clock, Ready, Resolve, Source, SystemClock};
use wirewatch_journal::{ArrivalFilter, ArrivalRow, JournalError, MessageFilter, Store};

/// Bytes of an arrival that are shown with its story.
const SHOWN: u64 = 64 << 10;
/// Bytes of an arrival that are in memory at a time while it is passed on.
const PIECE: u64 = 4 << 20;

/// Arrivals, newest first.
#[utoipa::path(get, path = "/api/arrivals", operation_id = "arrivals", params(ArrivalQuery), responses((status = 200, body = Arrivals)))]
pub async fn list(State(app): State<Arc<App>>, Query(query): Query<ArrivalQuery>) -> Answer<Arrivals> {
    if !query.verdict.is_empty() && Verdict::ALL.iter().all(|known| known.as_str() != query.verdict) {
        let known: Vec<&str> = Verdict::ALL.iter().map(|verdict| verdict.as_str()).collect();
        return Err(Problem::new(
            StatusCode::BAD_REQUEST,
            format!("`{}` is not a verdict; verdicts are {}", query.verdict, known.join(", ")),
        ));
    }
    let limit = page(query.limit)?;
    let filter = ArrivalFilter {
        connection: query.connection,
        partner: query.partner,
        verdict: query.verdict,
        name: query.name,
        since: moment(&query.since)?,
        until: moment(&query.until)?,
        before: maybe_id(&query.before)?,
        limit,
    };
    let found = app.store.arrivals(&filter).await?;
    let next = next_of(&found, limit, |row| Id(row.id).to_string());
    let ids: Vec<i64> = found.iter().map(|row| row.id).collect();
    let mut keys = app.store.arrival_keys(&ids).await?;
    let with_keys = |row: ArrivalRow| Arrival { keys: keys.remove(&row.id).unwrap_or_default(), ..rows::arrival(row) };
    Ok(Json(Arrivals { arrivals: found.into_iter().map(with_keys).collect(), next }))
}

fn unknown(text: &str) -> Problem {
    Problem::not_found(format!("there is no arrival {text}"))
}

/// One arrival with its bytes, ledger entries and messages.
#[utoipa::path(get, path = "/api/arrivals/{id}", operation_id = "arrival", params(("id" = String, Path)), responses((status = 200, body = ArrivalStory)))]
pub async fn one(State(app): State<Arc<App>>, Path(text): Path<String>) -> Answer<ArrivalStory> {
    let wanted = id(&text)?;
    let row = app.store.arrival(wanted).await?.ok_or_else(|| unknown(&text))?;
    let bytes = app.store.body(wanted, SHOWN).await?;
    let filter = MessageFilter { arrival: Some(wanted), limit: 100, ..MessageFilter::default() };
    let (form, text) = readable(&bytes);
    Ok(Json(ArrivalStory {
        headers: row.properties(),
        cut: bytes.len() < row.size as usize,
        arrival: rows::arrival(row),
        form,
        text,
        ledger: app.store.ledger_of(&[wanted]).await?.into_iter().map(rows::ledger).collect(),
        acts: app.store.audit_of(&[wanted]).await?.into_iter().filter_map(rows::act).collect(),
        messages: app.store.messages(&filter).await?.into_iter().map(rows::message).collect(),
    }))
}

/// Returns the form of the bytes and their text: one segment a line; JSON indented if it is complete.
pub fn readable(bytes: &[u8]) -> (DocumentForm, String) {
    let start = bytes.iter().find(|byte| !byte.is_ascii_whitespace());
    if bytes.starts_with(b"ISA") {
        return (DocumentForm::X12, Document::Bytes(bytes.into()).readable());
    }
    match (start, Document::json(bytes)) {
        (Some(b'{' | b'['), Ok(document)) => (DocumentForm::Json, document.readable()),
        (Some(b'{' | b'['), Err(_)) => (DocumentForm::Json, String::from_utf8_lossy(bytes).into_owned()),
        _ => (DocumentForm::Text, String::from_utf8_lossy(bytes).into_owned()),
    }
}

/// The bytes of an arrival, unchanged.
#[utoipa::path(get, path = "/api/arrivals/{id}/bytes", params(("id" = String, Path)), responses((status = 200, content_type = "application/octet-stream")))]
pub async fn bytes(State(app): State<Arc<App>>, Path(text): Path<String>) -> Result<Response, Problem> {
    let wanted = id(&text)?;
    let row = app.store.arrival(wanted).await?.ok_or_else(|| unknown(&text))?;
    let (mut pieces, size) = (Pieces::of(&app, &row), row.size);
    // The first piece is read before the response begins, so that its error can be reported. A later piece that cannot be read
    // breaks the response off; its `Content-Length` shows that.
    let first = pieces.next().await?;
    let rest =
        stream::try_unfold(pieces, async |mut pieces| Ok::<_, JournalError>(pieces.next().await?.map(|piece| (piece, pieces))));
    let pieces = stream::iter(first.map(Ok)).chain(rest);
    let headers = [(header::CONTENT_TYPE, "application/octet-stream".to_owned()), (header::CONTENT_LENGTH, size.to_string())];
    Ok((headers, Body::from_stream(pieces)).into_response())
}

/// Accepts an arrival on purpose: its bytes are received once more as a new arrival; a failed one is resolved.
#[utoipa::path(post, path = "/api/arrivals/{id}/accept", params(("id" = String, Path)), request_body = Why,
    responses((status = 200, body = Handed), (status = 409, body = Problem)))]
pub async fn accept(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Path(text): Path<String>,
    Json(Why { why }): Json<Why>,
) -> Answer<Handed> {
    let wanted = id(&text)?;
    let row = app.store.arrival(wanted).await?.ok_or_else(|| unknown(&text))?;
    if row.verdict == Verdict::Received.as_str() || row.verdict == Verdict::Splitting.as_str() {
        let says = format!("arrival {text} is {}: it has messages; resend these instead", row.verdict);
        return Err(Problem::new(StatusCode::CONFLICT, says));
    }
    if row.verdict == Verdict::Resolved.as_str() {
        return Err(resolved_before(&text));
    }
    let why = given_reason(&why, "it is accepted")?;
    app.store.record_act(app.engine.mint(), &by, PersonAct::Accepted.as_str(), wanted, why, SystemClock.now()).await?;
    let provenance = Provenance {
        connection: row.connection.clone(),
        name: row.name.clone(),
        event: row.event.clone(),
        properties: row.properties(),
        accept: true,
        ..Provenance::default()
    };
    let mut taking = app.engine.read(Source { provenance, by: by.clone(), ..Source::default() });
    let mut pieces = Pieces::of(&app, &row);
    while let Some(piece) = pieces.next().await? {
        taking.feed(&piece).await?;
    }
    let handed = taken(&app, taking.ready().await?).await?;
    if row.verdict == Verdict::Failed.as_str() {
        resolve(&app, row, format!("accepted by {by} as {}", handed.arrival)).await?;
    }
    Ok(handed)
}

/// Discards an arrival that failed: no messages are made of it; its bytes stay stored.
#[utoipa::path(post, path = "/api/arrivals/{id}/discard", operation_id = "discard_arrival", params(("id" = String, Path)), request_body = Why,
    responses((status = 200, body = Arrival), (status = 409, body = Problem)))]
pub async fn discard(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Path(text): Path<String>,
    Json(Why { why }): Json<Why>,
) -> Answer<Arrival> {
    let wanted = id(&text)?;
    let row = app.store.arrival(wanted).await?.ok_or_else(|| unknown(&text))?;
    if row.verdict == Verdict::Resolved.as_str() {
        return Err(resolved_before(&text));
    }
    if row.verdict != Verdict::Failed.as_str() {
        let says = format!("arrival {text} is {}, not failed: there is nothing to discard", row.verdict);
        return Err(Problem::new(StatusCode::CONFLICT, says));
    }
    let why = given_reason(&why, "it is discarded")?;
    app.store.record_act(app.engine.mint(), &by, Act::Discard.past(), wanted, why, SystemClock.now()).await?;
    resolve(&app, row, format!("discarded by {by}")).await?;
    let row = app.store.arrival(wanted).await?.ok_or_else(|| unknown(&text))?;
    Ok(Json(rows::arrival(row)))
}

fn resolved_before(text: &str) -> Problem {
    Problem::new(StatusCode::CONFLICT, format!("arrival {text} is already resolved; `wirewatch show {text}` shows by whom"))
        .code(ProblemCode::ArrivalResolved)
}

async fn resolve(app: &App, row: ArrivalRow, says: String) -> Result<(), Problem> {
    let ArrivalRow { id, connection, partner, name, .. } = row;
    let resolve = Resolve { arrival: Id(id), connection, partner, name, says, at: SystemClock.now() };
    Ok(app.engine.resolve(resolve).await?)
}

/// Name and event of a submitted document.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct SubmitQuery {
    /// File name, for people.
    #[serde(default)]
    pub name: String,
    /// Name of the event; when left out, the first that the flow's intake takes.
    #[serde(default)]
    pub event: String,
}

/// Submits a document by hand, as if it had been received by the flow's first intake.
#[utoipa::path(post, path = "/api/flows/{flow}/submit", params(("flow" = String, Path), SubmitQuery),
    request_body(content = String, content_type = "application/octet-stream"), responses((status = 200, body = Handed)))]
pub async fn submit(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Path(flow): Path<String>,
    Query(query): Query<SubmitQuery>,
    body: Bytes,
) -> Answer<Handed> {
    let (_, workspace) = app.engine.releases().current();
    let (_, intake) = known(&workspace, &flow)?;
    // An arrival from a broker is named after its queue.
    let name = match &intake.queue {
        Some(queue) => queue.clone(),
        None if query.name.is_empty() => "by hand".to_owned(),
        None => query.name,
    };
    let event = if query.event.is_empty() { intake.events.first().cloned().unwrap_or_default() } else { query.event };
    hand_in(&app, Provenance { connection: intake.from.clone(), name, event, ..Provenance::default() }, by, &body).await
}

async fn hand_in(app: &App, provenance: Provenance, by: String, bytes: &[u8]) -> Answer<Handed> {
    let mut taking = app.engine.read(Source { provenance, by, ..Source::default() });
    for piece in bytes.chunks(1 << 20) {
        taking.feed(piece).await?;
    }
    taken(app, taking.ready().await?).await
}

async fn taken(app: &App, ready: Ready) -> Answer<Handed> {
    let report = app.engine.take(vec![ready]).await.remove(0)?;
    Ok(Json(Handed { arrival: report.arrival.to_string(), verdict: report.verdict.into(), says: report.says }))
}

/// The bytes of an arrival, piece by piece, so that the memory of the service does not grow with it.
struct Pieces {
    store: Store,
    arrival: Id,
    from: u64,
    size: u64,
}

impl Pieces {
    fn of(app: &App, row: &ArrivalRow) -> Self {
        Self { store: app.store.clone(), arrival: Id(row.id), from: 0, size: row.size.unsigned_abs() }
    }

    /// Returns the next piece; `None` after the last.
    async fn next(&mut self) -> Result<Option<Vec<u8>>, JournalError> {
        let Self { arrival, from, size, .. } = *self;
        if from >= size {
            return Ok(None);
        }
        let piece = self.store.body_part(arrival, from..(from + PIECE).min(size)).await?;
        if piece.is_empty() {
            return Err(JournalError::Damaged(format!("of arrival {arrival} there are {from} bytes, not {size}")));
        }
        self.from += piece.len() as u64;
        Ok(Some(piece))
    }
}
