//! Evaluation over JSON and transaction sets alike.

use super::item::{NoText, Several};
use super::path::{element, field, through};
use super::{Called, Gives, Item, Kind, Library, Node, Operator, Span, functions};
use crate::number;
use rust_decimal::Decimal;
use serde_json::{Map, Value};
use std::borrow::Cow;
use std::cell::Cell;
use std::rc::Rc;
use std::sync::Arc;

/// Everything that an expression can read.
#[derive(Debug, Clone)]
pub struct Scope<'a> {
    /// The current document or item.
    pub it: Item<'a>,
    /// The whole document.
    pub doc: Item<'a>,
    /// Variables that steps have set, by name; `meta` is among them.
    pub variables: &'a Map<String, Value>,
    pub library: &'a Library,
    /// Arguments of the current workspace function; `None` outside of one.
    pub given: Option<Given<'a>>,
    /// Position of `it` in its list, from 1, for `$position`. `None` where `it` is not an item of a list.
    pub position: Option<usize>,
    /// Work done so far by everything that shares the scope.
    pub work: Work,
}

impl<'a> Scope<'a> {
    /// The same scope with an item of a list as `it`, the `at`-th from 0.
    #[must_use]
    pub fn at(&self, item: Item<'a>, at: usize) -> Self {
        Self { it: item, position: Some(at + 1), ..self.clone() }
    }
}

/// Counts evaluated nodes and items, so that nested filters end: an expression fails when there are too many.
#[derive(Debug, Clone)]
pub struct Work {
    done: Rc<Cell<u64>>,
    most: u64,
}

impl Default for Work {
    /// Enough for a map over one document: some ten seconds of work.
    fn default() -> Self {
        Self::up_to(100_000_000)
    }
}

impl Work {
    /// Creates a limit of `most` nodes.
    #[must_use]
    pub fn up_to(most: u64) -> Self {
        Self { done: Rc::default(), most }
    }

    pub(super) fn add(&self, node: &Node, items: usize) -> Result<(), EvalError> {
        self.done.set(self.done.get() + items as u64);
        if self.done.get() > self.most {
            return fail(
                node,
                format!("this takes more than {} steps; is there a filter inside a filter, over long lists?", self.most),
            );
        }
        Ok(())
    }
}

/// The values of a function by name.
pub type Given<'a> = Arc<[(&'a str, Item<'a>)]>;

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

/// Several values where `node` should give one.
pub(super) fn several<T>(node: &Node, Several(count): Several, help: &str) -> Result<T, EvalError> {
    fail(node, format!("`{}` gives {count} values; one value is needed here: {help}", node.shown()))
}

/// Help for several values where one is needed.
pub(super) const WHICH: &str = "choose one with first(…), last(…), a filter or a position";
/// Help for several values where a condition is needed.
pub(super) const QUANTIFY: &str = "use any(…), all(…) or exists(…)";

pub(super) fn eval<'a>(node: &'a Node, scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    scope.work.add(node, 1)?;
    match &node.kind {
        Kind::Literal(value) => Ok(Item::Json(Cow::Borrowed(value))),
        Kind::It => Ok(scope.it.clone()),
        Kind::Variable(name) => variable(node, name, scope),
        Kind::Name(name) => Ok(field(scope.it.clone(), name)),
        Kind::Element(n) => Ok(element(scope.it.clone(), *n)),
        Kind::Field(of, name) => {
            let of = counted(of, scope)?;
            Ok(field(of, name))
        }
        Kind::FieldElement(of, n) => Ok(element(counted(of, scope)?, *n)),
        Kind::Filter(of, by) => filter(of, by, scope),
        Kind::List(nodes) => {
            let mut all = Vec::new();
            for node in nodes {
                all.extend(counted(node, scope)?.items());
            }
            Ok(Item::many(all))
        }
        Kind::Call(Called::BuiltIn(function), arguments) => functions::call(function, node, arguments, scope),
        Kind::Call(Called::Own(name), arguments) => functions::own(name, node, arguments, scope),
        Kind::Minus(inner) => Ok(Item::Number(-number(inner, &eval(inner, scope)?)?)),
        Kind::Not(inner) => Ok(Item::bool(!holds(inner, scope)?)),
        Kind::If(test, yes, no) => eval(if holds(test, scope)? { yes } else { no }, scope),
        Kind::Binary(operator, left, right) => binary(*operator, left, right, scope),
    }
}

/// Evaluates `node` and counts its items as work.
pub(super) fn counted<'a>(node: &'a Node, scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    let item = eval(node, scope)?;
    scope.work.add(node, item.count())?;
    Ok(item)
}

fn variable<'a>(node: &Node, name: &str, scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    if name == POSITION {
        return match scope.position {
            Some(position) => Ok(Item::Number(Decimal::from(position))),
            None => fail(node, "`$position` is the position in a list, and there is no list here"),
        };
    }
    if name == "doc" {
        return Ok(scope.doc.clone());
    }
    if let Some(given) = &scope.given {
        let own = given.iter().find(|(known, _)| *known == name);
        return Ok(own.map_or(Item::Missing, |(_, value)| value.clone()));
    }
    Ok(scope.variables.get(name).map_or(Item::Missing, |value| Item::Json(Cow::Borrowed(value))))
}

/// Name after `$` for the position of an item.
pub(crate) const POSITION: &str = "position";

/// Returns whether the condition `node` holds.
pub(super) fn holds<'a>(node: &'a Node, scope: &Scope<'a>) -> Result<bool, EvalError> {
    eval(node, scope)?.holds().or_else(|count| several(node, count, QUANTIFY))
}

/// The one value that `node` gives, or [`Item::Missing`].
pub(super) fn single<'a>(node: &'a Node, scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    one(node, eval(node, scope)?)
}

/// The one value in `item`, which `node` gave.
pub(super) fn one<'a>(node: &Node, item: Item<'a>) -> Result<Item<'a>, EvalError> {
    item.single().or_else(|count| several(node, count, WHICH))
}

fn binary<'a>(operator: Operator, left: &'a Node, right: &'a Node, scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    let numbers = || Ok((number(left, &eval(left, scope)?)?, number(right, &eval(right, scope)?)?));
    let exact = |result: Option<Decimal>| match result {
        Some(number) => Ok(Item::Number(number)),
        None => fail(right, "the result has more than 28 digits, the limit of calculations"),
    };
    match operator {
        Operator::Else => {
            let first = eval(left, scope)?;
            if first.is_empty() { eval(right, scope) } else { Ok(first) }
        }
        Operator::And => Ok(Item::bool(holds(left, scope)? && holds(right, scope)?)),
        Operator::Or => Ok(Item::bool(holds(left, scope)? || holds(right, scope)?)),
        Operator::Join => {
            let (first, second) = (eval(left, scope)?, eval(right, scope)?);
            let texts = [text(left, &first)?, text(right, &second)?];
            if texts.iter().all(Option::is_none) {
                return Ok(Item::Missing);
            }
            Ok(Item::text(texts.into_iter().flatten().collect::<String>()))
        }
        Operator::Add => numbers().and_then(|(a, b)| exact(number::add(a, b))),
        Operator::Subtract => numbers().and_then(|(a, b)| exact(number::add(a, -b))),
        Operator::Multiply => numbers().and_then(|(a, b)| exact(number::multiply(a, b))),
        Operator::Divide => match numbers()? {
            (_, b) if b.is_zero() => fail(right, "division by zero"),
            (a, b) => exact(a.checked_div(b)),
        },
        Operator::Equal => Ok(Item::bool(compared(left, right, scope)?.equal)),
        Operator::NotEqual => Ok(Item::bool(!compared(left, right, scope)?.equal)),
        Operator::Less => Ok(Item::bool(ordered(left, right, scope)?.is_some_and(|o| o.is_lt()))),
        Operator::LessOrEqual => Ok(Item::bool(ordered(left, right, scope)?.is_some_and(|o| o.is_le()))),
        Operator::Greater => Ok(Item::bool(ordered(left, right, scope)?.is_some_and(|o| o.is_gt()))),
        Operator::GreaterOrEqual => Ok(Item::bool(ordered(left, right, scope)?.is_some_and(|o| o.is_ge()))),
    }
}

struct Compared<'a> {
    equal: bool,
    sides: (Item<'a>, Item<'a>),
}

fn compared<'a>(left: &'a Node, right: &'a Node, scope: &Scope<'a>) -> Result<Compared<'a>, EvalError> {
    let side = |node: &'a Node| {
        let item = eval(node, scope)?;
        item.single().or_else(|count| several(node, count, QUANTIFY))
    };
    let sides = (side(left)?, side(right)?);
    Ok(Compared { equal: sides.0.equals(&sides.1), sides })
}

/// The order of both sides; none where one of them is nothing.
fn ordered<'a>(left: &'a Node, right: &'a Node, scope: &Scope<'a>) -> Result<Option<std::cmp::Ordering>, EvalError> {
    let (a, b) = compared(left, right, scope)?.sides;
    if a.is_nothing() || b.is_nothing() {
        return Ok(None);
    }
    let truth = |item: &Item<'_>| matches!(item, Item::Json(value) if value.is_boolean());
    match a.order(&b).filter(|_| !truth(&a) && !truth(&b)) {
        Some(order) => Ok(Some(order)),
        None => {
            let (node, item) = if a.as_number().is_some() { (right, &b) } else { (left, &a) };
            let shown = item.to_text().ok().flatten().map_or_else(|| node.shown(), |text| shorten(&text));
            fail(node, format!("`{shown}` cannot be compared here: compare numbers with numbers, and texts with texts"))
        }
    }
}

/// The number in `item`, which `node` gave, to calculate with.
pub(super) fn number(node: &Node, item: &Item<'_>) -> Result<Decimal, EvalError> {
    match number_or_nothing(node, item)? {
        Some(number) => Ok(number),
        None => fail(node, "expected a number, found no value"),
    }
}

/// The number in `item`; none where that is nothing.
pub(super) fn number_or_nothing(node: &Node, item: &Item<'_>) -> Result<Option<Decimal>, EvalError> {
    if let Item::Number(number) = item {
        return Ok(Some(*number));
    }
    let Some(text) = text(node, item)? else { return Ok(None) };
    match number::decimal(&text) {
        Some(number) => Ok(Some(number)),
        None if number::read(&text).is_none() => fail(node, format!("expected a number, found `{}`", shorten(&text))),
        None => fail(node, format!("`{}` has more than 28 digits, the limit of calculations", shorten(&text))),
    }
}

/// The one text in `item`, which `node` gave; none of nothing.
pub(super) fn text<'i>(node: &Node, item: &'i Item<'_>) -> Result<Option<Cow<'i, str>>, EvalError> {
    item.to_text().or_else(|why| match why {
        NoText::Several(count) => several(node, count, WHICH),
        NoText::Structure(what) => fail(node, format!("expected a text, found {what}: `{}`", node.shown())),
    })
}

pub(super) fn shorten(text: &str) -> String {
    if text.chars().count() <= 40 { text.to_owned() } else { text.chars().take(39).chain(['…']).collect() }
}

/// Evaluates `path[…]`: the item at a position if the brackets hold a number; otherwise the items for which the condition holds.
fn filter<'a>(of: &'a Node, by: &'a Node, scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    let items = counted(of, scope)?.items();
    match places(by, scope.library) {
        Some(true) => return at_position(items, by, &single(by, scope)?),
        // A variable is the same for each item.
        None => {
            let value = single(by, scope)?;
            if value.as_number().is_some() {
                return at_position(items, by, &value);
            }
        }
        Some(false) => {}
    }
    let mut chosen = Vec::new();
    for (n, item) in items.into_iter().enumerate() {
        let inner = scope.at(item.clone(), n);
        let value = eval(by, &inner)?;
        if value.as_number().is_some() {
            let says = format!("`{}` gives a number for each item; write a condition, such as `{0} > 0`", by.shown());
            return fail(by, says);
        }
        if value.holds().or_else(|count| several(by, count, QUANTIFY))? {
            chosen.push(item);
        }
    }
    Ok(Item::many(chosen))
}

fn at_position<'a>(items: Vec<Item<'a>>, by: &Node, position: &Item<'_>) -> Result<Item<'a>, EvalError> {
    let Some(number) = number_or_nothing(by, position)? else { return Ok(Item::Missing) };
    if number.normalize().scale() > 0 || number < Decimal::ONE {
        return fail(by, format!("{number} is not a position: positions are 1, 2, 3 …"));
    }
    let at = usize::try_from(number.normalize()).unwrap_or(usize::MAX);
    Ok(items.into_iter().nth(at - 1).unwrap_or(Item::Missing))
}

/// Returns whether brackets with `by` hold a position, which is any expression that gives a number. `None` if only its value
/// tells, since it reads variables.
pub(super) fn places(by: &Node, library: &Library) -> Option<bool> {
    match &by.kind {
        Kind::Literal(value) => Some(value.is_number()),
        Kind::Minus(_) => Some(true),
        Kind::Binary(Operator::Add | Operator::Subtract | Operator::Multiply | Operator::Divide, ..) => Some(true),
        Kind::Call(Called::BuiltIn(function), _) => Some(function.gives == Some(Gives::Number)),
        Kind::Call(Called::Own(name), _) => Some(library.functions.get(name).is_some_and(|own| own.kind == Some(Gives::Number))),
        Kind::If(_, yes, no) => match (places(yes, library), places(no, library)) {
            (Some(yes), Some(no)) if yes == no => Some(yes),
            (Some(_), Some(_)) => Some(false),
            _ => None,
        },
        Kind::Variable(name) if name == POSITION => Some(false),
        Kind::Variable(_) => None,
        Kind::Field(of, _) | Kind::FieldElement(of, _) | Kind::Filter(of, _) => places(of, library).map(|_| false),
        Kind::It | Kind::Name(_) | Kind::Element(_) | Kind::List(_) | Kind::Not(_) | Kind::Binary(..) => Some(false),
    }
}

/// Evaluates `value` for each item and returns one flat list.
pub(super) fn for_each<'a>(items: Vec<Item<'a>>, value: &'a Node, scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    let mut all = Vec::new();
    for (n, item) in items.into_iter().enumerate() {
        all.push(eval(value, &scope.at(item, n))?);
    }
    Ok(through(Item::Many(all), |item| item))
}
