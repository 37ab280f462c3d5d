//! Flow files: where a flow's messages come from, and what they are known by.

use super::Build;
use super::fields::{Fields, File, Text};
use super::maps::Need;
use super::steps::Sofar;
use crate::connection::{Connection, ConnectionKind};
use crate::document::{Form, Validate};
use crate::expr::Shape;
use crate::flow::{ACKNOWLEDGMENTS, AfterFailure, Flow, Intake, Recording, Step, Takes, UNROUTED};
use crate::incident;
use crate::schema::Written;
use std::sync::Arc;

/// Written forms of documents with a schema.
impl<'a> Build<'a> {
    pub(super) fn flow(&mut self, name: &str, file: &File<'a>) {
        let mut found = None;
        self.toml(file, |fields| found = self.read_flow(name, file, fields));
        if [ACKNOWLEDGMENTS, UNROUTED].contains(&name) {
            file.error(0..0, "flow::reserved", format!("the name {name} is reserved for a built-in flow"), None);
        }
        if let Some(flow) = found {
            self.workspace.flows.insert(name.to_owned(), Arc::new(flow));
        }
    }

    fn read_flow(&self, name: &str, file: &File<'a>, fields: &Fields<'_>) -> Option<Flow> {
        let title = fields.text("title").map_or_else(|| name.to_owned(), |text| text.value);
        let notes = fields.text("notes").map_or_else(String::new, |text| text.value.trim().to_owned());
        let intakes: Vec<Intake> = fields.tables("intake").into_iter().filter_map(|intake| self.intake(file, intake)).collect();
        if intakes.is_empty() && !fields.has("intake") {
            fields.missing("[[intake]]");
        }
        let (source, schema) = self.source(&intakes);
        let expr = |key: &'static str, variables: &[(&str, Shape<'_>)]| {
            let (expr, start) = fields.expr(key)?;
            self.check_expr(file, start, &expr, Need::One, source, source, variables);
            Some(expr)
        };
        let key = expr("key", &[]);
        let in_order_by = expr("in_order_by", &[]);
        let after_failure =
            fields.word("after_failure", &[("wait", AfterFailure::Wait), ("pass", AfterFailure::Pass)]).unwrap_or_default();
        let record = fields.word("record", &Recording::WORDS).unwrap_or_default();
        let in_flight = fields.whole("in_flight", 1..1_000_001).and_then(|most| u32::try_from(most).ok());
        let mut sofar = Sofar { doc: source, it: source, schema, variables: Vec::new() };
        let mut steps: Vec<Step> = Vec::new();
        self.sequence(file, fields.tables("step"), "", &mut sofar, &mut steps);
        if steps.is_empty() && !fields.has("step") {
            fields.missing("[[step]]");
        }
        // The steps on failure see what every step can have: the document in any form, and the variables set by every way.
        let variables = sofar.variables.iter().cloned().chain(["error".to_owned()]).collect();
        let mut failing = Sofar { doc: source, it: Shape::Any, schema: None, variables };
        let on_failure = self.sequence(file, fields.tables("on_failure"), "on failure", &mut failing, &mut steps).first;
        let variables = sofar.known();
        let result = fields.expr("result").map(|(expr, start)| {
            self.check_expr(file, start, &expr, Need::One, source, source, &variables);
            expr
        });
        Some(Flow {
            name: name.to_owned(),
            title,
            notes,
            intakes,
            steps,
            on_failure,
            key,
            result,
            in_order_by,
            after_failure,
            in_flight,
            record,
        })
    }

    /// Returns the common shape of the documents of all intakes.
    fn source(&self, intakes: &[Intake]) -> (Shape<'_>, Option<String>) {
        let schemas: Vec<String> = intakes
            .iter()
            .map(|intake| match &intake.takes {
                Takes::X12(set) => {
                    let known = self.workspace.definitions.all().find(|known| known.set == *set);
                    known.map_or_else(String::new, |known| format!("x12/{}/{}", known.version, known.set))
                }
                Takes::Json(schema) => schema.clone(),
                Takes::Text => String::new(),
            })
            .collect();
        match schemas.first() {
            Some(first) if schemas.iter().all(|other| other == first) => {
                (self.workspace.shape(first).unwrap_or(Shape::Any), Some(first.clone()))
            }
            _ => (Shape::Any, None),
        }
    }

    fn intake(&self, file: &File<'a>, fields: Fields<'_>) -> Option<Intake> {
        let from = fields.needed_text("from");
        let queue = fields.text("queue");
        let takes = fields.needed_text("takes");
        if let Some(from) = &from
            && !self.workspace.connections.contains_key(&from.value)
        {
            self.unknown(
                file,
                from.span.clone(),
                "connection",
                &from.value,
                self.workspace.connections.keys().map(String::as_str),
            );
        }
        if let Some(connection) = from.as_ref().and_then(|from| self.workspace.connections.get(&from.value)) {
            self.check_queue(file, &fields, connection, queue.as_ref());
        }
        let takes = takes.map(|takes| match takes.value.strip_prefix("x12/") {
            Some(set) => {
                if !self.workspace.definitions.all().any(|known| known.set == set) {
                    let known = self.workspace.definitions.all().map(|known| known.set.as_str());
                    self.unknown(file, takes.span, "transaction set", set, known);
                }
                Takes::X12(set.to_owned())
            }
            None if takes.value == "text" => Takes::Text,
            None => {
                if !self.workspace.schemas.contains_key(&takes.value) {
                    self.unknown(file, takes.span, "schema", &takes.value, self.workspace.schemas.keys().map(String::as_str));
                }
                Takes::Json(takes.value)
            }
        });
        let events = fields.texts("events");
        let source = from.as_ref().and_then(|from| self.workspace.connections.get(&from.value));
        if source.is_some_and(|connection| matches!(connection.kind, ConnectionKind::Incidents)) {
            let known = incident::What::ALL.map(incident::What::as_str);
            events.iter().for_each(|event| fields.one_of("events", event, &known));
        }
        let events: Vec<String> = events.into_iter().map(|event| event.value).collect();
        let partners = self.partners_of(file, fields.texts("partners"), takes.as_ref());
        let silent_after = fields.duration("silent_after");
        let written = fields.word("form", &Written::WORDS).unwrap_or(Written::Json);
        if fields.has("form") && !matches!(takes, Some(Takes::Json(_)) | None) {
            let says = "`written` needs a schema: X12 and text have one form only";
            file.error(fields.span_of("form"), "flow::form", says, None);
        }
        let validate = fields.word("validate", &Validate::WORDS).unwrap_or_default();
        if fields.has("validate") && !matches!(takes, Some(Takes::Json(_)) | None) {
            let says = "`validate` needs a schema: X12 is checked against its set, and text is not checked";
            file.error(fields.span_of("validate"), "flow::validate", says, None);
        }
        let form = match &takes {
            Some(Takes::Json(schema)) if written != Written::Json => {
                self.writes(file, fields.span_of("form"), written, schema);
                Form::Shaped { written, schema: schema.clone() }
            }
            _ => Form::Json,
        };
        fields.done();
        Some(Intake {
            form,
            validate,
            from: from?.value,
            queue: queue.map(|queue| queue.value),
            takes: takes?,
            events,
            partners,
            silent_after,
        })
    }

    /// Reads the partners of an intake, which X12 alone has, since it names its sender.
    fn partners_of(&self, file: &File<'a>, names: Vec<Text>, takes: Option<&Takes>) -> Vec<String> {
        for name in &names {
            if !self.workspace.partners.contains_key(&name.value) {
                let known = self.workspace.partners.keys().map(String::as_str);
                self.unknown(file, name.span.clone(), "partner", &name.value, known);
            } else if !matches!(takes, Some(Takes::X12(_)) | None) {
                file.error(name.span.clone(), "flow::partners", "only X12 documents name their partner", None);
            }
        }
        names.into_iter().map(|name| name.value).collect()
    }

    /// An intake at a broker names one of its queues; elsewhere there are none.
    fn check_queue(&self, file: &File<'a>, fields: &Fields<'_>, connection: &Connection, queue: Option<&Text>) {
        match (connection.broker(), queue) {
            (Some(broker), Some(queue)) if broker.queue(&queue.value).is_none() => {
                let known = broker.queues.iter().map(|queue| queue.name.as_str());
                let what = format!("[[queue]] of {} named", connection.name);
                self.unknown(file, queue.span.clone(), &what, &queue.value, known);
            }
            (Some(_), None) => fields.missing("queue"),
            (None, Some(queue)) => {
                let says = format!("{} is of the kind {}, which has no queues", connection.name, connection.kind_name());
                file.error(queue.span.clone(), "flow::queue", says, None);
            }
            (Some(_), Some(_)) | (None, None) => {}
        }
    }
}
