//! Flow files: intakes and steps, each step's expressions checked against the document it will see.

use super::Build;
use super::fields::{Fields, File, Text};
use super::sends::Reading;
use crate::connection::{Connection, ConnectionKind};
use crate::expr::{Shape, Template};
use crate::flow::{ACKNOWLEDGMENTS, Flow, Intake, Method, OnAside, Parcel, Retry, Rule, Step, Takes, Verb};
use crate::x12::Definitions;
use std::sync::Arc;

/// What the steps so far have made of the document, and what they kept.
pub(super) struct Sofar<'w> {
    it: Shape<'w>,
    /// Name of the outline `it` has, where known.
    outline: Option<String>,
    kept: Vec<String>,
}

impl<'a> Build<'a> {
    pub(super) fn flow(&mut self, name: &str, file: &File<'a>) {
        let mut found = None;
        self.toml(file, |fields| found = self.read_flow(name, file, fields));
        if name == ACKNOWLEDGMENTS {
            file.error(
                0..0,
                "flow::reserved",
                format!("the name {ACKNOWLEDGMENTS} belongs to a flow of the service's own"),
                None,
            );
        }
        if let Some(flow) = found {
            self.workspace.flows.insert(name.to_owned(), Arc::new(flow));
        }
    }

    fn read_flow(&self, name: &str, file: &File<'a>, fields: &Fields<'_>) -> Option<Flow> {
        let title = fields.text("title").map_or_else(|| name.to_owned(), |text| text.value);
        let intakes: Vec<Intake> = fields.tables("intake").into_iter().filter_map(|intake| self.intake(file, intake)).collect();
        if intakes.is_empty() && !fields.has("intake") {
            fields.missing("[[intake]]");
        }
        let (source, outline) = self.source(&intakes);
        let expr = |key: &'static str, kept: &[&str]| {
            let (expr, start) = fields.expr(key)?;
            self.check_expr(file, start, &expr, source, source, kept);
            Some(expr)
        };
        let key = expr("key", &[]);
        let in_order_by = expr("in_order_by", &[]);
        let on_aside = fields.word("on_aside", &[("wait", OnAside::Wait), ("pass", OnAside::Pass)]).unwrap_or_default();
        let mut sofar = Sofar { it: source, outline, kept: Vec::new() };
        let mut steps: Vec<Step> = Vec::new();
        for step in fields.tables("step") {
            let Some(step) = self.step(file, step, source, &mut sofar) else { continue };
            if steps.iter().any(|known| known.name == step.name) {
                file.error(fields.span.clone(), "flow::same-name", format!("two steps are named \"{}\"", step.name), None);
            }
            steps.push(step);
        }
        if steps.is_empty() && !fields.has("step") {
            fields.missing("[[step]]");
        }
        let kept: Vec<&str> = sofar.kept.iter().map(String::as_str).collect();
        let result = fields.expr("result").map(|(expr, start)| {
            self.check_expr(file, start, &expr, source, source, &kept);
            expr
        });
        Some(Flow { name: name.to_owned(), title, intakes, steps, key, result, in_order_by, on_aside })
    }

    /// What the documents of all intakes have in common.
    fn source(&self, intakes: &[Intake]) -> (Shape<'_>, Option<String>) {
        let outlines: Vec<String> = intakes
            .iter()
            .map(|intake| match &intake.takes {
                Takes::X12(set) => {
                    let known = Definitions::standard().all().find(|known| known.set == *set);
                    known.map_or_else(String::new, |known| format!("x12/{}/{}", known.version, known.set))
                }
                Takes::Json(outline) => outline.clone(),
            })
            .collect();
        match outlines.first() {
            Some(first) if outlines.iter().all(|other| other == first) => {
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
                if !Definitions::standard().all().any(|known| known.set == set) {
                    let known = Definitions::standard().all().map(|known| known.set.as_str());
                    self.unknown(file, takes.span, "transaction set", set, known);
                }
                Takes::X12(set.to_owned())
            }
            None => {
                if !self.workspace.outlines.contains_key(&takes.value) {
                    self.unknown(file, takes.span, "outline", &takes.value, self.workspace.outlines.keys().map(String::as_str));
                }
                Takes::Json(takes.value)
            }
        });
        let events: Vec<String> = fields.texts("events").into_iter().map(|event| event.value).collect();
        fields.done();
        Some(Intake { from: from?.value, queue: queue.map(|queue| queue.value), takes: takes?, events })
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

    fn step<'w>(&'w self, file: &File<'a>, fields: Fields<'_>, source: Shape<'w>, sofar: &mut Sofar<'w>) -> Option<Step> {
        let name = fields.needed_text("name");
        let retry = fields.table("retry").map(retry).unwrap_or_default();
        const VERBS: [&str; 7] = ["map", "check", "only", "set", "call", "send", "note"];
        let given: Vec<&str> = VERBS.into_iter().filter(|verb| fields.has(verb)).collect();
        if given.len() != 1 {
            let says = if given.is_empty() {
                format!("a step has one verb: {}", VERBS.join(", "))
            } else {
                format!("a step has one verb, this one has {}", given.join(" and "))
            };
            file.error(fields.span.clone(), "flow::verb", says, None);
        }
        let verb = match given.first().copied() {
            Some("map") => self.map_step(file, &fields, sofar),
            Some("check") => self.check_step(file, &fields, source, sofar),
            Some("note") => fields.template("note").map(|(text, start)| {
                self.check_template(file, start, &text, source, sofar);
                Verb::Note { text }
            }),
            Some("only") => self.only_step(file, &fields, source, sofar),
            Some("set") => self.set_step(file, &fields, source, sofar, name.as_ref().map(|name| name.value.as_str())),
            Some("call") => self.call_step(file, &fields, source, sofar),
            Some("send") => self.send_step(file, &fields, source, sofar),
            _ => None,
        };
        for verb in VERBS {
            // Known as keys even where another verb stands, so that a step is told one thing at a time.
            if given.first() != Some(&verb) && fields.has(verb) {
                fields.table(verb);
            }
        }
        fields.done();
        Some(Step { name: name?.value, verb: verb?, retry })
    }

    fn map_step<'w>(&'w self, file: &File<'a>, fields: &Fields<'_>, sofar: &mut Sofar<'w>) -> Option<Verb> {
        let map = fields.text("map")?;
        let Some(known) = self.workspace.maps.get(&map.value) else {
            self.unknown(file, map.span, "map", &map.value, self.workspace.maps.keys().map(String::as_str));
            return None;
        };
        if let Some(outline) = sofar.outline.as_ref().filter(|outline| **outline != known.from) {
            let says = format!("the map {} reads {}, but the document here is {outline}", known.name, known.from);
            file.error(map.span, "flow::other-outline", says, None);
        }
        sofar.it = self.workspace.shape(&known.to).unwrap_or(Shape::Any);
        sofar.outline = Some(known.to.clone());
        Some(Verb::Map { map: map.value })
    }

    fn check_step(&self, file: &File<'a>, fields: &Fields<'_>, source: Shape<'_>, sofar: &Sofar<'_>) -> Option<Verb> {
        let rule = |table: Fields<'_>| {
            let that = table.expr("that");
            if !table.has("that") {
                table.missing("that");
            }
            let says = table.template("says");
            table.done();
            let ((that, at), (says, start)) = (that?, says?);
            self.check_step_expr(file, at, &that, source, sofar);
            self.check_template(file, start, &says, source, sofar);
            Some(Rule { that, says })
        };
        let rules: Vec<Rule> = fields.tables("check").into_iter().filter_map(rule).collect();
        Some(Verb::Check { rules })
    }

    fn only_step(&self, file: &File<'a>, fields: &Fields<'_>, source: Shape<'_>, sofar: &Sofar<'_>) -> Option<Verb> {
        let inner = fields.table("only")?;
        let test = inner.expr("when");
        if !inner.has("when") {
            inner.missing("when");
        }
        let because = inner.text("because").map_or_else(String::new, |text| text.value);
        inner.done();
        let (test, start) = test?;
        self.check_step_expr(file, start, &test, source, sofar);
        Some(Verb::Only { test, because })
    }

    fn set_step(
        &self,
        file: &File<'a>,
        fields: &Fields<'_>,
        source: Shape<'_>,
        sofar: &mut Sofar<'_>,
        name: Option<&str>,
    ) -> Option<Verb> {
        let (value, start) = fields.expr("set")?;
        self.check_step_expr(file, start, &value, source, sofar);
        sofar.kept.extend(name.map(str::to_owned));
        Some(Verb::Set { value })
    }

    fn call_step(&self, file: &File<'a>, fields: &Fields<'_>, source: Shape<'_>, sofar: &mut Sofar<'_>) -> Option<Verb> {
        let inner = fields.table("call")?;
        let at = inner.needed_text("at");
        if let Some(at) = &at {
            self.need_kind(file, at.span.clone(), &at.value, "http");
        }
        let methods: Vec<(&'static str, Method)> = Method::ALL.into_iter().filter(|(key, _)| inner.has(key)).collect();
        let path = match methods.as_slice() {
            [(key, method)] => inner.template(key).map(|(template, start)| {
                self.check_template(file, start, &template, source, sofar);
                (*method, template)
            }),
            _ => {
                let says = "a call has one of get, post, put, patch, delete with the path as its value";
                file.error(inner.span.clone(), "flow::method", says, None);
                Method::ALL.iter().filter(|(key, _)| inner.has(key)).for_each(|(key, _)| drop(inner.text(key)));
                None
            }
        };
        let body = inner.expr("body").map(|(body, start)| {
            self.check_step_expr(file, start, &body, source, sofar);
            body
        });
        let keep = inner.text("as").map(|text| text.value);
        inner.done();
        sofar.kept.extend(keep.clone());
        let (method, path) = path?;
        Some(Verb::Call { at: at?.value, method, path, body, keep })
    }

    fn send_step(&self, file: &File<'a>, fields: &Fields<'_>, source: Shape<'_>, sofar: &Sofar<'_>) -> Option<Verb> {
        let inner = fields.table("send")?;
        let to = inner.needed_text("to")?;
        let Some(connection) = self.workspace.connections.get(&to.value) else {
            let known = self.workspace.connections.keys().map(String::as_str);
            self.unknown(file, to.span, "connection", &to.value, known);
            return None;
        };
        let body = inner.expr("body").map(|(body, start)| {
            self.check_step_expr(file, start, &body, source, sofar);
            body
        });
        let parcel = match &connection.kind {
            ConnectionKind::Folder { .. } => inner.template("file").map(|(template, start)| {
                self.check_template(file, start, &template, source, sofar);
                Parcel::File(template)
            }),
            ConnectionKind::Amqp(broker) => {
                let read = Reading { build: self, file, source, sofar };
                read.publish(broker, &connection.name, &inner).map(|publish| Parcel::Publish(Box::new(publish)))
            }
            ConnectionKind::Http { .. } => {
                let help = Some("write call = { at = \"…\", post = \"/path\", body = \"it\" }".to_owned());
                file.error(to.span, "flow::send", format!("{} is called, not sent to", to.value), help);
                return None;
            }
            ConnectionKind::Webhook(_) => {
                file.error(to.span, "flow::send", format!("{} is an address of ours: nothing goes out there", to.value), None);
                return None;
            }
        };
        inner.done();
        Some(Verb::Send { to: Some(to.value), parcel: parcel?, body })
    }

    fn need_kind(&self, file: &File<'a>, span: std::ops::Range<usize>, name: &str, kind: &str) {
        if self.workspace.connections.get(name).is_none_or(|known| known.kind_name() != kind) {
            let known = self.workspace.connections.values().filter(|known| known.kind_name() == kind);
            self.unknown(file, span, &format!("{kind} connection"), name, known.map(|known| known.name.as_str()));
        }
    }

    pub(super) fn check_step_expr(
        &self,
        file: &File<'a>,
        start: usize,
        expr: &crate::expr::Expr,
        source: Shape<'_>,
        sofar: &Sofar<'_>,
    ) {
        let kept: Vec<&str> = sofar.kept.iter().map(String::as_str).collect();
        self.check_expr(file, start, expr, sofar.it, source, &kept);
    }

    pub(super) fn check_template(
        &self,
        file: &File<'a>,
        start: usize,
        template: &Template,
        source: Shape<'_>,
        sofar: &Sofar<'_>,
    ) {
        for (expr, at) in template.expressions() {
            self.check_step_expr(file, start + at, expr, source, sofar);
        }
    }
}

fn retry(fields: Fields<'_>) -> Retry {
    let plain = Retry::default();
    let times = fields.whole("times", 0..1001).and_then(|times| u16::try_from(times).ok());
    let first = fields.duration("first").unwrap_or(plain.first);
    let longest = fields.duration("longest").unwrap_or(plain.longest);
    fields.done();
    Retry { times: times.unwrap_or(plain.times), first, longest }
}
