//! Targets of maps: whether they stand in their outline, what they take, and which are left unfilled.

use super::Build;
use super::fields::{Fields, File};
use super::maps::Level;
use crate::expr::{Shape, split_designator};
use crate::nearest::nearest;
use crate::outline::Outline;
use crate::x12::definitions::{Entry, SegmentDefinition, SetDefinition};
use serde_json::Value;

impl<'a> Build<'a> {
    /// The shape of a target; a field that the outline does not have is an error.
    pub(super) fn check_target<'t>(
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

    pub(super) fn unfilled(&self, file: &File<'a>, fields: &Fields<'_>, level: &Level<'_>, filled: &[String]) {
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
pub(super) fn mismatch(
    file: &File<'_>,
    span: std::ops::Range<usize>,
    target: &[String],
    wanted: Option<&str>,
    given: &Shape<'_>,
) {
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
