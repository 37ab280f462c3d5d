//! Calls of webhooks: authenticated, stored, and only then answered.
//!
//! | call | answer |
//! |---|---|
//! | received, stored because there are many calls at the moment, or a duplicate | 202 with the arrival |
//! | `GET`, `HEAD`, `OPTIONS`, or `POST` without a body: somebody checks the address | 200; nothing is taken |
//! | any other method but `POST` | 405 |
//! | no such address | 404 |
//! | larger than the connection allows | 413 |
//! | signature missing or old, before the body is read; signature wrong, after it | 401 |
//! | its body slower than ten seconds | 408 |
//! | its headers slower than ten seconds | none: the connection is ended |
//! | more in a second than the connection allows; calls that fail authentication do not count | 429 |
//! | held by a person, work enough, database away | 503 with `Retry-After`: the sender keeps it |
//! | there are too many bodies at a time, and this one has been coming longest | 503 with `Retry-After` |
//! | at the address of a capture | 200 once it is in the capture; 404 when the capture is closed by then |

mod doors;
mod room;

pub use doors::Doors;

use crate::api::problem::Problem;
use crate::captures::tapped;
use crate::listen::Client;
use crate::run::App;
use axum::body::{Body, Bytes, HttpBody};
use axum::extract::{Path, State};
use axum::http::{HeaderMap, HeaderValue, Method, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use axum::{Extension, Json};
use http_body_util::BodyExt;
use room::{NoRoom, Room, Share};
use serde_json::{Map, Value, json};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;
use wirewatch_core::Document;
use wirewatch_core::connection::Connection;
use wirewatch_core::intake::Provenance;
use wirewatch_core::key;
use wirewatch_core::place::Place;
use wirewatch_core::webhook::{Forged, Webhook};
use wirewatch_engine::{Call, Clock, Received, SystemClock, TakenReport, Why};

/// Prefix of all webhook paths.
pub const PREFIX: &str = "/in/";
/// Largest body that a capture keeps, in bytes.
const CAPTURE_LARGEST: u64 = 1 << 20;
/// Bytes of header names and values stored per call.
const HEADER_BYTES: usize = 16 << 10;
/// Sentence in the answer to a call that was spooled.
const STORED: &str = "stored: there are many calls at the moment; this one is processed soon";
/// Longest time for receiving a whole call.
const WAIT: Duration = Duration::from_secs(10);
/// Longest time that a sender waits for the commit; beyond, the database counts as unavailable.
const COMMIT: Duration = Duration::from_secs(5);

/// Handles a call at a webhook path.
pub async fn receive(
    State(app): State<Arc<App>>,
    Extension(client): Extension<Client>,
    Path(path): Path<String>,
    method: Method,
    uri: Uri,
    headers: HeaderMap,
    body: Body,
) -> Response {
    let (_, workspace) = app.engine.releases().current();
    let found = workspace.connections.values().find_map(|connection| {
        let webhook = connection.webhook().filter(|webhook| webhook.paths().any(|known| known == path))?;
        Some((connection, webhook))
    });
    let Some((connection, webhook)) = found else {
        return into_capture(&app, &path, &method, &uri, &headers, body).await;
    };
    match take(&app, &client, connection, webhook, &method, &headers, body).await {
        Ok(answer) => answer,
        Err(Refusal { status, says, after }) => {
            app.doors.turned_away(&connection.name, &says, SystemClock.now());
            // A forger must not learn what a valid signature would be: the console shows the details.
            let title = if status == StatusCode::UNAUTHORIZED { "the signature is missing or wrong".to_owned() } else { says };
            let mut response = Problem::new(status, title).into_response();
            if status == StatusCode::METHOD_NOT_ALLOWED {
                response.headers_mut().insert(header::ALLOW, HeaderValue::from_static("POST, GET, HEAD, OPTIONS"));
            }
            if let Some(after) = after {
                response.headers_mut().insert(header::RETRY_AFTER, HeaderValue::from(after));
            }
            response
        }
    }
}

/// Handles a call at the path of a capture: everything is stored and answered 200.
async fn into_capture(app: &App, path: &str, method: &Method, uri: &Uri, headers: &HeaderMap, body: Body) -> Response {
    let now = SystemClock.now();
    if app.captures.read(path, now, |_| ()).is_none() {
        return Problem::not_found("no webhook is at this address").into_response();
    }
    let (body, _share) = match read(&app.doors.room, headers, body, CAPTURE_LARGEST).await {
        Ok(read) => read,
        Err(Refusal { status, says, .. }) => return Problem::new(status, says).into_response(),
    };
    // The body took its time: the capture's may be over.
    match tapped::keep(app, path, format!("{method} {uri}"), shown(headers), &body).await {
        Ok(true) => {}
        Ok(false) => return Problem::not_found("the capture at this address is closed").into_response(),
        Err(error) => return Problem::from(error).into_response(),
    }
    (StatusCode::OK, Json(json!({ "says": "recorded in a capture" }))).into_response()
}

/// Returns the headers of a call as they are stored and shown. `…` replaces credentials, and values beyond the first
/// [`HEADER_BYTES`].
fn shown(headers: &HeaderMap) -> Map<String, Value> {
    let mut room = HEADER_BYTES;
    let mut all = Map::new();
    for name in headers.keys() {
        let values = headers.get_all(name).iter().map(|value| String::from_utf8_lossy(value.as_bytes()));
        let value = values.collect::<Vec<_>>().join(", ");
        let fits = room.checked_sub(name.as_str().len() + value.len());
        room = fits.unwrap_or(room);
        let hidden = is_credential(name.as_str()) || fits.is_none();
        all.insert(name.to_string(), if hidden { "…".into() } else { value.into() });
    }
    all
}

/// Returns whether a header of that lower-case name holds a credential. A signature is valid for one body only and is shown,
/// since the builder of an intake must see its form.
fn is_credential(name: &str) -> bool {
    const PARTS: [&str; 5] = ["api-key", "apikey", "token", "secret", "password"];
    ["authorization", "proxy-authorization", "cookie"].contains(&name) || PARTS.iter().any(|part| name.contains(part))
}

/// Why a call is refused; its sender still has it.
struct Refusal {
    status: StatusCode,
    says: String,
    /// Seconds after which it may be tried again.
    after: Option<u32>,
}

impl Refusal {
    fn new(status: StatusCode, says: impl Into<String>) -> Self {
        Self { status, says: says.into(), after: None }
    }

    fn later(status: StatusCode, says: impl Into<String>, after: u32) -> Self {
        Self { after: Some(after), ..Self::new(status, says) }
    }
}

async fn take(
    app: &App,
    client: &Client,
    connection: &Connection,
    webhook: &Webhook,
    method: &Method,
    headers: &HeaderMap,
    body: Body,
) -> Result<Response, Refusal> {
    let now = SystemClock.now();
    let checks = || {
        app.doors.checked(&connection.name, now);
        Ok((StatusCode::OK, Json(json!({ "says": "this address accepts POST only" }))).into_response())
    };
    if [Method::GET, Method::HEAD, Method::OPTIONS].contains(method) {
        return checks();
    }
    if method != Method::POST {
        let says = format!("this address accepts POST only, not {method}");
        return Err(Refusal::new(StatusCode::METHOD_NOT_ALLOWED, says));
    }
    if app.draining.load(Ordering::Relaxed) {
        return Err(Refusal::later(StatusCode::SERVICE_UNAVAILABLE, "the service is stopping; try again soon", 5));
    }
    match app.engine.closed(&[&connection.name]) {
        Some(Why::Held) => {
            return Err(Refusal::later(StatusCode::SERVICE_UNAVAILABLE, "a person put the connection on hold", 60));
        }
        Some(Why::Full { .. }) => {
            return Err(Refusal::later(StatusCode::SERVICE_UNAVAILABLE, "too many unfinished messages at present", 2));
        }
        None => {}
    }
    too_large(headers, webhook.max_body)?;
    if body.is_end_stream() {
        return checks();
    }
    let find = |name: &str| headers.get(name)?.to_str().ok();
    let forged = |forged: Forged| Refusal::new(StatusCode::UNAUTHORIZED, forged.to_string());
    if let Some(signature) = &webhook.signature {
        signature.check_headers(&find, now).map_err(forged)?;
    }
    let (body, _share) = read(&app.doors.room, headers, body, webhook.max_body).await?;
    if body.is_empty() {
        return checks();
    }
    if let Some(signature) = &webhook.signature {
        signature.check(&find, &body, &app.secrets.good(&signature.secret, now), now).map_err(forged)?;
        client.proved();
    }
    let _working = client.working();
    if !app.doors.admits(connection, webhook) {
        let most = webhook.per_second.unwrap_or_default();
        return Err(Refusal::later(StatusCode::TOO_MANY_REQUESTS, format!("more than {most} calls in a second"), 1));
    }
    let json = Place::look_into([&webhook.event, &webhook.delivery], &body);
    let value_of = |place: &Option<Place>| {
        place.as_ref().and_then(|place| place.find(&find, &Map::new(), json.as_deref())).unwrap_or_default()
    };
    let (event, delivery) = (key::stored(value_of(&webhook.event)), key::stored(value_of(&webhook.delivery)));
    let name = if event.is_empty() { format!("call {delivery}").trim_end().to_owned() } else { event.clone() };
    let properties = Map::from_iter([("headers".to_owned(), Value::Object(shown(headers)))]);
    let provenance =
        Provenance { connection: connection.name.clone(), name, event, delivery, properties, ..Provenance::default() };
    let call = Call { provenance, json: json.map(Document::Json), body: body.into() };
    // The commit may still succeed later. When the sender calls again, a delivery with an id is recognised as a duplicate;
    // without one it is processed again.
    let Ok(Ok(received)) = tokio::time::timeout(COMMIT, app.engine.receive(call)).await else {
        return Err(Refusal::later(StatusCode::SERVICE_UNAVAILABLE, "the database cannot be reached at present", 5));
    };
    let answer = match received {
        Received::Taken(TakenReport { arrival, verdict, says, .. }) => {
            json!({ "arrival": arrival.to_string(), "verdict": verdict.as_str(), "says": says })
        }
        Received::Spooled(arrival) => json!({ "arrival": arrival.to_string(), "verdict": "stored", "says": STORED }),
    };
    Ok((StatusCode::ACCEPTED, Json(answer)).into_response())
}

fn declared_size(headers: &HeaderMap) -> Option<u64> {
    headers.get(header::CONTENT_LENGTH)?.to_str().ok()?.parse().ok()
}

/// # Errors
/// Where a body is announced that has more bytes than `most`.
fn too_large(headers: &HeaderMap, most: u64) -> Result<(), Refusal> {
    let says = || Refusal::new(StatusCode::PAYLOAD_TOO_LARGE, format!("the body has more than {most} bytes"));
    if declared_size(headers).is_some_and(|size| size > most) { Err(says()) } else { Ok(()) }
}

/// The whole body with its share of the room, if it is small and fast enough.
async fn read(room: &Room, headers: &HeaderMap, body: Body, most: u64) -> Result<(Bytes, Share), Refusal> {
    too_large(headers, most)?;
    let mut share = room.share();
    let stop = share.stop();
    let coming = async {
        let mut body = http_body_util::Limited::new(body, usize::try_from(most).unwrap_or(usize::MAX));
        let mut parts: Vec<Bytes> = Vec::new();
        while let Some(frame) = body.frame().await {
            let frame = frame.map_err(|error| match error.is::<http_body_util::LengthLimitError>() {
                true => Refusal::new(StatusCode::PAYLOAD_TOO_LARGE, format!("the body has more than {most} bytes")),
                false => Refusal::new(StatusCode::BAD_REQUEST, format!("the body is incomplete: {error}")),
            })?;
            if let Ok(data) = frame.into_data() {
                share.grow(data.len() as u64).map_err(|NoRoom| no_room())?;
                parts.push(data);
            }
        }
        share.whole().map_err(|NoRoom| no_room())?;
        // Most bodies are received in one piece, which is used without copying.
        Ok(if parts.len() == 1 { parts.remove(0) } else { parts.concat().into() })
    };
    let slow = || Refusal::new(StatusCode::REQUEST_TIMEOUT, format!("the body was not complete within {} s", WAIT.as_secs()));
    let whole = tokio::select! {
        read = tokio::time::timeout(WAIT, coming) => read.map_err(|_| slow())??,
        () = stop.notified() => return Err(no_room()),
    };
    Ok((whole, share))
}

fn no_room() -> Refusal {
    Refusal::later(StatusCode::SERVICE_UNAVAILABLE, "too many calls at the same time; this one was the slowest", 1)
}

#[cfg(test)]
mod tests {
    use super::is_credential;

    #[test]
    fn what_lets_its_bearer_in_is_masked_and_what_names_or_signs_is_not() {
        for name in ["authorization", "cookie", "x-api-key", "x-shop-token", "x-webhook-secret"] {
            assert!(is_credential(name), "{name}");
        }
        for name in ["webhook-signature", "webhook-id", "idempotency-key", "content-type", "x-event"] {
            assert!(!is_credential(name), "{name}");
        }
    }
}
