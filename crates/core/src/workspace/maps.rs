//! Map files: read, and checked against both outlines.

use super::Build;
use super::fields::{Fields, File};
use crate::expr::{Shape, check, parse};
use crate::map::{Assignment, Each, Map, Rules};
use crate::nearest::nearest;
use crate::outline::Outline;
use serde_json::Value;
use std::sync::Arc;

impl<'a> Build<'a> {
    pub(super) fn map(&mut self, name: &str, file: &File<'a>) {
        let mut found = None;
        self.toml(file, |fields| found = self.read_map(name, file, fields));
        if let Some(map) = found {
            self.workspace.maps.insert(name.to_owned(), Arc::new(map));
        }
    }

    fn read_map(&self, name: &str, file: &File<'a>, fields: &Fields<'_>) -> Option<Map> {
        let from = fields.needed_text("from");
        let to = fields.needed_text("to");
        let source = from.as_ref().and_then(|from| {
            let shape = self.workspace.shape(&from.value);
            if shape.is_none() {
                self.unknown(file, from.span.clone(), "outline", &from.value, self.outline_names().iter().map(String::as_str));
            }
            shape
        });
        let target = to.as_ref().and_then(|to| {
            let outline = self.workspace.outlines.get(&to.value);
            if outline.is_none() {
                self.unknown(file, to.span.clone(), "outline", &to.value, self.workspace.outlines.keys().map(String::as_str));
            }
            outline.map(AsRef::as_ref)
        });
        let source = source.unwrap_or(Shape::Any);
        let level = Level { it: source, doc: source, target: target.map(|outline| (outline, &outline.schema)) };
        let rules = self.level(file, fields, &level);
        Some(Map { name: name.to_owned(), from: from?.value, to: to?.value, rules })
    }

    fn outline_names(&self) -> Vec<String> {
        let own = self.workspace.outlines.keys().cloned();
        let sets = self.workspace.definitions.all().map(|set| format!("x12/{}/{}", set.version, set.set));
        own.chain(sets).collect()
    }

    fn level(&self, file: &File<'a>, fields: &Fields<'_>, level: &Level<'_>) -> Rules {
        let mut rules = Rules::default();
        let mut filled: Vec<String> = Vec::new();
        let mut set: Vec<Vec<String>> = Vec::new();
        for (target, key_span, text) in fields.assignments("set") {
            let start = file.inside(&text.span);
            let schema = self.check_target(file, key_span.clone(), &target, level);
            set.push(target.clone());
            filled.extend(target.first().cloned());
            match parse(&text.value) {
                Ok(value) => {
                    let shape = self.check_expr(file, start, &value, level.it, level.doc, &[]);
                    let wanted = schema.and_then(|(outline, schema)| outline.json_type(schema));
                    mismatch(file, start..start + text.value.len(), &target, wanted, &shape);
                    let line = file.text[..key_span.start].matches('\n').count() as u32 + 1;
                    rules.set.push(Assignment { target, value, line, list: wanted == Some("array") });
                }
                Err(error) => file.expr_error(start, error),
            }
        }
        for each in fields.tables("each") {
            let of = each.expr("of");
            if of.is_none() && !each.has("of") {
                each.missing("of");
            }
            let into = each.needed_text("into");
            let shape = match &of {
                Some((of, start)) => self.check_expr(file, *start, of, level.it, level.doc, &[]),
                None => Shape::Any,
            };
            let target: Vec<String> =
                into.as_ref().map(|into| into.value.split('.').map(str::to_owned).collect()).unwrap_or_default();
            let mut inner_target = None;
            if let Some(into) = &into {
                if set.contains(&target) {
                    let says = format!("`{}` is filled twice: this takes the place of what the rule before made", into.value);
                    file.error(into.span.clone(), "map::twice", says, None);
                }
                set.push(target.clone());
                filled.extend(target.first().cloned());
                let found = self.check_target(file, into.span.clone(), &target, level);
                inner_target = found.and_then(|(outline, schema)| outline.item(schema).map(|item| (outline, item)));
            }
            let inner = Level { it: crate::expr::item_shape(shape), doc: level.doc, target: inner_target };
            let inner_rules = self.level(file, &each, &inner);
            each.done();
            if let (Some((of, _)), Some(_)) = (of, into) {
                rules.each.push(Each { of, into: target, rules: inner_rules });
            }
        }
        self.unfilled(file, fields, level, &filled);
        rules
    }

    /// The schema of a target; a field that the outline does not have is an error.
    fn check_target<'t>(
        &self,
        file: &File<'a>,
        span: std::ops::Range<usize>,
        target: &[String],
        level: &Level<'t>,
    ) -> Option<(&'t Outline, &'t Value)> {
        let (outline, mut schema) = level.target?;
        for name in target {
            match outline.field(schema, name) {
                Ok(Some(inner)) => schema = inner,
                Ok(None) => return None,
                Err(known) => {
                    let help = match nearest(name, known.iter().map(String::as_str)) {
                        Some(near) => format!("did you mean `{near}`?"),
                        None => format!("it has: {}", known.join(", ")),
                    };
                    file.error(
                        span,
                        "map::unknown-target",
                        format!("the outline {} has no field `{name}` here", outline.name),
                        Some(help),
                    );
                    return None;
                }
            }
        }
        Some((outline, schema))
    }

    fn unfilled(&self, file: &File<'a>, fields: &Fields<'_>, level: &Level<'_>, filled: &[String]) {
        let Some((outline, schema)) = level.target else { return };
        for (name, required) in outline.fields(schema) {
            if filled.iter().any(|known| known == name) {
                continue;
            }
            let span = fields.span.clone();
            if required {
                let says = format!("nothing fills `{name}`, which the outline {} requires", outline.name);
                file.error(span, "map::unfilled", says, None);
            } else {
                let says = format!("nothing fills `{name}` of the outline {}", outline.name);
                file.warning(span, "map::unfilled", says, None);
            }
        }
    }
}

/// Says where a value of one type is to fill a target of another. A list fills a single value with its first item, and a
/// single value fills a list alone.
fn mismatch(file: &File<'_>, span: std::ops::Range<usize>, target: &[String], wanted: Option<&str>, given: &Shape<'_>) {
    let (Some(wanted), Some(given)) = (wanted, given.json_type()) else { return };
    let name = target.join(".");
    let word = |of: &str| match of {
        "string" => "a text",
        "number" => "a number",
        "boolean" => "true or false",
        "array" => "a list",
        _ => "an object",
    };
    match (wanted, given) {
        _ if wanted == given => {}
        ("array", _) => {}
        (_, "array") => {
            let says = format!("`{name}` is {}, and this gives a list: it is cut to its first item", word(wanted));
            file.warning(span, "map::cut", says, Some("first(…) says that this is meant".to_owned()));
        }
        _ => {
            let help = match wanted {
                "number" => Some("number(…) makes a number of it".to_owned()),
                "string" => Some("text(…) makes a text of it".to_owned()),
                _ => None,
            };
            file.error(span, "map::type", format!("`{name}` is {}, and this gives {}", word(wanted), word(given)), help);
        }
    }
}

struct Level<'t> {
    it: Shape<'t>,
    doc: Shape<'t>,
    target: Option<(&'t Outline, &'t Value)>,
}

impl<'a> Build<'a> {
    /// Checks an expression that starts at `start` in the file; gives the shape of its value.
    pub(super) fn check_expr<'s>(
        &self,
        file: &File<'_>,
        start: usize,
        expr: &crate::expr::Expr,
        it: Shape<'s>,
        doc: Shape<'s>,
        kept: &[&str],
    ) -> Shape<'s> {
        let mut errors = Vec::new();
        let shape = check(expr, it, doc, kept, &self.workspace.tables, &mut errors);
        for error in errors {
            file.expr_error(start, error);
        }
        shape
    }
}
