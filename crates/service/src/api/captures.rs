//! Captures: opened, shown, closed.

use super::arrivals::readable;
use super::problem::Problem;
use super::{Answer, webhooks::is_local};
use crate::access::Person;
use crate::captures::{Capture, CaptureKind, Caught, LONGEST, OPEN, tapped};
use crate::hooks::PREFIX;
use crate::keep;
use crate::run::App;
use crate::view::words::{CaptureType, DocumentForm};
use crate::view::{CaptureRequest, CaptureStory, CaptureView, CaughtView, sure_time};
use axum::extract::{Path, State};
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use serde_json::{Map, Value};
use std::sync::Arc;
use std::time::Duration;
use wirewatch_core::{Document, Timestamp};
use wirewatch_engine::{Clock, SystemClock};

/// Longest name of an event, in bytes; longer texts are content.
const EVENT: usize = 80;
/// Words in the names of headers, and fields of bodies, that hold the event.
const EVENT_WORDS: [&str; 2] = ["event", "topic"];
const EVENT_FIELDS: [&str; 4] = ["type", "event", "event_type", "topic"];

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
    let read = |capture: &Capture| (view(&app, &name, capture), capture.caught.iter().rev().cloned().collect::<Vec<Caught>>());
    let (capture, caught) = app.captures.read(&name, SystemClock.now(), read).ok_or_else(|| unknown(&name))?;
    Ok(Json(CaptureStory { capture, caught: caught.iter().map(caught_view).collect() }))
}

/// The bytes of one captured request or message, unchanged.
#[utoipa::path(get, path = "/api/captures/{name}/{n}/bytes", operation_id = "capture_bytes", params(("name" = String, Path), ("n" = u64, Path)),
    responses((status = 200, content_type = "application/octet-stream"), (status = 404, body = Problem)))]
pub async fn bytes(State(app): State<Arc<App>>, Path((name, n)): Path<(String, u64)>) -> Result<Response, Problem> {
    let read = |capture: &Capture| capture.caught.iter().find(|one| one.n == n).map(|one| one.body.clone());
    let body = app.captures.read(&name, SystemClock.now(), read).ok_or_else(|| unknown(&name))?;
    let body = body.ok_or_else(|| Problem::not_found(format!("{name} keeps no number {n} (any more)")))?;
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

/// Returns the event that an item is about. Senders name it in a property `type`, in a header, or in a field of the body.
fn event(headers: &Map<String, Value>, text: &str) -> String {
    let word = |value: &Value| value.as_str().filter(|word| !word.is_empty() && word.len() <= EVENT).map(str::to_owned);
    let named = |name: &str| name == "type" || name.to_ascii_lowercase().split('-').any(|part| EVENT_WORDS.contains(&part));
    let header = headers.iter().find_map(|(name, value)| named(name).then(|| word(value)).flatten());
    let body = || {
        let Ok(Value::Object(fields)) = serde_json::from_str(text) else { return None };
        EVENT_FIELDS.iter().find_map(|name| fields.get(*name).and_then(word))
    };
    header.or_else(body).unwrap_or_default()
}

fn caught_view(caught: &Caught) -> CaughtView {
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
        event: event(&caught.headers, &text),
        headers: caught.headers.clone(),
        size: caught.body.len(),
        form,
        fault: fault.unwrap_or_default(),
        text,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn the_event_is_found_where_senders_put_it() {
        let event = |headers: Value, text: &str| {
            let Value::Object(headers) = headers else { unreachable!() };
            super::event(&headers, text)
        };
        let long = "x".repeat(200);
        for (headers, text, expected) in [
            (json!({ "type": "order.released", "content_type": "application/json" }), "{}", "order.released"),
            (json!({ "quillhaven-event": "item.listed" }), r#"{"type":"other"}"#, "item.listed"),
            (json!({ "content-type": "application/json" }), r#"{"type":"purchase.placed","data":{}}"#, "purchase.placed"),
            (json!({ "content-type": "text/plain" }), r#"{"event":"a","topic":"b"}"#, "a"),
            (json!({ "quillhaven-event": "" }), r#"{"type":7}"#, ""),
            (json!({ "prevent-cache": "yes" }), "no json", ""),
            (json!({ "type": long }), "[]", ""),
        ] {
            assert_eq!(event(headers.clone(), text), expected, "{headers} {text}");
        }
    }
}
