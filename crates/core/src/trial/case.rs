//! Cases: documents with the outcome that is expected of them, the workspace's own tests.

use super::dry_run::{Answers, DryRun, dry_run};
use super::given::given_to_map;
use crate::Timestamp;
use crate::compare::{Difference, differences};
use crate::map::scope_of;
use crate::workspace::Workspace;
use serde_json::{Map, Value, json};
use std::sync::Arc;

/// Messages of one case, at most.
const LIMIT: usize = 1000;

/// A case as its files have it.
#[derive(Debug, Clone, PartialEq)]
pub struct Case {
    pub name: String,
    /// Description for people.
    pub says: String,
    pub of: Subject,
    /// Path of the given document in the workspace, and its text.
    pub given: (String, String),
    /// The sender's name of the event; see [`dry-run`].
    pub event: String,
    /// For a map: metadata of the document.
    pub meta: Map<String, Value>,
    /// For a map: variables that earlier steps would have set, by name.
    pub variables: Map<String, Value>,
    pub answers: Answers,
    /// The expected result; `None` if none is given yet.
    pub expect: Option<Value>,
}

/// Subject of a case.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Subject {
    Map(String),
    Flow(String),
}

/// A case that could not be tried.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct CaseError(pub String);

/// Result of a case.
#[derive(Debug, Clone, PartialEq)]
pub struct Checked {
    /// The actual result, in the form of `expect.json`.
    pub actual: Value,
    /// Differences from the expected result; empty if there are none.
    pub differences: Vec<Difference>,
    /// True if a result was expected.
    pub expected: bool,
}

impl Checked {
    /// Returns whether the case passed.
    #[must_use]
    pub fn holds(&self) -> bool {
        self.expected && self.differences.is_empty()
    }
}

impl Case {
    /// Returns the path of the file with the expected result.
    #[must_use]
    pub fn expect_path(&self) -> String {
        format!("cases/{}/expect.json", self.name)
    }

    /// Tries the case.
    ///
    /// # Errors
    /// [`CaseError`] where the document cannot be read a rule of the map has no value, or what it gives does not fit its
    /// schema.
    pub fn check(&self, workspace: &Arc<Workspace>) -> Result<Checked, CaseError> {
        let actual = match &self.of {
            Subject::Map(map) => self.mapped(workspace, map)?,
            Subject::Flow(flow) => self.dry_run(workspace, flow)?,
        };
        let differences = self.expect.as_ref().map(|expect| differences(expect, &actual)).unwrap_or_default();
        Ok(Checked { actual, differences, expected: self.expect.is_some() })
    }

    fn mapped(&self, workspace: &Arc<Workspace>, map: &str) -> Result<Value, CaseError> {
        let map = workspace.maps.get(map).ok_or_else(|| CaseError(format!("there is no map {map}")))?;
        let given = given_to_map(workspace, map, self.given.1.as_bytes());
        let given = given.map_err(|says| CaseError(format!("{}: {says}", self.given.0)))?;
        let results = given.iter().map(|one| {
            let variables = one.variables(&self.variables, &self.meta);
            let result = map.apply(&scope_of(&one.document, &variables, &workspace.library)).and_then(|value| {
                // As in a flow, which would stop here.
                map.fitted(&value)?;
                let bytes = map.bytes(&value)?;
                Ok(bytes.map_or(value, |bytes| Value::String(String::from_utf8_lossy(&bytes).into_owned())))
            });
            result.map_err(|error| CaseError(format!("maps/{}.toml: {error}", map.name)))
        });
        Ok(Value::Array(results.collect::<Result<_, _>>()?))
    }

    fn dry_run(&self, workspace: &Arc<Workspace>, flow: &str) -> Result<Value, CaseError> {
        let flow = workspace.flows.get(flow).ok_or_else(|| CaseError(format!("there is no flow {flow}")))?;
        // A fixed moment: what is expected must not depend on the day.
        let now = Timestamp::parse("2026-01-05T08:00:00Z").unwrap_or_default();
        let shown = dry_run(workspace, flow, self.given.1.as_bytes(), &self.event, &self.answers, LIMIT, now);
        Ok(outcome(&shown))
    }
}

/// Returns the effects and the end of a dry run: documents in between do not matter.
fn outcome(shown: &DryRun) -> Value {
    let messages = shown.messages.iter().map(|message| {
        let requests: Vec<Value> = message
            .stages
            .iter()
            .filter_map(|stage| {
                let request = stage.request.as_ref()?;
                let mut one = json!({ "step": stage.step, "to": request.connection, "request": request.line });
                if !request.properties.is_empty() {
                    one["with"] = json!(request.properties);
                }
                one["body"] = request.body.clone();
                Some(one)
            })
            .collect();
        let mut one = json!({ "key": message.key, "ends": message.ends });
        for (name, text) in [("says", &message.says), ("way", &message.way)] {
            if !text.is_empty() {
                one[name] = Value::from(text.as_str());
            }
        }
        one["requests"] = Value::Array(requests);
        one
    });
    let mut all = json!({ "arrival": shown.verdict });
    if !shown.says.is_empty() {
        all["says"] = Value::from(shown.says.as_str());
    }
    if !shown.acknowledgments.is_empty() {
        all["acknowledgments"] = json!(shown.acknowledgments);
    }
    all["messages"] = messages.collect();
    all
}
