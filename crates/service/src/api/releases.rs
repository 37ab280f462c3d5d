//! Releasing a workspace.

use super::Answer;
use super::problem::Problem;
use crate::access::Person;
use crate::run::{App, Released};
use crate::view::{Release, WorkspaceFiles};
use axum::extract::State;
use axum::http::StatusCode;
use axum::{Extension, Json};
use std::sync::Arc;
use wirewatch_core::Severity;

/// Makes a workspace the current release. With errors in it, nothing changes.
#[utoipa::path(post, path = "/api/releases", request_body = WorkspaceFiles,
    responses((status = 200, body = Release), (status = 422, body = Problem)))]
pub async fn release(
    State(app): State<Arc<App>>,
    Extension(Person(by)): Extension<Person>,
    Json(given): Json<WorkspaceFiles>,
) -> Answer<Release> {
    match app.release(&given.files, &by).await? {
        Released::New(release, findings) => Ok(Json(Release { release, what: "new".to_owned(), findings })),
        Released::Same(release, findings) => Ok(Json(Release { release, what: "same".to_owned(), findings })),
        Released::Refused(findings) => {
            let errors = findings.iter().filter(|finding| finding.severity == Severity::Error).count();
            let title =
                format!("the workspace has {errors} error{}; the current release stays", if errors == 1 { "" } else { "s" });
            Err(Problem { findings, ..Problem::new(StatusCode::UNPROCESSABLE_ENTITY, title) })
        }
    }
}
