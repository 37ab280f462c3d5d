//! Releasing a workspace, what releases changed, and going back to one.

use super::problem::Problem;
use super::{Answer, environment, given_reason};
use crate::access::Person;
use crate::releasing::{How, Proposal, Released};
use crate::run::App;
use crate::view::words::{ProblemCode, ReleaseOutcome};
use crate::view::{FileView, Release, ReleaseFiles, ReleaseStory, ReleaseView, Why, WorkspaceFiles, sure_time};
use axum::extract::{Path, State};
use axum::http::StatusCode;
use axum::{Extension, Json};
use std::sync::Arc;
use wirewatch_core::Severity;
use wirewatch_core::workspace::Files;
use wirewatch_core::workspace::changes::{FileChange, changes};
use wirewatch_journal::{JournalError, ReleaseRow};

/// Releases in the list, at most.
const LISTED: u32 = 50;

/// Makes a workspace the current release. With errors in it, or where it is older than what runs, nothing changes.
#[utoipa::path(post, path = "/api/releases", request_body = WorkspaceFiles,
    responses((status = 200, body = Release), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn release(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Json(given): Json<WorkspaceFiles>,
) -> Answer<Release> {
    let WorkspaceFiles { files, why, take_back, only_tell } = given;
    let says = why.trim();
    propose(&app, Proposal { files: &files, by: &by, says, take_back, only_tell, only_after: None }).await
}

/// Returns the files of the running release.
///
/// # Errors
/// 409 if its record is damaged: a change must not be made on top of nothing.
pub(super) async fn running_files(app: &App) -> Result<Files, Problem> {
    let (current, _) = app.engine.releases().current();
    app.store.releases(current, 1).await?.pop().and_then(|row| row.files).ok_or_else(|| damaged(current))
}

/// Returns the newest releases with their changes; they are compared once for each new release.
pub(super) async fn compared(app: &App) -> Result<Vec<ReleaseView>, Problem> {
    let newest_and_current = (app.store.newest_release().await?, app.engine.releases().current().0);
    Ok(app.counted.releases(newest_and_current, newest(app)).await?)
}

/// Releases a proposal, or answers why it is refused.
pub(super) async fn propose(app: &App, proposal: Proposal<'_>) -> Answer<Release> {
    let Released { how, findings, changes } = app.release(proposal).await?;
    let (release, what) = match how {
        How::New(no) => (no, ReleaseOutcome::New),
        How::Same(no) => (no, ReleaseOutcome::Same),
        How::Would(no) => (no, ReleaseOutcome::Preview),
        How::Refused => {
            let errors = || findings.iter().filter(|finding| finding.severity == Severity::Error);
            let (n, ending) = (errors().count(), if errors().count() == 1 { "" } else { "s" });
            let stale = errors().all(|finding| finding.code == "release::stale");
            let (status, code, title) = match stale {
                true => (
                    StatusCode::CONFLICT,
                    ProblemCode::ReleaseStale,
                    format!("{n} file{ending} would undo changes of newer releases; the current release stays"),
                ),
                false => (
                    StatusCode::UNPROCESSABLE_ENTITY,
                    ProblemCode::WorkspaceInvalid,
                    format!("the workspace has {n} error{ending}; the current release stays"),
                ),
            };
            return Err(Problem { findings, ..Problem::new(status, title).code(code) });
        }
    };
    let environment = environment(&app.engine.releases().current().1);
    let changes = changes.into_iter().map(file).collect();
    Ok(Json(Release { release, what, changes, findings, environment }))
}

/// The newest releases, newest first, each with what it changed.
#[utoipa::path(get, path = "/api/releases", operation_id = "releases", responses((status = 200, body = Vec<ReleaseView>)))]
pub async fn list(State(app): State<Arc<App>>) -> Answer<Vec<ReleaseView>> {
    Ok(Json(newest(&app).await?))
}

/// The newest releases, newest first, each with what it changed.
async fn newest(app: &App) -> Result<Vec<ReleaseView>, JournalError> {
    let (current, _) = app.engine.releases().current();
    // One more is read, so that the oldest listed can be compared with the one before it.
    let rows = app.store.releases(i64::MAX, LISTED + 1).await?;
    let first = rows.first().map_or(0, |release| release.no);
    let none = Files::new();
    let mut views: Vec<ReleaseView> = Vec::new();
    for (n, row) in rows.iter().enumerate() {
        let before = if n == 0 { &none } else { rows[n - 1].files.as_ref().unwrap_or(&none) };
        if n > 0 || first <= 1 {
            views.push(view(row, before, current));
        }
    }
    views.reverse();
    Ok(views)
}

/// One release with the texts of the files it changed, before and after.
#[utoipa::path(get, path = "/api/releases/{no}", operation_id = "release_story", params(("no" = i64, Path)),
    responses((status = 200, body = ReleaseStory), (status = 404, body = Problem)))]
pub async fn one(State(app): State<Arc<App>>, Path(no): Path<i64>) -> Answer<ReleaseStory> {
    let (current, _) = app.engine.releases().current();
    let mut rows = app.store.releases(no, 2).await?;
    let own = rows.pop().filter(|row| row.no == no).ok_or_else(|| unknown(no))?;
    let before = rows.pop().and_then(|row| row.files).unwrap_or_default();
    let release = view(&own, &before, current);
    let only = |files: &Files| {
        let changed = release.changes.iter().filter_map(|change| Some((change.file.clone(), files.get(&change.file)?.clone())));
        changed.collect()
    };
    Ok(Json(ReleaseStory { before: only(&before), after: only(&own.files.clone().unwrap_or_default()), release }))
}

/// All files of a release, as they were deployed.
#[utoipa::path(get, path = "/api/releases/{no}/files", operation_id = "release_files", params(("no" = i64, Path)),
    responses((status = 200, body = ReleaseFiles), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn files(State(app): State<Arc<App>>, Path(no): Path<i64>) -> Answer<ReleaseFiles> {
    let own = app.store.releases(no, 1).await?.pop().filter(|row| row.no == no).ok_or_else(|| unknown(no))?;
    Ok(Json(ReleaseFiles { release: no, files: own.files.ok_or_else(|| damaged(no))? }))
}

/// Makes an earlier release the current one again, under a new number.
#[utoipa::path(post, path = "/api/releases/{no}/rollback", params(("no" = i64, Path)), request_body = Why,
    responses((status = 200, body = Release), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn rollback(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Path(no): Path<i64>,
    Json(Why { why }): Json<Why>,
) -> Answer<Release> {
    let why = given_reason(&why, "it is rolled back")?;
    let own = app.store.releases(no, 1).await?.pop().filter(|row| row.no == no).ok_or_else(|| unknown(no))?;
    let says = format!("back to release {no}: {why}");
    let files = own.files.ok_or_else(|| damaged(no))?;
    propose(&app, Proposal { files: &files, by: &by, says: &says, take_back: true, only_tell: false, only_after: None }).await
}

fn damaged(no: i64) -> Problem {
    Problem::new(StatusCode::CONFLICT, format!("the record of release {no} is damaged: its files cannot be read"))
}

fn unknown(no: i64) -> Problem {
    Problem::not_found(format!("there is no release {no}"))
}

fn view(row: &ReleaseRow, before: &Files, current: i64) -> ReleaseView {
    ReleaseView {
        release: row.no,
        at: sure_time(row.at),
        by: row.by.clone(),
        says: match row.files {
            Some(_) => row.says.clone(),
            None => "damaged: its files cannot be read".to_owned(),
        },
        current: row.no == current,
        changes: row.files.as_ref().map(|own| changes(before, own)).unwrap_or_default().into_iter().map(file).collect(),
    }
}

pub(super) fn file(FileChange { file, what, added, removed }: FileChange) -> FileView {
    FileView { file, what: what.into(), added, removed }
}
