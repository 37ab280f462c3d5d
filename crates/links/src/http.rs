//! Calls over HTTP. [`meaning`] decides what an answer means; this module decides what a missing answer means.
//!
//! | no answer | outcome |
//! |---|---|
//! | name not known, connection refused, TLS | the connection is put on hold |
//! | no answer in time, or lost in the middle of it | again; in doubt where a repeat is not safe |
//!
//! A time-out may concern one message alone: only several in a row hold the connection, which the engine sees.

use crate::tls;
use reqwest::RequestBuilder;
use reqwest::header::{CONTENT_TYPE, HeaderMap, RETRY_AFTER};
use std::time::Duration;
use wirewatch_core::Digest;
use wirewatch_core::connection::{AuthMethod, RepeatRule};
use wirewatch_core::flow::Method;
use wirewatch_core::machine::{Body, Outcome, meaning};

/// Longest time for opening a connection.
const CONNECT: Duration = Duration::from_secs(10);
/// Most bytes of an answer that are read.
const ANSWER: usize = 1 << 20;
/// Longest `Retry-After` that is followed, in milliseconds.
const PAUSE: u64 = 3_600_000;

/// A request.
#[derive(Debug)]
pub struct Request<'a> {
    pub address: &'a str,
    pub timeout: Duration,
    pub method: Method,
    pub path: &'a str,
    pub body: Option<&'a Body>,
    /// Sent as `Idempotency-Key`.
    pub key: Digest,
    pub credentials: Option<Credentials>,
}

/// Credentials of a request, with the secret itself; never recorded or logged.
#[derive(Clone)]
pub struct Credentials {
    pub with: AuthMethod,
    pub secret: String,
}

impl std::fmt::Debug for Credentials {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Credentials").field("with", &self.with).finish_non_exhaustive()
    }
}

fn signed_in(request: RequestBuilder, credentials: Option<&Credentials>) -> RequestBuilder {
    let Some(Credentials { with, secret }) = credentials else { return request };
    match with {
        AuthMethod::Bearer => request.bearer_auth(secret),
        AuthMethod::Basic { user } => request.basic_auth(user, Some(secret)),
        AuthMethod::Header { name } => request.header(name, secret),
        AuthMethod::Query { name } => request.query(&[(name, secret)]),
        // The access token.
        AuthMethod::ClientCredentials(_) => request.bearer_auth(secret),
        // Used at brokers only, which the workspace check ensures.
        AuthMethod::Plain { .. } => request,
    }
}

/// TLS and proxy settings of a server.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Means<'a> {
    /// PEM.
    pub authority: Option<&'a str>,
    /// Client certificate and its key, PEM.
    pub certificate: Option<&'a str>,
    pub proxy: Option<&'a str>,
}

/// Creates a client without redirects, since an answer must come from the server that the connection names; connections are
/// reused.
///
/// # Errors
/// A sentence when a certificate or the proxy's address cannot be used.
pub fn client(means: Means<'_>) -> Result<reqwest::Client, String> {
    let mut builder = reqwest::Client::builder()
        .redirect(reqwest::redirect::Policy::none())
        .no_proxy()
        .pool_max_idle_per_host(64)
        .connect_timeout(CONNECT)
        .user_agent(concat!("wirewatch/", env!("CARGO_PKG_VERSION")))
        .tls_backend_preconfigured(tls::config(means.authority, means.certificate)?);
    if let Some(proxy) = means.proxy {
        builder = builder.proxy(reqwest::Proxy::all(proxy).map_err(|error| format!("the proxy: {error}"))?);
    }
    builder.build().map_err(|error| deepest(&error))
}

/// Sends the request and returns its outcome.
pub async fn call(client: &reqwest::Client, request: &Request<'_>, rule: RepeatRule) -> Outcome {
    let url = match below(request.address, request.path) {
        Ok(url) => url,
        Err(says) => return Outcome::Refused { says, status: 0, body: Body::default() },
    };
    let method = reqwest::Method::from_bytes(request.method.as_str().as_bytes()).expect("a method of ours is a method");
    let mut builder = client.request(method, url).timeout(request.timeout).header("Idempotency-Key", request.key.to_string());
    if let Some(body) = request.body {
        builder = builder.header(CONTENT_TYPE, body.content_type()).body(body.0.clone());
    }
    let mut response = match signed_in(builder, request.credentials.as_ref()).send().await {
        Ok(response) => response,
        Err(error) => return lost(&error.without_url(), rule, request.timeout),
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
            Err(error) if (200..300).contains(&status) => return lost(&error.without_url(), rule, request.timeout),
            Err(_) => break,
        }
    }
    meaning(status, Body(body), after_ms)
}

/// The address of a path, which stays below the address of its connection: at the same host, with the same credentials.
fn below(address: &str, path: &str) -> Result<reqwest::Url, String> {
    let parsed = |text: &str| reqwest::Url::parse(text).map_err(|error| format!("{text} is not a web address: {error}"));
    let (base, url) = (parsed(address)?, parsed(&format!("{address}{path}"))?);
    let place = |url: &reqwest::Url| (url.scheme().to_owned(), url.host_str().map(str::to_owned), url.port_or_known_default());
    let signed = |url: &reqwest::Url| (url.username().to_owned(), url.password().map(str::to_owned));
    let inside = url.path().starts_with(base.path().trim_end_matches('/'));
    match place(&base) == place(&url) && signed(&base) == signed(&url) && inside {
        true => Ok(url),
        false => Err(format!("the path {path} leaves {address}; nothing was sent")),
    }
}

/// Calls an address once, as a sender of webhooks does.
///
/// # Errors
/// A sentence when no client can be created.
pub async fn tell(address: &str, headers: &[(String, String)], body: &[u8]) -> Result<Outcome, String> {
    let mut request = client(Means::default())?.post(address).header(CONTENT_TYPE, "application/json").body(body.to_vec());
    for (name, value) in headers {
        request = request.header(name, value);
    }
    Ok(match request.timeout(CONNECT).send().await {
        Err(error) => lost(&error.without_url(), RepeatRule::Never, CONNECT),
        Ok(response) => {
            let (status, after_ms) = (response.status().as_u16(), retry_after(response.headers()));
            meaning(status, Body(response.bytes().await.map(|bytes| bytes.to_vec()).unwrap_or_default()), after_ms)
        }
    })
}

/// Returns the outcome when no complete answer was received.
fn lost(error: &reqwest::Error, rule: RepeatRule, timeout: Duration) -> Outcome {
    let cause = deepest(error);
    if error.is_connect() {
        let cause = tls::trouble(&cause).unwrap_or(cause);
        return Outcome::Held { says: format!("cannot connect: {cause}"), status: 0 };
    }
    let says = if error.is_timeout() {
        format!("no answer within {} s", timeout.as_secs_f64())
    } else {
        format!("the connection was lost: {cause}")
    };
    match rule {
        RepeatRule::Never => Outcome::InDoubt { says: format!("{says}; the request may have taken effect") },
        RepeatRule::Key | RepeatRule::Safe => Outcome::Again { says, status: 0, body: Body::default(), after_ms: None },
    }
}

pub(crate) fn deepest(error: &dyn std::error::Error) -> String {
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

/// Connects to the server as a call would, without changing anything there. `probe` is a path that should exist.
///
/// # Errors
/// A sentence that distinguishes name, network, credentials and path, with what to do.
pub async fn test(
    client: &reqwest::Client,
    address: &str,
    probe: Option<&str>,
    timeout: Duration,
    credentials: Option<&Credentials>,
) -> Result<String, String> {
    let url = format!("{address}{}", probe.unwrap_or_default());
    let response = signed_in(client.get(&url), credentials).timeout(timeout).send().await;
    let status = match response {
        Ok(response) => response.status().as_u16(),
        Err(error) => return Err(unreached(&error.without_url(), address, timeout)),
    };
    // Only what is answered with success proves that we are let in.
    let known = if credentials.is_some() && (200..300).contains(&status) { " and accepts our credentials" } else { "" };
    match (status, probe) {
        (401, Some(_) | None) if credentials.is_some() => {
            Err("it answers 401: it rejects our credentials. The secret is wrong or has expired".to_owned())
        }
        (401, _) => Err("it answers 401: it needs credentials; write auth = { … } in the connection".to_owned()),
        (403, _) => Err("it answers 403: our credentials have no permission; have it granted there".to_owned()),
        (404, Some(path)) => Err(format!("it answers 404: nothing is at {path}. Check the path in `address`, and `probe`")),
        (404, None) => {
            Ok("it answers (404), so path and credentials are not proven: set `probe` to a path that exists".to_owned())
        }
        (500.., _) => Err(format!("it answers {status}: it can be reached, but has an error of its own")),
        (_, _) => Ok(format!("it answers ({status}){known}")),
    }
}

/// Why nobody answered, and what to do about it.
fn unreached(error: &reqwest::Error, address: &str, timeout: Duration) -> String {
    if error.is_timeout() {
        return format!("{address} accepted the connection but did not answer within {} s", timeout.as_secs_f64());
    }
    let cause = deepest(error);
    if let Some(says) = tls::trouble(&cause) {
        return format!("{address}: {says}");
    }
    if error.is_connect() {
        let mut causes = std::iter::successors(std::error::Error::source(error), |cause| cause.source());
        return match causes.find_map(|cause| cause.downcast_ref::<std::io::Error>()).map(std::io::Error::kind) {
            Some(std::io::ErrorKind::ConnectionRefused) => {
                format!("connection refused by {address}: check the port, and whether the system runs")
            }
            // The system's resolver reports an unknown name only in words.
            _ if cause.contains("lookup address") || cause.contains("dns") => {
                format!("the host name in {address} cannot be resolved: check its spelling and the DNS server ({cause})")
            }
            _ => format!("cannot connect to {address}: {cause}; check host, port and network"),
        };
    }
    format!("{address}: {cause}")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_path_leads_out_of_the_address() {
        let url = |address: &str, path: &str| below(address, path).map(|url| url.to_string());
        assert_eq!(url("https://erp.example/api", "/orders/1").unwrap(), "https://erp.example/api/orders/1");
        assert_eq!(url("https://erp.example", "").unwrap(), "https://erp.example/");
        for (address, path) in [
            ("https://erp.example", ".elsewhere.example/x"),
            ("https://erp.example", "@elsewhere.example/x"),
            ("https://erp.example", ":8443/x"),
            ("https://erp.example/api", "/../users"),
            ("https://erp.example/api", "/%2e%2E/users"),
            ("https://erp.example/api", "\\..\\users"),
        ] {
            assert!(url(address, path).unwrap_err().contains(" leaves "), "{address}{path}");
        }
    }
}
