//! Who works on what needs attention, so that no two people do the same, and no problem is left to somebody else.

use super::problem::Problem;
use super::status::DAY_US;
use super::{Answer, flows, rows, status, storable};
use crate::access::Person;
use crate::run::App;
use crate::view::words::{PersonAct, ProblemKind};
use crate::view::{Assignment, AssignmentRequest, sure_time};
use axum::extract::{Query, State};
use axum::{Extension, Json};
use serde::Deserialize;
use std::collections::BTreeMap;
use std::sync::Arc;
use utoipa::IntoParams;
use wirewatch_core::{Digest, Id, Timestamp};
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::{AssignmentRow, JournalError};

/// Days over which failing arrivals are followed back to the first one.
const FAILING_FOR: i64 = 30;

/// What needs attention now, with its beginning in RFC 3339.
type Problems = BTreeMap<(ProblemKind, String), String>;

/// Who works on what needs attention now.
#[utoipa::path(get, path = "/api/assignments", operation_id = "assignments", responses((status = 200, body = Vec<Assignment>)))]
pub async fn list(State(app): State<Arc<App>>) -> Answer<Vec<Assignment>> {
    Ok(Json(current(&app).await?))
}

/// Assigns what needs attention to a person, in place of the one it was assigned to.
#[utoipa::path(put, path = "/api/assignments", request_body = AssignmentRequest,
    responses((status = 200, body = Assignment), (status = 400, body = Problem), (status = 404, body = Problem)))]
pub async fn assign(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Json(AssignmentRequest { kind, name, to, note }): Json<AssignmentRequest>,
) -> Answer<Assignment> {
    for text in [&name, &note].into_iter().chain(&to) {
        storable(text)?;
    }
    let to = to.map(|to| to.trim().to_owned()).filter(|to| !to.is_empty()).unwrap_or_else(|| by.clone());
    if !problems(&app).await?.contains_key(&(kind, name.clone())) {
        let problem = Problem::not_found(format!("{} does not need attention", words(kind, &name)));
        return Err(problem.detail("`wirewatch status` lists what needs attention"));
    }
    let now = SystemClock.now();
    record(&app, &by, PersonAct::Assigned, kind, &name, &format!("{} to {to}: {note}", words(kind, &name))).await?;
    let row = AssignmentRow { kind: kind.to_string(), name, to_whom: to, note, by_whom: by, at: now.0 };
    app.store.assign(&row).await?;
    Ok(Json(view(kind, row)))
}

/// A problem by kind and name.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ProblemQuery {
    pub kind: ProblemKind,
    /// As in the assignment; empty for failed arrivals.
    #[serde(default)]
    pub name: String,
}

/// Takes an assignment back: nobody works on it.
#[utoipa::path(delete, path = "/api/assignments", operation_id = "unassign", params(ProblemQuery),
    responses((status = 200, body = Vec<Assignment>), (status = 404, body = Problem)))]
pub async fn remove(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Query(ProblemQuery { kind, name }): Query<ProblemQuery>,
) -> Answer<Vec<Assignment>> {
    storable(&name)?;
    if !app.store.unassign(kind.as_str(), &name).await? {
        return Err(Problem::not_found(format!("{} is not assigned to anybody", words(kind, &name))));
    }
    record(&app, &by, PersonAct::Unassigned, kind, &name, &words(kind, &name)).await?;
    list(State(app)).await
}

/// Returns the assignments of what needs attention now. One that was made before its problem began belongs to an earlier problem of
/// the same name, and is left out.
pub async fn current(app: &App) -> Result<Vec<Assignment>, JournalError> {
    let rows = app.store.assignments().await?;
    if rows.is_empty() {
        return Ok(Vec::new());
    }
    let problems = problems(app).await?;
    let assigned = rows.into_iter().filter_map(|row| {
        let kind = ProblemKind::parse(&row.kind)?;
        let assigned = view(kind, row);
        let since = problems.get(&(kind, assigned.name.clone()))?;
        (assigned.at >= *since).then_some(assigned)
    });
    Ok(assigned.collect())
}

/// Returns what needs attention now.
async fn problems(app: &App) -> Result<Problems, JournalError> {
    let mut problems = Problems::new();
    for reason in app.store.reasons("").await?.into_iter().map(rows::reason) {
        problems.insert((ProblemKind::Reason, reason.id), reason.first_seen.unwrap_or_default());
    }
    for held in status::held(app).await {
        problems.insert((ProblemKind::Connection, held.connection), held.since);
    }
    for paused in flows::all_paused(app).await {
        problems.insert((ProblemKind::Flow, paused.flow), paused.since);
    }
    for held in flows::steps_on_hold(app).await {
        problems.insert((ProblemKind::Step, format!("{}/{}", held.flow, held.step)), held.since);
    }
    if let Some(since) = arrivals_failing_since(app).await? {
        problems.insert((ProblemKind::Arrivals, String::new()), sure_time(since));
    }
    Ok(problems)
}

/// Returns since when arrivals have been failing, without a day between them; `None` if none failed in the last day.
async fn arrivals_failing_since(app: &App) -> Result<Option<Timestamp>, JournalError> {
    if status::arrivals_failed(app).await?.is_empty() {
        return Ok(None);
    }
    let since = Timestamp(SystemClock.now().0 - FAILING_FOR * DAY_US);
    app.store.failing_since(since, DAY_US).await
}

async fn record(app: &App, by: &str, act: PersonAct, kind: ProblemKind, name: &str, why: &str) -> Result<(), JournalError> {
    let subject = Id(Digest::of(&[kind.as_str().as_bytes(), name.as_bytes()]).short());
    app.store.record_act(app.engine.mint(), by, act.as_str(), subject, why, SystemClock.now()).await
}

fn view(kind: ProblemKind, row: AssignmentRow) -> Assignment {
    let AssignmentRow { name, to_whom: to, note, by_whom: by, at, .. } = row;
    Assignment { kind, name, to, note, by, at: sure_time(Timestamp(at)) }
}

/// Returns a problem in words.
fn words(kind: ProblemKind, name: &str) -> String {
    match kind {
        ProblemKind::Reason => format!("the reason {name}"),
        ProblemKind::Connection => format!("the connection {name}"),
        ProblemKind::Step => format!("the step {name}"),
        ProblemKind::Flow => format!("the flow {name}"),
        ProblemKind::Arrivals => "the failed arrivals".to_owned(),
    }
}
