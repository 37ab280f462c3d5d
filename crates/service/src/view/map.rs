//! Maps as one writes them: the rules, and what they give for a document.

use super::FindingView;
use super::words::{FieldType, ProposalConfidence};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;
use wirewatch_core::Finding;

/// A map of the running release.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MapView {
    pub name: String,
    /// Schema of the source, e.g. `x12/004010/850`, and of the target.
    pub from: String,
    pub to: String,
    /// Number of targets that its rules fill.
    pub rules: usize,
    /// Flows that use it.
    pub used_by: Vec<String>,
    /// Cases that test it.
    pub cases: usize,
    /// Somebody has made a draft of it.
    pub draft: bool,
    /// Its last change; `null` if none of the newest releases changed it.
    pub changed: Option<Changed>,
}

/// The release that changed a file last.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Changed {
    pub release: i64,
    /// RFC 3339.
    pub at: String,
    pub by: String,
}

/// A proposed map file; it runs once it is deployed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MapDraft {
    pub text: String,
    pub by: String,
    /// RFC 3339.
    pub at: String,
}

/// A draft to store.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MapDraftRequest {
    pub text: String,
}

/// A field of the target that no rule fills.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MapOpen {
    /// Path with the lists it is in: `rows[].item`.
    pub path: String,
    /// `null` where it may be several.
    pub kind: Option<FieldType>,
    pub required: bool,
    /// The field in words; empty where the schema has no title.
    pub title: String,
}

/// A rule that could fill a field.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MapProposal {
    pub path: String,
    pub expression: String,
    pub confidence: ProposalConfidence,
    pub because: String,
    /// The lists it is in, outermost first.
    pub within: Vec<MapWithin>,
}

/// A list of the target, and what selects its items.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MapWithin {
    pub into: String,
    pub of: String,
}

/// A rule to be written into a map file.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MapRuleRequest {
    /// The map file as in the editor.
    pub text: String,
    pub path: String,
    pub expression: String,
    /// Sources of the items, for lists that are not in the file yet.
    #[serde(default)]
    pub within: Vec<MapWithin>,
}

/// A map file with one more rule; comments and order stay.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MapText {
    pub text: String,
}

/// A map with its file and what it can be tried on.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MapStory {
    pub map: MapView,
    /// The map file.
    pub text: String,
    /// The documents of the map's cases.
    pub samples: Vec<MapSample>,
    pub draft: Option<MapDraft>,
}

/// A document that a map can be tried on.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MapSample {
    pub name: String,
    pub text: String,
    /// Further documents that the map reads, by name.
    #[schema(value_type = BTreeMap<String, Value>)]
    pub with: Map<String, Value>,
    /// Metadata of the document beside that of its envelope.
    #[schema(value_type = BTreeMap<String, Value>)]
    pub meta: Map<String, Value>,
}

/// A map file and a document.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct MapTry {
    /// The map file as in the editor.
    pub text: String,
    /// The document: X12, JSON, CSV or XML; empty for none.
    pub given: String,
    /// Which of the documents in it, from 0.
    pub at: usize,
    /// Further documents that the map reads, by name: any JSON.
    #[schema(value_type = BTreeMap<String, Value>)]
    pub with: Map<String, Value>,
    /// Metadata of the document beside that of its envelope.
    #[schema(value_type = BTreeMap<String, Value>)]
    pub meta: Map<String, Value>,
}

/// Result of a map on a document.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MapTried {
    /// Findings in the map file.
    #[schema(value_type = Vec<FindingView>)]
    pub findings: Vec<Finding>,
    /// Number of documents, and the title of the one shown.
    pub documents: usize,
    pub title: String,
    /// Names of the further documents that the map reads.
    pub with: Vec<String>,
    /// The fields of the document.
    pub source: Vec<MapSource>,
    /// Result of each rule, in the order of the rules.
    pub rules: Vec<MapRule>,
    /// The fields of the target that no rule fills.
    pub open: Vec<MapOpen>,
    /// The target document as indented JSON, or in the form that the map writes; empty where there is none.
    pub result: String,
    /// Why there is no result.
    pub says: String,
}

/// A filled field of the source.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MapSource {
    /// Path as an expression reads it: `data.basket.article`, or `N1.N301` of a transaction set.
    pub path: String,
    /// Name of the element of a transaction set, in words; empty for other documents.
    pub title: String,
    /// First value, and how often it occurs.
    pub value: String,
    pub times: usize,
    /// Some rule reads it.
    pub used: bool,
}

/// Result of a rule.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MapRule {
    pub target: String,
    /// A text as it is, everything else as JSON; absent where the rule gave nothing.
    pub value: Option<String>,
    /// Line of the map file, from 1.
    pub line: u32,
}
