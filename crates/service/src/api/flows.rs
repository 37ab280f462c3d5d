//! Flows: paused by a person, and going on.

use super::problem::Problem;
use super::{Answer, said};
use crate::access::Person;
use crate::run::App;
use crate::view::{HeldStep, PausedFlow, RecordRequest, RecordedFlow, ResumedFlow, Why, time};
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use std::sync::Arc;
use std::time::Duration;
use wirewatch_core::before::Before;
use wirewatch_core::flow::{Flow, Intake, Recording};
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{Digest, Id, Timestamp};
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::RecordingRow;

/// For how long recording may be switched, in seconds: a week.
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

/// The steps that are held, by flow and name.
pub async fn held_steps(app: &App) -> Vec<HeldStep> {
    let held = app.engine.held().await.into_iter().filter_map(|held| {
        let Before::Step { flow, step } = Before::of(&held.connection) else { return None };
        Some(HeldStep {
            flow: flow.to_owned(),
            step: step.to_owned(),
            since: time(held.state.since.0).unwrap_or_default(),
            says: held.state.says,
            next_look: time(held.state.probe_at.0).unwrap_or_default(),
            waiting: held.waiting,
        })
    });
    let mut held: Vec<HeldStep> = held.collect();
    held.sort_by(|a, b| (&a.flow, &a.step).cmp(&(&b.flow, &b.step)));
    held
}

/// Pauses a flow: what comes in is taken and waits, and nothing of it goes on, until a person resumes it.
#[utoipa::path(post, path = "/api/flows/{flow}/pause", params(("flow" = String, Path)), request_body = Why,
    responses((status = 200, body = Vec<PausedFlow>)))]
pub async fn pause(
    State(app): State<Arc<App>>,
    person: Extension<Person>,
    Path(flow): Path<String>,
    Json(Why { why }): Json<Why>,
) -> Answer<Vec<PausedFlow>> {
    let why = said(&why, "it is paused")?;
    let by = acted(&app, person, &flow, "paused", why).await?;
    app.engine.hold(&Before::Flow(&flow).to_string(), &by, why);
    Ok(Json(all_paused(&app).await))
}

/// Resumes a paused flow. At each of its steps that is on hold one waiting message tries at once; the others follow when that
/// goes well.
#[utoipa::path(post, path = "/api/flows/{flow}/resume", params(("flow" = String, Path)),
    responses((status = 200, body = ResumedFlow)))]
pub async fn resume(State(app): State<Arc<App>>, person: Extension<Person>, Path(flow): Path<String>) -> Answer<ResumedFlow> {
    acted(&app, person, &flow, "resumed", &flow).await?;
    app.engine.free(&Before::Flow(&flow).to_string());
    let held: Vec<HeldStep> = held_steps(&app).await.into_iter().filter(|held| held.flow == flow).collect();
    for HeldStep { flow, step, .. } in &held {
        app.engine.look_now(&Before::Step { flow, step }.to_string());
    }
    Ok(Json(ResumedFlow { trying: held.into_iter().map(|held| held.step).collect() }))
}

/// Switches for a time how much is recorded of a flow's calls, whatever the flow says.
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
    if Recording::of(&depth).is_none() {
        let says = format!("`{depth}` is no depth of recording: it is `calls` or `failures`");
        return Err(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, says));
    }
    let now = SystemClock.now();
    let until = now.after(Duration::from_secs(u64::from(seconds.min(LONGEST))));
    let why = format!("{flow}: {depth} until {}", time(until.0).unwrap_or_default());
    app.store.record_act(app.engine.mint(), &by, "recorded", subject(&flow), &why, now).await?;
    app.record(&RecordingRow { flow: flow.clone(), depth, until: until.0, by_whom: by }).await?;
    Ok(Json(recorded(&app, &flow, SystemClock.now())))
}

/// How much is recorded of a flow, where that is switched.
pub fn recorded(app: &App, flow: &str, now: Timestamp) -> Option<RecordedFlow> {
    let row = app.recordings.of(flow, now)?;
    Some(RecordedFlow { depth: row.depth, until: time(row.until)?, by: row.by_whom })
}

/// Records what a person does with a flow, before it is done; who it is.
async fn acted(app: &App, Extension(Person(by)): Extension<Person>, flow: &str, act: &str, why: &str) -> Result<String, Problem> {
    let (_, workspace) = app.engine.releases().current();
    flow_of(&workspace, flow)?;
    app.store.record_act(app.engine.mint(), &by, act, subject(flow), why, SystemClock.now()).await?;
    Ok(by)
}

/// What stands for a flow where acts are recorded.
fn subject(flow: &str) -> Id {
    Id(Digest::of(&[Before::Flow(flow).to_string().as_bytes()]).short())
}

/// The flow of that name.
pub fn flow_of<'w>(workspace: &'w Workspace, name: &str) -> Result<&'w Flow, Problem> {
    let near = || wirewatch_core::nearest::nearest(name, workspace.flows.keys().map(String::as_str));
    workspace.flows.get(name).map(AsRef::as_ref).ok_or_else(|| {
        let problem = Problem::not_found(format!("there is no flow `{name}`"));
        near().map_or(problem.clone(), |near| problem.detail(format!("Did you mean `{near}`?")))
    })
}

/// The flow of that name, and where a document handed to it comes in.
pub fn known<'w>(workspace: &'w Workspace, name: &str) -> Result<(&'w Flow, &'w Intake), Problem> {
    let flow = flow_of(workspace, name)?;
    let none = || Problem::new(StatusCode::CONFLICT, format!("the flow `{name}` has no intake to hand anything to"));
    Ok((flow, flow.intakes.first().ok_or_else(none)?))
}
