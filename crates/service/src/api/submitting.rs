//! Submits one real message by hand at a connection: to a queue, an exchange, a server, a folder, or one of our webhooks.

use super::Answer;
use super::connections;
use super::connections::known;
use super::problem::Problem;
use crate::access::Person;
use crate::hooks::PREFIX;
use crate::run::App;
use crate::view::Submitted;
use crate::view::words::PersonAct;
use axum::body::Bytes;
use axum::extract::{Path, Query, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use serde::Deserialize;
use std::sync::Arc;
use wirewatch_core::Digest;
use wirewatch_core::connection::{Connection, ConnectionKind, RepeatRule};
use wirewatch_core::flow::Method;
use wirewatch_core::machine::{Body, Effect, Outcome, Post, Work};
use wirewatch_core::webhook::Webhook;
use wirewatch_engine::{Clock, Links, SystemClock};
use wirewatch_links::http;

/// Target at the connection.
#[derive(Debug, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct SubmitAt {
    /// A queue of a broker.
    #[serde(default)]
    pub queue: String,
    /// Or an exchange of it, with a routing key.
    #[serde(default)]
    pub exchange: String,
    #[serde(default)]
    pub key: String,
    /// Type of the message, for its consumers at a broker.
    #[serde(default)]
    pub kind: String,
    /// The path at a server, `/` first.
    #[serde(default)]
    pub path: String,
    /// `GET`, `POST` (when left out), `PUT`, `PATCH` or `DELETE`.
    #[serde(default)]
    pub method: String,
    /// The file's name, at a folder.
    #[serde(default)]
    pub name: String,
}

/// Sends one message or request as a flow would, or calls a webhook as its sender would, and returns the result.
#[utoipa::path(post, path = "/api/connections/{name}/submit", operation_id = "submit_at", params(("name" = String, Path), SubmitAt),
    request_body(content = String, content_type = "application/octet-stream"), responses((status = 200, body = Submitted)))]
pub async fn submit(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Path(name): Path<String>,
    Query(at): Query<SubmitAt>,
    body: Bytes,
) -> Answer<Submitted> {
    let connection = known(&app, &name)?;
    let key = Digest::of(&[b"by hand", app.engine.mint().to_string().as_bytes()]);
    let (outcome, line) = match &connection.kind {
        ConnectionKind::Webhook(webhook) => {
            (call_ourselves(&app, webhook, &key.to_string(), &body).await?, format!("POST {PREFIX}{}", webhook.path))
        }
        ConnectionKind::Folder { .. } | ConnectionKind::Http(_) | ConnectionKind::Amqp(_) | ConnectionKind::Incidents => {
            let effect = effect(&connection, &at, &body)?;
            let line = effect.line();
            let (step, generation) = ("by hand".to_owned(), 0);
            let work = Work { step, generation, request: effect.digest(), effect, key, once: None };
            // A person sees the result and decides whether to repeat it.
            let careful = Connection { repeat: RepeatRule::Never, ..(*connection).clone() };
            (app.outside.perform(&careful, &work).await, line)
        }
    };
    let now = SystemClock.now();
    app.store.record_act(app.engine.mint(), &by, PersonAct::Submitted.as_str(), connections::subject(&name), &line, now).await?;
    Ok(Json(submitted(&outcome, line)))
}

fn effect(connection: &Connection, at: &SubmitAt, body: &[u8]) -> Result<Effect, Problem> {
    let wrong = |says: &str| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, format!("{}: {says}", connection.title));
    let (name, body) = (connection.name.clone(), Body(body.to_vec()));
    match &connection.kind {
        ConnectionKind::Http(_) => {
            if !at.path.starts_with('/') {
                return Err(wrong("a path that begins with a slash is needed: --post /path"));
            }
            let asked = if at.method.is_empty() { "POST".to_owned() } else { at.method.to_uppercase() };
            let method = Method::ALL.iter().map(|(_, method)| *method).find(|method| method.as_str() == asked);
            let method = method.ok_or_else(|| wrong("the method must be GET, POST, PUT, PATCH or DELETE"))?;
            let body = (!body.0.is_empty()).then_some(body);
            Ok(Effect::Call { connection: name, method, path: at.path.clone(), body })
        }
        ConnectionKind::Amqp(_) => {
            let (exchange, routing_key) = match (at.queue.as_str(), at.exchange.as_str()) {
                ("", "") => return Err(wrong("a target is needed: --queue NAME, or --exchange NAME with --key ROUTING.KEY")),
                (queue, "") => (String::new(), queue.to_owned()),
                ("", exchange) => (exchange.to_owned(), at.key.clone()),
                (_, _) => return Err(wrong("give either a queue or an exchange")),
            };
            let is_json = serde_json::from_slice::<serde_json::Value>(&body.0).is_ok();
            let content_type = if is_json { "application/json" } else { "application/octet-stream" };
            let post = Post { exchange, routing_key, content_type, kind: at.kind.clone(), ..Post::default() };
            Ok(Effect::Publish { connection: name, post: Box::new(post), body })
        }
        ConnectionKind::Folder { .. } => {
            if at.name.is_empty() || at.name.contains('/') {
                return Err(wrong("the file name must be plain, without folders"));
            }
            Ok(Effect::Send { connection: name, file: at.name.clone(), body })
        }
        ConnectionKind::Webhook(_) | ConnectionKind::Incidents => Err(wrong("nothing can be sent there")),
    }
}

/// Calls one of our webhooks as its sender would, signed with the newest secret.
async fn call_ourselves(app: &App, webhook: &Webhook, id: &str, body: &Bytes) -> Result<Outcome, Problem> {
    let mut headers = Vec::new();
    if let Some(signature) = &webhook.signature {
        let now = SystemClock.now();
        let secret = app.secrets.good(&signature.secret, now).into_iter().next().ok_or_else(|| {
            let says = format!("the secret `{0}` is not set; `wirewatch secret set {0}` sets it", signature.secret);
            Problem::new(StatusCode::CONFLICT, says)
        })?;
        headers = signature.sign(&secret, id, body, now);
    }
    let address = format!("{}{PREFIX}{}", app.token.address, webhook.path);
    http::tell(&address, &headers, body).await.map_err(|says| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, says))
}

fn submitted(outcome: &Outcome, request: String) -> Submitted {
    Submitted {
        what: outcome.into(),
        request,
        says: outcome.says().to_owned(),
        status: Some(outcome.status()).filter(|status| *status != 0),
        answer: outcome.body().map(Body::text).unwrap_or_default(),
    }
}
