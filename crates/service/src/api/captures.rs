//! Captures: opened, shown, closed.

use super::arrivals::readable;
use super::problem::Problem;
use super::{Answer, releases, webhooks::is_local};
use crate::access::Person;
use crate::captures::{Capture, CaptureKind, Caught, LONGEST, OPEN, tapped};
use crate::hooks::PREFIX;
use crate::keep;
use crate::run::App;
use crate::view::words::{CaptureType, DocumentForm, ProblemCode};
use crate::view::{CaptureRequest, CaptureStory, CaptureView, CaughtView, FirstFlow, FirstFlowRequest, ProposedFile, sure_time};
use axum::extract::{Path, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use std::sync::Arc;
use std::time::Duration;
use wirewatch_core::propose::flow::{FirstFlowError, Recorded, Source, event};
use wirewatch_core::{Document, Timestamp, propose};
use wirewatch_engine::{Clock, SystemClock};

/// Bytes of a body that are shown.
const SHOWN: usize = 256 << 10;

/// Opens a capture.
#[utoipa::path(post, path = "/api/captures", operation_id = "open_capture", request_body = CaptureRequest,
    responses((status = 200, body = CaptureView), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn open(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Json(request): Json<CaptureRequest>,
) -> Answer<CaptureView> {
    let now = SystemClock.now();
    let asked = request.minutes.map_or(OPEN, |minutes| Duration::from_secs(u64::from(minutes) * 60));
    let until = now.after(asked.min(LONGEST));
    let refused = |says: String| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, says);
    let (kind, overheard) = match request.kind {
        CaptureType::Http => (CaptureKind::Http, None),
        CaptureType::Queue => {
            let pattern = if request.pattern.is_empty() { "#".to_owned() } else { request.pattern };
            let (connection, exchange) = (request.connection, request.exchange);
            let overheard = tapped::bind(&app, &connection, &exchange, &pattern).await.map_err(refused)?;
            (CaptureKind::Queue { connection, exchange, pattern }, Some(overheard))
        }
    };
    // The name must not be guessable: whoever knows the address can send to the capture.
    let random = keep::random::<8>().map_err(|error| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, error.to_string()))?;
    let name = format!("capture-{}", hex::encode(random));
    let opened = app.captures.open(&name, kind.clone(), until, &by, now);
    opened.ok_or_else(|| Problem::new(StatusCode::CONFLICT, "too many captures are open; close one first"))?;
    if let Err(error) = tapped::store(&app, &name, &kind, until, &by).await {
        app.captures.close(&name);
        return Err(error.into());
    }
    tapped::listen(&app, &name, &kind, overheard);
    Ok(Json(app.captures.read(&name, now, |capture| view(&app, &name, capture)).ok_or_else(|| unknown(&name))?))
}

/// Every open capture.
#[utoipa::path(get, path = "/api/captures", operation_id = "captures", responses((status = 200, body = Vec<CaptureView>)))]
pub async fn list(State(app): State<Arc<App>>) -> Answer<Vec<CaptureView>> {
    Ok(Json(app.captures.all(SystemClock.now(), |name, capture| view(&app, name, capture))))
}

/// One capture with what it keeps, newest first.
#[utoipa::path(get, path = "/api/captures/{name}", operation_id = "capture", params(("name" = String, Path)),
    responses((status = 200, body = CaptureStory), (status = 404, body = Problem)))]
pub async fn one(State(app): State<Arc<App>>, Path(name): Path<String>) -> Answer<CaptureStory> {
    let read = |capture: &Capture| (view(&app, &name, capture), capture.kind.clone(), newest(capture));
    let (capture, kind, caught) = app.captures.read(&name, SystemClock.now(), read).ok_or_else(|| unknown(&name))?;
    let source = source_of(&name, &kind);
    Ok(Json(CaptureStory { capture, caught: caught.iter().map(|one| caught_view(source, one)).collect() }))
}

fn newest(capture: &Capture) -> Vec<Caught> {
    capture.caught.iter().rev().cloned().collect()
}

fn source_of<'a>(name: &'a str, kind: &'a CaptureKind) -> Source<'a> {
    match kind {
        CaptureKind::Http => Source::Address(name),
        CaptureKind::Queue { connection, exchange, pattern } => Source::Exchange { connection, exchange, routing_key: pattern },
    }
}

fn recorded(caught: &Caught) -> Recorded<'_> {
    Recorded { headers: &caught.headers, body: &caught.body }
}

/// The files of a first flow that receives what a capture recorded: connection or queue, schema, flow and case. Nothing is stored.
#[utoipa::path(post, path = "/api/captures/{name}/{n}/flow", operation_id = "flow_of_capture", params(("name" = String, Path), ("n" = u64, Path)),
    request_body = FirstFlowRequest, responses((status = 200, body = FirstFlow), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn first_flow(
    State(app): State<Arc<App>>,
    Path((name, n)): Path<(String, u64)>,
    Json(FirstFlowRequest { flow }): Json<FirstFlowRequest>,
) -> Answer<FirstFlow> {
    let read = |capture: &Capture| (capture.kind.clone(), newest(capture));
    let (kind, caught) = app.captures.read(&name, SystemClock.now(), read).ok_or_else(|| unknown(&name))?;
    let at = caught.iter().position(|one| one.n == n).ok_or_else(|| no_item(&name, n))?;
    let files = releases::running_files(&app).await?;
    let made = tokio::task::spawn_blocking(move || {
        let source = source_of(&name, &kind);
        let items: Vec<Recorded<'_>> = caught.iter().map(recorded).collect();
        let made = propose::flow::first_flow(&files, &flow, source, items[at], &items)?;
        let event = event(source, items[at]).map(|(_, event)| event).unwrap_or_default();
        let file = |(file, after): (String, String)| ProposedFile { before: files.get(&file).cloned(), file, after };
        Ok(FirstFlow { event, files: made.into_iter().map(file).collect() })
    });
    let made = made
        .await
        .map_err(|_| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "no flow was made because of a fault in the service"))?;
    made.map(Json).map_err(|error: FirstFlowError| {
        let problem = Problem::new(StatusCode::UNPROCESSABLE_ENTITY, error.to_string());
        match error {
            FirstFlowError::Says(_) => problem,
            FirstFlowError::Findings(findings) => Problem { findings, ..problem.code(ProblemCode::WorkspaceInvalid) },
        }
    })
}

/// The bytes of one captured request or message, unchanged.
#[utoipa::path(get, path = "/api/captures/{name}/{n}/bytes", operation_id = "capture_bytes", params(("name" = String, Path), ("n" = u64, Path)),
    responses((status = 200, content_type = "application/octet-stream"), (status = 404, body = Problem)))]
pub async fn bytes(State(app): State<Arc<App>>, Path((name, n)): Path<(String, u64)>) -> Result<Response, Problem> {
    let read = |capture: &Capture| capture.caught.iter().find(|one| one.n == n).map(|one| one.body.clone());
    let body = app.captures.read(&name, SystemClock.now(), read).ok_or_else(|| unknown(&name))?;
    let body = body.ok_or_else(|| no_item(&name, n))?;
    Ok(([(header::CONTENT_TYPE, "application/octet-stream")], body.to_vec()).into_response())
}

/// Closes a capture and deletes what it keeps.
#[utoipa::path(delete, path = "/api/captures/{name}", operation_id = "close_capture", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn close(State(app): State<Arc<App>>, Path(name): Path<String>) -> Result<StatusCode, Problem> {
    if !app.captures.close(&name) {
        return Err(unknown(&name));
    }
    app.store.remove_capture(&name).await?;
    Ok(StatusCode::NO_CONTENT)
}

fn no_item(name: &str, n: u64) -> Problem {
    Problem::not_found(format!("{name} has no item {n} (any more)"))
}

fn unknown(name: &str) -> Problem {
    Problem::not_found(format!("there is no capture {name}; it may have expired"))
}

fn view(app: &App, name: &str, capture: &Capture) -> CaptureView {
    let (kind, address) = match &capture.kind {
        CaptureKind::Http => (CaptureType::Http, format!("{}{PREFIX}{name}", app.public)),
        CaptureKind::Queue { connection, exchange, pattern } => {
            (CaptureType::Queue, format!("{exchange} {pattern} at {connection}"))
        }
    };
    CaptureView {
        name: name.to_owned(),
        kind,
        local_only: kind == CaptureType::Http && is_local(&app.public),
        address,
        by: capture.by.clone(),
        until: sure_time(capture.until),
        arrived: capture.arrived,
        says: capture.says.clone(),
    }
}

fn caught_view(source: Source<'_>, caught: &Caught) -> CaughtView {
    let shown = &caught.body[..caught.body.len().min(SHOWN)];
    let (form, text) = readable(shown);
    // The first bytes of what is larger are never whole.
    let fault = match form {
        DocumentForm::Json if shown.len() == caught.body.len() => Document::json(shown).err().map(|error| error.to_string()),
        _ => None,
    };
    CaughtView {
        n: caught.n,
        at: sure_time(Timestamp(caught.at.0)),
        line: caught.line.clone(),
        event: event(source, recorded(caught)).map(|(_, event)| event).unwrap_or_default(),
        headers: caught.headers.clone(),
        size: caught.body.len(),
        form,
        fault: fault.unwrap_or_default(),
        text,
    }
}
