//! Acts of people on one message.

use super::messages::source;
use super::plan::{fails_again, plan};
use super::problem::Problem;
use super::{Answer, given_reason, message_id, rows, storable};
use crate::access::Person;
use crate::run::App;
use crate::view::words::{MessageAct, ProblemCode};
use crate::view::{ActRequest, ActResult};
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use std::sync::Arc;
use wirewatch_core::act::Act;
use wirewatch_core::{Finding, Severity, amend};

/// An act on one message: resend, amend or discard.
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
    let mut findings = Vec::new();
    let act = match request.act {
        MessageAct::Resend => Act::Resend { answers: request.answers.into(), release: request.release },
        MessageAct::Discard => given_reason(&request.why, "it is discarded").map(|_| Act::Discard)?,
        MessageAct::Amend => {
            let (form, _) = source(&stored.origin.form, Vec::new(), &stored.log);
            let document = amend::restore(&form, &request.document);
            let (_, workspace) = app.engine.releases().current();
            let partner = stored.origin.meta.get("partner").and_then(|partner| partner.as_str());
            findings = amend::findings(&workspace, &stored.origin.flow, partner, &form, &document);
            Act::Amend { form, document, answers: request.answers.into(), release: request.release }
        }
    };
    let faults = findings.iter().any(|finding| finding.severity == Severity::Error);
    if !request.preview && faults {
        return Err(faulty(findings));
    }
    // A document with faults need not run: its findings are the answer.
    let plan = if faults { None } else { plan(&app, wanted, &stored, &act).await? };
    if !request.preview {
        if let (MessageAct::Amend, Some(problem)) = (request.act, plan.as_ref().and_then(fails_again)) {
            return Err(problem);
        }
        // Exactly what was tried is done, also when another release becomes current meanwhile.
        let act = match &plan {
            Some(plan) => act.under(plan.release),
            None => act,
        };
        app.engine.act(wanted, act, &by, &request.why).await?;
    }
    let row = app.store.message(wanted).await?.ok_or_else(unknown)?;
    Ok(Json(ActResult { message: rows::message(row), done: !request.preview, says: String::new(), plan, findings }))
}

/// Returns the problem of an amended document that would be refused on arrival.
fn faulty(findings: Vec<Finding>) -> Problem {
    let faults = if findings.len() == 1 { "fault" } else { "faults" };
    let title = format!("the amended document has {} {faults}; nothing was done", findings.len());
    Problem { findings, ..Problem::new(StatusCode::UNPROCESSABLE_ENTITY, title).code(ProblemCode::DocumentInvalid) }
}
