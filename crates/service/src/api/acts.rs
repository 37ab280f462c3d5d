//! What people do to messages.

use super::messages::source;
use super::problem::Problem;
use super::{Answer, id, rows};
use crate::access::Person;
use crate::run::App;
use crate::view::{ActRequest, ActResult, BulkRequest};
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use std::sync::Arc;
use wirewatch_core::act::{Act, Answers};
use wirewatch_core::document::Form;
use wirewatch_core::x12::{Checker, Definitions, Segment};
use wirewatch_core::{Document, Finding, Id, MessageId, Severity};
use wirewatch_engine::Stored;
use wirewatch_journal::MessageFilter;

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
    let unknown = || Problem::not_found(format!("there is no message {text}"));
    let act = match request.act.as_str() {
        "resend" => Act::Resend { answers: answers(&request.answers)? },
        "discard" if request.why.trim().is_empty() => return Err(bad("say why it is discarded")),
        "discard" => Act::Discard,
        "amend" => {
            let stored = app.store.stored(wanted).await?.ok_or_else(unknown)?;
            amend(&stored, &request.document, answers(&request.answers)?)?
        }
        other => return Err(bad(format!("`{other}` is none of resend, amend, discard"))),
    };
    if !request.preview {
        app.engine.act(wanted, act, &by, &request.why).await?;
    }
    let row = app.store.message(wanted).await?.ok_or_else(unknown)?;
    Ok(Json(ActResult { message: rows::message(row), done: !request.preview, says: String::new() }))
}

/// The amended document, checked as it would be on arrival.
fn amend(stored: &Stored, text: &str, answers: Answers) -> Result<Act, Problem> {
    let (form, _) = source(&stored.origin.form, Vec::new(), &stored.log);
    let document = match &form {
        // Lines are for people: as the partner sent it, segments follow one another.
        Form::X12 { .. } => text.lines().map(str::trim).collect::<String>(),
        Form::Json | Form::Bytes => text.to_owned(),
    };
    let findings = match &form {
        Form::X12 { version, set, delimiters } => x12_findings(version, set, *delimiters, &document),
        Form::Json | Form::Bytes => match Document::read(&form, document.as_bytes()) {
            Ok(_) => Vec::new(),
            Err(error) => vec![Finding::at(Severity::Error, "document::unreadable", "document", text, 0..1, error.to_string())],
        },
    };
    if !findings.is_empty() {
        let title = format!(
            "the amended document has {} fault{}; nothing was done",
            findings.len(),
            if findings.len() == 1 { "" } else { "s" }
        );
        return Err(Problem { findings, ..Problem::new(StatusCode::UNPROCESSABLE_ENTITY, title) });
    }
    Ok(Act::Amend { form, document, answers })
}

/// Checks one transaction set on its own; places are lines of the document with a segment each.
fn x12_findings(version: &str, set: &str, delimiters: wirewatch_core::x12::Delimiters, document: &str) -> Vec<Finding> {
    let Some(definition) = Definitions::standard().find(version, set) else { return Vec::new() };
    let mut checker = Checker::new(definition);
    let terminator = char::from(delimiters.segment);
    let segments: Vec<&str> = document.split(terminator).filter(|segment| !segment.is_empty()).collect();
    let lines: String = segments.iter().map(|segment| format!("{segment}{terminator}\n")).collect();
    let mut starts = Vec::with_capacity(segments.len());
    let mut at = 0;
    for segment in &segments {
        starts.push(at);
        checker.segment(&Segment {
            bytes: segment.as_bytes(),
            delimiters,
            offset: at as u64,
            end: (at + segment.len() + 1) as u64,
        });
        at += segment.len() + 2;
    }
    let mut findings: Vec<Finding> = checker
        .end()
        .into_iter()
        .map(|fault| {
            let start = fault.offset as usize;
            let length =
                segments.get(starts.iter().position(|known| *known == start).unwrap_or(0)).map_or(1, |segment| segment.len());
            Finding::at(
                Severity::Error,
                &format!("x12::{:?}-{}", fault.level, fault.code).to_lowercase(),
                "document",
                &lines,
                start..start + length,
                fault.says,
            )
        })
        .collect();
    if let Some(last) = segments.last() {
        let said: Option<usize> = last.split(char::from(delimiters.element)).nth(1).and_then(|count| count.parse().ok());
        if last.starts_with("SE") && said != Some(segments.len()) {
            let says = format!("SE01 should say {} segments", segments.len());
            let start = starts.last().copied().unwrap_or(0);
            findings.push(Finding::at(Severity::Error, "x12::set-4", "document", &lines, start..start + last.len(), says));
        }
    }
    findings
}

/// One act for all messages that stand aside for the same reason.
#[utoipa::path(post, path = "/api/acts", request_body = BulkRequest, responses((status = 200, body = Vec<ActResult>)))]
pub async fn bulk(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Json(request): Json<BulkRequest>,
) -> Answer<Vec<ActResult>> {
    let act = match request.act.as_str() {
        "resend" => Act::Resend { answers: answers(&request.answers)? },
        "discard" if request.why.trim().is_empty() => return Err(bad("say why they are discarded")),
        "discard" => Act::Discard,
        other => return Err(bad(format!("`{other}` is none of resend, discard"))),
    };
    let reason = rows::parse_reason(&request.reason).ok_or_else(|| bad(format!("`{}` is no reason id", request.reason)))?;
    let filter = MessageFilter { reason: Some(reason), state: "aside".to_owned(), limit: BULK, ..MessageFilter::default() };
    let mut results = Vec::new();
    // Oldest first: they have waited longest.
    for row in app.store.messages(&filter).await?.into_iter().rev() {
        let wanted: MessageId = Id(row.id);
        let (done, says) = match request.preview {
            true => (false, String::new()),
            false => match app.engine.act(wanted, act.clone(), &by, &request.why).await {
                Ok(()) => (true, String::new()),
                Err(error) => (false, error.to_string()),
            },
        };
        results.push(ActResult { message: rows::message(row), done, says });
    }
    Ok(Json(results))
}
