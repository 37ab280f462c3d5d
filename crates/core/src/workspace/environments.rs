//! Environments: the same workspace at other addresses. `env/NAME.toml` changes keys of connections and nothing else.

use super::fields::File;
use super::{Build, Files};
use crate::connection::ConnectionKind;
use crate::finding::{Finding, Severity};
use crate::nearest::nearest;
use std::collections::BTreeMap;
use toml_edit::{DocumentMut, Item};

/// The environment of a service.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Environment {
    pub name: String,
    pub title: String,
    /// True if messages sent from here have real effects: test interchanges are not acknowledged.
    pub production: bool,
    /// Whether people may deploy from the console here; `None` leaves it to `workspace.toml`.
    pub deploy_from_console: Option<bool>,
}

/// The files as they are in an environment, and the connections it speaks of.
pub(super) struct Overlaid {
    pub files: Files,
    pub spoken_of: Vec<String>,
}

/// The names of the environments among the files.
pub fn names(files: &Files) -> impl Iterator<Item = &str> {
    files.keys().filter_map(|path| path.strip_prefix("env/")?.strip_suffix(".toml"))
}

/// Merges an environment's settings into the connection files.
///
/// # Errors
/// A finding when there is no such environment. Faults inside its file are reported where every file is read.
pub(super) fn overlay(files: &Files, name: &str) -> Result<Overlaid, Box<Finding>> {
    let path = format!("env/{name}.toml");
    let Some(text) = files.get(&path) else {
        let says = format!("there is no environment \"{name}\": {path} is missing");
        let finding = Finding::at(Severity::Error, "env::missing", &path, "", 0..0, says);
        let known: Vec<&str> = names(files).collect();
        let finding = match nearest(name, known.iter().copied()) {
            Some(near) => finding.help(format!("did you mean \"{near}\"?")),
            None if known.is_empty() => finding.help("write one with a table for each connection: [connections.NAME]"),
            None => finding.help(format!("known: {}", known.join(", "))),
        };
        return Err(Box::new(finding));
    };
    let mut overlaid = Overlaid { files: files.clone(), spoken_of: Vec::new() };
    let Ok(document) = text.parse::<DocumentMut>() else { return Ok(overlaid) };
    let Some(connections) = document.get("connections").and_then(Item::as_table_like) else { return Ok(overlaid) };
    for (connection, keys) in connections.iter() {
        let path = format!("connections/{connection}.toml");
        let Some(own) = files.get(&path).and_then(|text| text.parse::<DocumentMut>().ok()) else { continue };
        let mut own = own;
        for (key, value) in keys.as_table_like().into_iter().flat_map(|table| table.iter()) {
            own.insert(key, value.clone());
        }
        overlaid.files.insert(path, own.to_string());
        overlaid.spoken_of.push(connection.to_owned());
    }
    Ok(overlaid)
}

/// Adds the environment's file to findings whose lines it wrote.
pub(super) fn attribute(findings: &mut [Finding], files: &Files, environment: &str) {
    for finding in findings.iter_mut().filter(|finding| finding.file.starts_with("connections/")) {
        let own = files.get(&finding.file).is_some_and(|text| text.lines().any(|line| line.trim_end() == finding.source));
        if !own {
            finding.says.push_str(&format!(" (as env/{environment}.toml has it)"));
        }
    }
}

impl<'a> Build<'a> {
    pub(super) fn environment(&mut self, name: &str, file: &File<'a>) {
        let mut environment = Environment { name: name.to_owned(), title: name.to_owned(), ..Environment::default() };
        self.toml(file, |fields| {
            if let Some(title) = fields.text("title") {
                environment.title = title.value;
            }
            environment.production = fields.flag("production").unwrap_or(false);
            environment.deploy_from_console = fields.flag("deploy_from_console");
            let Some(connections) = fields.table("connections") else { return };
            for (name, span) in connections.keys() {
                if !self.files.contains_key(&format!("connections/{name}.toml")) {
                    let known = self.files.keys().filter_map(|path| path.strip_prefix("connections/")?.strip_suffix(".toml"));
                    self.unknown(file, span, "connection", &name, known);
                }
            }
        });
        self.environments.insert(name.to_owned(), environment);
    }

    /// Tells which connections an environment leaves as they are elsewhere.
    pub(super) fn silent(&self, environment: &str, spoken_of: &[String]) {
        let path = format!("env/{environment}.toml");
        // A webhook's address and incidents are the same in every environment.
        let outside = self
            .workspace
            .connections
            .values()
            .filter(|connection| !matches!(connection.kind, ConnectionKind::Webhook(_) | ConnectionKind::Incidents));
        for connection in outside.filter(|connection| !spoken_of.contains(&connection.name)) {
            let text = self.files.get(&path).map_or("", String::as_str);
            let says = format!("{} is not mentioned: it keeps the address {}", connection.name, connection.place());
            let finding = Finding::at(Severity::Warning, "env::silent", &path, text, 0..0, says);
            let help =
                format!("write [connections.{}] with what differs in this environment, or leave it empty", connection.name);
            self.findings.borrow_mut().push(finding.help(help));
        }
    }
}

/// Every environment by name.
pub(super) type Environments = BTreeMap<String, Environment>;
