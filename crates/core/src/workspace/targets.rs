//! Targets of maps: whether they exist in their schema, what they take, and which are unfilled.

use super::Build;
use super::fields::{Fields, File};
use super::maps::Level;
use crate::Severity;
use crate::expr::{Checked, Expr, Shape, Types, split_designator};
use crate::map::AsIs;
use crate::nearest::nearest;
use crate::schema::{Schema, Validator};
use crate::x12::definitions::{Entry, SegmentDefinition, SetDefinition, Use};
use serde_json::Value;

impl<'a> Build<'a> {
    /// The shape of a target; a field that the schema does not have is an error.
    pub(super) fn check_target<'t>(
        &self,
        file: &File<'a>,
        span: std::ops::Range<usize>,
        target: &[String],
        level: &Level<'t>,
    ) -> Option<Shape<'t>> {
        match level.target? {
            Shape::Json(schema, node) => self.check_field(file, span, target, schema, node),
            Shape::Loop(set, entries) => check_designator(file, span, target, set, entries),
            Shape::Segment(set, id) => check_element(file, span, target, set, id),
            Shape::Any | Shape::Value(_) | Shape::OneOf(_) => None,
        }
    }

    fn check_field<'t>(
        &self,
        file: &File<'a>,
        span: std::ops::Range<usize>,
        target: &[String],
        schema: &'t Schema,
        mut node: &'t Value,
    ) -> Option<Shape<'t>> {
        for name in target {
            match schema.field(node, name) {
                Ok(Some(inner)) => node = inner,
                Ok(None) => return None,
                Err(known) => {
                    let help = match nearest(name, known.iter().map(String::as_str)) {
                        Some(near) => format!("did you mean `{near}`?"),
                        None => format!("it has: {}", known.join(", ")),
                    };
                    file.error(
                        span,
                        "map::unknown-target",
                        format!("the schema {} has no field `{name}` here", schema.name),
                        Some(help),
                    );
                    return None;
                }
            }
        }
        Some(Shape::Json(schema, node))
    }

    /// Tells which fields of the target nothing fills: an error where its schema requires them, in objects too.
    pub(super) fn unfilled(&self, file: &File<'a>, fields: &Fields<'_>, level: &Level<'_>, filled: &Targets) {
        match level.target {
            Some(Shape::Json(schema, node)) => unfilled_fields(file, fields, schema, node, &[], filled),
            Some(Shape::Loop(set, entries)) => unfilled_segments(file, fields, set, entries, filled),
            Some(Shape::Segment(set, id)) => unfilled_elements(file, fields, set, id, filled),
            Some(Shape::Any | Shape::Value(_) | Shape::OneOf(_)) | None => {}
        }
    }
}

/// Deepest nesting of objects that are compared field by field.
const DEPTH: usize = 16;

fn unfilled_fields(file: &File<'_>, fields: &Fields<'_>, schema: &Schema, node: &Value, at: &[String], filled: &Targets) {
    for (name, required) in schema.fields(node) {
        let path: Vec<String> = at.iter().cloned().chain([name.to_owned()]).collect();
        if filled.has(&path) {
            continue;
        }
        let shown = path.join(".");
        if filled.has_below(&path) {
            if let Some(inner) = schema.below(node, &[name.to_owned()]).filter(|_| path.len() < DEPTH) {
                unfilled_fields(file, fields, schema, inner, &path, filled);
            }
        } else if required {
            let says = format!("`{shown}` is required by the schema {}, but no rule fills it", schema.name);
            file.error(fields.span.clone(), UNFILLED, says, None);
        } else if at.is_empty() {
            let says = format!("no rule fills `{shown}` of the schema {}", schema.name);
            file.warning(fields.span.clone(), UNFILLED, says, None);
        }
    }
}

/// The code of a target that nothing fills: the one error with which a map can still be tried.
pub(super) const UNFILLED: &str = "map::unfilled";

/// The targets of one level, as they are filled one after another.
pub(super) struct Targets {
    carried: Vec<String>,
    /// Carried fields that no object can be.
    closed: Vec<String>,
    own: Vec<Vec<String>>,
    /// Loops of one id may come from several lists.
    joins: bool,
}

impl Targets {
    /// Creates an empty record, except for the fields of a copied source.
    pub fn new(carried: &[(String, Shape<'_>)], joins: bool) -> Self {
        let closed = carried.iter().filter(|(_, shape)| shape.types().is_some_and(|types| !types.meets(Types::OBJECT)));
        Self {
            closed: closed.map(|(name, _)| name.clone()).collect(),
            carried: carried.iter().map(|(name, _)| name.clone()).collect(),
            own: Vec::new(),
            joins,
        }
    }

    /// Adds a target, and reports a conflict with an earlier one.
    pub fn add(&mut self, file: &File<'_>, span: std::ops::Range<usize>, target: &[String]) {
        let shown = target.join(".");
        let meets = self.own.iter().find(|known| known.starts_with(target) || target.starts_with(known));
        if let Some(known) = meets.filter(|known| !(self.joins && known.as_slice() == target)) {
            let says = match known.as_slice() == target {
                true => format!("`{shown}` is filled twice"),
                false => format!("`{shown}` and `{}` are filled by two rules, but one is inside the other", known.join(".")),
            };
            file.error(span, "map::twice", says, None);
        } else if let Some(parent) = target.first().filter(|first| target.len() > 1 && self.closed.contains(first)) {
            let says =
                format!("`{parent}` is copied as it is and is not an object, so it cannot hold `{}`", target[1..].join("."));
            file.error(span, "map::parent", says, None);
        }
        self.own.push(target.to_vec());
    }

    fn has(&self, path: &[String]) -> bool {
        self.own.iter().any(|own| own == path) || matches!(path, [name] if self.carried.contains(name))
    }

    fn has_below(&self, path: &[String]) -> bool {
        self.own.iter().any(|own| own.starts_with(path))
    }
}

/// Returns the fields of the target that a copied source fills, with their shapes. Fields that the target does not have, and two
/// fields with one new name, are reported.
pub(super) fn carried<'s>(
    file: &File<'_>,
    fields: &Fields<'_>,
    begin: &AsIs,
    schema: &'s Schema,
    node: &'s Value,
    target: Option<Shape<'_>>,
) -> Vec<(String, Shape<'s>)> {
    let mut all: Vec<(String, Shape<'s>)> = Vec::new();
    for (own, _) in schema.fields(node) {
        let Some(name) = begin.name_of(&[own]) else { continue };
        if all.iter().any(|(known, _)| *known == name) {
            let says = format!("`{own}` would become `{name}`, which is another field of the source");
            let span = if fields.has("rename") { fields.span_of("rename") } else { fields.span_of("begin") };
            file.error(span, "map::twice", says, Some(format!("leave it out with drop = [\"{own}\"]")));
            continue;
        }
        let changed = begin.change.iter().any(|(pattern, ..)| pattern.is_of(&[own]));
        let shape = match schema.below(node, &[own.to_owned()]).filter(|_| !changed) {
            Some(inner) => Shape::Json(schema, inner),
            None => Shape::Any,
        };
        all.push((name, shape));
    }
    if let Some(Shape::Json(target, node)) = target {
        let known = target.fields(node);
        for (name, shape) in &all {
            if !known.is_empty() && !known.iter().any(|(own, _)| own == name) {
                let says = format!("`{name}` is copied as it is, but the schema {} has no such field", target.name);
                file.warning(
                    fields.span_of("begin"),
                    "map::carried",
                    says,
                    Some(format!("leave it out with drop = [\"{name}\"]")),
                );
            } else if let Some(wanted) = target.below(node, std::slice::from_ref(name))
                && let (Some(wanted), Some(given)) = (Types::of(target, wanted), shape.types())
                && !given.without(Types::NULL).is_empty()
                && !wanted.meets(given.without(Types::NULL))
            {
                let says =
                    format!("`{name}` is copied as it is: it is {}, but the target takes {}", given.words(), wanted.words());
                file.error(fields.span_of("begin"), "map::type", says, Some("convert it with [change] or a rule".to_owned()));
            }
        }
    }
    all
}

/// Tells which patterns of a map that begins as its source fit no field of it.
pub(super) fn patterns(file: &File<'_>, fields: &Fields<'_>, begin: &AsIs, schema: &Schema, node: &Value) {
    let mut paths: Vec<Vec<String>> = Vec::new();
    let open = every_path(schema, node, &[], &mut paths);
    let all = [
        ("drop", begin.drop.iter().collect::<Vec<_>>()),
        ("rename", begin.rename.iter().map(|(pattern, _)| pattern).collect()),
        ("change", begin.change.iter().map(|(pattern, ..)| pattern).collect()),
    ];
    for (key, pattern) in all.into_iter().flat_map(|(key, patterns)| patterns.into_iter().map(move |one| (key, one))) {
        let fits = |path: &Vec<String>| pattern.is_of(&path.iter().map(String::as_str).collect::<Vec<_>>());
        if !open && !paths.iter().any(fits) {
            let says = format!("`{}` matches no field of the schema {}", pattern.text(), schema.name);
            file.warning(fields.span_of(key), "map::pattern", says, None);
        }
    }
}

/// The paths of all fields below a schema, lists passed through. Gives whether there may be more that it does not name.
fn every_path(schema: &Schema, node: &Value, at: &[String], paths: &mut Vec<Vec<String>>) -> bool {
    if at.len() > DEPTH {
        return true;
    }
    let node = schema.resolve(node);
    if let Some(item) = schema.item(node) {
        return every_path(schema, item, at, paths);
    }
    let fields = schema.fields(node);
    let scalar = Types::of(schema, node).is_some_and(|types| !types.meets(Types::OBJECT.and(Types::LIST)));
    let mut open = fields.is_empty() && !scalar;
    for (name, _) in fields {
        let path: Vec<String> = at.iter().cloned().chain([name.to_owned()]).collect();
        paths.push(path.clone());
        if let Some(inner) = schema.below(node, &[name.to_owned()]) {
            open |= every_path(schema, inner, &path, paths);
        }
    }
    open
}

/// Reports fixed values of an expression that the target's schema does not accept: not in its list, not a date, too long.
pub(super) fn literals(file: &File<'_>, start: usize, name: &str, schema: &Schema, node: &Value, expr: &Expr) {
    let literals = expr.literals();
    let Some(validator) = (!literals.is_empty()).then(|| Validator::of_part(schema, node)).flatten() else { return };
    // A list is made of what is given for it.
    let is_list = Types::of(schema, node).is_some_and(|types| types.without(Types::NULL) == Types::LIST);
    for (value, span) in literals.into_iter().filter(|_| !is_list) {
        if let Some(misfit) = validator.misfits(value).into_iter().next() {
            let says = format!("`{name}`: {}", misfit.says.replacen("the document", "this", 1));
            file.error(start + span.start..start + span.end, "map::value", says, None);
        }
    }
}

/// Reports a rule's result that does not fit its target: several values for one, another type, an object without a required
/// field. Returns whether something was reported.
pub(super) fn mismatch(
    file: &File<'_>,
    span: std::ops::Range<usize>,
    name: &str,
    wanted: &Shape<'_>,
    given: &Checked<'_>,
) -> bool {
    let takes_list = wanted.types().is_none_or(|types| types.meets(Types::LIST));
    if given.several && !takes_list {
        let says = format!("`{name}` takes one value, but this may give several");
        let help = "choose one with first(…), last(…), a filter or a position; join(…) makes one text of all";
        file.error(span, "map::several", says, Some(help.to_owned()));
        return true;
    }
    if given.repeats && !takes_list {
        let says = format!("`{name}` takes one value, but this may be repeated in X12: the message fails if the values differ");
        let help = "choose one with first(…), last(…), a filter or a position; join(…) makes one text of all";
        file.warning(span.clone(), "map::repeated", says, Some(help.to_owned()));
    }
    let Some((severity, says, help)) = unfit(name, wanted, &given.shape, given.several, 0) else { return false };
    match severity {
        Severity::Error => file.error(span, "map::type", says, help),
        Severity::Warning => file.warning(span, "map::type", says, help),
    }
    true
}

/// Returns the first misfit, with what to do about it.
fn unfit(
    name: &str,
    wanted: &Shape<'_>,
    given: &Shape<'_>,
    several: bool,
    depth: usize,
) -> Option<(Severity, String, Option<String>)> {
    let (takes, gives) = (wanted.types()?, given.types()?);
    // A list target takes one item or several.
    if takes.without(Types::NULL) == Types::LIST
        && let Shape::Json(schema, node) = wanted
        && let Some(item) = schema.item(node)
    {
        let given = if several || gives.meets(Types::LIST) { crate::expr::item_shape(*given) } else { *given };
        return unfit(&format!("{name}[]"), &Shape::Json(schema, item), &given, false, depth + 1);
    }
    let gives = gives.without(Types::NULL);
    if gives.is_empty() || takes.meets(Types::LIST) {
        return None;
    }
    let help = match takes {
        Types::NUMBER => Some("convert it with number(…)".to_owned()),
        Types::TEXT if !gives.meets(Types::OBJECT) => Some("convert it with text(…)".to_owned()),
        _ => None,
    };
    if !takes.meets(gives) {
        return Some((Severity::Error, format!("`{name}` is {}, but this gives {}", takes.words(), gives.words()), help));
    }
    if !gives.without(takes).is_empty() {
        let says = format!("`{name}` is {}, but this may give {}", takes.words(), gives.without(takes).words());
        return Some((Severity::Warning, says, help));
    }
    let (Shape::Json(target, wanted), Shape::Json(source, given)) = (wanted, given) else { return None };
    if takes != Types::OBJECT || depth > DEPTH {
        return None;
    }
    let known = source.fields(given);
    for (field, required) in target.fields(wanted) {
        let path = format!("{name}.{field}");
        let own = [field.to_owned()];
        match (source.below(given, &own), target.below(wanted, &own)) {
            (Some(given), Some(wanted)) => {
                let wrong = unfit(&path, &Shape::Json(target, wanted), &Shape::Json(source, given), false, depth + 1);
                if wrong.is_some() {
                    return wrong;
                }
            }
            (None, _) if required && !known.is_empty() => {
                let says = format!("`{path}` is required by the schema {}, but no rule fills it", target.name);
                return Some((Severity::Error, says, None));
            }
            _ => {}
        }
    }
    None
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
        let says = "a target in a transaction set is a reference designator, such as `BAK03`".to_owned();
        file.error(span, "map::unknown-target", says, None);
        return None;
    };
    let (id, element) = split_designator(name);
    let Some(entry) = entries.iter().find(|entry| entry.id() == id) else {
        let help = nearest(id, entries.iter().map(Entry::id)).map(|near| format!("did you mean `{near}{}`?", &name[id.len()..]));
        let help = help.or_else(|| set.uses(id).then(|| format!("{id} is in a loop: fill it with a list, `into = \"…\"`")));
        file.error(span, "map::unknown-target", format!("{id} is not at this level of the {}", set.set), help);
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
            file.error(span, "map::unknown-target", format!("{id} has {length} elements; it has no element {n:02}"), None);
        }
        _ => file.error(span, "map::unknown-target", format!("`{name}` is not an element of {id}"), None),
    }
    // A single value may be there; whether it fits shows when it is written.
    None
}

/// Segments and loops that the set must have and nothing fills, and elements that a filled segment must have. ST and SE are
/// written with the envelope.
fn unfilled_segments(file: &File<'_>, fields: &Fields<'_>, set: &SetDefinition, entries: &[Entry], filled: &Targets) {
    for entry in entries.iter().filter(|entry| !matches!(entry.id(), "ST" | "SE")) {
        let id = entry.id();
        let mut own = filled.own.iter().filter_map(|target| target.first()).map(|name| split_designator(name));
        match own.find(|(known, _)| *known == id) {
            // A list makes it, and reports what is missing in it.
            Some((_, None)) => {}
            Some((_, Some(_))) => unfilled_elements(file, fields, set, id, filled),
            None if entry.mandatory() => {
                let says = format!("{id} is mandatory in the {}, but no rule fills it", set.set);
                file.error(fields.span.clone(), UNFILLED, says, None);
            }
            None => {}
        }
    }
}

/// Elements that a segment must have and nothing fills.
fn unfilled_elements(file: &File<'_>, fields: &Fields<'_>, set: &SetDefinition, id: &str, filled: &Targets) {
    let Some(segment) = set.segment(id) else { return };
    for (n, place) in segment.places().enumerate().filter(|(_, place)| place.use_ == Use::Mandatory) {
        let designator = format!("{id}{:02}", n + 1);
        if !filled.has(std::slice::from_ref(&designator)) {
            let says = format!("{designator} ({}) is mandatory in {id}, but no rule fills it", place.content.name());
            file.error(fields.span.clone(), UNFILLED, says, None);
        }
    }
}
