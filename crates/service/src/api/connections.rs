//! Connections: state, test, hold, resume, probe.

use super::problem::Problem;
use super::{Answer, given_reason, queues, status, stored_soon, webhooks};
use crate::access::Person;
use crate::run::App;
use crate::view::words::{PersonAct, ProblemCode};
use crate::view::{AskRequest, Asked, ConnectionHold, ConnectionView, FileFault, Why, sure_time};
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use wirewatch_core::connection::{Auth, Connection, ConnectionKind};
use wirewatch_core::flow::Method;
use wirewatch_core::machine::{Body, Effect, Work};
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{Digest, Id};
use wirewatch_engine::{Clock, Links, SystemClock};

/// Every connection with its state and who uses it.
#[utoipa::path(get, path = "/api/connections", operation_id = "connections", responses((status = 200, body = Vec<ConnectionView>)))]
pub async fn list(State(app): State<Arc<App>>) -> Answer<Vec<ConnectionView>> {
    Ok(Json(views(&app).await))
}

/// Every connection of the current release, by name.
pub async fn views(app: &App) -> Vec<ConnectionView> {
    let (_, workspace) = app.engine.releases().current();
    let held = status::held(app).await;
    let hooks = workspace.connections.values().any(|connection| connection.webhook().is_some());
    // If the database does not answer, the connections are returned without their events.
    let heard = if hooks { app.store.heard().await.unwrap_or_default() } else { Vec::new() };
    let view = |connection: &Arc<Connection>| ConnectionView {
        webhook: connection.webhook().map(|webhook| webhooks::view(app, &workspace, connection, webhook, &heard)),
        queues: connection.broker().map(|broker| queues::views(app, &workspace, connection, broker)).unwrap_or_default(),
        files: files(app, &connection.name),
        ..view(&workspace, connection, &held)
    };
    workspace.connections.values().map(view).collect()
}

fn view(workspace: &Workspace, connection: &Connection, held: &[ConnectionHold]) -> ConnectionView {
    let name = &connection.name;
    let flows = || workspace.flows.values();
    let calls = flows().flat_map(|flow| &flow.steps).any(|step| step.verb.connection() == Some(name));
    let collects = workspace.partners.values().any(|partner| partner.acknowledges_to() == Some(name));
    ConnectionView {
        name: name.clone(),
        title: connection.title.clone(),
        kind: (&connection.kind).into(),
        place: connection.place().to_owned(),
        repeat: connection.repeat.into(),
        in_flight: connection.in_flight,
        per_minute: connection.per_minute,
        page: connection.page.clone(),
        notes: connection.notes.clone(),
        auth: match &connection.kind {
            ConnectionKind::Http(http) => http.auth.as_ref().map(Auth::words).unwrap_or_default(),
            ConnectionKind::Amqp(broker) => broker.auth.as_ref().map(Auth::words).unwrap_or_default(),
            ConnectionKind::Folder { .. } | ConnectionKind::Webhook(_) | ConnectionKind::Incidents => String::new(),
        },
        used_by: used_by(workspace, name),
        takes: flows().flat_map(|flow| &flow.intakes).any(|intake| intake.from == *name),
        sends: calls || collects,
        on_hold: held.iter().find(|held| held.connection == *name).cloned(),
        queues: Vec::new(),
        files: Vec::new(),
        webhook: None,
    }
}

fn files(app: &App, connection: &str) -> Vec<FileFault> {
    let faults = app.faults.at(connection).into_iter();
    faults.map(|(file, fault)| FileFault { file, since: sure_time(fault.since), says: fault.says }).collect()
}

fn used_by(workspace: &Workspace, name: &str) -> Vec<String> {
    let flows = workspace.flows.values().filter(|flow| {
        flow.intakes.iter().any(|intake| intake.from == name)
            || flow.steps.iter().any(|step| step.verb.connection() == Some(name))
    });
    let partners = workspace.partners.values().filter(|partner| partner.acknowledges_to() == Some(name));
    flows.map(|flow| flow.name.clone()).chain(partners.map(|partner| format!("acknowledgments to {}", partner.name))).collect()
}

pub(super) fn known(app: &App, name: &str) -> Result<Arc<Connection>, Problem> {
    let (_, workspace) = app.engine.releases().current();
    workspace.connections.get(name).cloned().ok_or_else(|| {
        let near = wirewatch_core::nearest::nearest(name, workspace.connections.keys().map(String::as_str));
        let problem = Problem::not_found(format!("there is no connection `{name}`"));
        near.map_or(problem.clone(), |near| problem.detail(format!("Did you mean `{near}`?")))
    })
}

/// Result of a connection test.
#[derive(Debug, Clone, Serialize, Deserialize, utoipa::ToSchema)]
pub struct Tested {
    pub reached: bool,
    pub says: String,
}

/// Reaches the other side without changing anything there.
#[utoipa::path(post, path = "/api/connections/{name}/test", params(("name" = String, Path)), responses((status = 200, body = Tested)))]
pub async fn test(State(app): State<Arc<App>>, Path(name): Path<String>) -> Answer<Tested> {
    let connection = known(&app, &name)?;
    Ok(Json(match app.outside.test(&connection).await {
        Ok(says) => Tested { reached: true, says },
        Err(says) => Tested { reached: false, says },
    }))
}

/// Makes one real request at an HTTP connection with our credentials, for a dry run with real answers. The act is recorded.
#[utoipa::path(post, path = "/api/connections/{name}/ask", operation_id = "ask", params(("name" = String, Path)), request_body = AskRequest,
    responses((status = 200, body = Asked), (status = 404, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn ask(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Path(name): Path<String>,
    Json(AskRequest { method, path, body, key }): Json<AskRequest>,
) -> Answer<Asked> {
    let connection = known(&app, &name)?;
    let wrong = |says: String| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, says);
    if !matches!(connection.kind, ConnectionKind::Http(_)) {
        return Err(wrong(format!(
            "{name} has the kind {}; only http connections can be called in a dry run",
            connection.kind_name()
        )));
    }
    if let Some(held) = status::held(&app).await.into_iter().find(|held| held.connection == name) {
        return Err(Problem::new(StatusCode::CONFLICT, format!("{name} is on hold: {}", held.says)).code(ProblemCode::OnHold));
    }
    let method = Method::of(&method).ok_or_else(|| wrong(format!("`{method}` is not a method that flows can use")))?;
    let key = Digest::parse(&key).ok_or_else(|| wrong("the key must be a digest in hexadecimal digits".to_owned()))?;
    let why = format!("{} {path} at {name}, for a dry run", method.as_str());
    app.store.record_act(app.engine.mint(), &by, PersonAct::Called.as_str(), subject(&name), &why, SystemClock.now()).await?;
    let effect = Effect::Call { connection: name, method, path, body: body.as_deref().map(Body::from) };
    let step = "dry-run".to_owned();
    let work = Work { step, generation: 0, request: effect.digest(), key, effect, once: None };
    let outcome = app.outside.perform(&connection, &work).await;
    let body = outcome.body().map(Body::text).unwrap_or_default();
    Ok(Json(Asked { status: Some(outcome.status()).filter(|status| *status != 0), body, says: outcome.says().to_owned() }))
}

/// Probes a connection on hold with the next message.
#[utoipa::path(post, path = "/api/connections/{name}/probe", params(("name" = String, Path)), responses((status = 200, body = ConnectionView)))]
pub async fn probe(State(app): State<Arc<App>>, person: Extension<Person>, Path(name): Path<String>) -> Answer<ConnectionView> {
    recorded(&app, &person, &name, PersonAct::Probed, &name).await?;
    app.engine.probe_now(&name);
    shown(&app, &name).await
}

/// Puts a connection on hold: nothing is received from it and nothing sent to it until a person resumes it.
#[utoipa::path(post, path = "/api/connections/{name}/hold", params(("name" = String, Path)), request_body = Why,
    responses((status = 200, body = ConnectionView)))]
pub async fn hold(
    State(app): State<Arc<App>>,
    person: Extension<Person>,
    Path(name): Path<String>,
    Json(Why { why }): Json<Why>,
) -> Answer<ConnectionView> {
    let why = given_reason(&why, "it is put on hold")?;
    recorded(&app, &person, &name, PersonAct::Held, why).await?;
    stored_soon(app.engine.hold(&name, &person.0.0, why)).await?;
    shown(&app, &name).await
}

/// Resumes a connection on hold, whoever put it on hold.
#[utoipa::path(post, path = "/api/connections/{name}/resume", operation_id = "resume_connection", params(("name" = String, Path)), responses((status = 200, body = ConnectionView)))]
pub async fn resume(State(app): State<Arc<App>>, person: Extension<Person>, Path(name): Path<String>) -> Answer<ConnectionView> {
    recorded(&app, &person, &name, PersonAct::Resumed, &name).await?;
    stored_soon(app.engine.resume(&name)).await?;
    shown(&app, &name).await
}

/// Returns the id under which acts on a connection are recorded.
pub(super) fn subject(connection: &str) -> Id {
    Id(Digest::of(&[connection.as_bytes()]).short())
}

/// Records a person's act on a connection before it is carried out.
async fn recorded(app: &App, person: &Person, name: &str, act: PersonAct, why: &str) -> Result<(), Problem> {
    known(app, name)?;
    Ok(app.store.record_act(app.engine.mint(), &person.0, act.as_str(), subject(name), why, SystemClock.now()).await?)
}

/// Returns a connection as it is now.
async fn shown(app: &App, name: &str) -> Answer<ConnectionView> {
    let connection = known(app, name)?;
    let (_, workspace) = app.engine.releases().current();
    Ok(Json(view(&workspace, &connection, &status::held(app).await)))
}
