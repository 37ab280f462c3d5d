//! Browser sessions: a link that works once becomes a cookie.
//!
//! The holder of the token requests a link (`POST /api/links`); opening it (`/enter`) sets a cookie signed with a key made from
//! the token. So sessions survive restarts, and a new token ends them all. Sessions that were signed out before their end are
//! stored in `signed-out.json` of the state folder.

use super::Person;
use crate::api::problem::Problem;
use crate::keep;
use crate::run::App;
use axum::extract::{Query, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use axum::{Extension, Json};
use axum_extra::extract::cookie::{Cookie, Key, SameSite, SignedCookieJar};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::sync::watch;
use utoipa::ToSchema;
use wirewatch_core::Timestamp;
use wirewatch_engine::{Clock, SystemClock};

/// Lifetime of a link that was not opened.
const LINK: Duration = Duration::from_secs(600);
/// Lifetime of a session.
const SESSION: Duration = Duration::from_secs(30 * 24 * 3600);

/// Name of the file of sessions that were signed out, in the state folder.
const SIGNED_OUT_FILE: &str = "signed-out.json";

/// Links that were not opened yet, the key that signs cookies, and the sessions that were signed out.
pub struct Sessions {
    key: Key,
    cookie: String,
    links: Mutex<HashMap<String, (String, Timestamp)>>,
    file: PathBuf,
    /// For each session id, until when its cookie would be valid, in microseconds.
    signed_out: watch::Sender<BTreeMap<String, i64>>,
}

/// The browser session that a request belongs to: the id in its cookie. `None` for a request with the token.
#[derive(Debug, Clone)]
pub struct Session(pub Option<String>);

impl std::fmt::Debug for Sessions {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Sessions").finish_non_exhaustive()
    }
}

impl Sessions {
    /// Sessions of the service that listens at `port`, since cookies of one host are shared by its ports.
    ///
    /// # Errors
    /// The system's, where the file of signed-out sessions in the `state` folder cannot be read; `InvalidData` where it is not
    /// one.
    pub fn open_in(state: &Path, token: &str, port: u16) -> io::Result<Self> {
        let half = |n: u8| *blake3::keyed_hash(blake3::hash(token.as_bytes()).as_bytes(), &[n]).as_bytes();
        let key = Key::from(&[half(1), half(2)].concat());
        let file = state.join(SIGNED_OUT_FILE);
        let signed_out = match std::fs::read(&file) {
            Ok(bytes) => serde_json::from_slice(&bytes).map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error))?,
            Err(error) if error.kind() == io::ErrorKind::NotFound => BTreeMap::new(),
            Err(error) => return Err(error),
        };
        let (signed_out, _) = watch::channel(signed_out);
        Ok(Self { key, cookie: format!("wirewatch-{port}"), links: Mutex::default(), file, signed_out })
    }

    fn link(&self, name: &str, key: String, now: Timestamp) {
        let mut links = self.links.lock().expect("no holder panics");
        links.retain(|_, (_, until)| *until > now);
        links.insert(key, (name.to_owned(), now.after(LINK)));
    }

    /// Returns the name behind a link, once.
    fn open(&self, key: &str, now: Timestamp) -> Option<String> {
        let (name, until) = self.links.lock().expect("no holder panics").remove(key)?;
        (until > now).then_some(name)
    }

    /// Returns the person and the session of a request's cookie.
    pub fn person(&self, headers: &HeaderMap, now: Timestamp) -> Option<(Person, Session)> {
        let (until, id, name) = self.read(headers)?;
        let good = until > now.0 && !self.signed_out.borrow().contains_key(&id);
        good.then_some((Person(name), Session(Some(id))))
    }

    /// Returns until when the cookie of a request is valid, the id of its session, and the person.
    fn read(&self, headers: &HeaderMap) -> Option<(i64, String, String)> {
        let jar = SignedCookieJar::from_headers(headers, self.key.clone());
        let cookie = jar.get(&self.cookie)?;
        let mut parts = cookie.value().splitn(3, ' ');
        Some((parts.next()?.parse().ok()?, parts.next()?.to_owned(), parts.next()?.to_owned()))
    }

    /// Creates the cookie of a session. `secure` restricts it to connections under TLS.
    fn jar(&self, name: &str, id: &str, secure: bool, now: Timestamp) -> SignedCookieJar {
        let cookie = Cookie::build((self.cookie.clone(), format!("{} {id} {name}", now.after(SESSION).0)))
            .path("/")
            .http_only(true)
            .secure(secure)
            .same_site(SameSite::Strict)
            .max_age(SESSION.try_into().unwrap_or_default());
        SignedCookieJar::new(self.key.clone()).add(cookie)
    }

    /// Ends the session of a request: its cookie is invalid from now on, in every copy.
    ///
    /// # Errors
    /// The system's, when that cannot be stored: then it is invalid until the next start only.
    fn sign_out(&self, headers: &HeaderMap, now: Timestamp) -> io::Result<()> {
        let Some((until, id, _)) = self.read(headers) else { return Ok(()) };
        let mut written = Ok(());
        // Written before the next one who signs out is added: the file must never lack one that was there.
        self.signed_out.send_modify(|signed_out| {
            signed_out.retain(|_, until| *until > now.0);
            signed_out.insert(id, until);
            written = serde_json::to_vec(signed_out).map_err(io::Error::from).and_then(|bytes| keep::write(&self.file, &bytes));
        });
        written
    }

    /// Returns when the session is signed out.
    pub async fn ended(&self, Session(id): Session) {
        let mut signed_out = self.signed_out.subscribe();
        match id {
            Some(id) => drop(signed_out.wait_for(|signed_out| signed_out.contains_key(&id)).await),
            None => std::future::pending().await,
        }
    }
}

/// Returns whether the browser reaches us under TLS: by a header of the proxy in front, or because it asks for our public host.
fn is_under_tls(headers: &HeaderMap, public: &str) -> bool {
    let text = |name: &str| headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let forwarded = text("x-forwarded-proto").split(',').next().unwrap_or_default().trim().eq_ignore_ascii_case("https");
    let at_public = public.strip_prefix("https://").is_some_and(|rest| rest.split('/').next() == Some(text("host")));
    forwarded || at_public
}

/// A link that signs a browser in, once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Link {
    pub url: String,
    /// Seconds until it no longer works.
    pub seconds: u64,
}

/// Creates a link that signs a browser in as the caller.
#[utoipa::path(post, path = "/api/links", responses((status = 200, body = Link)))]
pub async fn link(State(app): State<Arc<App>>, Extension(Person(name)): Extension<Person>) -> Result<Json<Link>, Problem> {
    let key = super::random().map_err(|error| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, error.to_string()))?;
    app.sessions.link(&name, key.clone(), SystemClock.now());
    Ok(Json(Link { url: format!("{}/enter?key={key}", app.token.address), seconds: LINK.as_secs() }))
}

/// The key of a link.
#[derive(Debug, Deserialize)]
pub struct Enter {
    #[serde(default)]
    key: String,
}

/// Opens a link: sets the cookie and redirects to the console. A link that was used or has expired leads to a page that says so.
pub async fn enter(State(app): State<Arc<App>>, headers: HeaderMap, Query(Enter { key }): Query<Enter>) -> Response {
    let now = SystemClock.now();
    let Some(name) = app.sessions.open(&key, now) else {
        return Redirect::to("/sign-in?link=used").into_response();
    };
    match super::random() {
        Ok(id) => (app.sessions.jar(&name, &id, is_under_tls(&headers, &app.public), now), Redirect::to("/")).into_response(),
        Err(error) => Problem::new(StatusCode::INTERNAL_SERVER_ERROR, error.to_string()).into_response(),
    }
}

/// The signed-in person.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Me {
    pub name: String,
}

/// Returns the signed-in person.
#[utoipa::path(get, path = "/api/me", responses((status = 200, body = Me)))]
pub async fn me(Extension(Person(name)): Extension<Person>) -> Json<Me> {
    Json(Me { name })
}

/// Signs the browser out.
#[utoipa::path(delete, path = "/api/me", responses((status = 204)))]
pub async fn leave(State(app): State<Arc<App>>, headers: HeaderMap) -> Response {
    if let Err(error) = app.sessions.sign_out(&headers, SystemClock.now()) {
        let says = format!("signed out only until the next start: {error}");
        return Problem::new(StatusCode::INTERNAL_SERVER_ERROR, says).into_response();
    }
    let gone = Cookie::build((app.sessions.cookie.clone(), "")).path("/").removal().build().to_string();
    let mut response = StatusCode::NO_CONTENT.into_response();
    if let Ok(value) = HeaderValue::from_str(&gone) {
        response.headers_mut().insert(header::SET_COOKIE, value);
    }
    response
}

#[cfg(test)]
mod tests {
    use super::*;

    fn headers(jar: SignedCookieJar) -> HeaderMap {
        let response = (jar, ()).into_response();
        let cookie = response.headers()[header::SET_COOKIE].to_str().unwrap().split(';').next().unwrap().to_owned();
        HeaderMap::from_iter([(header::COOKIE, cookie.parse().unwrap())])
    }

    fn sessions(token: &str, port: u16) -> Sessions {
        Sessions::open_in(Path::new("/nowhere"), token, port).unwrap()
    }

    #[test]
    fn a_link_opens_once_and_not_too_late() {
        let sessions = sessions("secret", 7811);
        let now = Timestamp(1_000_000);
        sessions.link("ada", "one".into(), now);
        assert_eq!((sessions.open("one", now), sessions.open("one", now)), (Some("ada".to_owned()), None));
        sessions.link("ada", "two".into(), now);
        assert_eq!(sessions.open("two", now.after(LINK)), None);
        assert_eq!(sessions.open("never", now), None);
    }

    #[test]
    fn a_cookie_holds_for_its_time_and_its_token_alone() {
        let now = Timestamp(1_000_000);
        let given = headers(sessions("secret", 7811).jar("Ada L", "1f", false, now));
        let again = sessions("secret", 7811);
        assert_eq!(again.person(&given, now).map(|(person, _)| person.0), Some("Ada L".to_owned()), "a restart changes nothing");
        assert!(again.person(&given, now.after(SESSION)).is_none());
        assert!(sessions("another", 7811).person(&given, now).is_none());
        assert!(sessions("secret", 7812).person(&given, now).is_none());
        let forged = format!("wirewatch-7811={} 1f eve", i64::MAX);
        assert!(again.person(&HeaderMap::from_iter([(header::COOKIE, forged.parse().unwrap())]), now).is_none());
    }

    #[tokio::test]
    async fn a_signed_out_session_is_over_also_after_a_restart_and_others_go_on() {
        let state = tempfile::tempdir().unwrap();
        let open = || Sessions::open_in(state.path(), "secret", 7811).unwrap();
        let (now, sessions) = (Timestamp(1_000_000), open());
        let [first, second] = ["1f", "2f"].map(|id| headers(sessions.jar("Ada", id, false, now)));
        let (_, session) = sessions.person(&first, now).unwrap();
        sessions.sign_out(&first, now).unwrap();
        sessions.ended(session).await;
        for sessions in [sessions, open()] {
            assert!(sessions.person(&first, now).is_none());
            assert!(sessions.person(&second, now).is_some());
        }
        let later = open();
        later.sign_out(&second, now.after(SESSION)).unwrap();
        assert_eq!(later.signed_out.borrow().keys().collect::<Vec<_>>(), ["2f"], "what is over by itself is forgotten");
    }

    #[test]
    fn a_cookie_is_kept_to_tls_where_the_browser_comes_by_tls() {
        let headers = |name: &'static str, value: &str| HeaderMap::from_iter([(name.parse().unwrap(), value.parse().unwrap())]);
        let public = "https://edge.example/hooks";
        assert!(is_under_tls(&headers("x-forwarded-proto", "https"), "http://127.0.0.1:7811"));
        assert!(is_under_tls(&headers("host", "edge.example"), public));
        assert!(!is_under_tls(&headers("host", "127.0.0.1:7811"), public));
        assert!(!is_under_tls(&headers("x-forwarded-proto", "http"), public));
        let cookie = sessions("secret", 1).jar("Ada", "1f", true, Timestamp(0)).into_response();
        assert!(cookie.headers()[header::SET_COOKIE].to_str().unwrap().contains("Secure"));
    }
}
