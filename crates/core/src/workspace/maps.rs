//! Map files: read, and checked against both outlines.

use super::Build;
use super::fields::{Fields, File, Text};
use crate::expr::{Shape, check, parse, split_designator};
use crate::map::{Assignment, Each, Map, Rules};
use crate::nearest::nearest;
use crate::outline::{Outline, Written};
use crate::x12::definitions::{Entry, SegmentDefinition, SetDefinition};
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
            let shape = self.workspace.shape(&to.value);
            if shape.is_none() {
                self.unknown(file, to.span.clone(), "outline", &to.value, self.outline_names().iter().map(String::as_str));
            }
            shape
        });
        let set = match target {
            Some(Shape::Loop(set, _)) => self.workspace.definitions.find(&set.version, &set.set).cloned(),
            _ => None,
        };
        let source = source.unwrap_or(Shape::Any);
        let rules = self.level(file, fields, &Level { it: source, doc: source, target });
        let written = self.written(file, fields, to.as_ref());
        Some(Map { name: name.to_owned(), from: from?.value, to: to?.value, set, written, rules })
    }

    /// How the target is written, where the file says so.
    fn written(&self, file: &File<'a>, fields: &Fields<'_>, to: Option<&Text>) -> Option<(Written, Arc<Outline>)> {
        let written = fields.word("written", &Written::WORDS)?;
        let span = fields.span_of("written");
        let Some(outline) = to.and_then(|to| self.workspace.outlines.get(&to.value)) else {
            file.error(span, "map::written", "only documents of an outline are written in one form or another", None);
            return None;
        };
        self.writes(file, span, written, &outline.name);
        Some((written, outline.clone()))
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
                    let wanted = schema.as_ref().and_then(Shape::json_type);
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
                // Loops of one id may come from several lists.
                if set.contains(&target) && !matches!(level.target, Some(Shape::Loop(..))) {
                    let says = format!("`{}` is filled twice: this takes the place of what the rule before made", into.value);
                    file.error(into.span.clone(), "map::twice", says, None);
                }
                set.push(target.clone());
                filled.extend(target.first().cloned());
                inner_target = match self.check_target(file, into.span.clone(), &target, level) {
                    Some(Shape::Json(outline, schema)) => outline.item(schema).map(|item| Shape::Json(outline, item)),
                    other => other,
                };
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

    /// The shape of a target; a field that the outline does not have is an error.
    fn check_target<'t>(
        &self,
        file: &File<'a>,
        span: std::ops::Range<usize>,
        target: &[String],
        level: &Level<'t>,
    ) -> Option<Shape<'t>> {
        match level.target? {
            Shape::Json(outline, schema) => self.check_field(file, span, target, outline, schema),
            Shape::Loop(set, entries) => check_designator(file, span, target, set, entries),
            Shape::Segment(set, id) => check_element(file, span, target, set, id),
            Shape::Any | Shape::Value(_) => None,
        }
    }

    fn check_field<'t>(
        &self,
        file: &File<'a>,
        span: std::ops::Range<usize>,
        target: &[String],
        outline: &'t Outline,
        mut schema: &'t Value,
    ) -> Option<Shape<'t>> {
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
        Some(Shape::Json(outline, schema))
    }

    fn unfilled(&self, file: &File<'a>, fields: &Fields<'_>, level: &Level<'_>, filled: &[String]) {
        let (outline, schema) = match level.target {
            Some(Shape::Json(outline, schema)) => (outline, schema),
            Some(Shape::Loop(set, entries)) => return unfilled_segments(file, fields, set, entries, filled),
            _ => return,
        };
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

/// A target in a transaction set: an element by its designator, or the id of a loop or segment that a list makes.
fn check_designator<'t>(
    file: &File<'_>,
    span: std::ops::Range<usize>,
    target: &[String],
    set: &'t SetDefinition,
    entries: &'t [Entry],
) -> Option<Shape<'t>> {
    let [name] = target else {
        let says = "a target in a transaction set is a reference designator, as in `BAK03`".to_owned();
        file.error(span, "map::unknown-target", says, None);
        return None;
    };
    let (id, element) = split_designator(name);
    let Some(entry) = entries.iter().find(|entry| entry.id() == id) else {
        let help = nearest(id, entries.iter().map(Entry::id)).map(|near| format!("did you mean `{near}{}`?", &name[id.len()..]));
        let help = help.or_else(|| set.uses(id).then(|| format!("{id} stands in a loop: a list makes it, `into = \"…\"`")));
        file.error(span, "map::unknown-target", format!("{id} does not stand here in the {}", set.set), help);
        return None;
    };
    match (element, entry) {
        (Some(_), _) => check_element(file, span, target, set, entry.id()),
        (None, Entry::Segment { id, .. }) => Some(Shape::Segment(set, id)),
        (None, Entry::Loop { of, .. }) => Some(Shape::Loop(set, of)),
    }
}

fn check_element<'t>(
    file: &File<'_>,
    span: std::ops::Range<usize>,
    target: &[String],
    set: &'t SetDefinition,
    id: &str,
) -> Option<Shape<'t>> {
    let name = target.join(".");
    let (own, element) = split_designator(&name);
    let length = set.segment(id).map_or(usize::MAX, SegmentDefinition::len);
    match element {
        Some(n) if own == id && n > 0 && usize::from(n) <= length => {}
        Some(n) if own == id => {
            file.error(span, "map::unknown-target", format!("{id} has {length} elements, none is {n:02}"), None);
        }
        _ => file.error(span, "map::unknown-target", format!("`{name}` is no element of {id}"), None),
    }
    // Any single value may stand there; whether it fits is seen when it is written.
    None
}

/// Segments and loops that the set must have and nothing fills. ST and SE are written with the envelope.
fn unfilled_segments(file: &File<'_>, fields: &Fields<'_>, set: &SetDefinition, entries: &[Entry], filled: &[String]) {
    for entry in entries.iter().filter(|entry| entry.mandatory() && !matches!(entry.id(), "ST" | "SE")) {
        let id = entry.id();
        if !filled.iter().any(|target| split_designator(target).0 == id) {
            let says = format!("nothing fills {id}, which the {} must have", set.set);
            file.error(fields.span.clone(), "map::unfilled", says, None);
        }
    }
}

struct Level<'t> {
    it: Shape<'t>,
    doc: Shape<'t>,
    target: Option<Shape<'t>>,
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
