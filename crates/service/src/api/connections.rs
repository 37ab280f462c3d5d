//! Connections: their state, a test that reaches them, and freeing a held one.

use super::problem::Problem;
use super::{Answer, status};
use crate::access::Person;
use crate::run::App;
use crate::view::ConnectionView;
use axum::extract::{Path, State};
use axum::{Extension, Json};
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use wirewatch_core::connection::Connection;
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{Digest, Id};
use wirewatch_engine::{Clock, SystemClock};

/// Every connection with its state and who uses it.
#[utoipa::path(get, path = "/api/connections", responses((status = 200, body = Vec<ConnectionView>)))]
pub async fn list(State(app): State<Arc<App>>) -> Answer<Vec<ConnectionView>> {
    let (_, workspace) = app.engine.releases().current();
    let held = status::held(&app).await;
    let views = workspace.connections.values().map(|connection| ConnectionView {
        name: connection.name.clone(),
        title: connection.title.clone(),
        kind: connection.kind_name().to_owned(),
        place: connection.place().to_owned(),
        used_by: used_by(&workspace, &connection.name),
        held: held.iter().find(|held| held.connection == connection.name).cloned(),
    });
    Ok(Json(views.collect()))
}

fn used_by(workspace: &Workspace, name: &str) -> Vec<String> {
    let flows = workspace.flows.values().filter(|flow| {
        flow.intakes.iter().any(|intake| intake.from == name)
            || flow.steps.iter().any(|step| step.verb.connection() == Some(name))
    });
    let partners = workspace.partners.values().filter(|partner| partner.acknowledge_to.as_deref() == Some(name));
    flows.map(|flow| flow.name.clone()).chain(partners.map(|partner| format!("acknowledgments to {}", partner.name))).collect()
}

fn known(app: &App, name: &str) -> Result<Arc<Connection>, Problem> {
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
pub async fn look(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Path(name): Path<String>,
) -> Answer<ConnectionView> {
    let connection = known(&app, &name)?;
    let subject = Id(Digest::of(&[name.as_bytes()]).short());
    app.store.record_act(app.engine.mint(), &by, "looked", subject, &name, SystemClock.now()).await?;
    app.engine.look_now(&name);
    let (_, workspace) = app.engine.releases().current();
    let held = status::held(&app).await.into_iter().find(|held| held.connection == name);
    Ok(Json(ConnectionView {
        name: connection.name.clone(),
        title: connection.title.clone(),
        kind: connection.kind_name().to_owned(),
        place: connection.place().to_owned(),
        used_by: used_by(&workspace, &name),
        held,
    }))
}
