//! What people do to messages.

use super::messages::source;
use super::problem::Problem;
use super::{Answer, id, rows, said, storable};
use crate::access::Person;
use crate::run::App;
use crate::view::{ActRequest, ActResult, BulkRequest};
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use std::sync::Arc;
use wirewatch_core::act::{Act, Answers};
use wirewatch_core::machine::State as MessageState;
use wirewatch_core::{Finding, Id, MessageId, Severity, amend};
use wirewatch_journal::{MessageFilter, MessageRow};

/// Messages that one bulk act reaches at most; more are done by calling again.
const BULK: u32 = 1000;

fn bad(says: impl Into<String>) -> Problem {
    Problem::new(StatusCode::BAD_REQUEST, says)
}

fn answers(word: &str) -> Result<Answers, Problem> {
    match word {
        "" | "ask" => Ok(Answers::Ask),
        "keep" => Ok(Answers::Keep),
        "again" => Ok(Answers::Again),
        other => Err(bad(format!("`{other}` is none of ask, keep, again"))),
    }
}

/// An act on one message: resend, amend or discard.
#[utoipa::path(post, path = "/api/messages/{id}/acts", params(("id" = String, Path)), request_body = ActRequest,
    responses((status = 200, body = ActResult), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn act(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Path(text): Path<String>,
    Json(request): Json<ActRequest>,
) -> Answer<ActResult> {
    let wanted = id(&text)?;
    storable(&request.why)?;
    let unknown = || Problem::not_found(format!("there is no message {text}"));
    let mut findings = Vec::new();
    let act = match request.act.as_str() {
        "resend" => Act::Resend { answers: answers(&request.answers)? },
        "discard" => said(&request.why, "it is discarded").map(|_| Act::Discard)?,
        "amend" => {
            let stored = app.store.stored(wanted).await?.ok_or_else(unknown)?;
            let (form, _) = source(&stored.origin.form, Vec::new(), &stored.log);
            let document = amend::restore(&form, &request.document);
            let (_, workspace) = app.engine.releases().current();
            let partner = stored.origin.meta.get("partner").and_then(|partner| partner.as_str());
            findings = amend::findings(&workspace, &stored.origin.flow, partner, &form, &document);
            Act::Amend { form, document, answers: answers(&request.answers)? }
        }
        other => return Err(bad(format!("`{other}` is none of resend, amend, discard"))),
    };
    if !request.preview && findings.iter().any(|finding| finding.severity == Severity::Error) {
        return Err(faulty(findings));
    }
    if !request.preview {
        app.engine.act(wanted, act, &by, &request.why).await?;
    }
    let row = app.store.message(wanted).await?.ok_or_else(unknown)?;
    Ok(Json(ActResult { message: rows::message(row), done: !request.preview, says: String::new(), findings }))
}

/// An amended document that would be refused on arrival.
fn faulty(findings: Vec<Finding>) -> Problem {
    let faults = if findings.len() == 1 { "fault" } else { "faults" };
    let title = format!("the amended document has {} {faults}; nothing was done", findings.len());
    Problem { findings, ..Problem::new(StatusCode::UNPROCESSABLE_ENTITY, title) }
}

/// One act for all messages that stand aside for the same reason, or for those named.
#[utoipa::path(post, path = "/api/acts", request_body = BulkRequest, responses((status = 200, body = Vec<ActResult>)))]
pub async fn bulk(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Json(request): Json<BulkRequest>,
) -> Answer<Vec<ActResult>> {
    storable(&request.why)?;
    let act = match request.act.as_str() {
        "resend" => Act::Resend { answers: answers(&request.answers)? },
        "discard" => said(&request.why, "they are discarded").map(|_| Act::Discard)?,
        other => return Err(bad(format!("`{other}` is none of resend, discard"))),
    };
    let mut results = Vec::new();
    for row in meant(&app, &request).await? {
        let wanted: MessageId = Id(row.id);
        // Named a while ago, it may have gone on since: what was meant for one set aside is not done to it.
        let moved_on = row.state != MessageState::Aside.as_str();
        let (done, says) = match request.preview {
            _ if moved_on => (false, format!("it no longer stands aside, it is {}", row.state)),
            true => (false, String::new()),
            false => match app.engine.act(wanted, act.clone(), &by, &request.why).await {
                Ok(()) => (true, String::new()),
                Err(error) => (false, error.to_string()),
            },
        };
        results.push(ActResult { message: rows::message(row), done, says, findings: Vec::new() });
    }
    Ok(Json(results))
}

/// The messages that a bulk act means, oldest first: they have waited longest.
async fn meant(app: &App, request: &BulkRequest) -> Result<Vec<MessageRow>, Problem> {
    if !request.messages.is_empty() {
        let mut named = Vec::new();
        for text in &request.messages {
            let row = app.store.message(id(text)?).await?;
            named.push(row.ok_or_else(|| Problem::not_found(format!("there is no message {text}")))?);
        }
        named.sort_by_key(|row| row.id);
        return Ok(named);
    }
    let reason = rows::parse_reason(&request.reason).ok_or_else(|| bad(format!("`{}` is no reason id", request.reason)))?;
    let filter =
        MessageFilter { reason: Some(reason), states: vec!["aside".to_owned()], limit: BULK, ..MessageFilter::default() };
    Ok(app.store.messages(&filter).await?.into_iter().rev().collect())
}
