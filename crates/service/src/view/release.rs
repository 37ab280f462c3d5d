//! A workspace to release, what is wrong with one, and what releases changed.

use super::words::{CaseOutcome, FileChangeKind, FindingSeverity, ReleaseOutcome};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wirewatch_core::Finding;

/// A workspace to release.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct WorkspaceFiles {
    /// Path with forward slashes, and text.
    pub files: std::collections::BTreeMap<String, String>,
    /// Description for the list of releases.
    #[serde(default)]
    pub why: String,
    /// Take back what releases since have changed, where the files are as they were before.
    #[serde(default)]
    pub take_back: bool,
    /// Report what would happen, and change nothing.
    #[serde(default)]
    pub only_tell: bool,
}

/// Files in place of those of the running release.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ChangedFiles {
    /// Path with forward slashes, and text; the other files stay as they are.
    pub files: std::collections::BTreeMap<String, String>,
}

/// Files in place of those of the running release, to be deployed.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ReleaseChange {
    /// Path with forward slashes, and text; the other files stay as they are.
    pub files: std::collections::BTreeMap<String, String>,
    /// The texts that were changed. A new file has none.
    #[serde(default)]
    pub before: std::collections::BTreeMap<String, String>,
    /// Reason, for the list of releases.
    pub why: String,
    /// Deploy without running the cases.
    #[serde(default)]
    pub skip_cases: bool,
}

/// Outcome of a case.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CaseView {
    pub name: String,
    /// What it shows, in words.
    pub title: String,
    pub outcome: CaseOutcome,
    /// Why it could not be run; empty if it could.
    pub says: String,
    pub differences: Vec<CaseDifference>,
}

/// A difference between the expected and the actual result.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CaseDifference {
    /// The field, items counted from 1: `[1].rows[2].quantity`.
    pub at: String,
    /// `null` where only the actual result has it.
    pub expected: Option<String>,
    /// `null` where only the expected result has it.
    pub actual: Option<String>,
}

/// The form of a finding: where exactly something is wrong in what a person wrote, and what to do.
#[derive(Debug, ToSchema)]
#[allow(dead_code, reason = "describes `Finding` of the core, which knows no API")]
pub struct FindingView {
    pub severity: FindingSeverity,
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
    /// Why the file accepts this warning.
    pub accepted: Option<String>,
}

/// Result of a release.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Release {
    pub release: i64,
    pub what: ReleaseOutcome,
    /// Files that differ from the release before.
    pub changes: Vec<FileView>,
    #[schema(value_type = Vec<FindingView>)]
    pub findings: Vec<Finding>,
    /// The environment; `null` when the workspace names none.
    pub environment: Option<super::EnvironmentView>,
}

/// A file that differs between two releases.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FileView {
    pub file: String,
    pub what: FileChangeKind,
    /// Lines.
    pub added: usize,
    pub removed: usize,
}

/// A release in the list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReleaseView {
    pub release: i64,
    pub at: String,
    pub by: String,
    /// Description; may be empty.
    pub says: String,
    /// The current release.
    pub current: bool,
    /// Files that it changed.
    pub changes: Vec<FileView>,
}

/// All files of a release.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReleaseFiles {
    pub release: i64,
    pub files: std::collections::BTreeMap<String, String>,
}

/// A release with the files it changed, before and after.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReleaseStory {
    pub release: ReleaseView,
    /// The changed files before; a new file is missing.
    pub before: std::collections::BTreeMap<String, String>,
    /// The changed files after; a deleted file is missing.
    pub after: std::collections::BTreeMap<String, String>,
}
