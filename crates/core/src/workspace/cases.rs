//! `cases/NAME/case.toml`, with the given document, the answers and the expected result beside it.

use super::Build;
use super::fields::{Fields, File};
use crate::trial::{Answers, Case, Subject};
use serde_json::Value;
use std::sync::Arc;

impl<'a> Build<'a> {
    pub(super) fn case(&mut self, name: &str, file: &File<'a>) {
        let mut found = None;
        self.toml(file, |fields| found = self.read_case(name, file, fields));
        if let Some(case) = found {
            self.workspace.cases.insert(name.to_owned(), Arc::new(case));
        }
    }

    fn read_case(&self, name: &str, file: &File<'a>, fields: &Fields<'_>) -> Option<Case> {
        let says = fields.text("says").map(|text| text.value).unwrap_or_default();
        let event = fields.text("event").map(|text| text.value).unwrap_or_default();
        let meta = fields.table("meta").map(|meta| meta.all_texts()).unwrap_or_default();
        let meta = meta.into_iter().map(|(name, text)| (name, Value::String(text.value))).collect();
        let with = fields.pairs("with");
        let given = fields.needed_text("given");
        let of = match (fields.text("map"), fields.text("flow")) {
            (Some(map), None) => {
                if !self.workspace.maps.contains_key(&map.value) {
                    self.unknown(file, map.span, "map", &map.value, self.workspace.maps.keys().map(String::as_str));
                    return None;
                }
                Subject::Map(map.value)
            }
            (None, Some(flow)) => {
                if !self.workspace.flows.contains_key(&flow.value) {
                    self.unknown(file, flow.span, "flow", &flow.value, self.workspace.flows.keys().map(String::as_str));
                    return None;
                }
                Subject::Flow(flow.value)
            }
            (first, _) => {
                let span = first.map_or(0..0, |text| text.span);
                file.error(span, "case::subject", "a case is for one map or one flow: `map = …` or `flow = …`", None);
                return None;
            }
        };
        let given = given?;
        let path = format!("cases/{name}/{}", given.value);
        let Some(text) = self.files.get(&path) else {
            file.error(given.span, "case::given", format!("there is no file {path}"), None);
            return None;
        };
        let given = (path, text.clone());
        let mut variables = serde_json::Map::new();
        for (own, beside) in with {
            let path = format!("cases/{name}/{}", beside.value);
            if !self.files.contains_key(&path) {
                file.error(beside.span, "case::with", format!("there is no file {path}"), None);
                return None;
            }
            variables.insert(own.value, self.json(&path)??);
        }
        let answers = self.json::<Answers>(&format!("cases/{name}/answers.json"))?.unwrap_or_default();
        if let Subject::Flow(flow) = &of {
            self.unknown_steps(name, flow, &answers);
        }
        let expect = self.json(&format!("cases/{name}/expect.json"))?;
        Some(Case { name: name.to_owned(), says, of, given, event, meta, variables, answers, expect })
    }

    fn unknown_steps(&self, case: &str, flow: &str, answers: &Answers) {
        let Some(flow) = self.workspace.flows.get(flow) else { return };
        let path = format!("cases/{case}/answers.json");
        let Some((path, text)) = self.files.get_key_value(&path) else { return };
        let file = self.file(path, text);
        for step in answers.keys().filter(|step| flow.step(step).is_none()) {
            let at = text.find(&format!("\"{step}\"")).unwrap_or(0);
            self.unknown(&file, at..at + step.len() + 2, "step", step, flow.steps.iter().map(|step| step.name.as_str()));
        }
    }

    /// A JSON file of the case; the outer `None` where it is there and cannot be read.
    fn json<T: serde::de::DeserializeOwned>(&self, path: &str) -> Option<Option<T>> {
        let Some((path, text)) = self.files.get_key_value(path) else { return Some(None) };
        match serde_json::from_str(text) {
            Ok(value) => Some(Some(value)),
            Err(error) => {
                let file = self.file(path, text);
                let line_start: usize = text.split_inclusive('\n').take(error.line().saturating_sub(1)).map(str::len).sum();
                let at = line_start + error.column().saturating_sub(1);
                file.error(at..at + 1, "case::syntax", error.to_string(), None);
                None
            }
        }
    }
}
