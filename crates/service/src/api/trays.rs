//! Trays: opened, looked into, closed.

use super::arrivals::readable;
use super::problem::Problem;
use super::{Answer, webhooks::is_local};
use crate::access::Person;
use crate::hooks::PREFIX;
use crate::keep;
use crate::run::App;
use crate::trays::{Caught, LONGEST, OPEN, Tray, TrayKind, tapped};
use crate::view::{CaughtView, TrayRequest, TrayStory, TrayView, sure_time};
use axum::extract::{Path, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use std::sync::Arc;
use std::time::Duration;
use wirewatch_core::{Document, Timestamp};
use wirewatch_engine::{Clock, SystemClock};

/// Bytes of a body that are shown.
const SHOWN: usize = 256 << 10;

/// Opens a tray.
#[utoipa::path(post, path = "/api/trays", operation_id = "open_tray", request_body = TrayRequest,
    responses((status = 200, body = TrayView), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn open(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Json(request): Json<TrayRequest>,
) -> Answer<TrayView> {
    let now = SystemClock.now();
    let asked = request.minutes.map_or(OPEN, |minutes| Duration::from_secs(u64::from(minutes) * 60));
    let until = now.after(asked.min(LONGEST));
    let refused = |says: String| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, says);
    let (kind, overheard) = match request.kind.as_str() {
        "http" => (TrayKind::Http, None),
        "queue" => {
            let pattern = if request.pattern.is_empty() { "#".to_owned() } else { request.pattern };
            let (connection, exchange) = (request.connection, request.exchange);
            let overheard = tapped::bind(&app, &connection, &exchange, &pattern).await.map_err(refused)?;
            (TrayKind::Queue { connection, exchange, pattern }, Some(overheard))
        }
        other => return Err(refused(format!("a tray is of the kind http or queue, not `{other}`"))),
    };
    // Not to be guessed: whoever knows the address may put something in.
    let random = keep::random::<8>().map_err(|error| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, error.to_string()))?;
    let name = format!("tray-{}", hex::encode(random));
    let opened = app.trays.open(&name, kind.clone(), until, &by, now);
    opened.ok_or_else(|| Problem::new(StatusCode::CONFLICT, "too many trays are open; close one first"))?;
    if let Err(error) = tapped::store(&app, &name, &kind, until, &by).await {
        app.trays.close(&name);
        return Err(error.into());
    }
    tapped::listen(&app, &name, &kind, overheard);
    Ok(Json(app.trays.read(&name, now, |tray| view(&app, &name, tray)).ok_or_else(|| unknown(&name))?))
}

/// Every open tray.
#[utoipa::path(get, path = "/api/trays", operation_id = "trays", responses((status = 200, body = Vec<TrayView>)))]
pub async fn list(State(app): State<Arc<App>>) -> Answer<Vec<TrayView>> {
    Ok(Json(app.trays.all(SystemClock.now(), |name, tray| view(&app, name, tray))))
}

/// One tray with what it keeps, newest first.
#[utoipa::path(get, path = "/api/trays/{name}", operation_id = "tray", params(("name" = String, Path)),
    responses((status = 200, body = TrayStory), (status = 404, body = Problem)))]
pub async fn one(State(app): State<Arc<App>>, Path(name): Path<String>) -> Answer<TrayStory> {
    let read = |tray: &Tray| (view(&app, &name, tray), tray.caught.iter().rev().cloned().collect::<Vec<Caught>>());
    let (tray, caught) = app.trays.read(&name, SystemClock.now(), read).ok_or_else(|| unknown(&name))?;
    Ok(Json(TrayStory { tray, caught: caught.iter().map(caught_view).collect() }))
}

/// The bytes of one thing that arrived, as they came.
#[utoipa::path(get, path = "/api/trays/{name}/{n}/bytes", operation_id = "tray_bytes", params(("name" = String, Path), ("n" = u64, Path)),
    responses((status = 200, content_type = "application/octet-stream"), (status = 404, body = Problem)))]
pub async fn bytes(State(app): State<Arc<App>>, Path((name, n)): Path<(String, u64)>) -> Result<Response, Problem> {
    let read = |tray: &Tray| tray.caught.iter().find(|one| one.n == n).map(|one| one.body.clone());
    let body = app.trays.read(&name, SystemClock.now(), read).ok_or_else(|| unknown(&name))?;
    let body = body.ok_or_else(|| Problem::not_found(format!("{name} keeps no number {n} (any more)")))?;
    Ok(([(header::CONTENT_TYPE, "application/octet-stream")], body.to_vec()).into_response())
}

/// Closes a tray; what it kept is gone.
#[utoipa::path(delete, path = "/api/trays/{name}", operation_id = "close_tray", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn close(State(app): State<Arc<App>>, Path(name): Path<String>) -> Result<StatusCode, Problem> {
    if !app.trays.close(&name) {
        return Err(unknown(&name));
    }
    app.store.remove_capture(&name).await?;
    Ok(StatusCode::NO_CONTENT)
}

fn unknown(name: &str) -> Problem {
    Problem::not_found(format!("there is no tray {name}; it may have expired"))
}

fn view(app: &App, name: &str, tray: &Tray) -> TrayView {
    let (kind, address) = match &tray.kind {
        TrayKind::Http => ("http", format!("{}{PREFIX}{name}", app.public)),
        TrayKind::Queue { connection, exchange, pattern } => ("queue", format!("{exchange} {pattern} at {connection}")),
    };
    TrayView {
        name: name.to_owned(),
        kind: kind.to_owned(),
        local_only: kind == "http" && is_local(&app.public),
        address,
        by: tray.by.clone(),
        until: sure_time(tray.until),
        arrived: tray.arrived,
        says: tray.says.clone(),
    }
}

fn caught_view(caught: &Caught) -> CaughtView {
    let shown = &caught.body[..caught.body.len().min(SHOWN)];
    let (form, text) = readable(shown);
    // The first bytes of what is larger are never whole.
    let fault = match form {
        "json" if shown.len() == caught.body.len() => Document::json(shown).err().map(|error| error.to_string()),
        _ => None,
    };
    CaughtView {
        n: caught.n,
        at: sure_time(Timestamp(caught.at.0)),
        line: caught.line.clone(),
        told: if caught.told.is_empty() { String::new() } else { serde_json::to_string(&caught.told).unwrap_or_default() },
        size: caught.body.len(),
        form: form.to_owned(),
        fault: fault.unwrap_or_default(),
        text,
    }
}
