//! Errors as problem details (RFC 9457).

use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wirewatch_core::Finding;
use wirewatch_engine::{ActError, Down, NotActed};
use wirewatch_journal::JournalError;

/// What went wrong and what to do.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    pub title: String,
    pub status: u16,
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub detail: Option<String>,
    /// Findings in what was sent, where it was a document or workspace.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    #[schema(value_type = Vec<crate::view::FindingView>)]
    pub findings: Vec<Finding>,
}

impl Problem {
    /// A problem with its status and one sentence.
    pub fn new(status: StatusCode, title: impl Into<String>) -> Self {
        Self { title: title.into(), status: status.as_u16(), detail: None, findings: Vec::new() }
    }

    /// What to do about it.
    #[must_use]
    pub fn detail(mut self, detail: impl Into<String>) -> Self {
        self.detail = Some(detail.into());
        self
    }

    /// Something asked for by name or id that is not there.
    pub fn not_found(what: impl Into<String>) -> Self {
        Self::new(StatusCode::NOT_FOUND, what)
    }
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut response = (status, axum::Json(self)).into_response();
        response.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
        response
    }
}

impl From<JournalError> for Problem {
    fn from(error: JournalError) -> Self {
        match error {
            JournalError::Away(_) | JournalError::Fenced => {
                Self::new(StatusCode::SERVICE_UNAVAILABLE, "the database cannot be reached at present").detail(error.to_string())
            }
            JournalError::Unstorable(_) => Self::new(StatusCode::BAD_REQUEST, error.to_string()),
            JournalError::Refused(_) | JournalError::OtherVersion(_) | JournalError::Damaged(_) => {
                tracing::error!(%error, "a question to the database failed");
                Self::new(StatusCode::INTERNAL_SERVER_ERROR, "the service could not answer; its log says why")
            }
        }
    }
}

impl From<Down> for Problem {
    fn from(down: Down) -> Self {
        Self::new(StatusCode::SERVICE_UNAVAILABLE, "the database cannot be reached at present").detail(down.0)
    }
}

impl From<ActError> for Problem {
    fn from(error: ActError) -> Self {
        let status = match &error {
            ActError::Not(NotActed::Refused(_) | NotActed::Busy | NotActed::Broken(_)) => StatusCode::CONFLICT,
            ActError::Not(NotActed::Unknown(_)) => StatusCode::NOT_FOUND,
            ActError::Down(_) => StatusCode::SERVICE_UNAVAILABLE,
        };
        Self::new(status, error.to_string())
    }
}
