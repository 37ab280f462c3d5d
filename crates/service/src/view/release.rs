//! A workspace to release, what is wrong with one, and what releases changed.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wirewatch_core::Finding;

/// A workspace to release.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct WorkspaceFiles {
    /// Path with forward slashes, and text.
    pub files: std::collections::BTreeMap<String, String>,
    /// What is said of it, for the list of releases.
    #[serde(default)]
    pub why: String,
    /// Take back what releases since have changed, where the files are as they were before.
    #[serde(default)]
    pub take_back: bool,
    /// Tell what would come of it, and change nothing.
    #[serde(default)]
    pub only_tell: bool,
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
    /// Why the file lets this warning stand.
    pub accepted: Option<String>,
}

/// What came of a release.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Release {
    pub release: i64,
    /// `new`; `same` when nothing differs; `would` when it was only to be told.
    pub what: String,
    /// What differs from the release that ran.
    pub changes: Vec<FileView>,
    #[schema(value_type = Vec<FindingView>)]
    pub findings: Vec<Finding>,
    /// Where it runs; absent when that is not said.
    pub environment: Option<super::EnvironmentView>,
}

/// A file that differs between two releases.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FileView {
    pub file: String,
    /// `new`, `changed` or `gone`.
    pub what: String,
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
    /// What was said of it; empty when nothing was.
    pub says: String,
    /// It is what runs.
    pub current: bool,
    /// What it changed.
    pub changes: Vec<FileView>,
}

/// A release with the files it changed, before and after.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ReleaseStory {
    pub release: ReleaseView,
    /// Of the files that it changed, how they were; a new one is not there.
    pub before: std::collections::BTreeMap<String, String>,
    /// And how they are; one that is gone is not there.
    pub after: std::collections::BTreeMap<String, String>,
}
