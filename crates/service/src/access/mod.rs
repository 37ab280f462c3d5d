//! Access to the API: a token made at the first start, and only requests meant for this host.

pub mod session;

pub use session::{Link, Session, Sessions};

use crate::api::problem::Problem;
use crate::keep;
use crate::listen::Client;
use crate::run::App;
use axum::extract::{Request, State};
use axum::http::{HeaderMap, StatusCode, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use serde::{Deserialize, Serialize};
use std::io;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use wirewatch_engine::{Clock, SystemClock};

/// Name of the token file in the state folder.
pub const TOKEN_FILE: &str = "token.json";

/// A token with the name of its holder.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Token {
    pub name: String,
    pub token: String,
    /// Address at which the service was last reached with it.
    #[serde(default)]
    pub address: String,
}

/// The person who makes a request.
#[derive(Debug, Clone)]
pub struct Person(pub String);

impl Token {
    /// Reads the token file, or creates it at the first start, readable by its owner only.
    ///
    /// # Errors
    /// The system's; `InvalidData` for a file that is not a token file.
    pub fn read_or_make(folder: &Path, address: &str) -> io::Result<Self> {
        let path = folder.join(TOKEN_FILE);
        let mut token = match Self::read(&path) {
            Ok(token) => token,
            Err(error) if error.kind() == io::ErrorKind::NotFound => {
                let name = std::env::var("USER").ok().filter(|name| !name.is_empty()).unwrap_or_else(|| "owner".to_owned());
                Self { name, token: random()?, address: String::new() }
            }
            Err(error) => return Err(error),
        };
        token.address = format!("http://{address}");
        keep::write(&path, &serde_json::to_vec_pretty(&token)?)?;
        Ok(token)
    }

    /// Reads a token file.
    ///
    /// # Errors
    /// The system's; `InvalidData` for a file that is not a token file.
    pub fn read(path: &Path) -> io::Result<Self> {
        serde_json::from_slice(&std::fs::read(path)?).map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error))
    }
}

/// 256 bits from the system, in hex.
fn random() -> io::Result<String> {
    Ok(hex::encode(keep::random::<32>()?))
}

/// Accepts a request that carries the token or a session and was meant for this host.
pub async fn check(State(app): State<Arc<App>>, request: Request, next: Next) -> Result<Response, Problem> {
    let headers = request.headers();
    if !host_is_ours(headers, &app.hosts) {
        return Err(Problem::new(StatusCode::MISDIRECTED_REQUEST, "this host name is not served here")
            .detail("Use the address at which the service listens, or start the service with --host NAME."));
    }
    if !origin_is_ours(headers) {
        return Err(Problem::new(StatusCode::FORBIDDEN, "pages of other sites may not use this service"));
    }
    if let Some((person, session)) = app.sessions.person(headers, SystemClock.now()) {
        // A browser sends `Origin` with every request that changes something; a session request without it is not from a browser.
        if request.method().is_safe() || headers.contains_key(header::ORIGIN) {
            return Ok(accept(&app, person, session, request, next).await);
        }
    }
    let given =
        headers.get(header::AUTHORIZATION).and_then(|value| value.to_str().ok()).and_then(|value| value.strip_prefix("Bearer "));
    let right = given.is_some_and(|given| same(given.as_bytes(), app.token.token.as_bytes()));
    if !right {
        return Err(Problem::new(StatusCode::UNAUTHORIZED, "a valid token is needed").detail(
            "Send `Authorization: Bearer …` with the token from token.json in the service's state folder; a browser \
                 signs in with the link that `wirewatch console` prints.",
        ));
    }
    Ok(accept(&app, Person(app.token.name.clone()), Session(None), request, next).await)
}

async fn accept(app: &App, person: Person, session: Session, mut request: Request, next: Next) -> Response {
    if app.draining.load(Ordering::Relaxed) && !request.method().is_safe() {
        let problem = Problem::new(StatusCode::SERVICE_UNAVAILABLE, "the service is stopping; nothing was done, try again soon");
        return ([(header::RETRY_AFTER, "5")], problem).into_response();
    }
    let client = request.extensions().get::<Client>().cloned().unwrap_or_default();
    client.proved();
    let _working = client.working();
    request.extensions_mut().insert(person);
    request.extensions_mut().insert(session);
    next.run(request).await
}

/// Returns whether the `Host` header names this service. A page on another site can make a browser send requests here under a
/// name of its own (DNS rebinding).
fn host_is_ours(headers: &HeaderMap, hosts: &[String]) -> bool {
    let Some(host) = headers.get(header::HOST).and_then(|value| value.to_str().ok()) else { return false };
    let name =
        host.rsplit_once(':').filter(|(_, port)| port.bytes().all(|byte| byte.is_ascii_digit())).map_or(host, |(name, _)| name);
    ["localhost", "127.0.0.1", "[::1]"].contains(&name) || hosts.iter().any(|known| known == name)
}

fn origin_is_ours(headers: &HeaderMap) -> bool {
    let Some(origin) = headers.get(header::ORIGIN) else { return true };
    let host = headers.get(header::HOST).and_then(|value| value.to_str().ok()).unwrap_or_default();
    origin.to_str().is_ok_and(|origin| origin.split_once("://").is_some_and(|(_, name)| name == host))
}

/// Compares two byte strings in constant time.
fn same(a: &[u8], b: &[u8]) -> bool {
    blake3::hash(a) == blake3::hash(b)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn headers(host: &str, origin: Option<&str>) -> HeaderMap {
        let mut headers = HeaderMap::new();
        headers.insert(header::HOST, host.parse().unwrap());
        if let Some(origin) = origin {
            headers.insert(header::ORIGIN, origin.parse().unwrap());
        }
        headers
    }

    #[test]
    fn only_our_own_host_and_origin_pass() {
        assert!(host_is_ours(&headers("127.0.0.1:7800", None), &[]));
        assert!(host_is_ours(&headers("[::1]:7800", None), &[]));
        assert!(!host_is_ours(&headers("evil.example:7800", None), &[]));
        assert!(host_is_ours(&headers("edge.example", None), &["edge.example".to_owned()]));
        assert!(origin_is_ours(&headers("127.0.0.1:7800", Some("http://127.0.0.1:7800"))));
        assert!(!origin_is_ours(&headers("127.0.0.1:7800", Some("http://evil.example"))));
        assert!(!origin_is_ours(&headers("127.0.0.1:7800", Some("null"))));
    }
}
