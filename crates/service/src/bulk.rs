//! Acts on many messages in the background: stored with their progress, continued after a restart, by one process at a time.

use crate::api::parse_reason;
use crate::run::App;
use crate::view::BulkRefusal;
use crate::view::words::{AnswerRule, BulkActKind, BulkState};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::{Duration, Instant};
use tokio::sync::Notify;
use tokio::task::JoinSet;
use wirewatch_core::act::Act;
use wirewatch_core::machine::State as MessageState;
use wirewatch_core::{Id, MessageId};
use wirewatch_engine::{ActError, Clock, Journal, SystemClock};
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
/// A resend stops when this many of its messages have failed again for the same reason.
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

/// The act on each message of a bulk act.
pub fn act_of(act: BulkActKind, answers: AnswerRule, release: Option<i64>) -> Act {
    match act {
        BulkActKind::Resend => Act::Resend { answers: answers.into(), release },
        BulkActKind::Discard => Act::Discard,
    }
}

/// Returns the act of a stored bulk act; `None` when its row cannot be read.
fn stored_act(row: &BulkActRow) -> Option<Act> {
    Some(act_of(BulkActKind::parse(&row.act)?, AnswerRule::parse(&row.answers)?, Some(row.release).filter(|no| *no > 0)))
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
    let Some(act) = stored_act(&row) else {
        tracing::error!(id = row.id, act = row.act, "a stored bulk act is of an unknown kind; it is stopped");
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
            match act_on(&app, &row, &act, Id(message)).await {
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
            if let Some(says) = fails_again(&app, &row, &progress, first).await {
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

/// Returns why a resend stops: its first message, or several, have failed again for the same reason. Stopping early keeps the step
/// free for other messages, and what is left can be corrected first.
async fn fails_again(app: &App, row: &BulkActRow, progress: &Progress, first: bool) -> Option<String> {
    if row.act != BulkActKind::Resend.as_str() || row.reason.is_empty() {
        return None;
    }
    let failed = app.store.failed_again(row.id, parse_reason(&row.reason)?).await.ok()?;
    let left = row.total - progress.position;
    let says = match (first, failed) {
        (true, 1..) => "failed again for the same reason".to_owned(),
        (_, AGAIN..) => format!("{failed} messages failed again for the same reason"),
        _ => return None,
    };
    Some(format!("{says}; the resend was stopped, {left} messages are left as they were"))
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
async fn act_on(app: &App, row: &BulkActRow, act: &Act, message: MessageId) -> Result<Option<BulkRefusal>, String> {
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
    match app.engine.act(message, act.clone(), &row.by_whom, &row.why).await {
        Ok(()) => Ok(None),
        Err(ActError::Not(not)) => Ok(Some(refusal(message, stored.key, not.to_string()))),
        Err(ActError::Down(down)) => Err(down.to_string()),
    }
}

fn refusal(message: MessageId, key: String, says: String) -> BulkRefusal {
    BulkRefusal { message: message.to_string(), key, says }
}
