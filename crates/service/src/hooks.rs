//! Calls of webhooks: believed, taken into custody, and only then answered.
//!
//! | call | answer |
//! |---|---|
//! | taken, kept while there are too many at a time, or a repeat | 202 with the arrival |
//! | `GET`, `HEAD`, or without a body: somebody checks the address | 200; nothing is taken |
//! | no such address | 404 |
//! | signature missing, old or wrong | 401 |
//! | larger than the connection allows | 413 |
//! | its body slower than ten seconds | 408 |
//! | its headers slower than ten seconds | none: the connection is ended |
//! | more in a second than the connection allows | 429 |
//! | held by a person, no room, work enough, database away | 503 with `Retry-After`: the sender keeps it |
//! | at the address of a tray | 200 once it is in the tray; 404 when the tray is closed by then |

mod doors;

pub use doors::Doors;

use crate::api::problem::Problem;
use crate::run::App;
use axum::Json;
use axum::body::{Body, Bytes};
use axum::extract::{Path, State};
use axum::http::{HeaderMap, HeaderValue, Method, StatusCode, Uri, header};
use axum::response::{IntoResponse, Response};
use serde_json::{Map, Value, json};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;
use wirewatch_core::Document;
use wirewatch_core::connection::Connection;
use wirewatch_core::intake::Came;
use wirewatch_core::key;
use wirewatch_core::place::Place;
use wirewatch_core::webhook::Webhook;
use wirewatch_engine::{Call, Clock, Received, SystemClock, TakenReport, Why};

/// What the addresses of webhooks begin with.
pub const PREFIX: &str = "/in/";
/// Largest body that a tray keeps, in bytes.
const TRAY_LARGEST: u64 = 1 << 20;
/// What a call is told that is in custody and not looked at yet.
const KEPT: &str = "kept: many calls come at a time, and this one is worked on as soon as fewer do";
/// How long a whole call may take to come.
const WAIT: Duration = Duration::from_secs(10);
/// How long its sender waits for the commit, at most: then the database is away, or as good as.
const COMMIT: Duration = Duration::from_secs(5);

/// A call at an address of ours.
pub async fn receive(
    State(app): State<Arc<App>>,
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
        return into_tray(&app, &path, &method, &uri, &headers, body).await;
    };
    match take(&app, connection, webhook, &method, &headers, body).await {
        Ok(answer) => answer,
        Err(Refusal { status, says, after }) => {
            app.doors.turned_away(&connection.name, &says, SystemClock.now());
            // A forger need not learn what would have been right: the console tells its own people.
            let title = if status == StatusCode::UNAUTHORIZED { "the call is not signed as agreed".to_owned() } else { says };
            let mut response = Problem::new(status, title).into_response();
            if let Some(after) = after {
                response.headers_mut().insert(header::RETRY_AFTER, HeaderValue::from(after));
            }
            response
        }
    }
}

/// A call at the address of a tray: whatever it is, it is kept and answered 200.
async fn into_tray(app: &App, path: &str, method: &Method, uri: &Uri, headers: &HeaderMap, body: Body) -> Response {
    let now = SystemClock.now();
    if app.trays.read(path, now, |_| ()).is_none() {
        return Problem::not_found("no webhook is at this address").into_response();
    }
    let Some(_room) = app.doors.room(size_told(headers).unwrap_or(TRAY_LARGEST).min(TRAY_LARGEST)) else {
        return Problem::new(StatusCode::SERVICE_UNAVAILABLE, "too many calls at a time").into_response();
    };
    let body = match read(headers, body, TRAY_LARGEST).await {
        Ok(body) => body,
        Err(Refusal { status, says, .. }) => return Problem::new(status, says).into_response(),
    };
    let told = headers.iter().map(|(name, value)| {
        let value =
            if is_credential(name.as_str()) { "…".to_owned() } else { String::from_utf8_lossy(value.as_bytes()).into_owned() };
        (name.to_string(), Value::from(value))
    });
    // The body took its time: the tray's may be over.
    if !app.trays.catch(path, format!("{method} {uri}"), told.collect(), &body, SystemClock.now()) {
        return Problem::not_found("the tray at this address is closed").into_response();
    }
    (StatusCode::OK, Json(json!({ "says": "kept in a tray, to be looked at" }))).into_response()
}

/// Whether a header of that name, in lower case, lets its bearer in: that is not for every eye. What a signature says of
/// one body alone is shown, since whoever builds the intake must see its form.
fn is_credential(name: &str) -> bool {
    const PARTS: [&str; 5] = ["api-key", "apikey", "token", "secret", "password"];
    ["authorization", "proxy-authorization", "cookie"].contains(&name) || PARTS.iter().any(|part| name.contains(part))
}

/// Why a call is not taken: its sender still has it.
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
    connection: &Connection,
    webhook: &Webhook,
    method: &Method,
    headers: &HeaderMap,
    body: Body,
) -> Result<Response, Refusal> {
    let now = SystemClock.now();
    let checks = || {
        app.doors.checked(&connection.name, now);
        Ok((StatusCode::OK, Json(json!({ "says": "this address takes calls by POST" }))).into_response())
    };
    if [Method::GET, Method::HEAD, Method::OPTIONS].contains(method) {
        return checks();
    }
    if app.draining.load(Ordering::Relaxed) {
        return Err(Refusal::later(StatusCode::SERVICE_UNAVAILABLE, "the service is about to end; call again shortly", 5));
    }
    match app.engine.closed(&[&connection.name]) {
        Some(Why::Held) => {
            return Err(Refusal::later(StatusCode::SERVICE_UNAVAILABLE, "the connection is held by a person", 60));
        }
        Some(Why::Full { .. }) => {
            return Err(Refusal::later(StatusCode::SERVICE_UNAVAILABLE, "there is more work than room at present", 2));
        }
        None => {}
    }
    if !app.doors.admits(connection, webhook) {
        let most = webhook.per_second.unwrap_or_default();
        return Err(Refusal::later(StatusCode::TOO_MANY_REQUESTS, format!("more than {most} calls in a second"), 1));
    }
    let room = app.doors.room(size_told(headers).unwrap_or(webhook.largest).min(webhook.largest));
    let Some(_room) = room else {
        return Err(Refusal::later(StatusCode::SERVICE_UNAVAILABLE, "too many calls at a time", 1));
    };
    let body = read(headers, body, webhook.largest).await?;
    if body.is_empty() {
        return checks();
    }
    let find = |name: &str| headers.get(name)?.to_str().ok();
    if let Some(signature) = &webhook.signature {
        let secrets = app.secrets.good(&signature.secret, now);
        let believed = signature.check(&find, &body, &secrets, now);
        believed.map_err(|forged| Refusal::new(StatusCode::UNAUTHORIZED, forged.to_string()))?;
    }
    let json = Place::look_into([&webhook.event, &webhook.delivery], &body);
    let said = |place: &Option<Place>| {
        place.as_ref().and_then(|place| place.find(&find, &Map::new(), json.as_deref())).unwrap_or_default()
    };
    let (event, delivery) = (key::kept(said(&webhook.event)), key::kept(said(&webhook.delivery)));
    let name = if event.is_empty() { format!("call {delivery}").trim_end().to_owned() } else { event.clone() };
    let came = Came { connection: connection.name.clone(), name, event, delivery, ..Came::default() };
    let call = Call { came, json: json.map(Document::Json), body: body.into() };
    // A commit may come late all the same: told again, a delivery with an id is recognised; without one it is another fact.
    let Ok(Ok(received)) = tokio::time::timeout(COMMIT, app.engine.receive(call)).await else {
        return Err(Refusal::later(StatusCode::SERVICE_UNAVAILABLE, "the database cannot be reached at present", 5));
    };
    let answer = match received {
        Received::Taken(TakenReport { arrival, verdict, says, .. }) => {
            json!({ "arrival": arrival.to_string(), "verdict": verdict.as_str(), "says": says })
        }
        Received::Kept(arrival) => json!({ "arrival": arrival.to_string(), "verdict": "kept", "says": KEPT }),
    };
    Ok((StatusCode::ACCEPTED, Json(answer)).into_response())
}

fn size_told(headers: &HeaderMap) -> Option<u64> {
    headers.get(header::CONTENT_LENGTH)?.to_str().ok()?.parse().ok()
}

/// The whole body, if it is small and fast enough.
async fn read(headers: &HeaderMap, body: Body, largest: u64) -> Result<Bytes, Refusal> {
    let too_large = || Refusal::new(StatusCode::PAYLOAD_TOO_LARGE, format!("the body has more than {largest} bytes"));
    if size_told(headers).is_some_and(|size| size > largest) {
        return Err(too_large());
    }
    match tokio::time::timeout(WAIT, axum::body::to_bytes(body, largest as usize)).await {
        Ok(Ok(bytes)) => Ok(bytes),
        Ok(Err(error))
            if std::error::Error::source(&error).is_some_and(|cause| cause.is::<http_body_util::LengthLimitError>()) =>
        {
            Err(too_large())
        }
        Ok(Err(error)) => Err(Refusal::new(StatusCode::BAD_REQUEST, format!("the body broke off: {error}"))),
        Err(_) => Err(Refusal::new(StatusCode::REQUEST_TIMEOUT, format!("the body did not come within {} s", WAIT.as_secs()))),
    }
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
