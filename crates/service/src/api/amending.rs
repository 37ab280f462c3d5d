//! Amendments: a corrected document is checked as on arrival and tried on a copy of its message, before anything is done.

use super::plan::{fails_again, plan};
use super::problem::Problem;
use crate::run::App;
use crate::view::ActPlan;
use crate::view::words::ProblemCode;
use axum::http::StatusCode;
use wirewatch_core::act::{Act, Answers};
use wirewatch_core::document::Form;
use wirewatch_core::{Finding, MessageId, Severity, amend};
use wirewatch_engine::Stored;

/// Document of an amendment with its terms.
#[derive(Debug)]
pub struct Amendment {
    pub form: Form,
    pub document: String,
    pub answers: Answers,
    /// The release to run; `None` for the current one where the completed steps fit it.
    pub release: Option<i64>,
}

/// An amendment that was tried.
#[derive(Debug)]
pub struct Tried {
    /// Runs exactly the release that was tried.
    pub act: Act,
    /// `None` when the document has faults: it was not run.
    pub plan: Option<ActPlan>,
    pub findings: Vec<Finding>,
}

impl Tried {
    /// Returns why the amendment must not be done: its document would be refused on arrival, or the message would fail again.
    pub fn refused(&self) -> Option<Problem> {
        match &self.plan {
            Some(plan) => fails_again(plan),
            None => Some(faulty(self.findings.clone())),
        }
    }
}

/// Checks an amendment and tries it on a copy of its message.
///
/// # Errors
/// The problem that the act itself would have.
pub async fn tried(app: &App, id: MessageId, stored: &Stored, amendment: Amendment) -> Result<Tried, Problem> {
    let Amendment { form, document, answers, release } = amendment;
    let (_, workspace) = app.engine.releases().current();
    let partner = stored.origin.meta.get("partner").and_then(|partner| partner.as_str());
    let findings = amend::findings(&workspace, &stored.origin.flow, partner, &form, &document);
    let act = Act::Amend { form, document, answers, release };
    if findings.iter().any(|finding| finding.severity == Severity::Error) {
        return Ok(Tried { act, plan: None, findings });
    }
    let plan = plan(app, id, stored, &act).await?;
    let act = match &plan {
        Some(plan) => act.under(plan.release),
        None => act,
    };
    Ok(Tried { act, plan, findings })
}

/// Returns the problem of an amended document that would be refused on arrival.
fn faulty(findings: Vec<Finding>) -> Problem {
    let faults = if findings.len() == 1 { "fault" } else { "faults" };
    let title = format!("the amended document has {} {faults}; nothing was done", findings.len());
    Problem { findings, ..Problem::new(StatusCode::UNPROCESSABLE_ENTITY, title).code(ProblemCode::DocumentInvalid) }
}
