//! Acts of people on one message.

use super::amending::{self, Amendment};
use super::messages::source;
use super::plan::plan;
use super::problem::Problem;
use super::{Answer, given_reason, message_id, rows, storable, stored_soon};
use crate::access::Person;
use crate::run::App;
use crate::view::words::MessageAct;
use crate::view::{ActRequest, ActResult};
use axum::extract::{Path, State};
use axum::{Extension, Json};
use std::sync::Arc;
use wirewatch_core::act::Act;
use wirewatch_core::amend;

/// An act on one message: resend, amend or discard. It is stored when it is answered.
#[utoipa::path(post, path = "/api/messages/{id}/acts", params(("id" = String, Path)), request_body = ActRequest,
    responses((status = 200, body = ActResult), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn act(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Path(text): Path<String>,
    Json(request): Json<ActRequest>,
) -> Answer<ActResult> {
    let wanted = message_id(&app, &text).await?;
    storable(&request.why)?;
    let unknown = || Problem::not_found(format!("there is no message {text}"));
    let stored = app.store.stored(wanted).await?.ok_or_else(unknown)?;
    let (act, plan, findings) = match request.act {
        MessageAct::Amend => {
            let form = source(&stored).0.clone();
            let document = amend::restore(&form, &request.document);
            let amendment = Amendment { form, document, answers: request.answers.into(), release: request.release };
            let tried = amending::tried(&app, wanted, &stored, amendment).await?;
            if let Some(problem) = tried.refused().filter(|_| !request.preview) {
                return Err(problem);
            }
            (tried.act, tried.plan, tried.findings)
        }
        MessageAct::Resend => {
            let act = Act::Resend { answers: request.answers.into(), release: request.release };
            let plan = plan(&app, wanted, &stored, &act).await?;
            // Exactly what was tried is done, also when another release becomes current meanwhile.
            let act = match &plan {
                Some(plan) => act.under(plan.release),
                None => act,
            };
            (act, plan, Vec::new())
        }
        MessageAct::Discard => given_reason(&request.why, "it is discarded").map(|_| (Act::Discard, None, Vec::new()))?,
    };
    if !request.preview {
        stored_soon(app.engine.act(wanted, act, &by, &request.why)).await??;
    }
    let row = app.store.message(wanted).await?.ok_or_else(unknown)?;
    Ok(Json(ActResult { message: rows::message(row), done: !request.preview, says: String::new(), plan, findings }))
}
