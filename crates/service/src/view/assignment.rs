//! Who works on what needs attention.

use super::words::ProblemKind;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A problem with the person who works on it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Assignment {
    pub kind: ProblemKind,
    /// Id of a reason, name of a connection or flow, `FLOW/STEP` of a step; empty for failed arrivals.
    pub name: String,
    /// Who works on it.
    pub to: String,
    pub note: String,
    /// Who assigned it.
    pub by: String,
    pub at: String,
}

/// An assignment to make.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct AssignmentRequest {
    pub kind: ProblemKind,
    /// As in the assignment.
    #[serde(default)]
    pub name: String,
    /// Name of a person; the caller when left out.
    #[serde(default)]
    pub to: Option<String>,
    #[serde(default)]
    pub note: String,
}
