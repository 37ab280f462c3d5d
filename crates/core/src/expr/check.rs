//! Checks an expression against the schema of the document it will read, before anything runs.

use super::eval::{POSITION, QUANTIFY, WHICH, places};
use super::functions::{FUNCTIONS, Function, Takes};
use super::path::split_designator;
use super::{Called, Expr, ExprError, Kind, Library, Node, Operator, Span};
use crate::Severity;
use crate::nearest::nearest;
use crate::schema::Schema;
use crate::x12::SetDefinition;
use crate::x12::definitions::{Entry, SegmentDefinition};
use serde_json::Value;

/// Type of a value as far as it is known before a run.
#[derive(Debug, Clone, Copy)]
pub enum Shape<'a> {
    /// Unknown: every path may exist.
    Any,
    /// A scalar: it has no fields.
    Value(Gives),
    /// One of several types, depending on the document.
    OneOf(Types),
    /// A level of a transaction set with its possible entries; for a loop, the segment that opens it.
    Loop(&'a SetDefinition, &'a [Entry]),
    Segment(&'a SetDefinition, &'a str),
    /// A place in a JSON schema.
    Json(&'a Schema, &'a Value),
}

/// Types of a scalar.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Gives {
    Text,
    Number,
    Truth,
}

/// A set of JSON types.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Types(u8);

impl Types {
    pub const TEXT: Self = Self(1);
    pub const NUMBER: Self = Self(2);
    pub const TRUTH: Self = Self(4);
    pub const OBJECT: Self = Self(8);
    pub const LIST: Self = Self(16);
    pub const NULL: Self = Self(32);

    /// Each with its name in JSON Schema and in a sentence.
    const WORDS: [(Self, &'static str, &'static str); 6] = [
        (Self::TEXT, "string", "a text"),
        (Self::NUMBER, "number", "a number"),
        (Self::TRUTH, "boolean", "true or false"),
        (Self::OBJECT, "object", "an object"),
        (Self::LIST, "array", "a list"),
        (Self::NULL, "null", "null"),
    ];

    /// The types that a schema allows; none where it does not say.
    #[must_use]
    pub fn of(schema: &Schema, node: &Value) -> Option<Self> {
        let one = |name: &str| {
            let name = if name == "integer" { "number" } else { name };
            Self::WORDS.iter().find(|(_, known, _)| *known == name).map_or(Self(0), |(types, ..)| *types)
        };
        match schema.resolve(node).get("type")? {
            Value::String(name) => Some(one(name)),
            Value::Array(names) => Some(names.iter().filter_map(Value::as_str).map(one).fold(Self(0), Self::and)),
            _ => None,
        }
    }

    /// Both sets together.
    #[must_use]
    pub const fn and(self, other: Self) -> Self {
        Self(self.0 | other.0)
    }

    /// Returns the difference of the sets.
    #[must_use]
    pub const fn without(self, other: Self) -> Self {
        Self(self.0 & !other.0)
    }

    /// Returns whether the sets overlap.
    #[must_use]
    pub const fn meets(self, other: Self) -> bool {
        self.0 & other.0 != 0
    }

    /// Returns whether the set is empty.
    #[must_use]
    pub const fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// Returns it in words: `a text or a number`.
    #[must_use]
    pub fn words(self) -> String {
        let words: Vec<&str> = Self::WORDS.iter().filter(|(one, ..)| self.meets(*one)).map(|(.., word)| *word).collect();
        words.join(" or ")
    }
}

impl<'a> Shape<'a> {
    /// The types that it may have, where that is known.
    #[must_use]
    pub fn types(&self) -> Option<Types> {
        match self {
            Self::Any => None,
            Self::Value(Gives::Text) => Some(Types::TEXT),
            Self::Value(Gives::Number) => Some(Types::NUMBER),
            Self::Value(Gives::Truth) => Some(Types::TRUTH),
            Self::OneOf(types) => Some(*types),
            Self::Json(schema, node) => Types::of(schema, node),
            Self::Loop(..) | Self::Segment(..) => Some(Types::OBJECT),
        }
    }

    /// Returns whether it can only be a list.
    fn is_list(&self) -> bool {
        self.types().is_some_and(|types| types.without(Types::NULL) == Types::LIST)
    }

    /// The shape of a value that is this or that.
    fn or(self, other: Self) -> Self {
        match (self, other) {
            (Self::Value(a), Self::Value(b)) if a == b => self,
            (Self::Json(_, a), Self::Json(_, b)) if std::ptr::eq(a, b) => self,
            (Self::Loop(..), Self::Loop(..)) | (Self::Segment(..), Self::Segment(..)) => self,
            _ => match (self.types(), other.types()) {
                (Some(a), Some(b)) if !a.and(b).meets(Types::OBJECT.and(Types::LIST)) => Self::OneOf(a.and(b)),
                _ => Self::Any,
            },
        }
    }
}

/// Possible number of values.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Times {
    One,
    /// Of a loop that may be repeated.
    Repeats,
    /// Of the items of a list.
    Many,
}

/// Type and number of the values of an expression, as far as known.
#[derive(Debug, Clone, Copy)]
struct Seen<'a> {
    shape: Shape<'a>,
    times: Times,
}

impl<'a> Seen<'a> {
    const fn one(shape: Shape<'a>) -> Self {
        Self { shape, times: Times::One }
    }

    const fn value(gives: Gives) -> Self {
        Self::one(Shape::Value(gives))
    }

    fn is_many(&self) -> bool {
        self.times == Times::Many || self.shape.is_list()
    }

    /// Returns the type of one item.
    fn item(self) -> Self {
        match self.times {
            // A selection through a list has the lists in it as its items.
            Times::Many | Times::Repeats | Times::One => Self::one(item_shape(self.shape)),
        }
    }
}

/// Result of checking an expression.
#[derive(Debug, Clone, Copy)]
pub struct Checked<'a> {
    pub shape: Shape<'a>,
    /// May give several values.
    pub several: bool,
    /// Reads a segment or element that the standard allows to repeat, which most senders do not.
    pub repeats: bool,
}

/// Checks `expr` where `it` has the shape `it` and the whole document the shape `doc`.
///
/// Gives what is known of its value, and adds what is wrong to `errors`.
pub fn check<'a>(
    expr: &Expr,
    it: Shape<'a>,
    doc: Shape<'a>,
    variables: &[(&str, Shape<'a>)],
    library: &Library,
    errors: &mut Vec<ExprError>,
) -> Checked<'a> {
    let seen = Checker { doc, variables, library, errors }.node(&expr.root, it);
    Checked { shape: seen.shape, several: seen.is_many(), repeats: seen.times == Times::Repeats }
}

/// As [`check`], for a condition.
pub fn check_condition<'a>(
    expr: &Expr,
    it: Shape<'a>,
    doc: Shape<'a>,
    variables: &[(&str, Shape<'a>)],
    library: &Library,
    errors: &mut Vec<ExprError>,
) {
    let mut checker = Checker { doc, variables, library, errors };
    checker.condition(&expr.root, it);
}

/// As [`check`], where one value is needed.
pub fn check_one<'a>(
    expr: &Expr,
    it: Shape<'a>,
    doc: Shape<'a>,
    variables: &[(&str, Shape<'a>)],
    library: &Library,
    errors: &mut Vec<ExprError>,
) -> Shape<'a> {
    let mut checker = Checker { doc, variables, library, errors };
    checker.single(&expr.root, it, WHICH)
}

struct Checker<'a, 'c> {
    doc: Shape<'a>,
    variables: &'c [(&'c str, Shape<'a>)],
    library: &'c Library,
    errors: &'c mut Vec<ExprError>,
}

impl<'a> Checker<'a, '_> {
    fn node(&mut self, node: &Node, it: Shape<'a>) -> Seen<'a> {
        match &node.kind {
            Kind::Literal(Value::String(_)) => Seen::value(Gives::Text),
            Kind::Literal(Value::Number(_)) => Seen::value(Gives::Number),
            Kind::Literal(Value::Bool(_)) => Seen::value(Gives::Truth),
            Kind::Literal(_) => Seen::one(Shape::OneOf(Types::NULL)),
            Kind::It => Seen::one(it),
            Kind::Variable(name) => Seen::one(self.named(node, name)),
            Kind::Name(name) => self.field(Seen::one(it), name, &node.span),
            Kind::Element(n) => Seen::one(self.element(it, *n, &node.span)),
            Kind::Field(of, name) => {
                let seen = self.node(of, it);
                self.field(seen, name, &(of.span.end..node.span.end))
            }
            Kind::FieldElement(of, n) => {
                let seen = self.node(of, it);
                Seen { shape: self.element(seen.shape, *n, &(of.span.end..node.span.end)), times: seen.times }
            }
            Kind::Filter(of, by) => self.filter(of, by, it),
            Kind::List(nodes) => {
                let mut shape: Option<Shape<'a>> = None;
                for node in nodes {
                    let item = self.node(node, it).item().shape;
                    shape = Some(shape.map_or(item, |before| before.or(item)));
                }
                Seen { shape: shape.unwrap_or(Shape::Any), times: Times::Many }
            }
            Kind::Call(Called::BuiltIn(function), arguments) => self.call(function, node, arguments, it),
            Kind::Call(Called::Own(name), arguments) => self.own_function(node, name, arguments, it),
            Kind::Minus(inner) => {
                self.number(inner, it);
                Seen::value(Gives::Number)
            }
            Kind::Not(inner) => {
                self.condition(inner, it);
                Seen::value(Gives::Truth)
            }
            Kind::If(test, yes, no) => {
                self.condition(test, it);
                let (yes, no) = (self.node(yes, it), self.node(no, it));
                Self::either(yes, no)
            }
            Kind::Binary(operator, left, right) => self.binary(*operator, left, right, it),
        }
    }

    /// Returns the union of two results; a `null` in one leaves the other.
    fn either(a: Seen<'a>, b: Seen<'a>) -> Seen<'a> {
        let shape = match (a.shape, b.shape) {
            (Shape::OneOf(Types::NULL), other) | (other, Shape::OneOf(Types::NULL)) => other,
            (a, b) => a.or(b),
        };
        Seen { shape, times: a.times.max(b.times) }
    }

    fn binary(&mut self, operator: Operator, left: &Node, right: &Node, it: Shape<'a>) -> Seen<'a> {
        match operator {
            Operator::Else => {
                let (left, right) = (self.node(left, it), self.node(right, it));
                Self::either(left, right)
            }
            Operator::Join => {
                self.text(left, it);
                self.text(right, it);
                Seen::value(Gives::Text)
            }
            Operator::Add | Operator::Subtract | Operator::Multiply | Operator::Divide => {
                self.number(left, it);
                self.number(right, it);
                Seen::value(Gives::Number)
            }
            Operator::And | Operator::Or => {
                self.condition(left, it);
                self.condition(right, it);
                Seen::value(Gives::Truth)
            }
            Operator::Equal | Operator::NotEqual => {
                self.single(left, it, QUANTIFY);
                self.single(right, it, QUANTIFY);
                Seen::value(Gives::Truth)
            }
            Operator::Less | Operator::LessOrEqual | Operator::Greater | Operator::GreaterOrEqual => {
                for side in [left, right] {
                    let shape = self.single(side, it, QUANTIFY);
                    self.fits(side, shape, Types::TEXT.and(Types::NUMBER), "has no order");
                }
                Seen::value(Gives::Truth)
            }
        }
    }

    /// Checks an expression that must give one value, and reports if it may give several.
    fn single(&mut self, node: &Node, it: Shape<'a>, help: &str) -> Shape<'a> {
        let seen = self.node(node, it);
        if seen.is_many() {
            let says = format!("`{}` may give several values; one value is needed here", node.shown());
            self.error(&node.span, "expr::several", says, Some(help.to_owned()));
            return seen.item().shape;
        }
        if seen.times == Times::Repeats {
            let says = format!("`{}` may be repeated in X12: the message fails if its values differ", node.shown());
            let help = Some(help.to_owned());
            let severity = Severity::Warning;
            self.errors.push(ExprError { severity, span: node.span.clone(), code: "expr::repeated", says, help });
        }
        seen.shape
    }

    fn text(&mut self, node: &Node, it: Shape<'a>) {
        let shape = self.single(node, it, WHICH);
        self.fits(node, shape, Types::TEXT.and(Types::NUMBER).and(Types::TRUTH), "is not a text");
    }

    fn number(&mut self, node: &Node, it: Shape<'a>) {
        let shape = self.single(node, it, WHICH);
        self.fits(node, shape, Types::TEXT.and(Types::NUMBER), "is not a number");
    }

    /// Tells where a shape can be none of `wanted`.
    fn fits(&mut self, node: &Node, shape: Shape<'a>, wanted: Types, how: &str) {
        if let Some(types) = shape.types().filter(|types| !types.is_empty() && !types.meets(wanted.and(Types::NULL))) {
            let says = format!("`{}` {how}: it gives {}", node.shown(), types.words());
            self.error(&node.span, "expr::type", says, None);
        }
    }

    fn condition(&mut self, node: &Node, it: Shape<'a>) {
        let seen = self.node(node, it);
        if seen.is_many() {
            let says = format!("`{}` may give several values; a condition is needed here", node.shown());
            self.error(&node.span, "expr::several", says, Some(QUANTIFY.to_owned()));
        }
    }

    /// The shape of `$name`.
    fn named(&mut self, node: &Node, name: &str) -> Shape<'a> {
        if let Some((_, shape)) = self.variables.iter().find(|(known, _)| *known == name) {
            return *shape;
        }
        match name {
            "doc" => self.doc,
            "meta" => Shape::Any,
            POSITION => Shape::Value(Gives::Number),
            _ => {
                let known = self.variables.iter().map(|(known, _)| *known).chain(["doc", "meta", POSITION]);
                let help = nearest(name, known).map(|near| format!("did you mean `${near}`?"));
                self.error(&node.span, "expr::unknown-name", format!("no earlier step has `as = \"{name}\"`"), help);
                Shape::Any
            }
        }
    }

    fn filter(&mut self, of: &Node, by: &Node, it: Shape<'a>) -> Seen<'a> {
        let seen = self.node(of, it);
        let item = seen.item();
        match places(by, self.library) {
            Some(true) => {
                self.single(by, it, WHICH);
                if let Kind::Literal(Value::Number(at)) = &by.kind
                    && at.as_u64().is_none_or(|at| at == 0)
                {
                    self.error(&by.span, "expr::position", format!("{at} is not a position: positions are 1, 2, 3 …"), None);
                }
            }
            // It may be a position or a condition.
            None => drop(self.node(by, it)),
            Some(false) => {
                self.condition(by, item.shape);
                let number = |node: &Node| matches!(node.kind, Kind::Name(_) | Kind::Field(..));
                if number(by) && self.quietly(by, item.shape).types() == Some(Types::NUMBER) {
                    let says = format!("`{}` gives a number for each item; a condition is needed here", by.shown());
                    let help = Some(format!("write a condition, such as `{} > 0`", by.shown()));
                    self.error(&by.span, "expr::type", says, help);
                }
            }
        }
        // The filter selects one, or the run fails.
        Seen::one(item.shape)
    }

    /// The shape of a node that was checked already.
    fn quietly(&self, node: &Node, it: Shape<'a>) -> Shape<'a> {
        let mut errors = Vec::new();
        Checker { doc: self.doc, variables: self.variables, library: self.library, errors: &mut errors }.node(node, it).shape
    }

    fn call(&mut self, function: &Function, node: &Node, arguments: &[Node], it: Shape<'a>) -> Seen<'a> {
        let name = function.name;
        if !function.arguments.contains(&arguments.len()) {
            let says = format!("`{name}` does not take {} values", arguments.len());
            self.error(&node.span, "expr::arguments", says, Some(format!("write {}", function.form)));
            return Seen::one(Shape::Any);
        }
        if name == "id" && matches!(arguments[0].kind, Kind::Name(_)) {
            return Seen::value(Gives::Text);
        }
        let first = match function.takes() {
            Takes::One if NUMERIC.contains(&name) => {
                self.number(&arguments[0], it);
                Seen::value(Gives::Number)
            }
            Takes::One => {
                self.text(&arguments[0], it);
                Seen::value(Gives::Text)
            }
            Takes::Items | Takes::Any => self.node(&arguments[0], it),
        };
        let item = first.item().shape;
        let mut second = Seen::one(Shape::Any);
        for (n, argument) in arguments.iter().enumerate().skip(1) {
            match name {
                "all" | "any" => self.condition(argument, item),
                "of_each" => second = self.node(argument, item),
                _ if function.is_over_items() && n == 1 => drop(self.single(argument, item, WHICH)),
                "table" if n == 2 => second = self.node(argument, it),
                _ => drop(self.single(argument, it, WHICH)),
            }
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
            "first" | "last" => Seen::one(item),
            "of_each" => Seen { shape: item_shape(second.shape), times: Times::Many },
            "split" => Seen { shape: Shape::Value(Gives::Text), times: Times::Many },
            "list" => Seen { shape: item, times: Times::Many },
            "group" => Seen { shape: Shape::Any, times: Times::Many },
            "table" if arguments.len() == 3 => Self::either(Seen::value(Gives::Text), second),
            // It selects, as a filter does.
            "matching" => Seen::one(item),
            _ if function.gives_items() => Seen { shape: item, times: Times::Many },
            _ => Seen::one(function.gives.map_or(Shape::Any, Shape::Value)),
        }
    }

    fn own_function(&mut self, node: &Node, name: &str, arguments: &[Node], it: Shape<'a>) -> Seen<'a> {
        for argument in arguments {
            self.node(argument, it);
        }
        if let Some(own) = self.library.functions.get(name) {
            if own.takes.len() != arguments.len() {
                let says = format!("`{name}` does not take {} values", arguments.len());
                self.error(&node.span, "expr::arguments", says, Some(format!("write {}", own.form())));
            }
            return Seen::one(own.kind.map_or(Shape::Any, Shape::Value));
        }
        let own = self.library.functions.keys().map(String::as_str);
        let near = nearest(name, FUNCTIONS.iter().map(|function| function.name).chain(own));
        let help = near.map(|near| format!("did you mean `{near}`?"));
        self.error(&node.span, "expr::unknown-function", format!("there is no function `{name}`"), help);
        Seen::one(Shape::Any)
    }

    fn field(&mut self, of: Seen<'a>, name: &str, span: &Span) -> Seen<'a> {
        let through = if of.is_many() { Times::Many } else { of.times };
        let any = Seen { shape: Shape::Any, times: through };
        match of.shape {
            Shape::Any => any,
            Shape::Value(_) | Shape::OneOf(_) => {
                self.error(span, "expr::unknown-path", format!("a single value has no field `{name}`"), None);
                any
            }
            Shape::Json(schema, node) => match schema.field(node, name) {
                Ok(Some(inner)) => {
                    // Through a list, a list in each item gives its items.
                    let shape = Shape::Json(schema, inner);
                    Seen { shape: if through == Times::Many { item_shape(shape) } else { shape }, times: through }
                }
                Ok(None) => any,
                Err(known) => {
                    let help = nearest(name, known.iter().map(String::as_str)).map(|near| format!("did you mean `{near}`?"));
                    self.error(span, "expr::unknown-path", format!("`{}` has no field `{name}`", schema.name), help);
                    any
                }
            },
            Shape::Segment(..) => {
                let says = format!("a segment has no field `{name}`; elements are written as two digits, such as `.02`");
                self.error(span, "expr::unknown-path", says, None);
                any
            }
            Shape::Loop(set, entries) => self.designator(of, set, entries, name, span),
        }
    }

    fn designator(&mut self, of: Seen<'a>, set: &'a SetDefinition, entries: &'a [Entry], name: &str, span: &Span) -> Seen<'a> {
        let (id, element) = split_designator(name);
        let mut all = entries.iter().filter(|entry| entry.id() == id);
        let Some(entry) = all.next() else {
            let near = nearest(id, entries.iter().map(Entry::id));
            let help = match near {
                Some(near) => Some(format!("did you mean `{near}{}`?", &name[id.len()..])),
                None => set.uses(id).then(|| format!("{id} is at another level; `$doc` is the whole document")),
            };
            self.error(span, "expr::unknown-path", format!("{id} is not at this level of the {}", set.set), help);
            return Seen { shape: Shape::Any, times: of.times };
        };
        // Segments may be repeated by the standard that few senders repeat; loops are repeated as a rule.
        let repeats = all.next().is_some() || matches!(entry, Entry::Loop { .. }) && entry.repeats();
        let times = of.times.max(if repeats { Times::Repeats } else { Times::One });
        let shape = match (element, entry) {
            (Some(n), _) => self.element(Shape::Segment(set, entry.id()), n, span),
            (None, Entry::Segment { id, .. }) => Shape::Segment(set, id),
            (None, Entry::Loop { of, .. }) => Shape::Loop(set, of),
        };
        Seen { shape, times }
    }

    fn element(&mut self, of: Shape<'a>, n: u8, span: &Span) -> Shape<'a> {
        let segment: Option<(&str, Option<&SegmentDefinition>)> = match of {
            Shape::Any => return Shape::Any,
            Shape::Segment(set, id) => Some((id, set.segment(id))),
            Shape::Loop(set, entries) => entries.first().map(|first| (first.id(), set.segment(first.id()))),
            Shape::Value(_) | Shape::OneOf(_) | Shape::Json(..) => None,
        };
        match segment {
            Some((id, Some(definition))) if n == 0 || usize::from(n) > definition.len() => {
                let says = format!("{id} has {} elements; it has no element {n:02}", definition.len());
                self.error(span, "expr::unknown-path", says, None);
            }
            Some(_) => {}
            None => self.error(span, "expr::unknown-path", "only a segment has numbered elements".to_owned(), None),
        }
        Shape::Value(Gives::Text)
    }

    fn error(&mut self, span: &Span, code: &'static str, says: String, help: Option<String>) {
        self.errors.push(ExprError { severity: Severity::Error, span: span.clone(), code, says, help });
    }
}

/// Functions whose first argument is a number.
const NUMERIC: [&str; 4] = ["abs", "number", "number_as", "round"];

/// The shape of one item of a list.
#[must_use]
pub fn item_shape(shape: Shape<'_>) -> Shape<'_> {
    match shape {
        Shape::Json(schema, node) => schema.item(node).map_or(shape, |inner| Shape::Json(schema, inner)),
        other => other,
    }
}
