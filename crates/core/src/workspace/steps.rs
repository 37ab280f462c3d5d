//! The steps of a flow, each one's expressions checked against the document it will see.

use super::Build;
use super::fields::{Fields, File};
use super::maps::Need;
use super::sends::Reading;
use crate::connection::ConnectionKind;
use crate::expr::{Expr, Gives, POSITION, Shape, Template};
use crate::flow::{END, Method, Parcel, Retry, Rule, Step, Verb};
use crate::request_path;

/// The verbs, in the order of their frequency.
const VERBS: [&str; 11] = ["map", "check", "only", "set", "call", "send", "note", "choose", "also", "pause", "notify"];
/// Names that an expression reads as something else.
const RESERVED: [&str; 4] = ["doc", "meta", "error", POSITION];

/// Shapes of the document and of the variables after the steps so far.
#[derive(Clone)]
pub(super) struct Sofar<'w> {
    /// The document as received.
    pub doc: Shape<'w>,
    pub it: Shape<'w>,
    /// Name of the schema `it` has, where known.
    pub schema: Option<String>,
    pub variables: Vec<String>,
}

impl Sofar<'_> {
    /// Returns the variables that expressions may read.
    pub fn known(&self) -> Vec<(&str, Shape<'_>)> {
        self.variables.iter().map(|name| (name.as_str(), Shape::Any)).collect()
    }
}

/// Steps that follow one another.
#[derive(Default)]
pub(super) struct Sequence {
    /// `None` where there are none.
    pub first: Option<usize>,
    /// Steps after which the message continues behind them.
    pub ends: Vec<usize>,
}

impl<'a> Build<'a> {
    /// Reads a sequence of steps into `into`. Returns the index of the first, and the steps after which the message continues
    /// behind the sequence. `way` is the branch in words; empty on the main line.
    pub(super) fn sequence<'w>(
        &'w self,
        file: &File<'a>,
        tables: Vec<Fields<'_>>,
        way: &str,
        sofar: &mut Sofar<'w>,
        into: &mut Vec<Step>,
    ) -> Sequence {
        let mut read = Sequence::default();
        for table in tables {
            let at = into.len();
            let ends = self.step(file, table, way, sofar, into);
            if into.len() > at {
                read.first.get_or_insert(at);
                std::mem::replace(&mut read.ends, ends).into_iter().for_each(|end| into[end].next = at);
            }
        }
        read
    }

    /// Reads one step, and those inside it, into `into`; returns the steps after which the message continues behind it.
    fn step<'w>(
        &'w self,
        file: &File<'a>,
        fields: Fields<'_>,
        way: &str,
        sofar: &mut Sofar<'w>,
        into: &mut Vec<Step>,
    ) -> Vec<usize> {
        let at = into.len();
        let name = fields.needed_text("name");
        if let Some(name) = &name {
            if into.iter().any(|known| known.name == name.value) {
                let says = format!("two steps are named \"{}\"", name.value);
                file.error(name.span.clone(), "flow::same-name", says, None);
            }
            if RESERVED.contains(&name.value.as_str()) {
                let says = format!("${} is a reserved name", name.value);
                file.error(name.span.clone(), "flow::reserved-name", says, Some("give the step another name".to_owned()));
            }
        }
        let name = name.map_or_else(String::new, |name| name.value);
        let retry = fields.table("retry").map(retry).unwrap_or_default();
        let given: Vec<&str> = VERBS.into_iter().filter(|verb| fields.has(verb)).collect();
        if given.len() != 1 {
            let says = if given.is_empty() {
                format!("a step needs one verb: {}", VERBS.join(", "))
            } else {
                format!("a step needs exactly one verb, this one has {}", given.join(" and "))
            };
            file.error(fields.span.clone(), "flow::verb", says, None);
        }
        // Its index comes before those of the steps inside it; a verb that cannot be read leaves a finding.
        let unread = Verb::Choose { ways: Vec::new() };
        into.push(Step { name: name.clone(), verb: unread, retry, next: END, way: way.to_owned() });
        let mut ends = vec![at];
        let verb = match given.first().copied() {
            Some("map") => self.map_step(file, &fields, sofar),
            Some("check") => self.check_step(file, &fields, sofar),
            Some("note") => fields.template("note").map(|(text, start)| {
                self.check_template(file, start, &text, sofar);
                Verb::Note { text }
            }),
            Some("only") => self.only_step(file, &fields, sofar),
            Some("set") => self.set_step(file, &fields, sofar, &name),
            Some("call") => self.call_step(file, &fields, sofar),
            Some("send") => self.send_step(file, &fields, sofar),
            Some("choose") => self.choose_step(file, &fields, sofar, into, &mut ends),
            Some("also") => self.also_step(file, &fields, sofar, into),
            Some("pause") => self.pause_step(file, &fields, sofar),
            Some("notify") => self.notify_step(file, &fields, sofar),
            _ => None,
        };
        for verb in VERBS {
            // Keys of other verbs count as known here, so that one fault at a time is reported.
            if given.first() != Some(&verb) && fields.has(verb) {
                fields.table(verb);
            }
        }
        fields.done();
        if let Some(verb) = verb {
            into[at].verb = verb;
        }
        ends
    }

    fn map_step<'w>(&'w self, file: &File<'a>, fields: &Fields<'_>, sofar: &mut Sofar<'w>) -> Option<Verb> {
        let map = fields.text("map")?;
        let Some(known) = self.workspace.maps.get(&map.value) else {
            self.unknown(file, map.span, "map", &map.value, self.workspace.maps.keys().map(String::as_str));
            return None;
        };
        if let Some(schema) = sofar.schema.as_ref().filter(|schema| **schema != known.from) {
            let says = format!("the map {} reads {}, but the document here is {schema}", known.name, known.from);
            file.error(map.span.clone(), "flow::other-schema", says, None);
        }
        for (name, _) in known.with.iter().filter(|(name, _)| !sofar.variables.contains(name)) {
            let says = format!("the map {} reads ${name}, but no earlier step has `as = \"{name}\"`", known.name);
            file.error(map.span.clone(), "flow::unknown-variable", says, None);
        }
        // A document in a written form is a text from here on.
        (sofar.it, sofar.schema) = match &known.written {
            Some(_) => (Shape::Value(Gives::Text), Some(String::new())),
            None => (self.workspace.shape(&known.to).unwrap_or(Shape::Any), Some(known.to.clone())),
        };
        Some(Verb::Map { map: map.value })
    }

    fn check_step(&self, file: &File<'a>, fields: &Fields<'_>, sofar: &Sofar<'_>) -> Option<Verb> {
        let rule = |table: Fields<'_>| {
            let that = table.expr("that");
            if !table.has("that") {
                table.missing("that");
            }
            let says = table.template("says");
            table.done();
            let ((that, at), (says, start)) = (that?, says?);
            self.check_step_expr(file, at, &that, Need::Condition, sofar);
            self.check_template(file, start, &says, sofar);
            Some(Rule { that, says })
        };
        let rules: Vec<Rule> = fields.tables("check").into_iter().filter_map(rule).collect();
        Some(Verb::Check { rules })
    }

    fn only_step(&self, file: &File<'a>, fields: &Fields<'_>, sofar: &Sofar<'_>) -> Option<Verb> {
        let inner = fields.table("only")?;
        let test = inner.expr("when");
        if !inner.has("when") {
            inner.missing("when");
        }
        let because = inner.text("because").map_or_else(String::new, |text| text.value);
        inner.done();
        let (test, start) = test?;
        self.check_step_expr(file, start, &test, Need::Condition, sofar);
        Some(Verb::Only { test, because })
    }

    fn set_step(&self, file: &File<'a>, fields: &Fields<'_>, sofar: &mut Sofar<'_>, name: &str) -> Option<Verb> {
        let (value, start) = fields.expr("set")?;
        self.check_step_expr(file, start, &value, Need::Any, sofar);
        sofar.variables.push(name.to_owned());
        Some(Verb::Set { value })
    }

    fn call_step(&self, file: &File<'a>, fields: &Fields<'_>, sofar: &mut Sofar<'_>) -> Option<Verb> {
        let inner = fields.table("call")?;
        let at = inner.needed_text("at");
        if let Some(at) = &at {
            self.need_kind(file, at.span.clone(), &at.value, "http");
        }
        let methods: Vec<(&'static str, Method)> = Method::ALL.into_iter().filter(|(key, _)| inner.has(key)).collect();
        let path = match methods.as_slice() {
            [(key, method)] => inner.template(key).map(|(template, start)| {
                self.check_path(file, start, &template, sofar);
                (*method, template)
            }),
            _ => {
                let says = "a call needs one of get, post, put, patch, delete, with the path as its value";
                file.error(inner.span.clone(), "flow::method", says, None);
                Method::ALL.iter().filter(|(key, _)| inner.has(key)).for_each(|(key, _)| drop(inner.text(key)));
                None
            }
        };
        let body = inner.expr("body").map(|(body, start)| {
            self.check_step_expr(file, start, &body, Need::Any, sofar);
            body
        });
        let keep = inner.text("as").map(|text| text.value);
        inner.done();
        sofar.variables.extend(keep.clone());
        let (method, path) = path?;
        Some(Verb::Call { at: at?.value, method, path, body, keep })
    }

    fn send_step(&self, file: &File<'a>, fields: &Fields<'_>, sofar: &Sofar<'_>) -> Option<Verb> {
        let inner = fields.table("send")?;
        let to = inner.needed_text("to")?;
        let Some(connection) = self.workspace.connections.get(&to.value) else {
            let known = self.workspace.connections.keys().map(String::as_str);
            self.unknown(file, to.span, "connection", &to.value, known);
            return None;
        };
        let body = inner.expr("body").map(|(body, start)| {
            self.check_step_expr(file, start, &body, Need::Any, sofar);
            body
        });
        let parcel = match &connection.kind {
            ConnectionKind::Folder { .. } => inner.template("file").map(|(template, start)| {
                self.check_template(file, start, &template, sofar);
                Parcel::File(template)
            }),
            ConnectionKind::Amqp(broker) => {
                let read = Reading { build: self, file, sofar };
                read.publish(broker, &connection.name, &inner).map(|publish| Parcel::Publish(Box::new(publish)))
            }
            ConnectionKind::Http(_) => {
                let help = Some("write call = { at = \"…\", post = \"/path\", body = \"it\" }".to_owned());
                file.error(
                    to.span,
                    "flow::send",
                    format!("{} is an HTTP connection: use `call` instead of `send`", to.value),
                    help,
                );
                return None;
            }
            ConnectionKind::Webhook(_) => {
                file.error(
                    to.span,
                    "flow::send",
                    format!("{} is a webhook of our own: nothing can be sent to it", to.value),
                    None,
                );
                return None;
            }
            ConnectionKind::Incidents => {
                let help = Some("write notify = { at = \"…\", post = \"/path\", says = \"…\" }".to_owned());
                file.error(
                    to.span,
                    "flow::send",
                    format!("{} reports incidents of this service: nothing can be sent to it", to.value),
                    help,
                );
                return None;
            }
        };
        inner.done();
        Some(Verb::Send { to: Some(to.value), parcel: parcel?, body })
    }

    pub(super) fn need_kind(&self, file: &File<'a>, span: std::ops::Range<usize>, name: &str, kind: &str) {
        if self.workspace.connections.get(name).is_none_or(|known| known.kind_name() != kind) {
            let known = self.workspace.connections.values().filter(|known| known.kind_name() == kind);
            self.unknown(file, span, &format!("{kind} connection"), name, known.map(|known| known.name.as_str()));
        }
    }

    pub(super) fn check_step_expr(&self, file: &File<'a>, start: usize, expr: &Expr, need: Need, sofar: &Sofar<'_>) {
        self.check_expr(file, start, expr, need, sofar.it, sofar.doc, &sofar.known());
    }

    /// A template that is the path of a request.
    pub(super) fn check_path(&self, file: &File<'a>, start: usize, template: &Template, sofar: &Sofar<'_>) {
        self.check_template(file, start, template, sofar);
        if let Some(says) = request_path::fault(&template.with_each_value("x")) {
            let help = "write the path only, such as `/orders/{number}`: the connection has the address";
            file.error(start..start + template.text().len(), "flow::path", says, Some(help.to_owned()));
        }
    }

    pub(super) fn check_template(&self, file: &File<'a>, start: usize, template: &Template, sofar: &Sofar<'_>) {
        for (expr, at) in template.expressions() {
            self.check_step_expr(file, start + at, expr, Need::One, sofar);
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
