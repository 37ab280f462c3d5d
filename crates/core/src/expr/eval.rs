//! Evaluation over JSON and transaction sets alike.

use super::{Kind, Library, Node, Operator, Span, functions};
use crate::Document;
use crate::x12::{LoopRef, Segment};
use rust_decimal::Decimal;
use serde_json::{Map, Number, Value};
use std::borrow::Cow;
use std::cell::Cell;
use std::rc::Rc;
use std::sync::Arc;

/// What an expression can see.
#[derive(Debug, Clone)]
pub struct Scope<'a> {
    /// The document or item at hand.
    pub it: Item<'a>,
    /// The whole document.
    pub doc: Item<'a>,
    /// What steps kept, by name; `meta` among them.
    pub kept: &'a Map<String, Value>,
    pub library: &'a Library,
    /// What the function at hand was given; none outside of one.
    pub given: Option<Given<'a>>,
    /// What has been worked out so far, by all that share the scope.
    pub work: Work,
}

/// Counts the nodes that are worked out, so that filters in filters come to an end: an expression fails when there are too many.
#[derive(Debug, Clone)]
pub struct Work {
    done: Rc<Cell<u64>>,
    most: u64,
}

impl Default for Work {
    /// For a map over one document: some ten seconds of work.
    fn default() -> Self {
        Self::up_to(100_000_000)
    }
}

impl Work {
    /// So many nodes at most.
    #[must_use]
    pub fn up_to(most: u64) -> Self {
        Self { done: Rc::default(), most }
    }

    fn add(&self, node: &Node) -> Result<(), EvalError> {
        self.done.set(self.done.get() + 1);
        if self.done.get() > self.most {
            return fail(node, format!("this takes more than {} steps: a filter within a filter, over long lists?", self.most));
        }
        Ok(())
    }
}

/// The values of a function by name.
pub type Given<'a> = Arc<[(&'a str, Item<'a>)]>;

/// A value while an expression is worked out.
#[derive(Debug, Clone)]
pub enum Item<'a> {
    /// Nothing there; not the same as null.
    Missing,
    /// A text: of an element, borrowed from the set's bytes, or worked out.
    Text(Cow<'a, str>),
    /// A number worked out, with the digits behind the point that it came to.
    Number(Decimal),
    Json(Cow<'a, Value>),
    Loop(LoopRef<'a>),
    Segment(Segment<'a>),
    /// Several items that a path or filter selected; as a value, the first of them.
    Many(Vec<Item<'a>>),
}

/// An expression that has no value over this document.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{says}")]
pub struct EvalError {
    /// Place in the expression's text.
    pub span: Span,
    pub says: String,
}

pub(super) fn fail<T>(node: &Node, says: impl Into<String>) -> Result<T, EvalError> {
    Err(EvalError { span: node.span.clone(), says: says.into() })
}

impl<'a> Item<'a> {
    /// The item that stands for a whole document; bytes are a text.
    #[must_use]
    pub fn of(document: &'a Document) -> Self {
        match document {
            Document::Json(value) => Self::Json(Cow::Borrowed(value)),
            Document::X12(tree) => Self::Loop(tree.root()),
            Document::Bytes(bytes) => Self::Text(String::from_utf8_lossy(bytes)),
        }
    }

    pub(super) fn text(text: impl Into<Cow<'a, str>>) -> Self {
        Self::Text(text.into())
    }

    pub(super) fn bool(yes: bool) -> Self {
        Self::Json(Cow::Owned(Value::Bool(yes)))
    }

    /// One value: the first of several, a segment or loop as an object of its elements.
    #[must_use]
    pub fn one(self) -> Option<Cow<'a, Value>> {
        match self {
            Self::Missing => None,
            Self::Text(text) => Some(Cow::Owned(Value::String(text.into_owned()))),
            Self::Number(number) => Some(Cow::Owned(Value::Number(decimal_to_json(number)))),
            Self::Json(value) => Some(value),
            Self::Many(items) => items.into_iter().next()?.one(),
            Self::Segment(segment) => Some(Cow::Owned(segment_to_json(&segment))),
            Self::Loop(inner) => Some(Cow::Owned(loop_to_json(inner))),
        }
    }

    /// A list: a JSON list as it is, everything else as the items it selects; none when missing.
    #[must_use]
    pub fn list(self) -> Option<Cow<'a, Value>> {
        match self {
            Self::Missing => None,
            Self::Json(value) if value.is_array() => Some(value),
            other => Some(Cow::Owned(other.each().into_iter().filter_map(Self::one).map(Cow::into_owned).collect())),
        }
    }

    /// The items one after another: of a selection, of a JSON list, or the item itself; none when missing.
    #[must_use]
    pub fn each(self) -> Vec<Item<'a>> {
        match self {
            Self::Missing => Vec::new(),
            Self::Many(items) => items,
            Self::Json(Cow::Borrowed(Value::Array(items))) => items.iter().map(|item| Self::Json(Cow::Borrowed(item))).collect(),
            Self::Json(Cow::Owned(Value::Array(items))) => items.into_iter().map(|item| Self::Json(Cow::Owned(item))).collect(),
            other => vec![other],
        }
    }

    pub(super) fn is_empty(&self) -> bool {
        match self {
            Self::Missing => true,
            Self::Text(text) => text.is_empty(),
            Self::Json(value) => match value.as_ref() {
                Value::Null => true,
                Value::String(text) => text.is_empty(),
                Value::Array(items) => items.is_empty(),
                Value::Object(fields) => fields.is_empty(),
                Value::Bool(_) | Value::Number(_) => false,
            },
            Self::Many(items) => items.first().is_none_or(Self::is_empty),
            Self::Number(_) | Self::Loop(_) | Self::Segment(_) => false,
        }
    }

    /// Whether a condition holds: missing, null, false, empty text and nothing selected do not.
    #[must_use]
    pub fn holds(&self) -> bool {
        match self {
            Self::Json(value) => match value.as_ref() {
                Value::Bool(yes) => *yes,
                _ => !self.is_empty(),
            },
            _ => !self.is_empty(),
        }
    }

    /// The value as text; none for missing and null. Numbers keep their digits, everything else is JSON.
    pub(crate) fn to_text(&self) -> Option<Cow<'_, str>> {
        match self {
            Self::Missing => None,
            Self::Text(text) => Some(Cow::Borrowed(text)),
            Self::Number(number) => Some(Cow::Owned(number.to_string())),
            Self::Json(value) => match value.as_ref() {
                Value::Null => None,
                Value::String(text) => Some(Cow::Borrowed(text)),
                other => Some(Cow::Owned(other.to_string())),
            },
            Self::Many(items) => items.first()?.to_text(),
            Self::Loop(_) | Self::Segment(_) => self.clone().one().map(|value| Cow::Owned(value.to_string())),
        }
    }

    fn is_number(&self) -> bool {
        match self {
            Self::Number(_) => true,
            Self::Json(value) => value.is_number(),
            _ => false,
        }
    }
}

/// Reads a decimal of up to 28 digits, exactly.
pub(super) fn decimal(text: &str) -> Option<Decimal> {
    text.trim().parse().ok().or_else(|| Decimal::from_scientific(text.trim()).ok())
}

fn decimal_to_json(number: Decimal) -> Number {
    serde_json::from_str(&number.to_string()).expect("a decimal is a JSON number")
}

pub(super) fn eval<'a>(node: &'a Node, scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    scope.work.add(node)?;
    match &node.kind {
        Kind::Literal(value) => Ok(Item::Json(Cow::Borrowed(value))),
        Kind::It => Ok(scope.it.clone()),
        Kind::Kept(name) if name == "doc" => Ok(scope.doc.clone()),
        Kind::Kept(name) if scope.given.is_some() => {
            let own = scope.given.iter().flat_map(|given| given.iter()).find(|(known, _)| known == name);
            Ok(own.map_or(Item::Missing, |(_, value)| value.clone()))
        }
        Kind::Kept(name) => Ok(scope.kept.get(name).map_or(Item::Missing, |value| Item::Json(Cow::Borrowed(value)))),
        Kind::Name(name) => Ok(field(scope.it.clone(), name)),
        Kind::Element(n) => Ok(element(scope.it.clone(), *n)),
        Kind::Field(of, name) => Ok(field(eval(of, scope)?, name)),
        Kind::FieldElement(of, n) => Ok(element(eval(of, scope)?, *n)),
        Kind::Filter(of, by) => filter(of, by, scope),
        Kind::Call(name, arguments) => functions::call(node, name, arguments, scope),
        Kind::Minus(inner) => Ok(Item::Number(-number(inner, &eval(inner, scope)?)?)),
        Kind::Not(inner) => Ok(Item::bool(!eval(inner, scope)?.holds())),
        Kind::If(test, yes, no) => eval(if eval(test, scope)?.holds() { yes } else { no }, scope),
        Kind::Binary(operator, left, right) => binary(*operator, left, right, scope),
    }
}

fn binary<'a>(operator: Operator, left: &'a Node, right: &'a Node, scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    let first = eval(left, scope)?;
    match operator {
        Operator::Else if !first.is_empty() => return Ok(first),
        Operator::And if !first.holds() => return Ok(Item::bool(false)),
        Operator::Or if first.holds() => return Ok(Item::bool(true)),
        _ => {}
    }
    let second = eval(right, scope)?;
    let numbers = || Ok((number(left, &first)?, number(right, &second)?));
    let sound =
        |result: Option<Decimal>| result.map(Item::Number).map_or_else(|| fail(right, "the result has too many digits"), Ok);
    match operator {
        Operator::Else => Ok(second),
        Operator::And | Operator::Or => Ok(Item::bool(second.holds())),
        Operator::Join => Ok(Item::text([first.to_text(), second.to_text()].into_iter().flatten().collect::<String>())),
        Operator::Add => numbers().and_then(|(a, b)| sound(a.checked_add(b))),
        Operator::Subtract => numbers().and_then(|(a, b)| sound(a.checked_sub(b))),
        Operator::Multiply => numbers().and_then(|(a, b)| sound(a.checked_mul(b))),
        Operator::Divide => match numbers()? {
            (_, b) if b.is_zero() => fail(right, "division by zero"),
            (a, b) => sound(a.checked_div(b)),
        },
        Operator::Equal => Ok(Item::bool(same(&first, &second))),
        Operator::NotEqual => Ok(Item::bool(!same(&first, &second))),
        Operator::Less => Ok(Item::bool(order(&first, &second).is_some_and(|o| o.is_lt()))),
        Operator::LessOrEqual => Ok(Item::bool(order(&first, &second).is_some_and(|o| o.is_le()))),
        Operator::Greater => Ok(Item::bool(order(&first, &second).is_some_and(|o| o.is_gt()))),
        Operator::GreaterOrEqual => Ok(Item::bool(order(&first, &second).is_some_and(|o| o.is_ge()))),
    }
}

/// The exact number in `item`, which `node` gave.
pub(super) fn number(node: &Node, item: &Item<'_>) -> Result<Decimal, EvalError> {
    if let Item::Number(number) = item {
        return Ok(*number);
    }
    match item.to_text() {
        None => fail(node, "a number is needed here, and there is none"),
        Some(text) => decimal(&text).map_or_else(|| fail(node, format!("`{}` is no number", shorten(&text))), Ok),
    }
}

pub(super) fn shorten(text: &str) -> String {
    if text.chars().count() <= 40 { text.to_owned() } else { text.chars().take(39).chain(['…']).collect() }
}

/// Equal as numbers where either is a number, otherwise as text. Missing equals null, and nothing else.
fn same(a: &Item<'_>, b: &Item<'_>) -> bool {
    match (a.to_text(), b.to_text()) {
        (None, None) => true,
        (Some(_), Some(_)) => order(a, b).is_some_and(|o| o.is_eq()),
        _ => false,
    }
}

pub(super) fn order(a: &Item<'_>, b: &Item<'_>) -> Option<std::cmp::Ordering> {
    let (left, right) = (a.to_text()?, b.to_text()?);
    if a.is_number() || b.is_number() {
        return Some(decimal(&left)?.cmp(&decimal(&right)?));
    }
    Some(left.cmp(&right))
}

fn many(mut items: Vec<Item<'_>>) -> Item<'_> {
    match items.len() {
        0 => Item::Missing,
        1 => items.remove(0),
        _ => Item::Many(items),
    }
}

fn field<'a>(of: Item<'a>, name: &str) -> Item<'a> {
    match of {
        Item::Missing => Item::Missing,
        Item::Json(Cow::Borrowed(Value::Object(fields))) => {
            fields.get(name).map_or(Item::Missing, |value| Item::Json(Cow::Borrowed(value)))
        }
        Item::Json(Cow::Owned(Value::Object(mut fields))) => {
            fields.swap_remove(name).map_or(Item::Missing, |value| Item::Json(Cow::Owned(value)))
        }
        Item::Json(value) if value.is_array() => {
            let items = Item::Json(value).each();
            many(items.into_iter().map(|item| field(item, name)).filter(|item| !matches!(item, Item::Missing)).collect())
        }
        Item::Json(_) | Item::Text(_) | Item::Number(_) => Item::Missing,
        Item::Many(items) => {
            many(items.into_iter().map(|item| field(item, name)).filter(|item| !matches!(item, Item::Missing)).collect())
        }
        Item::Loop(inner) => designator(inner, name),
        Item::Segment(segment) => match split_designator(name) {
            (id, Some(n)) if id.as_bytes() == segment.id() => element(Item::Segment(segment), n),
            _ => Item::Missing,
        },
    }
}

/// `BEG03` into `BEG` and 3; `N1` into `N1` and none. An id has two or three characters, so `N104` is N1 and 4.
pub(crate) fn split_designator(name: &str) -> (&str, Option<u8>) {
    match name.len().checked_sub(2).filter(|&at| at >= 2 && name.is_char_boundary(at)) {
        Some(at) if name[at..].bytes().all(|byte| byte.is_ascii_digit()) => (&name[..at], name[at..].parse().ok()),
        _ => (name, None),
    }
}

fn designator<'a>(inner: LoopRef<'a>, name: &str) -> Item<'a> {
    match split_designator(name) {
        (id, Some(n)) => inner.segment(id).map_or(Item::Missing, |segment| element(Item::Segment(segment), n)),
        (id, None) => {
            let loops: Vec<Item<'a>> = inner.loops(id).map(Item::Loop).collect();
            if loops.is_empty() {
                return many(inner.segments().filter(|segment| segment.id() == id.as_bytes()).map(Item::Segment).collect());
            }
            many(loops)
        }
    }
}

fn element(of: Item<'_>, n: u8) -> Item<'_> {
    match of {
        Item::Segment(segment) => {
            // Padding of fixed-length elements is no part of the value.
            let text = String::from_utf8_lossy(segment.element(usize::from(n)).trim_ascii_end());
            if text.is_empty() { Item::Missing } else { Item::Text(text) }
        }
        Item::Loop(inner) => inner.segments().next().map_or(Item::Missing, |first| element(Item::Segment(first), n)),
        Item::Many(items) => {
            many(items.into_iter().map(|item| element(item, n)).filter(|item| !matches!(item, Item::Missing)).collect())
        }
        Item::Missing | Item::Text(_) | Item::Number(_) | Item::Json(_) => Item::Missing,
    }
}

fn filter<'a>(of: &'a Node, by: &'a Node, scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    let items = eval(of, scope)?.each();
    if let Kind::Literal(Value::Number(at)) = &by.kind {
        let at = at.as_u64().and_then(|at| usize::try_from(at).ok()).and_then(|at| at.checked_sub(1));
        return Ok(at.and_then(|at| items.into_iter().nth(at)).unwrap_or(Item::Missing));
    }
    let mut kept = Vec::new();
    for item in items {
        let inner = Scope { it: item.clone(), ..scope.clone() };
        if eval(by, &inner)?.holds() {
            kept.push(item);
        }
    }
    Ok(many(kept))
}

fn segment_to_json(segment: &Segment<'_>) -> Value {
    let elements = segment.elements().enumerate().skip(1).filter(|(_, value)| !value.is_empty());
    Value::Object(
        elements.map(|(n, value)| (format!("{n:02}"), Value::String(String::from_utf8_lossy(value).into_owned()))).collect(),
    )
}

fn loop_to_json(inner: LoopRef<'_>) -> Value {
    let mut fields = Map::new();
    for segment in inner.segments() {
        let list = fields.entry(segment.text(0)).or_insert_with(|| Value::Array(Vec::new()));
        if let Value::Array(items) = list {
            items.push(segment_to_json(&segment));
        }
    }
    for inner in inner.all_loops() {
        let list = fields.entry(format!("{} loop", inner.name())).or_insert_with(|| Value::Array(Vec::new()));
        if let Value::Array(items) = list {
            items.push(loop_to_json(inner));
        }
    }
    Value::Object(fields)
}
