//! Acts on many messages in the background: stored with their progress, continued after a restart, by one process at a time.

use crate::api::amending::{self, Amendment};
use crate::api::messages::source;
use crate::api::parse_reason;
use crate::api::problem::Problem;
use crate::run::App;
use crate::view::BulkRefusal;
use crate::view::words::{AnswerRule, BulkState, MessageAct, ProblemCode};
use axum::http::StatusCode;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use tokio::sync::Notify;
use tokio::task::JoinSet;
use wirewatch_core::act::{Act, Answers};
use wirewatch_core::correction::Correction;
use wirewatch_core::machine::State as MessageState;
use wirewatch_core::{Id, MessageId, Severity};
use wirewatch_engine::{ActError, Clock, Journal, Stored, SystemClock, beside};
use wirewatch_journal::{BulkActRow, JournalError, Progress};

/// Interval at which bulk acts left by another process are looked for.
const LOOK: Duration = Duration::from_secs(5);
/// Bulk acts that one process works on at a time; more wait their turn.
const AT_ONCE: usize = 4;
/// Messages, and time, from one stored progress to the next.
const TOGETHER: usize = 20;
const OFTEN: Duration = Duration::from_secs(1);
/// Refusing messages listed by name, at most; all are counted.
const NAMED: usize = 100;
/// Longest wait for the first message of a resend, which is tried alone; pauses of a flow may be longer.
const FIRST: Duration = Duration::from_secs(60);
/// Interval at which the first message is looked at.
const GLANCE: Duration = Duration::from_millis(100);
/// A resend or an amendment stops when this many of its messages have failed again for the same reason.
const AGAIN: i64 = 3;
/// From a database that is away to the next attempt.
const AWAY: Duration = Duration::from_secs(1);

/// Wakes the task that works on bulk acts.
#[derive(Debug, Default)]
pub struct BulkActs {
    added: Notify,
}

impl BulkActs {
    /// A new one is stored.
    pub fn added(&self) {
        self.added.notify_one();
    }
}

/// What a bulk act does to each of its messages.
#[derive(Debug)]
pub enum Each {
    /// The same act on all.
    Act(Act),
    /// A correction of each document.
    Correct { correction: Correction, answers: Answers, release: Option<i64> },
}

impl Each {
    /// Returns what a bulk act does to each message; `None` for an amendment without a correction.
    pub fn of(act: MessageAct, answers: AnswerRule, release: Option<i64>, correction: Option<Correction>) -> Option<Self> {
        let answers = answers.into();
        Some(match act {
            MessageAct::Resend => Self::Act(Act::Resend { answers, release }),
            MessageAct::Amend => Self::Correct { correction: correction?, answers, release },
            MessageAct::Discard => Self::Act(Act::Discard),
        })
    }

    /// Returns what a stored bulk act does; `None` when its row cannot be read.
    fn stored(row: &BulkActRow) -> Option<Self> {
        let correction = serde_json::from_str(&row.correction).ok();
        Self::of(
            MessageAct::parse(&row.act)?,
            AnswerRule::parse(&row.answers)?,
            Some(row.release).filter(|no| *no > 0),
            correction,
        )
    }
}

/// Tries a correction on one message; the fields in which the value would be replaced.
///
/// # Errors
/// Why the message would be left as it is. Status 503: the database is away.
pub async fn correct(
    app: &App,
    id: MessageId,
    stored: &Stored,
    correction: &Correction,
    answers: Answers,
    release: Option<i64>,
) -> Result<(amending::Tried, Vec<String>), Problem> {
    let (form, bytes) = source(stored);
    let (_, workspace) = app.engine.releases().current();
    let corrected = beside(bytes.len(), || correction.apply(&workspace, form, bytes));
    let corrected = corrected.map_err(|not| Problem::new(StatusCode::UNPROCESSABLE_ENTITY, not.to_string()))?;
    let amendment = Amendment { form: form.clone(), document: corrected.document, answers, release };
    let tried = amending::tried(app, id, stored, amendment).await?;
    match tried.refused() {
        Some(refused) => Err(refused),
        None => Ok((tried, corrected.fields)),
    }
}

/// Returns a problem as one sentence, with the first of its findings.
pub fn sentence(problem: &Problem) -> String {
    let first = problem.findings.iter().find(|finding| finding.severity == Severity::Error);
    first.map_or_else(|| problem.title.clone(), |finding| format!("{}: {}", problem.title, finding.says))
}

/// Works on bulk acts until the service ends.
pub async fn follow(app: Arc<App>) {
    let mut running = JoinSet::new();
    loop {
        while running.len() < AT_ONCE && !app.draining.load(Ordering::Relaxed) {
            let owner = app.journal.mint(SystemClock.now()).0;
            match app.store.claim_bulk_act(owner, SystemClock.now()).await {
                Ok(Some((row, ahead))) => drop(running.spawn(carry_out(app.clone(), owner, row, ahead))),
                Ok(None) => break,
                Err(error) => {
                    tracing::warn!(%error, "bulk acts cannot be read");
                    break;
                }
            }
        }
        tokio::select! {
            () = app.bulk_acts.added.notified() => {}
            () = tokio::time::sleep(LOOK) => {}
            Some(ended) = running.join_next() => {
                if let Err(error) = ended && error.is_panic() {
                    std::panic::resume_unwind(error.into_panic());
                }
            }
        }
    }
}

/// Acts on the messages ahead, one after another in their order. When the service drains, the bulk act is given back.
async fn carry_out(app: Arc<App>, owner: i64, row: BulkActRow, ahead: Vec<i64>) {
    let Some(each) = Each::stored(&row) else {
        tracing::error!(id = row.id, act = row.act, "a stored bulk act cannot be read; it is stopped");
        let _ = app.store.end_bulk_act(row.id, "stopped", SystemClock.now()).await;
        return;
    };
    let mut refusals: Vec<BulkRefusal> = serde_json::from_str(&row.refusals).unwrap_or_default();
    let mut progress = Progress { position: row.position, done: row.done, refused: row.refused, refusals: row.refusals.clone() };
    let (mut since, mut stored) = (0, Instant::now());
    let drains = || app.draining.load(Ordering::Relaxed);
    for message in ahead {
        let outcome = loop {
            if drains() {
                advance(&app, &row, owner, &progress).await;
                let _ = app.store.release_bulk_act(row.id, owner).await;
                return;
            }
            match act_on(&app, &row, &each, Id(message)).await {
                Ok(outcome) => break outcome,
                Err(error) => {
                    tracing::warn!(id = row.id, error, "a bulk act waits for the database");
                    tokio::time::sleep(AWAY).await;
                }
            }
        };
        progress.position += 1;
        let first = outcome.is_none() && progress.done == 0;
        match outcome {
            None => progress.done += 1,
            Some(refusal) => {
                progress.refused += 1;
                if refusals.len() < NAMED {
                    refusals.push(refusal);
                    progress.refusals = serde_json::to_string(&refusals).unwrap_or_default();
                }
            }
        }
        since += 1;
        if first || since == TOGETHER || stored.elapsed() > OFTEN {
            if !advance(&app, &row, owner, &progress).await {
                return;
            }
            (since, stored) = (0, Instant::now());
            if first {
                rests(&app, &row, Id(message)).await;
            }
            if let Some(says) = fails_again(&app, &row, &progress, first.then_some(Id(message))).await {
                refusals.insert(0, refusal(Id(message), String::new(), says));
                progress.refusals = serde_json::to_string(&refusals).unwrap_or_default();
                advance(&app, &row, owner, &progress).await;
                let _ = app.store.end_bulk_act(row.id, BulkState::Stopped.as_str(), SystemClock.now()).await;
                return;
            }
        }
    }
    if advance(&app, &row, owner, &progress).await {
        while let Err(error) = app.store.end_bulk_act(row.id, "done", SystemClock.now()).await {
            tracing::warn!(id = row.id, %error, "the end of a bulk act cannot be stored yet");
            tokio::time::sleep(AWAY).await;
        }
    }
}

/// Waits until the message has ended or failed since the bulk act started, but not longer than [`FIRST`], and not when the service
/// drains. An act is committed a moment after it was accepted: until then the message is as it was.
async fn rests(app: &App, row: &BulkActRow, message: MessageId) {
    let begun = Instant::now();
    while begun.elapsed() < FIRST && !app.draining.load(Ordering::Relaxed) {
        let at_rest =
            |state: &str| MessageState::parse(state).is_none_or(|state| state.is_final() || state == MessageState::Failed);
        match app.store.message(message).await {
            Ok(Some(stored)) if !at_rest(&stored.state) || stored.at <= row.started => {}
            Ok(_) => return,
            Err(_) => {}
        }
        tokio::time::sleep(GLANCE).await;
    }
}

/// Returns why a resend or an amendment stops: its first message has failed again, or several have for the same reason. Stopping
/// early keeps the step free for other messages, and what is left can be corrected first.
async fn fails_again(app: &App, row: &BulkActRow, progress: &Progress, first: Option<MessageId>) -> Option<String> {
    // Messages that were named have failed for reasons of their own, but a correction is one for all.
    if row.act == MessageAct::Discard.as_str() || (row.act == MessageAct::Resend.as_str() && row.reason.is_empty()) {
        return None;
    }
    let same = "failed again for the same reason";
    let says = match first {
        Some(first) => {
            let message = app.store.message(first).await.ok()??;
            let again = message.state == MessageState::Failed.as_str() && message.at > row.started;
            again.then(|| {
                if parse_reason(&row.reason) == Some(message.reason) {
                    same.to_owned()
                } else {
                    format!("failed again: {}", message.says)
                }
            })?
        }
        None => {
            let failed = app.store.failed_again(row.id, parse_reason(&row.reason)?).await.ok()?;
            (failed >= AGAIN).then(|| format!("{failed} messages {same}"))?
        }
    };
    let (left, act) = (row.total - progress.position, if row.act == MessageAct::Amend.as_str() { "amendment" } else { "resend" });
    Some(format!("{says}; the {act} was stopped, {left} messages are left as they were"))
}

/// Stores the progress, also when the database is away for a while; false when the act must not be continued here.
async fn advance(app: &App, row: &BulkActRow, owner: i64, progress: &Progress) -> bool {
    loop {
        match app.store.advance_bulk_act(row.id, owner, progress, SystemClock.now()).await {
            Ok(goes_on) => return goes_on,
            Err(_) if app.draining.load(Ordering::Relaxed) => return false,
            Err(error) => {
                tracing::warn!(id = row.id, %error, "the progress of a bulk act cannot be stored yet");
                tokio::time::sleep(AWAY).await;
            }
        }
    }
}

/// Acts on one message; the refusal when it does not let it be done. A message that was resent, discarded or done since the
/// bulk act began is left alone.
///
/// # Errors
/// The sentence of a database that is away.
async fn act_on(app: &App, row: &BulkActRow, each: &Each, message: MessageId) -> Result<Option<BulkRefusal>, String> {
    let stored = match app.store.message(message).await {
        Ok(stored) => stored,
        Err(JournalError::Away(says)) => return Err(says),
        Err(error) => return Ok(Some(refusal(message, String::new(), error.to_string()))),
    };
    let Some(stored) = stored else {
        return Ok(Some(refusal(message, String::new(), "it is not stored any more".to_owned())));
    };
    if stored.state != MessageState::Failed.as_str() {
        return Ok(Some(refusal(message, stored.key, format!("it no longer needs attention: it is {}", stored.state))));
    }
    let act = match each {
        Each::Act(act) => act.clone(),
        Each::Correct { correction, answers, release } => {
            let whole = match app.store.stored(message).await {
                Ok(Some(whole)) => whole,
                Ok(None) => return Ok(Some(refusal(message, stored.key, "it is not stored any more".to_owned()))),
                Err(JournalError::Away(says)) => return Err(says),
                Err(error) => return Ok(Some(refusal(message, stored.key, error.to_string()))),
            };
            match correct(app, message, &whole, correction, *answers, *release).await {
                Ok((tried, _)) => tried.act,
                Err(problem) if problem.code == ProblemCode::DatabaseUnavailable => return Err(sentence(&problem)),
                Err(problem) => return Ok(Some(refusal(message, stored.key, sentence(&problem)))),
            }
        }
    };
    match app.engine.act(message, act, &row.by_whom, &row.why).await {
        Ok(()) => Ok(None),
        Err(ActError::Not(not)) => Ok(Some(refusal(message, stored.key, not.to_string()))),
        Err(ActError::Down(down)) => Err(down.to_string()),
    }
}

fn refusal(message: MessageId, key: String, says: String) -> BulkRefusal {
    BulkRefusal { message: message.to_string(), key, says }
}
