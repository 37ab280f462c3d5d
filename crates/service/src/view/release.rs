//! A workspace to release, and what is wrong with one.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wirewatch_core::Finding;

/// A workspace to release or check.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WorkspaceFiles {
    /// Path with forward slashes, and text.
    pub files: std::collections::BTreeMap<String, String>,
}

/// The form of a finding: where exactly something is wrong in what a person wrote, and what to do.
#[derive(Debug, ToSchema)]
#[allow(dead_code, reason = "describes `Finding` of the core, which knows no API")]
pub struct FindingView {
    /// `warning` or `error`.
    pub severity: String,
    pub code: String,
    pub file: String,
    /// Line and column, both from 1; columns count characters.
    pub line: u32,
    pub column: u32,
    /// Characters to underline, at least 1.
    pub length: u32,
    pub source: String,
    pub says: String,
    pub help: Option<String>,
}

/// What came of a release.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Release {
    pub release: i64,
    /// `new`, or `same` when nothing differs.
    pub what: String,
    #[schema(value_type = Vec<FindingView>)]
    pub findings: Vec<Finding>,
}
