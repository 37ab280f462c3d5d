//! Errors as problem details (RFC 9457).

use crate::view::words::ProblemCode;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wirewatch_core::Finding;
use wirewatch_core::machine::ActRefused;
use wirewatch_engine::{ActError, Down, NotActed};
use wirewatch_journal::JournalError;

/// An error: what went wrong and what to do.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    pub code: ProblemCode,
    /// The problem in one sentence.
    pub title: String,
    /// HTTP status of the response.
    pub status: u16,
    /// Next action; `null` when there is none to name.
    pub detail: Option<String>,
    /// Findings in the document or workspace that was sent.
    #[schema(value_type = Vec<crate::view::FindingView>)]
    pub findings: Vec<Finding>,
}

impl Problem {
    /// Returns a problem with the general code of its status.
    pub fn new(status: StatusCode, title: impl Into<String>) -> Self {
        Self { code: code_of(status), title: title.into(), status: status.as_u16(), detail: None, findings: Vec::new() }
    }

    /// Sets a more exact code than that of the status.
    #[must_use]
    pub fn code(mut self, code: ProblemCode) -> Self {
        self.code = code;
        self
    }

    /// Sets what to do about it.
    #[must_use]
    pub fn detail(mut self, detail: impl Into<String>) -> Self {
        self.detail = Some(detail.into());
        self
    }

    /// Returns the problem of a name or id that does not exist.
    pub fn not_found(what: impl Into<String>) -> Self {
        Self::new(StatusCode::NOT_FOUND, what)
    }
}

/// The general code of a status.
fn code_of(status: StatusCode) -> ProblemCode {
    match status {
        StatusCode::UNAUTHORIZED => ProblemCode::Unauthenticated,
        StatusCode::FORBIDDEN => ProblemCode::Forbidden,
        StatusCode::NOT_FOUND => ProblemCode::NotFound,
        StatusCode::METHOD_NOT_ALLOWED => ProblemCode::MethodNotAllowed,
        StatusCode::REQUEST_TIMEOUT => ProblemCode::RequestTimeout,
        StatusCode::CONFLICT => ProblemCode::Conflict,
        StatusCode::PAYLOAD_TOO_LARGE => ProblemCode::TooLarge,
        StatusCode::UNSUPPORTED_MEDIA_TYPE => ProblemCode::UnsupportedMediaType,
        StatusCode::MISDIRECTED_REQUEST => ProblemCode::WrongHost,
        StatusCode::UNPROCESSABLE_ENTITY => ProblemCode::Invalid,
        StatusCode::TOO_MANY_REQUESTS => ProblemCode::TooManyRequests,
        StatusCode::SERVICE_UNAVAILABLE => ProblemCode::Unavailable,
        status if status.is_client_error() => ProblemCode::BadRequest,
        _ => ProblemCode::Internal,
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

fn database_away() -> Problem {
    Problem::new(StatusCode::SERVICE_UNAVAILABLE, "the database cannot be reached").code(ProblemCode::DatabaseUnavailable)
}

impl From<JournalError> for Problem {
    fn from(error: JournalError) -> Self {
        match error {
            JournalError::Away(_) | JournalError::Fenced => database_away().detail(error.to_string()),
            JournalError::Unstorable(_) => Self::new(StatusCode::BAD_REQUEST, error.to_string()),
            JournalError::Refused(_) | JournalError::OtherVersion(_) | JournalError::Damaged(_) => {
                tracing::error!(%error, "a database query failed");
                Self::new(StatusCode::INTERNAL_SERVER_ERROR, "the service failed; the cause is in its log")
            }
        }
    }
}

impl From<Down> for Problem {
    fn from(down: Down) -> Self {
        database_away().detail(down.0)
    }
}

impl From<ActError> for Problem {
    fn from(error: ActError) -> Self {
        let (status, code) = match &error {
            ActError::Not(NotActed::Refused(refused)) => (StatusCode::CONFLICT, refused_code(refused)),
            ActError::Not(NotActed::Busy) => (StatusCode::CONFLICT, ProblemCode::MessageBusy),
            ActError::Not(NotActed::Broken(_)) => (StatusCode::CONFLICT, ProblemCode::MessageDamaged),
            ActError::Not(NotActed::NotStored(_)) => (StatusCode::UNPROCESSABLE_ENTITY, ProblemCode::ActNotStored),
            ActError::Not(NotActed::Unknown(_)) => (StatusCode::NOT_FOUND, ProblemCode::NotFound),
            ActError::Down(_) => (StatusCode::SERVICE_UNAVAILABLE, ProblemCode::DatabaseUnavailable),
        };
        Self::new(status, error.to_string()).code(code)
    }
}

fn refused_code(refused: &ActRefused) -> ProblemCode {
    match refused {
        ActRefused::NotStopped(_) => ProblemCode::MessageNotStopped,
        ActRefused::Ended(_) => ProblemCode::MessageEnded,
        ActRefused::Unreadable(_) => ProblemCode::DocumentUnreadable,
        ActRefused::OtherRequest { .. } => ProblemCode::OtherRequest,
        ActRefused::NotPassed { .. } => ProblemCode::StepNotPassed,
        ActRefused::NoLogic { .. } => ProblemCode::ReleaseUnfit,
    }
}
