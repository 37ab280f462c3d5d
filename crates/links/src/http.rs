//! Calls over HTTP, and what each answer means.
//!
//! | answer | outcome |
//! |---|---|
//! | 2xx | done |
//! | 408, 425, 429, 5xx but 503 | again, after `Retry-After` where given |
//! | 401, 403, 503 | the connection is held |
//! | other 3xx, 4xx | refused |
//! | name, connection refused, time-out | the connection is held; in doubt where a repeat is not safe and the request may have arrived |
//! | connection lost in the middle of an answer | again; in doubt where a repeat is not safe |

use reqwest::header::{CONTENT_TYPE, HeaderMap, RETRY_AFTER};
use std::time::Duration;
use wirewatch_core::Digest;
use wirewatch_core::connection::RepeatRule;
use wirewatch_core::flow::Method;
use wirewatch_core::machine::{Body, Outcome};

/// Largest answer that is kept, in bytes.
const ANSWER: usize = 1 << 20;
/// Longest pause that an answer may ask for.
const PAUSE: u64 = 3_600_000;

/// One request.
#[derive(Debug)]
pub struct Request<'a> {
    pub address: &'a str,
    pub wait: Duration,
    pub method: Method,
    pub path: &'a str,
    pub body: Option<&'a Body>,
    /// Sent as `Idempotency-Key`.
    pub key: Digest,
}

/// The client: no redirects, since an answer must come from whom the connection names; connections are kept.
#[must_use]
pub fn client() -> reqwest::Client {
    reqwest::Client::builder()
        .redirect(reqwest::redirect::Policy::none())
        .no_proxy()
        .pool_max_idle_per_host(64)
        .user_agent(concat!("wirewatch/", env!("CARGO_PKG_VERSION")))
        .build()
        .expect("a client without files or certificates always builds")
}

/// Sends the request and tells what came of it.
pub async fn call(client: &reqwest::Client, request: &Request<'_>, rule: RepeatRule) -> Outcome {
    let method = reqwest::Method::from_bytes(request.method.as_str().as_bytes()).expect("a method of ours is a method");
    let mut builder = client
        .request(method, format!("{}{}", request.address, request.path))
        .timeout(request.wait)
        .header("Idempotency-Key", request.key.to_string());
    if let Some(body) = request.body {
        builder = builder.header(CONTENT_TYPE, "application/json").body(body.0.clone());
    }
    let mut response = match builder.send().await {
        Ok(response) => response,
        Err(error) => return lost(&error, rule, request.wait),
    };
    let status = response.status().as_u16();
    let after_ms = retry_after(response.headers());
    let mut body = Vec::new();
    loop {
        match response.chunk().await {
            Ok(Some(more)) => {
                let room = ANSWER - body.len();
                body.extend_from_slice(&more[..more.len().min(room)]);
                if more.len() > room {
                    break;
                }
            }
            Ok(None) => break,
            Err(error) if (200..300).contains(&status) => return lost(&error, rule, request.wait),
            Err(_) => break,
        }
    }
    meaning(status, Body(body), after_ms)
}

fn meaning(status: u16, body: Body, after_ms: Option<u64>) -> Outcome {
    let says = || {
        let words = first_words(&body);
        if words.is_empty() { format!("answered {status}") } else { format!("answered {status}: {words}") }
    };
    match status {
        200..=299 => Outcome::Answer { status, body },
        401 | 403 => Outcome::Held { says: format!("{}; check the connection's credentials", says()), status },
        503 => Outcome::Held { says: says(), status },
        408 | 425 | 429 | 500..=599 => Outcome::Again { says: says(), status, body, after_ms },
        _ => Outcome::Refused { says: says(), status, body },
    }
}

/// What the answer says, for a person: a field that usually holds a sentence, or the start of the text.
fn first_words(body: &Body) -> String {
    let text = body.text();
    let value: serde_json::Value = serde_json::from_str(&text).unwrap_or_default();
    let field = ["detail", "problem", "message", "error", "title"].iter().find_map(|name| value.get(name)?.as_str());
    let words = field.unwrap_or(if value.is_null() { text.trim() } else { "" });
    words.lines().next().unwrap_or_default().chars().take(200).collect()
}

/// No whole answer came.
fn lost(error: &reqwest::Error, rule: RepeatRule, wait: Duration) -> Outcome {
    let cause = deepest(error);
    if error.is_connect() {
        return Outcome::Held { says: format!("cannot connect: {cause}"), status: 0 };
    }
    let says = if error.is_timeout() {
        format!("no answer within {} s", wait.as_secs_f64())
    } else {
        format!("the connection was lost: {cause}")
    };
    match rule {
        RepeatRule::Never => Outcome::InDoubt { says: format!("{says}; the request may have been carried out") },
        RepeatRule::Key | RepeatRule::Safe if error.is_timeout() => Outcome::Held { says, status: 0 },
        RepeatRule::Key | RepeatRule::Safe => Outcome::Again { says, status: 0, body: Body::default(), after_ms: None },
    }
}

fn deepest(error: &dyn std::error::Error) -> String {
    let mut cause = error;
    while let Some(next) = cause.source() {
        cause = next;
    }
    cause.to_string()
}

/// `Retry-After` in milliseconds; only the form in seconds (RFC 9110, 10.2.3), since dates need a clock both sides agree on.
fn retry_after(headers: &HeaderMap) -> Option<u64> {
    let seconds: u64 = headers.get(RETRY_AFTER)?.to_str().ok()?.trim().parse().ok()?;
    Some(seconds.saturating_mul(1000).min(PAUSE))
}

/// Reaches the server; any answer will do.
///
/// # Errors
/// A sentence with what to do.
pub async fn test(client: &reqwest::Client, address: &str, wait: Duration) -> Result<String, String> {
    match client.get(address).timeout(wait).send().await {
        Ok(response) => Ok(format!("it answers ({})", response.status().as_u16())),
        Err(error) if error.is_connect() => {
            Err(format!("cannot connect to {address}: {}; check host, port and whether it runs", deepest(&error)))
        }
        Err(error) if error.is_timeout() => {
            Err(format!("{address} took the connection but did not answer within {} s", wait.as_secs_f64()))
        }
        Err(error) => Err(format!("{address}: {}", deepest(&error))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_status_has_its_meaning() {
        let kind = |status: u16| match meaning(status, "{\"detail\":\"no\"}".into(), Some(7)) {
            Outcome::Answer { .. } => "done",
            Outcome::Again { .. } => "again",
            Outcome::Refused { .. } => "refused",
            Outcome::Held { .. } => "held",
            Outcome::InDoubt { .. } => "in doubt",
        };
        let of = |statuses: &[u16]| statuses.iter().map(|status| kind(*status)).collect::<Vec<_>>();
        assert_eq!(of(&[200, 201, 204]), ["done"; 3]);
        assert_eq!(of(&[408, 429, 500, 502, 504]), ["again"; 5]);
        assert_eq!(of(&[401, 403, 503]), ["held"; 3]);
        assert_eq!(of(&[301, 400, 404, 409, 410, 422]), ["refused"; 6]);
    }

    #[test]
    fn a_person_reads_the_sentence_of_the_answer() {
        assert_eq!(first_words(&r#"{"detail":"unknown item","n":1}"#.into()), "unknown item");
        assert_eq!(first_words(&"plain words\nmore".into()), "plain words");
        assert_eq!(first_words(&r#"{"n":1}"#.into()), "");
    }
}
