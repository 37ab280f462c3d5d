//! Status and health of the service.

use super::problem::Problem;
use super::{Answer, assignments, flows, queues, rows};
use crate::disk;
use crate::incidents::silences;
use crate::run::App;
use crate::view::some;
use crate::view::{Arrival, ConnectionHold, ProcessView, Reason, Status, time};
use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;
use wirewatch_core::Timestamp;
use wirewatch_core::before::Before;
use wirewatch_core::connection::Connection;
use wirewatch_core::intake::Verdict;
use wirewatch_core::workspace::Workspace;
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::{ArrivalFilter, JournalError};

/// With fewer days ahead than this the keeper has failed for long, and there will soon be no room for history.
const DAYS_AHEAD: i64 = 3;

/// Failed arrivals of the last day are listed, up to a limit.
pub(super) const DAY_US: i64 = 24 * 3_600_000_000;
const ARRIVALS: u32 = 20;

/// For so long after the last of them, rejected calls are warned of.
const LATELY: Duration = Duration::from_secs(3600);

/// A burst of calls longer than this does not end by itself.
const RUSH: Duration = Duration::from_secs(30);

async fn processes(app: &App) -> Result<Vec<ProcessView>, JournalError> {
    let own = app.journal.writer();
    let rows = app.journal.processes().await?.into_iter();
    Ok(rows.map(|row| ProcessView { process: row.process, shards: row.shards, answers: row.writer == own }).collect())
}

/// Answers 200 if the service takes requests, and it and its database will keep working; 503 while it stops. Open to all; the
/// details are in the log.
pub async fn ready(State(app): State<Arc<App>>) -> Response {
    if app.draining.load(Ordering::Relaxed) {
        return Problem::new(StatusCode::SERVICE_UNAVAILABLE, "the service is stopping").into_response();
    }
    let days = app.store.days_ahead(SystemClock.now()).await;
    let away = days.as_ref().err().map(|error| ("the database cannot be reached", error.to_string()));
    let few = days.is_ok_and(|days| days < DAYS_AHEAD).then(|| ("history can soon not be stored", String::new()));
    let stalled = app.engine.stalled().map(|says| ("nothing can be committed", says));
    let full = disk::full(&app.own_folders).into_iter().next().map(|says| ("a disk is full", says));
    match away.or(few).or(stalled).or(full) {
        None => StatusCode::OK.into_response(),
        Some((title, says)) => {
            tracing::warn!(says, "the service is not healthy: {title}");
            Problem::new(StatusCode::SERVICE_UNAVAILABLE, title).into_response()
        }
    }
}

/// Status of the service: release, unfinished messages, holds, reasons of failures.
#[utoipa::path(get, path = "/api/status", responses((status = 200, body = Status)))]
pub async fn status(State(app): State<Arc<App>>) -> Answer<Status> {
    let (release, workspace) = app.engine.releases().current();
    let days_ahead = app.store.days_ahead(SystemClock.now()).await?;
    let held = held(&app).await;
    Ok(Json(Status {
        version: env!("CARGO_PKG_VERSION").to_owned(),
        title: workspace.title.clone(),
        environment: super::environment(&workspace),
        release,
        since: time(app.started.0).unwrap_or_default(),
        warnings: warnings(&app, days_ahead, &held).await?,
        unfinished: rows::by_state(app.store.unfinished_by_state().await?),
        on_hold: held,
        steps_on_hold: flows::steps_on_hold(&app).await,
        paused: flows::all_paused(&app).await,
        arrivals_failed: arrivals_failed(&app).await?,
        reasons: app.store.reasons("").await?.into_iter().map(rows::reason).collect(),
        assignments: assignments::current(&app).await?,
        processes: processes(&app).await?,
    }))
}

/// Returns the newest arrivals of the last day that failed.
pub async fn arrivals_failed(app: &App) -> Result<Vec<Arrival>, JournalError> {
    let failed = ArrivalFilter {
        verdict: Verdict::Failed.as_str().to_owned(),
        since: Some(Timestamp(SystemClock.now().0 - DAY_US)),
        limit: ARRIVALS,
        ..ArrivalFilter::default()
    };
    Ok(app.store.arrivals(&failed).await?.into_iter().map(rows::arrival).collect())
}

/// Returns the warning about calls of a webhook that were rejected lately.
fn rejected_calls(app: &App, connection: &Connection, now: Timestamp) -> Option<String> {
    let turned = app.doors.at(&connection.name).turned.filter(|turned| now.since(turned.last) < LATELY)?;
    let calls = if turned.calls == 1 { "1 call was".to_owned() } else { format!("{} calls were", turned.calls) };
    Some(format!("{}: {calls} rejected since the service started, the last because: {}", connection.title, turned.says))
}

/// Returns what an operator should correct, one sentence each.
pub async fn warnings(app: &App, days_ahead: i64, held: &[ConnectionHold]) -> Result<Vec<String>, JournalError> {
    let few = (days_ahead < DAYS_AHEAD).then(|| {
        format!(
            "partitions for history exist for {days_ahead} more days only; the log has the reason why no more could be created"
        )
    });
    let (release, workspace) = app.engine.releases().current();
    let folder = app.folder.as_ref().and_then(|folder| folder.differs(&workspace, release));
    let now = SystemClock.now();
    let connections = workspace.connections.values().flat_map(|connection| {
        let title = &connection.title;
        let hook = connection.webhook().is_some();
        let believed = (hook && connection.secret().is_none())
            .then(|| format!("{title} accepts unsigned calls: anybody who knows its address can send messages to its flows"));
        let unset = connection.secrets().filter(|secret| app.secrets.good(secret, now).is_empty()).map(move |secret| {
            let so = if hook { "rejects every call" } else { "cannot be used" };
            format!("{title} {so}: the secret `{secret}` is not set (wirewatch secret set {secret})")
        });
        believed.into_iter().chain(unset).collect::<Vec<_>>()
    });
    let stalled = app.engine.stalled().map(|says| format!("nothing can be committed: {says}"));
    let spooled = app.engine.spooled().and_then(|(calls, since)| rush(calls, now.since(since)));
    let silences = silences(app, now).await?.into_iter().map(|silence| silence.says(now));
    Ok(few
        .into_iter()
        .chain(stalled)
        .chain(disk::full(&app.own_folders))
        .chain(spooled)
        .chain(folder)
        .chain(connections)
        .chain(workspace.connections.values().filter_map(|connection| rejected_calls(app, connection, now)))
        .chain(queues::queue_warnings(app, &workspace))
        .chain(workspace.connections.values().filter_map(|connection| blocked_files(app, connection)))
        .chain(held.iter().filter_map(|held| held_and_gone(&workspace, held)))
        .chain(silences)
        .collect())
}

/// The first file that cannot be read or archived, and how many more there are.
fn blocked_files(app: &App, connection: &Connection) -> Option<String> {
    let faults = app.faults.at(&connection.name);
    let (file, fault) = faults.first()?;
    let file = if file.is_empty() { String::new() } else { format!("{file}: ") };
    let more = match faults.len() - 1 {
        0 => String::new(),
        1 => "; one more file cannot be read or archived".to_owned(),
        more => format!("; {more} more files cannot be read or archived"),
    };
    Some(format!("{}: {file}{}{more}", connection.title, fault.says))
}

/// Returns the warning about a connection on hold that the workspace no longer has.
fn held_and_gone(workspace: &Workspace, held: &ConnectionHold) -> Option<String> {
    let ConnectionHold { connection, waiting, .. } = held;
    (!workspace.connections.contains_key(connection)).then(|| {
        format!(
            "`{connection}` is on hold and is not in the workspace any more; messages that wait for it: {waiting}. Deploy it \
                again, or discard them"
        )
    })
}

/// Returns the warning about spooled calls of which the first has waited too long.
fn rush(calls: usize, first: Duration) -> Option<String> {
    let (seconds, why) = (first.as_secs(), "more calls arrive than the service can process; if not, its log has the cause");
    (first > RUSH).then(|| format!("{calls} stored calls wait to be processed, the first for {seconds} s: {why}"))
}

/// Why messages failed, most messages first.
#[utoipa::path(get, path = "/api/reasons", responses((status = 200, body = Vec<Reason>)))]
pub async fn reasons(State(app): State<Arc<App>>) -> Answer<Vec<Reason>> {
    Ok(Json(app.store.reasons("").await?.into_iter().map(rows::reason).collect()))
}

pub async fn held(app: &App) -> Vec<ConnectionHold> {
    let held = app.engine.held().await.into_iter();
    let held = held.filter(|held| matches!(Before::of(&held.connection), Before::Connection(_)));
    let held = held.map(|held| ConnectionHold {
        connection: held.connection,
        since: time(held.state.since.0).unwrap_or_default(),
        next_try: held.state.by.is_empty().then(|| time(held.state.probe_at.0)).flatten(),
        says: held.state.says,
        by: some(&held.state.by),
        waiting: held.waiting,
    });
    let mut held: Vec<ConnectionHold> = held.collect();
    held.sort_by(|a, b| a.connection.cmp(&b.connection));
    held
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rush_is_reported_of_once_it_does_not_pass_by_itself() {
        assert_eq!(rush(9000, RUSH), None);
        let warning = rush(9000, RUSH + Duration::from_secs(4)).expect("it is reported");
        assert!(warning.starts_with("9000 stored calls wait to be processed, the first for 34 s: "), "{warning}");
    }
}
