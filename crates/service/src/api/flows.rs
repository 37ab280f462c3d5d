//! Flows: paused and resumed by people, recorded for a time.

use super::problem::Problem;
use super::{Answer, given_reason, stored_soon};
use crate::access::Person;
use crate::run::App;
use crate::view::words::{PersonAct, RecordingDepth};
use crate::view::{PausedFlow, RecordRequest, RecordedFlow, ResumedFlow, StepHold, Why, time};
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use std::sync::Arc;
use std::time::Duration;
use wirewatch_core::before::Before;
use wirewatch_core::flow::{Flow, Intake};
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{Digest, Id, Timestamp};
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::RecordingRow;

/// Longest time, in seconds, for which recording can be changed: a week.
const LONGEST: u32 = 7 * 86_400;

/// The flows that are paused.
#[utoipa::path(get, path = "/api/flows/paused", responses((status = 200, body = Vec<PausedFlow>)))]
pub async fn paused(State(app): State<Arc<App>>) -> Answer<Vec<PausedFlow>> {
    Ok(Json(all_paused(&app).await))
}

/// The flows that are paused, by name.
pub async fn all_paused(app: &App) -> Vec<PausedFlow> {
    let held = app.engine.held().await;
    let mut paused: Vec<PausedFlow> = held
        .into_iter()
        .filter_map(|held| {
            let Before::Flow(flow) = Before::of(&held.connection) else { return None };
            let (flow, since) = (flow.to_owned(), time(held.state.since.0).unwrap_or_default());
            Some(PausedFlow { flow, since, by: held.state.by, says: held.state.says, waiting: held.waiting })
        })
        .collect();
    paused.sort_by(|a, b| a.flow.cmp(&b.flow));
    paused
}

/// Returns the steps on hold, by flow and name.
pub async fn steps_on_hold(app: &App) -> Vec<StepHold> {
    let held = app.engine.held().await.into_iter().filter_map(|held| {
        let Before::Step { flow, step } = Before::of(&held.connection) else { return None };
        Some(StepHold {
            flow: flow.to_owned(),
            step: step.to_owned(),
            since: time(held.state.since.0).unwrap_or_default(),
            says: held.state.says,
            next_try: time(held.state.probe_at.0).unwrap_or_default(),
            waiting: held.waiting,
        })
    });
    let mut held: Vec<StepHold> = held.collect();
    held.sort_by(|a, b| (&a.flow, &a.step).cmp(&(&b.flow, &b.step)));
    held
}

/// Pauses a flow: its arrivals are stored and its messages wait until a person resumes it.
#[utoipa::path(post, path = "/api/flows/{flow}/pause", params(("flow" = String, Path)), request_body = Why,
    responses((status = 200, body = Vec<PausedFlow>)))]
pub async fn pause(
    State(app): State<Arc<App>>,
    person: Extension<Person>,
    Path(flow): Path<String>,
    Json(Why { why }): Json<Why>,
) -> Answer<Vec<PausedFlow>> {
    let why = given_reason(&why, "it is paused")?;
    let by = acted(&app, person, &flow, PersonAct::Paused, why).await?;
    stored_soon(app.engine.hold(&Before::Flow(&flow).to_string(), &by, why)).await?;
    Ok(Json(all_paused(&app).await))
}

/// Resumes a paused flow. At each of its steps on hold, one waiting message tries at once; the others follow when it succeeds.
#[utoipa::path(post, path = "/api/flows/{flow}/resume", params(("flow" = String, Path)),
    responses((status = 200, body = ResumedFlow)))]
pub async fn resume(State(app): State<Arc<App>>, person: Extension<Person>, Path(flow): Path<String>) -> Answer<ResumedFlow> {
    acted(&app, person, &flow, PersonAct::Resumed, &flow).await?;
    stored_soon(app.engine.resume(&Before::Flow(&flow).to_string())).await?;
    let held: Vec<StepHold> = steps_on_hold(&app).await.into_iter().filter(|held| held.flow == flow).collect();
    for StepHold { flow, step, .. } in &held {
        app.engine.probe_now(&Before::Step { flow, step }.to_string());
    }
    Ok(Json(ResumedFlow { trying: held.into_iter().map(|held| held.step).collect() }))
}

/// Changes for a time how much of a flow's calls is recorded.
#[utoipa::path(post, path = "/api/flows/{flow}/record", params(("flow" = String, Path)), request_body = RecordRequest,
    responses((status = 200, body = Option<RecordedFlow>)))]
pub async fn record(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Path(flow): Path<String>,
    Json(RecordRequest { depth, seconds }): Json<RecordRequest>,
) -> Answer<Option<RecordedFlow>> {
    let (_, workspace) = app.engine.releases().current();
    flow_of(&workspace, &flow)?;
    let now = SystemClock.now();
    let until = now.after(Duration::from_secs(u64::from(seconds.min(LONGEST))));
    let why = format!("{depth} until {}", time(until.0).unwrap_or_default());
    app.store.record_act(app.engine.mint(), &by, PersonAct::Recorded.as_str(), subject(&flow), &why, now).await?;
    app.record(&RecordingRow { flow: flow.clone(), depth: depth.to_string(), until: until.0, by_whom: by }).await?;
    Ok(Json(recorded(&app, &flow, SystemClock.now())))
}

/// Returns the recording depth of a flow if a person has changed it.
pub fn recorded(app: &App, flow: &str, now: Timestamp) -> Option<RecordedFlow> {
    let row = app.recordings.of(flow, now)?;
    Some(RecordedFlow { depth: RecordingDepth::parse(&row.depth)?, until: time(row.until)?, by: row.by_whom })
}

/// Records what a person does with a flow, before it is done; who it is.
async fn acted(
    app: &App,
    Extension(Person(by)): Extension<Person>,
    flow: &str,
    act: PersonAct,
    why: &str,
) -> Result<String, Problem> {
    let (_, workspace) = app.engine.releases().current();
    flow_of(&workspace, flow)?;
    app.store.record_act(app.engine.mint(), &by, act.as_str(), subject(flow), why, SystemClock.now()).await?;
    Ok(by)
}

/// Returns the id under which acts on a flow are recorded.
pub(super) fn subject(flow: &str) -> Id {
    Id(Digest::of(&[Before::Flow(flow).to_string().as_bytes()]).short())
}

/// The flow of that name.
pub fn flow_of<'w>(workspace: &'w Workspace, name: &str) -> Result<&'w Arc<Flow>, Problem> {
    let near = || wirewatch_core::nearest::nearest(name, workspace.flows.keys().map(String::as_str));
    workspace.flows.get(name).ok_or_else(|| {
        let problem = Problem::not_found(format!("there is no flow `{name}`"));
        near().map_or(problem.clone(), |near| problem.detail(format!("Did you mean `{near}`?")))
    })
}

/// Returns the flow and the intake by which a submitted document is received.
pub fn known<'w>(workspace: &'w Workspace, name: &str) -> Result<(&'w Flow, &'w Intake), Problem> {
    let flow = flow_of(workspace, name)?;
    let none = || Problem::new(StatusCode::CONFLICT, format!("the flow `{name}` has no intake"));
    Ok((flow, flow.intakes.first().ok_or_else(none)?))
}
