//! The order system of Quillhaven Bee Supply: books orders, gives them numbers, knows its items, and sometimes fails.
//!
//! `POST /orders` with `Idempotency-Key` books once per key; `POST /orders/{number}/shipment` records a shipment. `GET
//! /orders/{number}` and `GET /orders?reference=` read. `POST /faults` sets faults; `GET /summary` counts; `GET /` is a page with
//! a switch for people.

use axum::extract::{Path as UrlPath, Query, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::{Html, IntoResponse, Redirect, Response};
use axum::routing::{get, post};
use axum::{Json, Router};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::HashMap;
use std::fs::{File, OpenOptions};
use std::io::{self, Write};
use std::path::Path;
use std::sync::{Arc, Mutex};
use std::time::Duration;

/// The items it knows, with their names and prices.
pub const ITEMS: [(&str, &str, &str); 10] = [
    ("QH-HIVE-10", "TEN FRAME HIVE", "64.50"),
    ("QH-HIVE-8", "EIGHT FRAME HIVE", "58.00"),
    ("QH-FRAME-D", "DEEP FRAME", "3.10"),
    ("QH-FRAME-M", "MEDIUM FRAME", "2.85"),
    ("QH-SMOKER-L", "LARGE SMOKER", "41.25"),
    ("QH-SMOKER-S", "SMALL SMOKER", "33.40"),
    ("QH-VEIL-R", "ROUND VEIL", "18.95"),
    ("QH-VEIL-S", "SQUARE VEIL", "21.10"),
    ("QH-GLOVE-M", "GOATSKIN GLOVES", "27.60"),
    ("QH-TOOL-J", "J HIVE TOOL", "11.75"),
];

/// Faults, until changed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Faults {
    /// Everything is answered with 503.
    pub outage: bool,
    /// So many of the next orders are answered with this status.
    pub next: u32,
    /// Of these, every n-th is booked all the same; 0 for none.
    pub spare: u32,
    pub status: u16,
    /// Seconds in `Retry-After` of those answers.
    pub retry_after: Option<u64>,
    /// Before each answer, in milliseconds.
    pub delay_ms: u64,
    /// So many of the next orders are booked, but the connection is cut before the answer.
    pub cut: u32,
    /// Only who signs in with this bearer token is let in.
    pub token: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
struct Booked {
    number: String,
    key: String,
    order: Value,
    /// Shipment, as reported.
    #[serde(default)]
    shipment: Value,
}

#[derive(Default)]
struct Books {
    orders: Vec<Booked>,
    by_key: HashMap<String, usize>,
    faults: Faults,
    requests: u64,
    repeats: u64,
    refused: u64,
    file: Option<File>,
}

/// The order system; clones share it.
#[derive(Clone, Default)]
pub struct OrderSystem {
    books: Arc<Mutex<Books>>,
}

impl std::fmt::Debug for OrderSystem {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("OrderSystem").finish_non_exhaustive()
    }
}

/// Counts of what it did.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Summary {
    pub booked: usize,
    pub requests: u64,
    /// Requests that repeated a key.
    pub repeats: u64,
    pub refused: u64,
    pub faults: Faults,
}

impl OrderSystem {
    /// Creates one that stores its orders in a file, one a line, and begins with those in it.
    ///
    /// # Errors
    /// The system's; `InvalidData` for a line that is not an order.
    pub fn stored_in(path: &Path) -> io::Result<Self> {
        let mut books = Books::default();
        for line in std::fs::read_to_string(path).unwrap_or_default().lines() {
            let booked: Booked = serde_json::from_str(line).map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error))?;
            // A later line of the same order replaces the earlier one.
            if let Some(&at) = books.by_key.get(&booked.key) {
                books.orders[at] = booked;
                continue;
            }
            books.by_key.insert(booked.key.clone(), books.orders.len());
            books.orders.push(booked);
        }
        books.file = Some(OpenOptions::new().create(true).append(true).open(path)?);
        Ok(Self { books: Arc::new(Mutex::new(books)) })
    }

    /// The routes.
    pub fn router(&self) -> Router {
        Router::new()
            .route("/", get(page))
            .route("/outage/{switch}", post(switch))
            .route("/orders", post(book).get(find))
            .route("/orders/{number}", get(one))
            .route("/orders/{number}/shipment", post(ship))
            .route("/faults", post(set_faults))
            .route("/summary", get(async |State(own): State<Self>| Json(own.summary())))
            .with_state(self.clone())
    }

    /// Sets the faults.
    pub fn set_faults(&self, faults: Faults) {
        self.books.lock().expect("no holder panics").faults = faults;
    }

    /// Counts.
    #[must_use]
    pub fn summary(&self) -> Summary {
        let books = self.books.lock().expect("no holder panics");
        let Books { orders, requests, repeats, refused, faults, .. } = &*books;
        Summary { booked: orders.len(), requests: *requests, repeats: *repeats, refused: *refused, faults: faults.clone() }
    }

    /// Returns the orders of an account with their numbers, after the first so many.
    #[must_use]
    pub fn orders_of(&self, account: &str, after: usize) -> Vec<(String, Value)> {
        let books = self.books.lock().expect("no holder panics");
        let own = books.orders.iter().filter(|booked| booked.order["account"] == account);
        own.skip(after).map(|booked| (booked.number.clone(), booked.order.clone())).collect()
    }

    /// Returns how many orders have a shipment.
    #[must_use]
    pub fn shipped(&self) -> usize {
        let books = self.books.lock().expect("no holder panics");
        books.orders.iter().filter(|booked| !booked.shipment.is_null()).count()
    }

    /// The references of all orders booked, in the order of booking.
    #[must_use]
    pub fn references(&self) -> Vec<String> {
        let books = self.books.lock().expect("no holder panics");
        books.orders.iter().map(|booked| booked.order["reference"].as_str().unwrap_or_default().to_owned()).collect()
    }
}

fn problem(status: StatusCode, detail: impl Into<String>) -> Response {
    (status, Json(json!({ "detail": detail.into() }))).into_response()
}

async fn book(State(own): State<OrderSystem>, headers: HeaderMap, Json(order): Json<Value>) -> Response {
    let delay = own.books.lock().expect("no holder panics").faults.delay_ms;
    if delay > 0 {
        tokio::time::sleep(Duration::from_millis(delay)).await;
    }
    let (response, cut) = decide(&mut own.books.lock().expect("no holder panics"), &headers, order);
    if cut {
        // An answer whose body breaks off: the client sees the connection lost in the middle.
        let broken = broken_body();
        return (StatusCode::CREATED, broken).into_response();
    }
    response
}

/// A body that fails before its first byte, so that the connection is cut.
fn broken_body() -> axum::body::Body {
    struct Broken;
    impl axum::body::HttpBody for Broken {
        type Data = axum::body::Bytes;
        type Error = io::Error;

        fn poll_frame(
            self: std::pin::Pin<&mut Self>,
            _: &mut std::task::Context<'_>,
        ) -> std::task::Poll<Option<Result<http_body::Frame<Self::Data>, Self::Error>>> {
            std::task::Poll::Ready(Some(Err(io::Error::other("connection cut on request"))))
        }
    }
    axum::body::Body::new(Broken)
}

fn decide(books: &mut Books, headers: &HeaderMap, order: Value) -> (Response, bool) {
    books.requests += 1;
    if books.faults.outage {
        return (problem(StatusCode::SERVICE_UNAVAILABLE, "closed for maintenance"), false);
    }
    if let Some(token) = &books.faults.token {
        let given = headers.get("authorization").and_then(|given| given.to_str().ok());
        if given != Some(&format!("Bearer {token}")) {
            return (problem(StatusCode::UNAUTHORIZED, "credentials are missing or wrong"), false);
        }
    }
    let Faults { next, spare, .. } = books.faults;
    books.faults.next = next.saturating_sub(1);
    if next > 0 && (spare == 0 || next % spare != 0) {
        let status = StatusCode::from_u16(books.faults.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut response = problem(status, "error on request");
        if let Some(seconds) = books.faults.retry_after {
            response.headers_mut().insert("retry-after", seconds.into());
        }
        return (response, false);
    }
    let Some(key) = headers.get("idempotency-key").and_then(|key| key.to_str().ok()).map(str::to_owned) else {
        return (problem(StatusCode::BAD_REQUEST, "an Idempotency-Key is needed"), false);
    };
    if let Some(&at) = books.by_key.get(&key) {
        books.repeats += 1;
        let number = books.orders[at].number.clone();
        return ((StatusCode::OK, Json(json!({ "order_number": number, "repeat": true }))).into_response(), false);
    }
    if let Some(refusal) = refusal(&order) {
        books.refused += 1;
        return (refusal, false);
    }
    let number = format!("Q-{}", 100_001 + books.orders.len());
    let booked = Booked { number, key: key.clone(), order, shipment: Value::Null };
    if let Err(error) = keep(&mut books.file, &booked) {
        return (not_stored(&error), false);
    }
    let number = booked.number.clone();
    books.by_key.insert(key, books.orders.len());
    books.orders.push(booked);
    let cut = books.faults.cut > 0;
    books.faults.cut -= u32::from(cut);
    ((StatusCode::CREATED, Json(json!({ "order_number": number }))).into_response(), cut)
}

fn keep(file: &mut Option<File>, booked: &Booked) -> io::Result<()> {
    let Some(file) = file else { return Ok(()) };
    file.write_all((serde_json::to_string(booked)? + "\n").as_bytes())
}

fn not_stored(error: &io::Error) -> Response {
    problem(StatusCode::INTERNAL_SERVER_ERROR, format!("the order file cannot be written: {error}"))
}

async fn ship(State(own): State<OrderSystem>, UrlPath(number): UrlPath<String>, Json(shipment): Json<Value>) -> Response {
    let mut books = own.books.lock().expect("no holder panics");
    books.requests += 1;
    if books.faults.outage {
        return problem(StatusCode::SERVICE_UNAVAILABLE, "closed for maintenance");
    }
    let Books { orders, file, .. } = &mut *books;
    let Some(booked) = orders.iter_mut().find(|booked| booked.number == number) else {
        return problem(StatusCode::NOT_FOUND, format!("there is no order {number}"));
    };
    booked.shipment = shipment;
    match keep(file, booked) {
        Ok(()) => Json(json!({ "order_number": number, "state": "shipped" })).into_response(),
        Err(error) => not_stored(&error),
    }
}

fn refusal(order: &Value) -> Option<Response> {
    let rows = order["rows"].as_array().cloned().unwrap_or_default();
    if order["reference"].as_str().is_none_or(str::is_empty) || rows.is_empty() {
        return Some(problem(StatusCode::UNPROCESSABLE_ENTITY, "an order needs a reference and rows"));
    }
    let unknown = rows.iter().find(|row| !ITEMS.iter().any(|(item, ..)| row["item"] == *item))?;
    let item = unknown["item"].as_str().unwrap_or_default();
    let body =
        json!({ "detail": format!("unknown item `{item}` on row {}", unknown["row"].as_str().unwrap_or("?")), "item": item });
    Some((StatusCode::UNPROCESSABLE_ENTITY, Json(body)).into_response())
}

#[derive(Deserialize)]
struct Find {
    reference: String,
}

async fn find(State(own): State<OrderSystem>, Query(find): Query<Find>) -> Json<Vec<Value>> {
    let books = own.books.lock().expect("no holder panics");
    let found = books.orders.iter().filter(|booked| booked.order["reference"] == find.reference);
    Json(found.map(|booked| json!({ "order_number": booked.number, "order": booked.order })).collect())
}

async fn one(State(own): State<OrderSystem>, UrlPath(number): UrlPath<String>) -> Response {
    let books = own.books.lock().expect("no holder panics");
    match books.orders.iter().find(|booked| booked.number == number) {
        Some(booked) => {
            Json(json!({ "order_number": booked.number, "order": booked.order, "shipment": booked.shipment })).into_response()
        }
        None => problem(StatusCode::NOT_FOUND, format!("there is no order {number}")),
    }
}

/// The order system's own page: what is booked, and a switch for outages.
async fn page(State(own): State<OrderSystem>) -> Html<String> {
    let Summary { booked, refused, faults, .. } = own.summary();
    let (state, switch, says) = match faults.outage {
        true => ("closed", "off", "Open it again"),
        false => ("open", "on", "Close it, as in an outage"),
    };
    let page = include_str!("order_system.html");
    let filled = [("{state}", state.to_owned()), ("{switch}", switch.to_owned()), ("{says}", says.to_owned())];
    let counts = [("{booked}", booked.to_string()), ("{refused}", refused.to_string())];
    Html(filled.iter().chain(&counts).fold(page.to_owned(), |page, (name, value)| page.replace(name, value)))
}

async fn switch(State(own): State<OrderSystem>, UrlPath(switch): UrlPath<String>) -> Redirect {
    own.set_faults(Faults { outage: switch == "on", ..Faults::default() });
    Redirect::to("/")
}

async fn set_faults(State(own): State<OrderSystem>, Json(faults): Json<Faults>) -> Json<Summary> {
    own.set_faults(faults);
    Json(own.summary())
}
