//! A map as one writes it: what the source carries, what each rule gives, what is still to fill.

use super::given::given_to_map;
use crate::Severity;
use crate::finding::Finding;
use crate::map::edit::{filled, fills};
use crate::map::{AsIs, Filled, MapError, SourceField, scope_of};
use crate::schema::{Misfit, Schema};
use crate::workspace::{Files, Workspace};
use serde_json::{Map, Value};

/// State of a map and a document while the map is written.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct MapTable {
    /// Findings in the map file.
    pub findings: Vec<Finding>,
    /// Number of documents in the given text, and the title of the one shown.
    pub documents: usize,
    pub title: String,
    /// Further documents that the map reads, by name; see [`Map::with`](crate::map::Map::with).
    pub with: Vec<String>,
    /// The fields of the document that is shown.
    pub source: Vec<SourceField>,
    /// Result of each rule, in the order of the rules.
    pub rules: Vec<Filled>,
    pub result: Value,
    /// The fields of the target that no rule fills.
    pub open: Vec<OpenField>,
    /// Why there is no result; empty if there is one, or no document was given. A rule of this map that is the cause has a finding
    /// too.
    pub says: String,
}

/// Input of a trial.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Tryout {
    /// Nothing is run when this is empty.
    pub given: Vec<u8>,
    /// Which of the documents in it, from 0.
    pub at: usize,
    /// Variables that an earlier step would have set, by name.
    pub with: Map<String, Value>,
    /// Metadata of the document beside that of its envelope.
    pub meta: Map<String, Value>,
}

/// A field of the target that no rule fills.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct OpenField {
    /// Path with the lists it is in: `rows[].item`.
    pub path: String,
    pub kind: String,
    pub required: bool,
    pub title: String,
}

/// Returns the unfilled targets of the map file `text`, if the target has a JSON schema; `map` is the parsed map, if it has no
/// errors.
fn open(files: &Files, text: &str, map: Option<&crate::map::Map>) -> Vec<OpenField> {
    let file = text.parse::<toml_edit::DocumentMut>().unwrap_or_default();
    let schema = |key: &str| {
        let name = file.get(key)?.as_str()?.to_owned();
        let node = serde_json::from_str(files.get(&format!("schemas/{name}.schema.json"))?).ok()?;
        Some(Schema { name, root: node })
    };
    let mut open = Vec::new();
    let mut targets = filled(text);
    // A copied source fills the fields of the same names.
    if let Some(source) = file.get("begin").and_then(|_| schema("from")) {
        let plain = AsIs::default();
        let begin = map.and_then(|map| map.begin.as_ref()).unwrap_or(&plain);
        targets.extend(source.fields(&source.root).into_iter().filter_map(|(name, _)| begin.name_of(&[name])));
    }
    if let Some(schema) = schema("to") {
        schema.level().each("", &mut |path, leaf| {
            if !fills(&targets, path) {
                let (kind, title) = (leaf.kind.clone(), leaf.title.clone());
                open.push(OpenField { path: path.to_owned(), kind, required: leaf.required, title });
            }
        });
    }
    open
}

/// Returns the misfits of a result as findings of the map.
#[must_use]
pub fn misfits(map: &crate::map::Map, path: &str, result: &Value) -> Vec<Finding> {
    let finding = |misfit: Misfit| Finding::at(Severity::Warning, "map::misfit", path, "", 0..0, misfit.says);
    map.misfits(result).into_iter().map(finding).collect()
}

/// The map `name` of a workspace as if its file had the content `text`, over what it is tried on.
///
/// `environment` is where the workspace is read; with errors in the file there is nothing but findings.
#[must_use]
pub fn map_table(files: &Files, environment: Option<&str>, name: &str, text: &str, on: &Tryout) -> MapTable {
    let path = format!("maps/{name}.toml");
    let mut files = files.clone();
    files.insert(path.clone(), text.to_owned());
    let checked = Workspace::read_draft(&files, environment, &path);
    let findings: Vec<Finding> = checked.findings.iter().filter(|finding| finding.file == path).cloned().collect();
    let read = checked.workspace.as_ref().and_then(|workspace| workspace.maps.get(name));
    let open = open(&files, text, read.map(AsRef::as_ref));
    let mut table = MapTable { findings, open, ..MapTable::default() };
    let workspace = match checked.workspace {
        Some(workspace) => workspace,
        None if table.findings.iter().any(|one| one.severity == Severity::Error) => return table,
        None => {
            let elsewhere: Vec<Finding> = checked.findings.into_iter().filter(|one| one.severity == Severity::Error).collect();
            // Files that use the map do not prevent a trial; their findings are returned all the same.
            files.retain(|name, _| !["flows/", "milestones/", "cases/"].iter().any(|folder| name.starts_with(folder)));
            match Workspace::read_draft(&files, environment, &path).workspace {
                Some(workspace) => {
                    table.findings.extend(elsewhere.into_iter().map(|one| Finding { severity: Severity::Warning, ..one }));
                    workspace
                }
                None => {
                    table.says =
                        elsewhere.first().map_or_else(String::new, |one| format!("{}:{}: {}", one.file, one.line, one.says));
                    return table;
                }
            }
        }
    };
    let Some(map) = workspace.maps.get(name) else { return table };
    table.with = map.with.iter().map(|(name, _)| name.clone()).collect();
    if on.given.trim_ascii().is_empty() {
        return table;
    }
    let documents = match given_to_map(&workspace, map, &on.given) {
        Ok(documents) => documents,
        Err(says) => return MapTable { says, ..table },
    };
    table.documents = documents.len();
    let Some(one) = documents.get(on.at.min(documents.len().saturating_sub(1))) else { return table };
    table.title.clone_from(&one.title);
    table.source = map.source(&one.document);
    match map.explain(&scope_of(&one.document, &one.variables(&on.with, &on.meta), &workspace.library)) {
        Ok((result, rules)) => {
            table.rules = rules;
            table.findings.extend(misfits(map, &path, &result));
            match map.bytes(&result) {
                Ok(None) => table.result = result,
                Ok(Some(bytes)) => table.result = Value::String(String::from_utf8_lossy(&bytes).into_owned()),
                Err(error) => table.says = error.to_string(),
            }
        }
        Err(error) => {
            table.findings.extend(at_its_line(&error, &path, text));
            table.says = error.to_string();
        }
    }
    table
}

/// Returns the finding at the rule of the map file `text` that has no value; `None` if the rule is in another map.
fn at_its_line(error: &MapError, path: &str, text: &str) -> Option<Finding> {
    let own = error.in_own_map() && !error.expression.is_empty();
    let before = (error.line as usize).checked_sub(1).filter(|_| own)?;
    let from: usize = text.split_inclusive('\n').take(before).map(str::len).sum();
    let line = text[from..].lines().next()?;
    // The target may have the same name as its expression, so only what follows the equals sign is searched.
    let value = line.find('=').map_or(0, |at| at + 1);
    // The failed part of the expression if the line has it unescaped; otherwise the whole line.
    let span = match line[value..].find(&error.expression).map(|at| value + at) {
        Some(at) => from + at + error.source.span.start..from + at + error.source.span.end,
        None => from..from + line.len(),
    };
    let says = format!("{} = {}: {}", error.target, error.expression, error.source);
    Some(Finding::at(Severity::Error, "map::failed", path, text, span, says))
}
