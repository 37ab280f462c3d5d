//! Secrets: named, set, changed, removed; never shown but once, when the service made one up.

use super::problem::Problem;
use super::{Answer, given_reason};
use crate::access::Person;
use crate::run::App;
use crate::secrets::{self, Secret};
use crate::view::words::PersonAct;
use crate::view::{SecretRequest, SecretSet, SecretView, sure_time};
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Duration;
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{Digest, Id};
use wirewatch_engine::{Clock, SystemClock};

/// Longest value, in bytes.
const MAX_SECRET: usize = 64 << 10;

/// Every secret that is set, and every one the workspace names.
#[utoipa::path(get, path = "/api/secrets", operation_id = "secrets", responses((status = 200, body = Vec<SecretView>)))]
pub async fn list(State(app): State<Arc<App>>) -> Answer<Vec<SecretView>> {
    let (_, workspace) = app.engine.releases().current();
    let known = app.secrets.all();
    let names: BTreeSet<String> = known.keys().cloned().chain(named(&workspace).map(|(name, _)| name)).collect();
    Ok(Json(names.into_iter().map(|name| view(&name, known.get(&name), &workspace)).collect()))
}

fn view(name: &str, secret: Option<&Secret>, workspace: &Workspace) -> SecretView {
    SecretView {
        name: name.to_owned(),
        set: secret.map(|secret| sure_time(secret.set)),
        by: secret.map(|secret| secret.by.clone()).unwrap_or_default(),
        before_until: secret.and_then(|secret| secret.until(SystemClock.now())).map(sure_time),
        used_by: named(workspace).filter(|(known, _)| known == name).map(|(_, connection)| connection).collect(),
    }
}

/// The secrets a workspace names, each with the connection that uses it.
fn named(workspace: &Workspace) -> impl Iterator<Item = (String, String)> {
    let connections = workspace.connections.values();
    connections.flat_map(|connection| connection.secrets().map(|secret| (secret.to_owned(), connection.name.clone())))
}

/// Sets a secret to the given value, or to a generated one, which is shown only in this response.
#[utoipa::path(put, path = "/api/secrets/{name}", operation_id = "set_secret", params(("name" = String, Path)), request_body = SecretRequest,
    responses((status = 200, body = SecretSet)))]
pub async fn set(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Path(name): Path<String>,
    Json(request): Json<SecretRequest>,
) -> Answer<SecretSet> {
    let bad = |says: &str| Problem::new(StatusCode::BAD_REQUEST, says);
    let generated = match &request.value {
        Some(value) if value.is_empty() || value.len() > MAX_SECRET => return Err(bad("a secret has 1 to 65536 bytes")),
        Some(_) => None,
        None => Some(secrets::generate().map_err(|error| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, error.to_string()))?),
    };
    let value = request.value.as_ref().or(generated.as_ref()).map(String::as_str).unwrap_or_default();
    let now = SystemClock.now();
    record(
        &app,
        &by,
        if app.secrets.good(&name, now).is_empty() { PersonAct::SecretSet } else { PersonAct::SecretChanged },
        &name,
    )
    .await?;
    app.secrets_changed(&app.secrets.set(&name, value, Duration::from_secs(request.keep_seconds), &by, now).await?);
    let (_, workspace) = app.engine.releases().current();
    let secret = view(&name, app.secrets.all().get(&name), &workspace);
    Ok(Json(SecretSet { secret, value: generated }))
}

/// Removes a secret: calls signed with it are rejected from then on.
#[utoipa::path(delete, path = "/api/secrets/{name}", operation_id = "remove_secret", params(("name" = String, Path)),
    responses((status = 204), (status = 404, body = Problem)))]
pub async fn remove(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Path(name): Path<String>,
) -> Result<StatusCode, Problem> {
    if !app.secrets.all().contains_key(&name) {
        return Err(Problem::not_found(format!("there is no secret `{name}`")));
    }
    record(&app, &by, PersonAct::SecretRemoved, &name).await?;
    app.secrets_changed(&app.secrets.remove(&name).await?);
    Ok(StatusCode::NO_CONTENT)
}

async fn record(app: &App, by: &str, act: PersonAct, name: &str) -> Result<(), Problem> {
    let name = given_reason(name, "which secret it is")?;
    let subject = Id(Digest::of(&[b"secret ", name.as_bytes()]).short());
    Ok(app.store.record_act(app.engine.mint(), by, act.as_str(), subject, name, SystemClock.now()).await?)
}
