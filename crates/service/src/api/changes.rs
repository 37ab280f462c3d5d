//! Changes of files of the running release, made in the console: tried with the workspace's cases, then deployed.

use super::problem::Problem;
use super::{Answer, given_reason, releases};
use crate::access::Person;
use crate::releasing::Proposal;
use crate::run::App;
use crate::view::words::{CaseOutcome, ProblemCode};
use crate::view::{CaseDifference, CaseView, ChangedFiles, Release, ReleaseChange};
use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use serde_json::Value;
use std::sync::Arc;
use wirewatch_core::Severity;
use wirewatch_core::compare::Difference;
use wirewatch_core::finding::Finding;
use wirewatch_core::trial::Case;
use wirewatch_core::workspace::{Checked, Files, Workspace};

/// Runs the cases of the running release with some of its files changed. Nothing is stored.
#[utoipa::path(post, path = "/api/cases", operation_id = "run_cases", request_body = ChangedFiles,
    responses((status = 200, body = Vec<CaseView>), (status = 422, body = Problem)))]
pub async fn cases(State(app): State<Arc<App>>, Json(ChangedFiles { files }): Json<ChangedFiles>) -> Answer<Vec<CaseView>> {
    let mut all = releases::running_files(&app).await?;
    all.extend(files);
    Ok(Json(outcomes(all).await?))
}

/// Deploys the running release with some of its files changed, where the workspace allows it. Nothing changes with errors in the
/// workspace, with a case that fails, or if a file is not as `before` has it any more.
#[utoipa::path(post, path = "/api/releases/changes", operation_id = "change_release", request_body = ReleaseChange,
    responses((status = 200, body = Release), (status = 403, body = Problem), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn change(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Json(asked): Json<ReleaseChange>,
) -> Answer<Release> {
    let (release, workspace) = app.engine.releases().current();
    if !workspace.deploys_from_console() {
        let problem = Problem::new(StatusCode::FORBIDDEN, "this workspace is deployed from its folder only");
        return Err(problem.code(ProblemCode::ConsoleDeployOff).detail("deploy_from_console = true in workspace.toml allows it"));
    }
    let why = given_reason(&asked.why, "it is deployed")?;
    let mut files = releases::running_files(&app).await?;
    let findings = stale(&files, &asked);
    if !findings.is_empty() {
        let problem =
            Problem::new(StatusCode::CONFLICT, "a newer release has changed what you changed; the current release stays");
        return Err(Problem { findings, ..problem.code(ProblemCode::ReleaseStale) });
    }
    files.extend(asked.files);
    if !asked.skip_cases {
        let failed: Vec<String> = outcomes(files.clone())
            .await?
            .into_iter()
            .filter(|one| one.outcome != CaseOutcome::Passed)
            .map(|one| one.name)
            .collect();
        if !failed.is_empty() {
            let problem =
                Problem::new(StatusCode::UNPROCESSABLE_ENTITY, format!("nothing was deployed: {} failed", failed.join(", ")));
            return Err(problem
                .code(ProblemCode::CasesFailed)
                .detail("correct the change or the case, or deploy without the cases"));
        }
    }
    // The files were compared above, and nothing else may be deployed in between.
    let proposal = Proposal { files: &files, by: &by, says: why, take_back: true, only_tell: false, only_after: Some(release) };
    releases::propose(&app, proposal).await
}

/// Returns an error for each file that is not as the person had it before.
fn stale(running: &Files, asked: &ReleaseChange) -> Vec<Finding> {
    let changed = asked.files.keys().filter(|file| running.get(*file) != asked.before.get(*file));
    let finding = |file: &String| {
        let says = match (running.contains_key(file), asked.before.contains_key(file)) {
            (true, true) => "the running release has another text of it by now",
            (true, false) => "the running release has a file of this name already",
            (false, _) => "the running release has no such file any more",
        };
        Finding::at(Severity::Error, "release::stale", file, "", 0..0, says).help("load it again, and repeat the change")
    };
    changed.map(finding).collect()
}

/// Runs the cases of a workspace.
///
/// # Errors
/// 422 with the findings of a workspace with errors.
async fn outcomes(files: Files) -> Result<Vec<CaseView>, Problem> {
    let run = tokio::task::spawn_blocking(move || {
        let Checked { workspace, findings } = Workspace::read(&files);
        let errors = || findings.iter().filter(|finding| finding.severity == Severity::Error);
        let Some(workspace) = workspace.filter(|_| errors().next().is_none()).map(Arc::new) else {
            let findings = errors().cloned().collect();
            let problem = Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "the workspace would have errors");
            return Err(Problem { findings, ..problem.code(ProblemCode::WorkspaceInvalid) });
        };
        Ok(workspace.cases.values().map(|case| outcome(case, &workspace)).collect())
    });
    run.await.map_err(|_| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "the cases were stopped by a fault in the service"))?
}

fn outcome(case: &Case, workspace: &Arc<Workspace>) -> CaseView {
    let view = |outcome, says: String, differences| CaseView {
        name: case.name.clone(),
        title: case.says.clone(),
        outcome,
        says,
        differences,
    };
    match case.check(workspace) {
        Ok(checked) if checked.holds() => view(CaseOutcome::Passed, String::new(), Vec::new()),
        Ok(checked) if !checked.expected => view(CaseOutcome::New, "it has no expected result yet".to_owned(), Vec::new()),
        Ok(checked) => view(CaseOutcome::Differs, String::new(), checked.differences.into_iter().map(difference).collect()),
        Err(error) => view(CaseOutcome::Broken, error.to_string(), Vec::new()),
    }
}

fn difference(Difference { at, before, after }: Difference) -> CaseDifference {
    let shown = |value: Value| value.as_str().map_or_else(|| value.to_string(), str::to_owned);
    CaseDifference { at, expected: before.map(shown), actual: after.map(shown) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_file_that_is_not_as_it_was_is_stale() {
        let files = |all: &[(&str, &str)]| all.iter().map(|(file, text)| ((*file).to_owned(), (*text).to_owned())).collect();
        let running: Files = files(&[("maps/a.toml", "1"), ("maps/b.toml", "2")]);
        let reported = |before: &[(&str, &str)], changed: &[(&str, &str)]| {
            let asked = ReleaseChange { files: files(changed), before: files(before), ..ReleaseChange::default() };
            stale(&running, &asked).into_iter().map(|one| format!("{}: {}", one.file, one.says)).collect::<Vec<_>>()
        };
        assert_eq!(reported(&[("maps/a.toml", "1")], &[("maps/a.toml", "new"), ("maps/c.toml", "new")]), [""; 0]);
        assert_eq!(
            reported(
                &[("maps/a.toml", "0"), ("maps/c.toml", "3")],
                &[("maps/a.toml", "x"), ("maps/b.toml", "x"), ("maps/c.toml", "x")]
            ),
            [
                "maps/a.toml: the running release has another text of it by now",
                "maps/b.toml: the running release has a file of this name already",
                "maps/c.toml: the running release has no such file any more",
            ]
        );
    }
}
