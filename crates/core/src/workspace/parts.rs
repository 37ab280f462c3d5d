//! Files that refer to few others: schemas, tables, partners, plans.

use super::Build;
use super::fields::{Fields, File, Text};
use crate::incident;
use crate::partner::{Acknowledge, Envelopes, Partner, Sending};
use crate::plan::{Mark, Milestone, Plan, Point};
use crate::schema::{Schema, Validator, Written};
use crate::table;
use crate::x12::ack::{AckDepth, AckForm, AckStyle};
use crate::x12::{Definitions, Guide, Level, OnSeparator, Party, Tolerance};
use std::sync::Arc;

impl<'a> Build<'a> {
    pub(super) fn schema(&mut self, name: &str, file: &File<'a>) {
        match serde_json::from_str(file.text) {
            Ok(node) => {
                let schema = Schema { name: name.to_owned(), root: node };
                for says in schema.writing_faults() {
                    file.error(0..0, "schema::form", says, None);
                }
                match Validator::of(&schema) {
                    Ok(validator) => drop(self.workspace.validators.insert(name.to_owned(), Arc::new(validator))),
                    Err(says) => file.error(0..0, "schema::schema", format!("no schema of 2020-12: {says}"), None),
                }
                self.workspace.schemas.insert(name.to_owned(), Arc::new(schema));
            }
            Err(error) => {
                let line_start: usize = file.text.split_inclusive('\n').take(error.line().saturating_sub(1)).map(str::len).sum();
                let at = line_start + error.column().saturating_sub(1);
                file.error(at..at + 1, "schema::syntax", format!("not JSON: {error}"), None);
            }
        }
    }

    /// Checks that a schema describes a written form completely.
    pub(super) fn writes(&self, file: &File<'_>, span: std::ops::Range<usize>, written: Written, schema: &str) {
        let says_where = |schema: &Arc<Schema>| schema.has_records();
        if written == Written::Records && self.workspace.schemas.get(schema).is_some_and(|schema| !says_where(schema)) {
            let says = format!("the schema {schema} has no positions of fields in records");
            file.error(
                span,
                "schema::form",
                says,
                Some("add `x-record` to its fields; see `wirewatch schema from --positions`".to_owned()),
            );
        }
    }

    /// The schema that every workspace has: that of the service's own incidents.
    pub(super) fn own_schema(&mut self) {
        let node = serde_json::from_str(incident::SCHEMA).expect("a fixed schema");
        let own = Schema { name: incident::NAME.to_owned(), root: node };
        if let Ok(validator) = Validator::of(&own) {
            self.workspace.validators.entry(own.name.clone()).or_insert_with(|| Arc::new(validator));
        }
        self.workspace.schemas.entry(own.name.clone()).or_insert_with(|| Arc::new(own));
    }

    /// Certificates as the service that uses them reads them; here it is only seen that there are any.
    pub(super) fn authority(&mut self, name: &str, file: &File<'a>) {
        if !file.text.contains("-----BEGIN CERTIFICATE-----") {
            let help = "expected a PEM file: lines between -----BEGIN CERTIFICATE----- and -----END CERTIFICATE-----".to_owned();
            file.error(0..0, "authority::none", "there is no certificate in this file", Some(help));
        }
        self.authorities.insert(name.to_owned(), file.text.to_owned());
    }

    pub(super) fn table(&mut self, name: &str, file: &File<'a>) {
        match table::read(file.text) {
            Ok(rows) => {
                self.workspace.library.tables.insert(name.to_owned(), rows);
            }
            Err((line, says)) => {
                let at: usize = file.text.split_inclusive('\n').take(line.saturating_sub(1)).map(str::len).sum();
                file.error(at..at + 1, "table::row", says, None);
                // The name is known all the same, so that one mistake is not reported at every use.
                self.workspace.library.tables.entry(name.to_owned()).or_default();
            }
        }
    }

    /// Reads `standards/VERSION/dictionary.toml`: additions to the standard's version, and differences.
    pub(super) fn dictionary(&mut self, name: &str, file: &File<'a>) {
        let Some(version) = name.strip_suffix("/dictionary") else { return };
        let mut definitions = (*self.workspace.definitions).clone();
        match definitions.add_dictionary(version, file.text) {
            Ok(()) => self.workspace.definitions = Arc::new(definitions),
            Err(error) => file.error(error.at.unwrap_or(0..0), "standard::dictionary", error.says, None),
        }
    }

    /// `standards/VERSION/SET.toml`: a transaction set of the workspace's own.
    pub(super) fn set_definition(&mut self, name: &str, file: &File<'a>) {
        if name.ends_with("/dictionary") {
            return;
        }
        let mut definitions = (*self.workspace.definitions).clone();
        match definitions.add_set(file.text) {
            Ok(set) if format!("{}/{}", set.version, set.set) != name => {
                let says = format!("the set {} {} must be in standards/{0}/{1}.toml", set.version, set.set);
                file.error(0..0, "standard::place", says, None);
            }
            Ok(_) => self.workspace.definitions = Arc::new(definitions),
            Err(error) => file.error(error.at.unwrap_or(0..0), "standard::set", error.says, None),
        }
    }

    pub(super) fn guide(&mut self, name: &str, file: &File<'a>) {
        let guide = match Guide::read(file.text) {
            Ok(guide) => guide,
            Err(error) => return file.error(error.at.unwrap_or(0..0), "guide::syntax", error.says, None),
        };
        let standard = guide.set().and_then(|(version, set)| self.workspace.definitions.find(version, set));
        let Some(standard) = standard else {
            let known: Vec<String> =
                self.workspace.definitions.all().map(|set| format!("x12/{}/{}", set.version, set.set)).collect();
            return self.unknown(file, 0..0, "transaction set", &guide.of, known.iter().map(String::as_str));
        };
        match guide.apply(name, standard) {
            Ok(_) => {
                self.workspace.guides.insert(name.to_owned(), Arc::new(guide));
            }
            Err(error) => file.error(0..0, "guide::place", error.says, None),
        }
    }

    /// The definitions as the named guides have them.
    fn guided(&self, file: &File<'_>, names: Vec<Text>) -> Arc<Definitions> {
        let mut definitions = self.workspace.definitions.clone();
        for name in names {
            let Some(guide) = self.workspace.guides.get(&name.value) else {
                self.unknown(file, name.span, "guide", &name.value, self.workspace.guides.keys().map(String::as_str));
                continue;
            };
            let standard = guide.set().and_then(|(version, set)| definitions.find(version, set).cloned());
            // A guide that does not apply was reported at its own file.
            if let Some(Ok(set)) = standard.map(|standard| guide.apply(&name.value, &standard)) {
                Arc::make_mut(&mut definitions).replace(Arc::new(set));
            }
        }
        definitions
    }

    pub(super) fn partner(&mut self, name: &str, file: &File<'a>) {
        let mut found = None;
        self.toml(file, |fields| {
            let title = fields.text("title").map_or_else(|| name.to_owned(), |text| text.value);
            let them = party(fields, "them");
            let us = party(fields, "us");
            let mut acknowledged = None;
            if let Some(acknowledge) = fields.table("acknowledge") {
                let forms = [("997", AckForm::Functional), ("999", AckForm::Implementation)];
                let form = acknowledge.word("with", &forms).unwrap_or_default();
                let depth = acknowledge.word("by", &[("set", AckDepth::Set), ("group", AckDepth::Group)]).unwrap_or_default();
                if let Some(to) = acknowledge.needed_text("to") {
                    if self.workspace.connections.get(&to.value).is_none_or(|known| known.kind_name() != "folder") {
                        let folders = self.workspace.connections.values().filter(|known| known.kind_name() == "folder");
                        self.unknown(file, to.span, "folder connection", &to.value, folders.map(|known| known.name.as_str()));
                    }
                    acknowledged = Some(Acknowledge { to: to.value, style: AckStyle { form, depth } });
                }
                acknowledge.done();
            }
            let tolerated = fields.tables("tolerate").into_iter().filter_map(tolerance).collect();
            let definitions = self.guided(file, fields.texts("guides"));
            let sending = sending(file, fields);
            if let (Some(them), Some(us)) = (them, us) {
                if let Some(other) = self.workspace.partners.values().find(|other| other.them == them && other.us == us) {
                    let says =
                        format!("{} has the same identifiers, so an interchange cannot be assigned to one of them", other.name);
                    file.error(0..0, "partner::same-identifiers", says, None);
                }
                let (name, acknowledge) = (name.to_owned(), acknowledged);
                found = Some(Partner { name, title, them, us, acknowledge, tolerated, definitions, sending });
            }
        });
        if let Some(partner) = found {
            self.workspace.partners.insert(name.to_owned(), Arc::new(partner));
        }
    }

    pub(super) fn plan(&mut self, name: &str, file: &File<'a>) {
        let mut plan = Plan { name: name.to_owned(), title: name.to_owned(), milestones: Vec::new() };
        self.toml(file, |fields| {
            if let Some(title) = fields.text("title") {
                plan.title = title.value;
            }
            for milestone in fields.tables("milestone") {
                if let Some(milestone) = self.milestone(file, milestone) {
                    plan.milestones.push(milestone);
                }
            }
            if plan.milestones.iter().all(|milestone| milestone.mark != Mark::Begins) {
                file.warning(0..0, "plan::no-beginning", "no milestone has mark = \"begins\"", None);
            }
        });
        self.workspace.plans.insert(name.to_owned(), Arc::new(plan));
    }

    fn milestone(&self, file: &File<'a>, fields: Fields<'_>) -> Option<Milestone> {
        let name = fields.needed_text("name");
        let mark = fields.word("mark", &[("begins", Mark::Begins), ("trouble", Mark::Trouble), ("ends", Mark::Ends)]);
        let flow = fields.needed_text("flow");
        let step = fields.text("step");
        let words = [
            ("begun", Point::Begun),
            ("acknowledged", Point::Acknowledged),
            ("failed", Point::Failed),
            ("done", Point::Done),
            ("discarded", Point::Discarded),
        ];
        let numbers: Vec<(&'static str, usize)> = words.iter().enumerate().map(|(n, (word, _))| (*word, n)).collect();
        let when = fields.word("when", &numbers).map(|n| words[n].1.clone());
        let point = match (step, when) {
            (Some(step), None) => {
                let known = flow.as_ref().and_then(|flow| self.workspace.flows.get(&flow.value));
                if let Some(known) = known.filter(|known| known.step(&step.value).is_none()) {
                    let steps = known.steps.iter().map(|step| step.name.as_str());
                    self.unknown(file, step.span, "step", &step.value, steps);
                }
                Some(Point::Step(step.value))
            }
            (None, Some(point)) => Some(point),
            (Some(_), Some(_)) | (None, None) => {
                if !fields.has("when") || fields.has("step") {
                    let says = "a binding needs either step = \"…\" or when = \"…\"";
                    file.error(fields.span.clone(), "plan::point", says, None);
                }
                None
            }
        };
        if let Some(flow) = &flow
            && !self.workspace.flows.contains_key(&flow.value)
        {
            self.unknown(file, flow.span.clone(), "flow", &flow.value, self.workspace.flows.keys().map(String::as_str));
        }
        fields.done();
        Some(Milestone { name: name?.value, mark: mark.unwrap_or_default(), flow: flow?.value, point: point? })
    }
}

/// Reads an error that is tolerated: `{ level = "element", code = "7", at = "N101" }`.
fn tolerance(fields: Fields<'_>) -> Option<Tolerance> {
    let level = fields.word("level", &[("segment", Level::Segment), ("element", Level::Element), ("set", Level::Set)]);
    if level.is_none() && !fields.has("level") {
        fields.missing("level");
    }
    let text = |key| fields.text(key).map(|text| text.value).unwrap_or_default();
    let (code, at) = (text("code"), text("at"));
    fields.done();
    Some(Tolerance { level: level?, code, at })
}

/// `[send]`: separators, line ends, envelopes.
fn sending(file: &File<'_>, fields: &Fields<'_>) -> Sending {
    let mut sending = Sending::default();
    let Some(table) = fields.table("send") else { return sending };
    if let Some(separators) = table.table("separators") {
        let one = |key: &'static str| {
            let text = separators.text(key)?;
            let byte = match text.value.as_bytes() {
                [byte] if !byte.is_ascii_alphanumeric() && *byte != b' ' => Some(*byte),
                _ => None,
            };
            if byte.is_none() {
                file.error(
                    text.span,
                    "partner::separator",
                    "a separator must be one character other than a letter, digit or space",
                    None,
                );
            }
            byte
        };
        let d = &mut sending.delimiters;
        d.element = one("element").unwrap_or(d.element);
        d.component = one("component").unwrap_or(d.component);
        d.segment = one("segment").unwrap_or(d.segment);
        d.repetition = one("repetition");
        let all = [Some(d.element), Some(d.component), Some(d.segment), d.repetition];
        let same = |n: usize| all[n].is_some() && all[..n].contains(&all[n]);
        if (1..all.len()).any(same) {
            file.error(separators.span.clone(), "partner::separators", "two of the separators are the same", None);
        }
        separators.done();
    }
    sending.style.line_ends = table.flag("line_ends").unwrap_or(false);
    let words = [("replace", OnSeparator::Replace), ("refuse", OnSeparator::Refuse)];
    sending.style.on_separator = table.word("on_separator", &words).unwrap_or_default();
    let words = [("one", Envelopes::One), ("per-group", Envelopes::PerGroup), ("per-set", Envelopes::PerSet)];
    sending.envelopes = table.word("interchanges", &words).unwrap_or_default();
    table.done();
    sending
}

fn party(fields: &Fields<'_>, key: &'static str) -> Option<Party> {
    let Some(table) = fields.table(key) else {
        if !fields.has(key) {
            fields.missing(key);
        }
        return None;
    };
    let (qualifier, id) = (table.needed_text("qualifier"), table.needed_text("id"));
    table.done();
    Some(Party { qualifier: qualifier?.value, id: id?.value })
}
