//! Maps as one writes them: the rules, and what they give for a document.

use super::FindingView;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wirewatch_core::Finding;

/// A map of the running release.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MapView {
    pub name: String,
    /// Outline of the source, e.g. `x12/004010/850`, and of the target.
    pub from: String,
    pub to: String,
    /// How many targets its rules fill.
    pub rules: usize,
}

/// A map with its file and what it can be tried on.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MapStory {
    pub map: MapView,
    /// The map file.
    pub text: String,
    /// The documents of the map's cases.
    pub samples: Vec<MapSample>,
}

/// A document that a map can be tried on.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MapSample {
    pub name: String,
    pub text: String,
}

/// A map file and a document.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct MapTry {
    /// The map file as it stands in the editor.
    pub text: String,
    /// The document: X12, JSON, CSV or XML; empty for none.
    pub given: String,
    /// Which of the documents in it, from 0.
    pub at: usize,
}

/// What came of it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MapTried {
    /// What is wrong with the file, or noted of it.
    #[schema(value_type = Vec<FindingView>)]
    pub findings: Vec<Finding>,
    /// How many documents there are, and how the one shown is called.
    pub documents: usize,
    pub title: String,
    /// The fields of the document.
    pub source: Vec<MapSource>,
    /// What each rule gave, in the order of the rules.
    pub rules: Vec<MapRule>,
    /// The target document as indented JSON; empty where there is none.
    pub result: String,
    /// Why there is none.
    pub says: String,
}

/// A filled field of the source.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MapSource {
    /// As an expression reads it: `data.basket.article`, or `N1.N301` of a transaction set.
    pub path: String,
    /// The first value that stands there, and how often there is one.
    pub value: String,
    pub times: usize,
    /// Some rule reads it.
    pub used: bool,
}

/// What a rule gave.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MapRule {
    pub target: String,
    /// A text as it is, everything else as JSON; absent where the rule gave nothing.
    pub value: Option<String>,
    /// Line of the map file, from 1.
    pub line: u32,
}
