//! The API under `/api`: JSON, described by OpenAPI 3.1 from this code, problem details (RFC 9457) for errors.
//!
//! Layers from the outside in: what no handler should see (`request_check`), compression, body limit, then who may
//! (`access::check`), then the handlers.
//! `/api/openapi.json`, `/health/live`, `/health/ready` and the console's files are open to all; what they show is not. Webhooks may be
//! called by anybody under any host name; they are authenticated by signatures alone.

mod acts;
pub mod amending;
mod arrivals;
mod assignments;
mod begin;
mod bulk_acts;
mod captures;
mod changes;
mod connections;
mod description;
mod dry_run;
mod edi;
pub mod figures;
mod flow_story;
mod flows;
mod maps;
pub mod messages;
mod orders;
mod overview;
mod plan;
pub mod problem;
mod queues;
mod recent_acts;
mod releases;
mod request_check;
mod rows;
mod secrets;
mod status;
mod story;
mod stream;
mod submitting;
mod webhooks;

use crate::access::{self, session};
use crate::console;
use crate::hooks;
use crate::run::App;
use crate::view::words::ProblemCode;
use axum::extract::DefaultBodyLimit;
use axum::http::{StatusCode, header};
use axum::routing::{any, get};
use axum::{Json, Router, middleware};
use problem::Problem;
pub use rows::parse_reason;
use std::sync::Arc;
use std::time::Duration;
use tower_http::CompressionLevel;
use tower_http::compression::CompressionLayer;
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;
use utoipa_axum::routes;
use wirewatch_core::{Id, key};
use wirewatch_journal::{MessageFilter, MessageRow};

/// Largest request body in bytes; submitted documents are the largest.
const BODY: usize = 64 << 20;
/// Default and largest number of rows in a page.
const PAGE: u32 = 50;
const PAGE_MOST: u32 = 1000;

/// Every route.
pub fn router(app: Arc<App>) -> Router {
    let (routes, description) = routes_and_description();
    let routes = routes
        .layer(middleware::from_fn_with_state(app.clone(), access::check))
        .layer(DefaultBodyLimit::max(BODY))
        .with_state(app.clone());
    let description = description::complete(&description).to_string();
    let open = Router::new()
        .route("/health/live", get(live))
        .route("/health/ready", get(status::ready))
        .route("/health", get(status::ready))
        .route("/api/openapi.json", get(async move || ([("content-type", "application/json")], description)))
        .route("/enter", get(session::enter))
        .route("/api/{*nothing}", any(nothing))
        .with_state(app.clone())
        .fallback(console::serve);
    // Streams and what is small or packed already pass as they are.
    let packed = routes.merge(open).layer(CompressionLayer::new().quality(CompressionLevel::Fastest));
    // Webhooks are routed outside the compression layer: nothing delays the answer to a sender.
    let all = packed.route(&format!("{}{{path}}", hooks::PREFIX), any(hooks::receive).with_state(app));
    all.layer(middleware::from_fn(request_check::check))
}

/// Router until the database can be reached: answers 503 to everything but the question whether the process lives.
pub fn waiting() -> Router {
    let says = || Problem::new(StatusCode::SERVICE_UNAVAILABLE, "the service waits for its database; the cause is in its log");
    Router::new().route("/health/live", get(live)).fallback(async move || ([(header::RETRY_AFTER, "5")], says()))
}

/// Answers 200 as long as the process answers at all, also while it starts or stops: whoever watches it must not restart it then.
async fn live() -> StatusCode {
    StatusCode::OK
}

async fn nothing() -> Problem {
    Problem::new(StatusCode::NOT_FOUND, "the API has no such path")
}

/// Returns the description of the API (OpenAPI 3.1), for checks and generated clients.
#[must_use]
pub fn description() -> serde_json::Value {
    description::complete(&routes_and_description().1)
}

fn routes_and_description() -> (Router<Arc<App>>, utoipa::openapi::OpenApi) {
    OpenApiRouter::with_openapi(description::Description::openapi())
        .routes(routes!(session::me, session::leave))
        .routes(routes!(session::link))
        .routes(routes!(overview::overview))
        .routes(routes!(overview::workspace))
        .routes(routes!(status::status))
        .routes(routes!(status::reasons))
        .routes(routes!(messages::list))
        .routes(routes!(story::story))
        .routes(routes!(messages::document))
        .routes(routes!(messages::described))
        .routes(routes!(acts::act))
        .routes(routes!(recent_acts::list))
        .routes(routes!(bulk_acts::preview))
        .routes(routes!(bulk_acts::list, bulk_acts::start))
        .routes(routes!(bulk_acts::one))
        .routes(routes!(bulk_acts::stop))
        .routes(routes!(assignments::list, assignments::assign, assignments::remove))
        .routes(routes!(arrivals::list))
        .routes(routes!(arrivals::one))
        .routes(routes!(arrivals::bytes))
        .routes(routes!(arrivals::accept))
        .routes(routes!(arrivals::discard))
        .routes(routes!(arrivals::submit))
        .routes(routes!(begin::begin))
        .routes(routes!(submitting::submit))
        .routes(routes!(edi::look))
        .routes(routes!(maps::list))
        .routes(routes!(maps::one))
        .routes(routes!(maps::try_map))
        .routes(routes!(maps::proposals))
        .routes(routes!(maps::rule))
        .routes(routes!(maps::keep_draft, maps::drop_draft))
        .routes(routes!(figures::figures))
        .routes(routes!(figures::flow_figures))
        .routes(routes!(dry_run::run))
        .routes(routes!(flows::paused))
        .routes(routes!(flow_story::one))
        .routes(routes!(flows::pause))
        .routes(routes!(flows::resume))
        .routes(routes!(flows::record))
        .routes(routes!(orders::list))
        .routes(routes!(orders::one))
        .routes(routes!(connections::list))
        .routes(routes!(connections::test))
        .routes(routes!(connections::ask))
        .routes(routes!(connections::probe))
        .routes(routes!(connections::hold))
        .routes(routes!(connections::resume))
        .routes(routes!(secrets::list))
        .routes(routes!(secrets::set, secrets::remove))
        .routes(routes!(captures::list, captures::open))
        .routes(routes!(captures::one, captures::close))
        .routes(routes!(captures::bytes))
        .routes(routes!(captures::first_flow))
        .routes(routes!(releases::list, releases::release))
        .routes(routes!(releases::one))
        .routes(routes!(releases::files))
        .routes(routes!(releases::rollback))
        .routes(routes!(changes::change))
        .routes(routes!(changes::cases))
        .routes(routes!(stream::stream))
        .routes(routes!(stream::pulse))
        .split_for_parts()
}

/// Returns the requested page size.
///
/// # Errors
/// 400 outside 1 to [`PAGE_MOST`]: a caller that asks for more must know that it does not get it.
fn page(limit: Option<u32>) -> Result<u32, Problem> {
    let limit = limit.unwrap_or(PAGE);
    let says = || format!("limit is {limit}, but must be 1 to {PAGE_MOST}; get more rows with `before`");
    (1..=PAGE_MOST).contains(&limit).then_some(limit).ok_or_else(|| Problem::new(StatusCode::BAD_REQUEST, says()))
}

/// An id from a path or query.
fn id(text: &str) -> Result<wirewatch_core::Id, Problem> {
    text.parse().map_err(|error: wirewatch_core::id::NoId| Problem::new(StatusCode::BAD_REQUEST, error.to_string()))
}

/// Messages of a key that are listed where one is wanted.
const LISTED: u32 = 10;

/// Returns the message that a text names: by its id, or by its business key or key in the target system where one message has it.
///
/// # Errors
/// 404 when there is none, 409 when several have the key: they are listed.
async fn message_id(app: &App, text: &str) -> Result<Id, Problem> {
    let parsed = id(text);
    if let Ok(id) = parsed
        && app.store.stored_among(&[id.0]).await?.contains(&id.0)
    {
        return Ok(id);
    }
    // What cannot be stored in a text column is no key.
    if text.is_empty() || text.contains('\0') {
        return parsed;
    }
    let filter = MessageFilter { key: key::stored(text.to_owned()), limit: LISTED + 1, ..MessageFilter::default() };
    let found = app.store.messages(&filter).await?;
    match found.as_slice() {
        [] => Err(Problem::not_found(format!("there is no message with the id or key {text}"))),
        [one] => Ok(Id(one.id)),
        several => {
            let line = |one: &MessageRow| format!("{} of {}, {}", Id(one.id), one.flow, one.state);
            let mut lines: Vec<String> = several.iter().take(LISTED as usize).map(line).collect();
            if several.len() > lines.len() {
                lines.push("and more".to_owned());
            }
            let title = format!("several messages have the key {text}; name one by its id");
            Err(Problem::new(StatusCode::CONFLICT, title).code(ProblemCode::KeyAmbiguous).detail(lines.join("; ")))
        }
    }
}

/// An id that may be left out.
fn maybe_id(text: &str) -> Result<Option<wirewatch_core::Id>, Problem> {
    if text.is_empty() { Ok(None) } else { id(text).map(Some) }
}

/// Returns the reason given for an act, which must not be empty; `of` names the act in the problem, e.g. `it is put on hold`.
fn given_reason<'a>(why: &'a str, of: &str) -> Result<&'a str, Problem> {
    storable(why)?;
    let missing = || Problem::new(StatusCode::BAD_REQUEST, format!("say why {of}"));
    Some(why.trim()).filter(|why| !why.is_empty()).ok_or_else(missing)
}

/// Time for which an act of a person may wait until it is stored.
const STORED_WITHIN: Duration = Duration::from_secs(30);

/// Waits until an act is stored; not for ever, since a database that is away may stay away.
async fn stored_soon<T>(act: impl Future<Output = T>) -> Result<T, Problem> {
    tokio::time::timeout(STORED_WITHIN, act).await.map_err(|_| {
        Problem::new(StatusCode::SERVICE_UNAVAILABLE, "the act is not stored yet: the database does not answer")
            .code(ProblemCode::DatabaseUnavailable)
            .detail("It is done once the database answers, unless the service ends before that. Look at its result before you repeat it.")
    })
}

/// Refuses a text that the database cannot store as it is.
fn storable(text: &str) -> Result<(), Problem> {
    let says = "a text holds a NUL character, which cannot be stored";
    if text.contains('\0') { Err(Problem::new(StatusCode::BAD_REQUEST, says)) } else { Ok(()) }
}

/// A moment that may be left out.
fn moment(text: &str) -> Result<Option<wirewatch_core::Timestamp>, Problem> {
    if text.is_empty() {
        return Ok(None);
    }
    let parsed: Result<jiff::Timestamp, _> = text.parse();
    let says = format!("`{text}` is not a time; write RFC 3339, e.g. 2026-11-23T07:00:00Z");
    let at = parsed.map_err(|_| Problem::new(StatusCode::BAD_REQUEST, says))?;
    Ok(Some(wirewatch_core::Timestamp(at.as_microsecond())))
}

/// Returns the environment of the workspace.
fn environment(workspace: &wirewatch_core::workspace::Workspace) -> Option<crate::view::EnvironmentView> {
    let environment = workspace.environment.as_ref()?;
    let (name, title) = (environment.name.clone(), environment.title.clone());
    Some(crate::view::EnvironmentView { name, title, production: environment.production })
}

type Answer<T> = Result<Json<T>, Problem>;

/// Words for a page's rows; `None` on the last page.
fn next_of<T>(rows: &[T], limit: u32, id: impl Fn(&T) -> String) -> Option<String> {
    (rows.len() as u32 == limit).then(|| rows.last().map(id)).flatten()
}
