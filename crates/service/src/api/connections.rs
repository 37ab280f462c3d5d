//! Connections: their state, a test that reaches them, and freeing a held one.

use super::problem::Problem;
use super::{Answer, queues, said, status, webhooks};
use crate::access::Person;
use crate::run::App;
use crate::view::{ConnectionView, HeldConnection, Why};
use axum::extract::{Path, State};
use axum::{Extension, Json};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use wirewatch_core::connection::{Connection, ConnectionKind, SignIn};
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{Digest, Id};
use wirewatch_engine::{Clock, SystemClock};

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
    // Without an answer the rest is told all the same.
    let heard = if hooks { app.store.heard().await.unwrap_or_default() } else { Vec::new() };
    let view = |connection: &Arc<Connection>| ConnectionView {
        webhook: connection.webhook().map(|webhook| webhooks::view(app, &workspace, connection, webhook, &heard)),
        queues: connection.broker().map(|broker| queues::views(app, &workspace, connection, broker)).unwrap_or_default(),
        ..view(&workspace, connection, &held)
    };
    workspace.connections.values().map(view).collect()
}

fn view(workspace: &Workspace, connection: &Connection, held: &[HeldConnection]) -> ConnectionView {
    let name = &connection.name;
    let flows = || workspace.flows.values();
    let calls = flows().flat_map(|flow| &flow.steps).any(|step| step.verb.connection() == Some(name));
    let collects = workspace.partners.values().any(|partner| partner.acknowledges_to() == Some(name));
    ConnectionView {
        name: name.clone(),
        title: connection.title.clone(),
        kind: connection.kind_name().to_owned(),
        place: connection.place().to_owned(),
        repeat: connection.repeat.as_str().to_owned(),
        in_flight: connection.in_flight,
        per_minute: connection.per_minute,
        page: connection.page.clone(),
        notes: connection.notes.clone(),
        signs_in: match &connection.kind {
            ConnectionKind::Http(http) => http.sign_in.as_ref().map(SignIn::words).unwrap_or_default(),
            ConnectionKind::Amqp(broker) => broker.sign_in.as_ref().map(SignIn::words).unwrap_or_default(),
            ConnectionKind::Folder { .. } | ConnectionKind::Webhook(_) | ConnectionKind::Incidents => String::new(),
        },
        used_by: used_by(workspace, name),
        takes: flows().flat_map(|flow| &flow.intakes).any(|intake| intake.from == *name),
        sends: calls || collects,
        held: held.iter().find(|held| held.connection == *name).cloned(),
        queues: Vec::new(),
        webhook: None,
    }
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

/// What a test found.
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

/// Lets the next message look at once whether a held connection is of use again.
#[utoipa::path(post, path = "/api/connections/{name}/look", params(("name" = String, Path)), responses((status = 200, body = ConnectionView)))]
pub async fn look(State(app): State<Arc<App>>, person: Extension<Person>, Path(name): Path<String>) -> Answer<ConnectionView> {
    acted(&app, person, &name, "looked", &name, |app, _| app.engine.look_now(&name)).await
}

/// Holds a connection: nothing is taken from it and nothing sent to it until a person frees it.
#[utoipa::path(post, path = "/api/connections/{name}/hold", params(("name" = String, Path)), request_body = Why,
    responses((status = 200, body = ConnectionView)))]
pub async fn hold(
    State(app): State<Arc<App>>,
    person: Extension<Person>,
    Path(name): Path<String>,
    Json(Why { why }): Json<Why>,
) -> Answer<ConnectionView> {
    let why = said(&why, "it is held")?;
    acted(&app, person, &name, "held", why, |app, by| app.engine.hold(&name, by, why)).await
}

/// Frees a held connection, whoever held it.
#[utoipa::path(post, path = "/api/connections/{name}/free", params(("name" = String, Path)), responses((status = 200, body = ConnectionView)))]
pub async fn free(State(app): State<Arc<App>>, person: Extension<Person>, Path(name): Path<String>) -> Answer<ConnectionView> {
    acted(&app, person, &name, "freed", &name, |app, _| app.engine.free(&name)).await
}

/// Records a person's act on a connection, carries it out, and tells how the connection stands then.
async fn acted(
    app: &App,
    Extension(Person(by)): Extension<Person>,
    name: &str,
    act: &str,
    why: &str,
    carry_out: impl FnOnce(&App, &str),
) -> Answer<ConnectionView> {
    let connection = known(app, name)?;
    let subject = Id(Digest::of(&[name.as_bytes()]).short());
    app.store.record_act(app.engine.mint(), &by, act, subject, why, SystemClock.now()).await?;
    carry_out(app, &by);
    let (_, workspace) = app.engine.releases().current();
    Ok(Json(view(&workspace, &connection, &status::held(app).await)))
}
