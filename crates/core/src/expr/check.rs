//! Checks an expression against the outline of the document it will read, before anything runs.

use super::eval::split_designator;
use super::functions::{FUNCTIONS, OVER_ITEMS, SAME_ITEMS};
use super::{Expr, ExprError, Kind, Library, Node, Operator, Span};
use crate::nearest::nearest;
use crate::outline::Outline;
use crate::x12::SetDefinition;
use crate::x12::definitions::{Entry, SegmentDefinition};
use serde_json::Value;

/// What is known about a value before it is there.
#[derive(Debug, Clone, Copy)]
pub enum Shape<'a> {
    /// Nothing: every path may exist.
    Any,
    /// A scalar: no path goes on from here.
    Value(Gives),
    /// A level of a transaction set: the entries that may stand in it; for a loop, the segment that opens it.
    Loop(&'a SetDefinition, &'a [Entry]),
    Segment(&'a SetDefinition, &'a str),
    /// A place in a JSON outline.
    Json(&'a Outline, &'a Value),
}

/// What a scalar is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Gives {
    Text,
    Number,
    Truth,
    /// One or another, by the document.
    Either,
}

impl Shape<'_> {
    /// What it gives, as JSON Schema names types, where that is sure: `string`, `number`, `boolean`, `array`, `object`.
    #[must_use]
    pub fn json_type(&self) -> Option<&str> {
        match self {
            Self::Value(Gives::Text) => Some("string"),
            Self::Value(Gives::Number) => Some("number"),
            Self::Value(Gives::Truth) => Some("boolean"),
            Self::Json(outline, schema) => outline.json_type(schema),
            Self::Loop(..) | Self::Segment(..) | Self::Any | Self::Value(Gives::Either) => None,
        }
    }

    /// The shape of a value that is this or that.
    fn or(self, other: Self) -> Self {
        match (self, other) {
            (Self::Value(a), Self::Value(b)) if a == b => self,
            (Self::Value(_), Self::Value(_)) => Self::Value(Gives::Either),
            // Paths go on from the first; what it gives is not sure.
            (Self::Json(..) | Self::Value(_), _) if self.json_type() != other.json_type() => Self::Any,
            _ => self,
        }
    }
}

/// What a function gives.
fn gives(function: &str) -> Gives {
    match function {
        "abs" | "count" | "days_between" | "length" | "max" | "min" | "number" | "round" | "sum" => Gives::Number,
        "contains" | "exists" => Gives::Truth,
        "table" => Gives::Either,
        _ => Gives::Text,
    }
}

/// Checks `expr` where `it` has the shape `it` and the whole document the shape `doc`.
///
/// Gives the shape of its value, and adds what is wrong to `errors`.
pub fn check<'a>(
    expr: &Expr,
    it: Shape<'a>,
    doc: Shape<'a>,
    kept: &[(&str, Shape<'a>)],
    library: &Library,
    errors: &mut Vec<ExprError>,
) -> Shape<'a> {
    Checker { doc, kept, library, errors }.node(&expr.root, it)
}

struct Checker<'a, 'c> {
    doc: Shape<'a>,
    kept: &'c [(&'c str, Shape<'a>)],
    library: &'c Library,
    errors: &'c mut Vec<ExprError>,
}

impl<'a> Checker<'a, '_> {
    fn node(&mut self, node: &Node, it: Shape<'a>) -> Shape<'a> {
        match &node.kind {
            Kind::Literal(Value::String(_)) => Shape::Value(Gives::Text),
            Kind::Literal(Value::Number(_)) => Shape::Value(Gives::Number),
            Kind::Literal(Value::Bool(_)) => Shape::Value(Gives::Truth),
            Kind::Literal(_) => Shape::Value(Gives::Either),
            Kind::It => it,
            Kind::Kept(name) => match name.as_str() {
                "doc" => self.doc,
                "meta" => Shape::Any,
                name if self.kept.iter().any(|(known, _)| *known == name) => {
                    self.kept.iter().find(|(known, _)| *known == name).map_or(Shape::Any, |(_, shape)| *shape)
                }
                _ => {
                    let known = self.kept.iter().map(|(known, _)| *known).chain(["doc", "meta"]);
                    let help = nearest(name, known).map(|near| format!("did you mean `${near}`?"));
                    self.error(&node.span, "expr::unknown-name", format!("no step before keeps `${name}`"), help);
                    Shape::Any
                }
            },
            Kind::Name(name) => self.field(it, name, &node.span),
            Kind::Element(n) => self.element(it, *n, &node.span),
            Kind::Field(of, name) => {
                let of_shape = self.node(of, it);
                self.field(of_shape, name, &(of.span.end..node.span.end))
            }
            Kind::FieldElement(of, n) => {
                let shape = self.node(of, it);
                self.element(shape, *n, &(of.span.end..node.span.end))
            }
            Kind::Filter(of, by) => {
                let shape = self.node(of, it);
                let item = item_shape(shape);
                self.node(by, item);
                shape
            }
            Kind::Call(name, arguments) => self.call(node, name, arguments, it),
            Kind::Minus(inner) => {
                self.node(inner, it);
                Shape::Value(Gives::Number)
            }
            Kind::Not(inner) => {
                self.node(inner, it);
                Shape::Value(Gives::Truth)
            }
            Kind::If(test, yes, no) => {
                self.node(test, it);
                let no = self.node(no, it);
                self.node(yes, it).or(no)
            }
            Kind::Binary(operator, left, right) => {
                let left = self.node(left, it);
                let right = self.node(right, it);
                match operator {
                    Operator::Else => left.or(right),
                    Operator::Join => Shape::Value(Gives::Text),
                    Operator::Add | Operator::Subtract | Operator::Multiply | Operator::Divide => Shape::Value(Gives::Number),
                    Operator::Equal
                    | Operator::NotEqual
                    | Operator::Less
                    | Operator::LessOrEqual
                    | Operator::Greater
                    | Operator::GreaterOrEqual
                    | Operator::And
                    | Operator::Or => Shape::Value(Gives::Truth),
                }
            }
        }
    }

    fn call(&mut self, node: &Node, name: &str, arguments: &[Node], it: Shape<'a>) -> Shape<'a> {
        let Some(function) = FUNCTIONS.iter().find(|function| function.name == name) else {
            if let Some(own) = self.library.functions.get(name) {
                for argument in arguments {
                    self.node(argument, it);
                }
                if own.takes.len() != arguments.len() {
                    let says = format!("`{name}` does not take {} values", arguments.len());
                    self.error(&node.span, "expr::arguments", says, Some(format!("write {}", own.form())));
                }
                return own.kind.map_or(Shape::Any, Shape::Value);
            }
            let own = self.library.functions.keys().map(String::as_str);
            let near = nearest(name, FUNCTIONS.iter().map(|function| function.name).chain(own));
            let help = near.map(|near| format!("did you mean `{near}`?"));
            self.error(&node.span, "expr::unknown-function", format!("there is no function `{name}`"), help);
            return Shape::Any;
        };
        if !function.arguments.contains(&arguments.len()) {
            let says = format!("`{name}` does not take {} values", arguments.len());
            self.error(&node.span, "expr::arguments", says, Some(format!("write {}", function.form)));
            return Shape::Any;
        }
        if name == "id" && matches!(arguments[0].kind, Kind::Name(_)) {
            return Shape::Value(Gives::Text);
        }
        let first = self.node(&arguments[0], it);
        let inner = if OVER_ITEMS.contains(&name) { item_shape(first) } else { it };
        for (n, argument) in arguments.iter().enumerate().skip(1) {
            self.node(argument, if n == 1 { inner } else { it });
        }
        if name == "table"
            && let Kind::Literal(Value::String(table)) = &arguments[0].kind
            && !self.library.tables.contains_key(table)
        {
            let near = nearest(table, self.library.tables.keys().map(String::as_str));
            let help = near.map_or_else(|| format!("add tables/{table}.csv"), |near| format!("did you mean '{near}'?"));
            self.error(&arguments[0].span, "expr::unknown-table", format!("there is no table `{table}`"), Some(help));
        }
        match name {
            "first" | "last" => item_shape(first),
            "group" | "of_each" | "split" => Shape::Any,
            _ if SAME_ITEMS.contains(&name) => first,
            _ => Shape::Value(gives(name)),
        }
    }

    fn field(&mut self, of: Shape<'a>, name: &str, span: &Span) -> Shape<'a> {
        match of {
            Shape::Any => Shape::Any,
            Shape::Value(_) => {
                self.error(span, "expr::unknown-path", format!("a single value has no field `{name}`"), None);
                Shape::Any
            }
            Shape::Json(outline, schema) => match outline.field(schema, name) {
                Ok(Some(inner)) => Shape::Json(outline, inner),
                Ok(None) => Shape::Any,
                Err(known) => {
                    let help = nearest(name, known.iter().map(String::as_str)).map(|near| format!("did you mean `{near}`?"));
                    self.error(span, "expr::unknown-path", format!("`{}` has no field `{name}`", outline.name), help);
                    Shape::Any
                }
            },
            Shape::Segment(..) => {
                self.error(
                    span,
                    "expr::unknown-path",
                    format!("a segment has no field `{name}`; its elements are two digits, as in `.02`"),
                    None,
                );
                Shape::Any
            }
            Shape::Loop(set, entries) => {
                let (id, element) = split_designator(name);
                match entries.iter().find(|entry| entry.id() == id) {
                    Some(entry) => match element {
                        Some(n) => self.element(Shape::Segment(set, entry.id()), n, span),
                        None => match entry {
                            Entry::Segment { id, .. } => Shape::Segment(set, id),
                            Entry::Loop { of, .. } => Shape::Loop(set, of),
                        },
                    },
                    None => {
                        let near = nearest(id, entries.iter().map(Entry::id));
                        let help = match near {
                            Some(near) => Some(format!("did you mean `{near}{}`?", &name[id.len()..])),
                            None => set.uses(id).then(|| format!("{id} stands at another level; `$doc` is the whole document")),
                        };
                        self.error(span, "expr::unknown-path", format!("{id} does not stand here in the {}", set.set), help);
                        Shape::Any
                    }
                }
            }
        }
    }

    fn element(&mut self, of: Shape<'a>, n: u8, span: &Span) -> Shape<'a> {
        let segment: Option<(&str, Option<&SegmentDefinition>)> = match of {
            Shape::Any => return Shape::Any,
            Shape::Segment(set, id) => Some((id, set.segment(id))),
            Shape::Loop(set, entries) => entries.first().map(|first| (first.id(), set.segment(first.id()))),
            Shape::Value(_) | Shape::Json(..) => None,
        };
        match segment {
            Some((id, Some(definition))) if n == 0 || usize::from(n) > definition.len() => {
                let says = format!("{id} has {} elements, none is {n:02}", definition.len());
                self.error(span, "expr::unknown-path", says, None);
            }
            Some(_) => {}
            None => self.error(span, "expr::unknown-path", "only a segment has numbered elements".to_owned(), None),
        }
        Shape::Value(Gives::Text)
    }

    fn error(&mut self, span: &Span, code: &'static str, says: String, help: Option<String>) {
        self.errors.push(ExprError { span: span.clone(), code, says, help });
    }
}

/// The shape of one item of a list.
#[must_use]
pub fn item_shape(shape: Shape<'_>) -> Shape<'_> {
    match shape {
        Shape::Json(outline, schema) => outline.item(schema).map_or(shape, |inner| Shape::Json(outline, inner)),
        other => other,
    }
}
