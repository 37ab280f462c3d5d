//! Steps that branch, pause, and notify people.

use super::Build;
use super::fields::{Fields, File};
use super::maps::Need;
use super::steps::Sofar;
use crate::flow::{Choice, Once, Step, Until, Verb, Way};
use std::time::Duration;

/// Default time after which people are notified of the same cause again.
const WITHIN: Duration = Duration::from_secs(3600);

impl<'a> Build<'a> {
    /// `[[step.choose]]`: each way with `when` and its `[[step.choose.step]]`. `ends` gets those at the end of a way.
    pub(super) fn choose_step<'w>(
        &'w self,
        file: &File<'a>,
        fields: &Fields<'_>,
        sofar: &mut Sofar<'w>,
        into: &mut Vec<Step>,
        ends: &mut Vec<usize>,
    ) -> Option<Verb> {
        let mut ways: Vec<Choice> = Vec::new();
        let mut after: Option<Sofar<'w>> = None;
        for table in fields.tables("choose") {
            let when = table.expr("when");
            if ways.last().is_some_and(|way| way.when.is_none()) {
                let says = "no message gets here: the branch before has no condition";
                file.error(table.span.clone(), "flow::choose", says, Some("put the branch without `when` last".to_owned()));
            }
            if let Some((when, start)) = &when {
                self.check_step_expr(file, *start, when, Need::Condition, sofar);
            }
            let mut along = sofar.clone();
            let way = when.as_ref().map_or("otherwise", |(when, _)| when.text.as_str());
            let read = self.sequence(file, table.tables("step"), way, &mut along, into);
            ends.extend(read.ends);
            // After the choice, only what every branch has is known.
            after = Some(match after {
                None => along,
                Some(mut known) => {
                    known.variables.retain(|name| along.variables.contains(name));
                    if known.schema.is_none() || known.schema != along.schema {
                        (known.it, known.schema) = (crate::expr::Shape::Any, None);
                    }
                    known
                }
            });
            let has_when = table.has("when");
            table.done();
            if has_when && when.is_none() {
                continue;
            }
            ways.push(Choice { when: when.map(|(when, _)| when), first: read.first });
        }
        *sofar = after?;
        Some(Verb::Choose { ways })
    }

    /// `[[step.also]]`: each way with a name and its `[[step.also.step]]`.
    pub(super) fn also_step<'w>(
        &'w self,
        file: &File<'a>,
        fields: &Fields<'_>,
        sofar: &Sofar<'w>,
        into: &mut Vec<Step>,
    ) -> Option<Verb> {
        let mut ways: Vec<Way> = Vec::new();
        for table in fields.tables("also") {
            let name = table.needed_text("way");
            if let Some(name) = name.as_ref().filter(|name| ways.iter().any(|way| way.name == name.value)) {
                let says = format!("two branches are named \"{}\"", name.value);
                file.error(name.span.clone(), "flow::same-name", says, None);
            }
            // A message of its own begins with the document here.
            let mut along = Sofar { doc: sofar.it, ..sofar.clone() };
            let way = name.as_ref().map_or("", |name| name.value.as_str());
            let read = self.sequence(file, table.tables("step"), way, &mut along, into);
            if read.first.is_none() && !table.has("step") {
                table.missing("[[step.also.step]]");
            }
            table.done();
            ways.extend(name.zip(read.first).map(|(name, first)| Way { name: name.value, first }));
        }
        (!ways.is_empty()).then_some(Verb::Also { ways })
    }

    /// `pause = { for = "10m" }` or `pause = { until = "expression" }`.
    pub(super) fn pause_step(&self, file: &File<'a>, fields: &Fields<'_>, sofar: &Sofar<'_>) -> Option<Verb> {
        let inner = fields.table("pause")?;
        let until = match (inner.duration("for"), inner.expr("until")) {
            (Some(span), None) => Some(Until::Span(span)),
            (None, Some((until, start))) => {
                self.check_step_expr(file, start, &until, Need::One, sofar);
                Some(Until::At(until))
            }
            (Some(_), Some(_)) | (None, None) => {
                if inner.has("for") == inner.has("until") {
                    let says = "a pause needs either for = \"10m\" or until = \"an expression\"";
                    file.error(inner.span.clone(), "flow::pause", says, None);
                }
                None
            }
        };
        inner.done();
        Some(Verb::Pause { until: until? })
    }

    /// `notify = { at = "chat", post = "/path", says = "…", once_per = "expression", within = "1h" }`.
    pub(super) fn notify_step(&self, file: &File<'a>, fields: &Fields<'_>, sofar: &Sofar<'_>) -> Option<Verb> {
        let inner = fields.table("notify")?;
        let at = inner.needed_text("at");
        if let Some(at) = &at {
            self.need_kind(file, at.span.clone(), &at.value, "http");
        }
        let path = inner.template("post").map(|(template, start)| {
            self.check_path(file, start, &template, sofar);
            template
        });
        let says = inner.template("says").map(|(template, start)| {
            self.check_template(file, start, &template, sofar);
            template
        });
        let within = inner.duration("within");
        let once = inner.expr("once_per").map(|(cause, start)| {
            self.check_step_expr(file, start, &cause, Need::One, sofar);
            Once { cause, within: within.unwrap_or(WITHIN) }
        });
        if within.is_some() && !inner.has("once_per") {
            let says = "`within` needs `once_per`: it names the cause that is reported once in that time";
            file.error(inner.span.clone(), "flow::notify", says, None);
        }
        inner.done();
        Some(Verb::Notify { at: at?.value, path: path?, says: says?, once })
    }
}
