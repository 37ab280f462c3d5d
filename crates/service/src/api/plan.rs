//! What a resend or an amendment of one message would do: tried on a copy of the message, nothing is stored or sent.

use super::problem::Problem;
use super::releases::file;
use super::story::{self, request};
use crate::run::App;
use crate::view::words::{MessageState, ProblemCode};
use crate::view::{ActPlan, NextAction};
use axum::http::StatusCode;
use wirewatch_core::MessageId;
use wirewatch_core::act::Act;
use wirewatch_core::machine::{ActRefused, End, Machine, Next};
use wirewatch_core::workspace::changes::changes;
use wirewatch_engine::{ActError, Clock, Journal, NotActed, Stored, SystemClock};

/// Tries an act on a copy of a stored message; `None` for a discard, which runs nothing.
///
/// # Errors
/// The problem that the act itself would have.
pub async fn plan(app: &App, id: MessageId, stored: &Stored, act: &Act) -> Result<Option<ActPlan>, Problem> {
    if *act == Act::Discard {
        return Ok(None);
    }
    let machine = story::rebuilt(app, stored).await?.map_err(|says| ActError::Not(NotActed::Broken(says)))?;
    let offered = app.engine.offered(act).await?;
    let tried = |act: Act| {
        let mut copy = machine.clone();
        copy.act(act, &offered, "", "", SystemClock.now()).map(|_| copy)
    };
    let refused = |refused: ActRefused| Problem::from(ActError::Not(NotActed::Refused(refused)));
    let after = tried(act.clone()).map_err(refused)?;
    let (before, release) = (machine.release(), after.release());
    // The current release does not fit: say why.
    let says = match act.release() {
        None if release != offered.0 => tried(act.clone().under(offered.0)).err().map(|unfit| unfit.to_string()),
        _ => None,
    };
    let changes = if release == before { Vec::new() } else { differences(app, before, release).await? };
    Ok(Some(ActPlan {
        message: id.to_string(),
        release,
        before,
        changes,
        says: says.unwrap_or_default(),
        skipped: after.skipped().to_vec(),
        next: next(&after),
    }))
}

/// Returns the problem of an amendment after which the message would fail again before its next request.
pub fn fails_again(plan: &ActPlan) -> Option<Problem> {
    let NextAction { step, says, .. } = Some(&plan.next).filter(|next| next.state == MessageState::Failed)?;
    let title = format!("the message would fail again at step `{step}`: {says}; nothing was done");
    Some(Problem::new(StatusCode::UNPROCESSABLE_ENTITY, title).code(ProblemCode::WouldFailAgain))
}

async fn differences(app: &App, before: i64, after: i64) -> Result<Vec<crate::view::FileView>, Problem> {
    let files = async |no: i64| Ok::<_, Problem>(app.journal.release(no).await?.unwrap_or_default());
    Ok(changes(&files(before).await?, &files(after).await?).into_iter().map(file).collect())
}

fn next(machine: &Machine) -> NextAction {
    let next = machine.next();
    let (step, says) = match next {
        Next::End(End::Failed(reason)) => (reason.step.clone(), reason.says.clone()),
        Next::End(End::Skipped(because)) => (String::new(), because.clone()),
        Next::End(End::Done | End::Discarded) => (String::new(), String::new()),
        Next::Pause(until) | Next::WaitUntil(until) => (machine.step().to_owned(), until.to_string()),
        Next::Perform(_) | Next::WaitFor(_) | Next::Part(_) => (machine.step().to_owned(), String::new()),
    };
    let request = match next {
        Next::Perform(work) => Some(request(&work.effect)),
        _ => None,
    };
    // On failure, the next request is the notice of a step on failure: the message itself has failed.
    match machine.failing() {
        Some(reason) => {
            NextAction { step: reason.step.clone(), state: MessageState::Failed, says: reason.says.clone(), request: None }
        }
        None => NextAction { step, state: next.state().into(), says, request },
    }
}
