//! How a browser gets in: a link that works once becomes a cookie.
//!
//! Whoever holds the token asks for a link (`POST /api/links`); opening it (`/enter`) sets a cookie that is signed with a
//! key made from the token. So sessions outlive restarts and nothing of them is stored; a new token ends them all.

use super::Person;
use crate::api::problem::Problem;
use crate::run::App;
use axum::extract::{Query, State};
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Redirect, Response};
use axum::{Extension, Json};
use axum_extra::extract::cookie::{Cookie, Key, SameSite, SignedCookieJar};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use utoipa::ToSchema;
use wirewatch_core::Timestamp;
use wirewatch_engine::{Clock, SystemClock};

/// How long a link waits to be opened.
const LINK: Duration = Duration::from_secs(600);
/// How long a browser stays signed in.
const SESSION: Duration = Duration::from_secs(30 * 24 * 3600);

/// Links that were not opened yet, and the key that signs cookies.
pub struct Sessions {
    key: Key,
    cookie: String,
    links: Mutex<HashMap<String, (String, Timestamp)>>,
}

impl std::fmt::Debug for Sessions {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Sessions").finish_non_exhaustive()
    }
}

impl Sessions {
    /// Sessions of the service that listens at `port`: cookies of one host are shared by its ports.
    #[must_use]
    pub fn new(token: &str, port: u16) -> Self {
        let half = |n: u8| *blake3::keyed_hash(blake3::hash(token.as_bytes()).as_bytes(), &[n]).as_bytes();
        let key = Key::from(&[half(1), half(2)].concat());
        Self { key, cookie: format!("wirewatch-{port}"), links: Mutex::default() }
    }

    fn link(&self, name: &str, key: String, now: Timestamp) {
        let mut links = self.links.lock().expect("no holder panics");
        links.retain(|_, (_, until)| *until > now);
        links.insert(key, (name.to_owned(), now.after(LINK)));
    }

    /// The name behind a link, once.
    fn open(&self, key: &str, now: Timestamp) -> Option<String> {
        let (name, until) = self.links.lock().expect("no holder panics").remove(key)?;
        (until > now).then_some(name)
    }

    /// The person whose cookie a request carries.
    pub fn person(&self, headers: &HeaderMap, now: Timestamp) -> Option<Person> {
        let jar = SignedCookieJar::from_headers(headers, self.key.clone());
        let cookie = jar.get(&self.cookie)?;
        let (until, name) = cookie.value().split_once(' ')?;
        (until.parse::<i64>().ok()? > now.0).then(|| Person(name.to_owned()))
    }

    fn jar(&self, name: &str, now: Timestamp) -> SignedCookieJar {
        let cookie = Cookie::build((self.cookie.clone(), format!("{} {name}", now.after(SESSION).0)))
            .path("/")
            .http_only(true)
            .same_site(SameSite::Strict)
            .max_age(SESSION.try_into().unwrap_or_default());
        SignedCookieJar::new(self.key.clone()).add(cookie)
    }
}

/// A link that signs a browser in, once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Link {
    pub url: String,
    /// Seconds until it no longer works.
    pub seconds: u64,
}

/// Makes a link that signs a browser in as whoever asks.
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

/// Opens a link: a cookie, and on to the console. A link that was used or is too old leads to the page that says so.
pub async fn enter(State(app): State<Arc<App>>, Query(Enter { key }): Query<Enter>) -> Response {
    let now = SystemClock.now();
    match app.sessions.open(&key, now) {
        Some(name) => (app.sessions.jar(&name, now), Redirect::to("/")).into_response(),
        None => Redirect::to("/sign-in?link=used").into_response(),
    }
}

/// Who is signed in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Me {
    pub name: String,
}

/// Who asks.
#[utoipa::path(get, path = "/api/me", responses((status = 200, body = Me)))]
pub async fn me(Extension(Person(name)): Extension<Person>) -> Json<Me> {
    Json(Me { name })
}

/// Signs the browser out.
#[utoipa::path(delete, path = "/api/me", responses((status = 204)))]
pub async fn leave(State(app): State<Arc<App>>) -> Response {
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

    #[test]
    fn a_link_opens_once_and_not_too_late() {
        let sessions = Sessions::new("secret", 7811);
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
        let given = headers(Sessions::new("secret", 7811).jar("Ada L", now));
        let again = Sessions::new("secret", 7811);
        assert_eq!(again.person(&given, now).map(|person| person.0), Some("Ada L".to_owned()), "a restart changes nothing");
        assert!(again.person(&given, now.after(SESSION)).is_none());
        assert!(Sessions::new("another", 7811).person(&given, now).is_none());
        assert!(Sessions::new("secret", 7812).person(&given, now).is_none());
        let forged = format!("wirewatch-7811={} eve", i64::MAX);
        assert!(again.person(&HeaderMap::from_iter([(header::COOKIE, forged.parse().unwrap())]), now).is_none());
    }
}
