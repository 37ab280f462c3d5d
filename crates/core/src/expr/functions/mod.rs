//! The functions. One table says what each takes and gives; checking and evaluation both read it.
//!
//! A function of nothing gives nothing, so that `else` can follow; nothing in a later place is an error. The exceptions are in
//! `docs/values.md`.

mod dates;
mod lists;
mod texts;

pub(super) use lists::{OVER_ITEMS, SAME_ITEMS};

use super::eval::{counted, eval, fail, number, shorten, single, text};
use super::{EvalError, Gives, Item, Kind, Node, Scope};
use crate::number;
use rust_decimal::{Decimal, RoundingStrategy};
use serde_json::Value;
use std::borrow::Cow;

/// What a function takes first.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Takes {
    /// One text, number or truth value.
    One,
    /// Any number of items.
    Items,
    /// Whatever is there, as it is.
    Any,
}

/// What is known of a function before it is called.
pub(super) struct Function {
    pub name: &'static str,
    pub arguments: std::ops::RangeInclusive<usize>,
    pub takes: Takes,
    /// What kind of single value it gives; none where that depends on what it is given.
    pub gives: Option<Gives>,
    /// How it is written, for help.
    pub form: &'static str,
}

const fn f(name: &'static str, least: usize, most: usize, takes: Takes, gives: Option<Gives>, form: &'static str) -> Function {
    Function { name, arguments: least..=most, takes, gives, form }
}

const TEXT: Option<Gives> = Some(Gives::Text);
const NUMBER: Option<Gives> = Some(Gives::Number);
const TRUTH: Option<Gives> = Some(Gives::Truth);

pub(super) const FUNCTIONS: [Function; 54] = {
    use Takes::{Any, Items, One};
    [
        f("abs", 1, 1, One, NUMBER, "abs(number)"),
        f("all", 1, 2, Items, TRUTH, "all(items, condition): whether it holds for each of them"),
        f("any", 1, 2, Items, TRUTH, "any(items, condition): whether it holds for one of them at least"),
        f("base64", 1, 1, One, TEXT, "base64(text)"),
        f("contains", 2, 2, One, TRUTH, "contains(text, part)"),
        f("count", 1, 1, Items, NUMBER, "count(items)"),
        f("csv", 1, 1, Items, TEXT, "csv(rows): a text of them, with a line of names"),
        f("date", 1, 1, One, TEXT, "date(text): CCYYMMDD, YYMMDD, an ISO date or a moment as an ISO date"),
        f("date_as", 2, 2, One, TEXT, "date_as(date, '%d.%m.%Y'), by the letters of strftime"),
        f("date_from", 2, 2, One, TEXT, "date_from(text, '%d/%m/%y'): an ISO date"),
        f("date_plus", 2, 2, One, TEXT, "date_plus(date, days): so many days later, or earlier"),
        f("days_between", 2, 2, One, NUMBER, "days_between(date, later): how many days"),
        f("digits", 1, 1, One, TEXT, "digits(text): nothing but its digits"),
        f("distinct", 1, 1, Items, None, "distinct(items): each once"),
        f("exists", 1, 1, Items, TRUTH, "exists(path)"),
        f("filled", 1, 1, Items, None, "filled(items): those that are not empty"),
        f("first", 1, 1, Items, None, "first(items)"),
        f("group", 2, 2, Items, None, "group(items, by): a list of {key, items}; `by` is worked out for each item"),
        f("hash", 1, 1, One, TEXT, "hash(text): SHA-256 in hexadecimal digits"),
        f("id", 1, 1, Any, TEXT, "id(VP): the product id with that qualifier on the line at hand"),
        f("join", 2, 2, Items, TEXT, "join(items, separator): those that are not empty"),
        f("json", 1, 1, Any, TEXT, "json(value): a JSON text of it"),
        f("last", 1, 1, Items, None, "last(items)"),
        f("left", 2, 2, One, TEXT, "left(text, length)"),
        f("length", 1, 1, One, NUMBER, "length(text)"),
        f("list", 1, 1, Items, None, "list(items): a JSON list of them, also of one or none"),
        f("local", 2, 2, One, TEXT, "local(moment, 'Europe/Vienna'): the time there, with its offset"),
        f("lower", 1, 1, One, TEXT, "lower(text)"),
        f("matching", 3, 3, Items, None, "matching(items, by, value): the items whose `by` is that value"),
        f("max", 1, 1, Items, NUMBER, "max(numbers)"),
        f("min", 1, 1, Items, NUMBER, "min(numbers)"),
        f("number", 1, 1, One, NUMBER, "number(text)"),
        f("number_as", 4, 4, One, TEXT, "number_as(number, places, ',', '.'): with a sign between thousands and a decimal point"),
        f("of_each", 2, 2, Items, None, "of_each(items, value): the value worked out for each item"),
        f("pad", 3, 3, One, TEXT, "pad(text, length, with): filled on the left"),
        f("replace", 3, 3, One, TEXT, "replace(text, part, with)"),
        f("reverse", 1, 1, Items, None, "reverse(items)"),
        f("right", 2, 2, One, TEXT, "right(text, length)"),
        f("round", 2, 3, One, NUMBER, "round(number, places): half away from zero; or with 'even', 'up', 'down'"),
        f("skip", 2, 2, Items, None, "skip(items, count): all but the first"),
        f("sort", 1, 2, Items, None, "sort(items, by): ascending; `by` is worked out for each item"),
        f("split", 2, 2, One, None, "split(text, separator)"),
        f("sum", 1, 1, Items, NUMBER, "sum(numbers)"),
        f("table", 2, 3, One, None, "table('name', code, otherwise)"),
        f("take", 2, 2, Items, None, "take(items, count): the first"),
        f("text", 1, 1, One, TEXT, "text(value)"),
        f("title", 1, 1, One, TEXT, "title(text): each word with a capital letter"),
        f("trim", 1, 1, One, TEXT, "trim(text)"),
        f("upper", 1, 1, One, TEXT, "upper(text)"),
        f("url_part", 1, 1, One, TEXT, "url_part(text): percent-encoded"),
        f("utc", 2, 2, One, TEXT, "utc('2026-11-23T08:00', 'Europe/Vienna'): the moment that a clock there shows"),
        f("uuid", 1, 1, One, TEXT, "uuid(text): the same for the same text"),
        f("xml", 2, 2, Any, TEXT, "xml(value, root): a text of it"),
        f("zeros_off", 1, 1, One, TEXT, "zeros_off(text): without the zeros on the left"),
    ]
};

/// The function of that name.
pub(super) fn function(name: &str) -> Option<&'static Function> {
    // In the order of their names, as a test sees to.
    FUNCTIONS.binary_search_by(|function| function.name.cmp(name)).ok().map(|at| &FUNCTIONS[at])
}

/// Whether the language has a function of that name.
pub(crate) fn is_built_in(name: &str) -> bool {
    function(name).is_some()
}

/// Whether that function gives a number.
pub(super) fn gives_number(name: &str) -> bool {
    function(name).is_some_and(|function| function.gives == NUMBER)
}

/// The values that a function is given, each with the expression it came from.
struct Values<'n, 'a> {
    nodes: &'a [Node],
    values: &'n [Item<'a>],
}

impl<'a> Values<'_, 'a> {
    /// The text at a place; an error where there is none.
    fn text(&self, at: usize) -> Result<Cow<'_, str>, EvalError> {
        let given = text(&self.nodes[at], &self.values[at])?;
        given.map_or_else(|| fail(&self.nodes[at], "a text is needed here, and there is none"), Ok)
    }

    /// The number at a place; an error where there is none.
    fn number(&self, at: usize) -> Result<Decimal, EvalError> {
        number(&self.nodes[at], &self.values[at])
    }

    /// The length or count at a place.
    fn whole(&self, at: usize) -> Result<usize, EvalError> {
        let value = self.number(at)?;
        match usize::try_from(value.normalize()) {
            Ok(whole) if value.normalize().scale() == 0 && whole <= 10_000 => Ok(whole),
            _ => fail(&self.nodes[at], "a whole number from 0 to 10000 is needed here"),
        }
    }
}

pub(super) fn call<'a>(node: &'a Node, name: &str, arguments: &'a [Node], scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    let known = function(name);
    if let Some(known) = known.filter(|known| !known.arguments.contains(&arguments.len())) {
        // The checker says so before anything runs.
        return fail(node, format!("`{name}` does not take {} values: write {}", arguments.len(), known.form));
    }
    if name == "id" {
        return product_id(node, &arguments[0], scope);
    }
    if OVER_ITEMS.contains(&name) {
        return lists::over_items(name, arguments, scope);
    }
    #[cfg(test)]
    assert!(name != "break_for_tests", "asked to break");
    let Some(known) = known else { return named(node, name, arguments, scope) };
    let mut values = Vec::with_capacity(arguments.len());
    for (n, argument) in arguments.iter().enumerate() {
        values.push(match known.takes {
            // A table's last value is given as it is.
            _ if name == "table" && n == 2 => eval(argument, scope)?,
            Takes::Items | Takes::Any if n == 0 => counted(argument, scope)?,
            Takes::One | Takes::Items | Takes::Any => single(argument, scope)?,
        });
    }
    let given = Values { nodes: arguments, values: &values };
    match known.takes {
        Takes::Items => lists::call(node, name, &given),
        // Nothing, and for what reads a text also the empty one.
        Takes::One if values[0].is_nothing() => Ok(Item::Missing),
        Takes::One => of_one(node, name, &given, scope),
        Takes::Any => whole_value(node, name, &given),
    }
}

/// A function of one value that is there.
fn of_one<'a>(node: &'a Node, name: &str, given: &Values<'_, 'a>, scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    if let Some(change) = texts::of_text(name) {
        return Ok(Item::text(change(&given.text(0)?)));
    }
    if name == "table" {
        return table(node, given, scope);
    }
    // What is not filled in is no number and no date, and nothing is wrong with it.
    let reads = matches!(name, "number" | "date" | "date_as" | "date_from" | "date_plus" | "days_between" | "local" | "utc");
    if reads && given.text(0)?.trim().is_empty() {
        return Ok(Item::Missing);
    }
    match name {
        "abs" => Ok(Item::Number(given.number(0)?.abs())),
        "contains" => match text(&given.nodes[1], &given.values[1])? {
            None => Ok(Item::Missing),
            Some(part) => Ok(Item::bool(given.text(0)?.contains(&*part))),
        },
        "length" => Ok(Item::Number(Decimal::from(given.text(0)?.chars().count()))),
        "number" => number_of(given),
        "round" => round(given),
        "split" => lists::split(given),
        "number_as" => texts::number_as(given),
        "left" | "right" | "pad" | "replace" => texts::part(name, given),
        _ => dates::call(node, name, given),
    }
}

/// `number(text)`: the digits stay as they were written, 1.10 is 1.10, however many there are.
fn number_of<'a>(given: &Values<'_, 'a>) -> Result<Item<'a>, EvalError> {
    let text = given.text(0)?;
    match number::read(&text) {
        None => fail(&given.nodes[0], format!("`{}` is no number", shorten(&text))),
        Some(written) => match number::decimal(&written) {
            Some(number) => Ok(Item::Number(number)),
            None => match serde_json::from_str(&written) {
                Ok(number) => Ok(Item::Json(Cow::Owned(Value::Number(number)))),
                Err(_) => fail(&given.nodes[0], format!("`{}` is no number", shorten(&text))),
            },
        },
    }
}

fn round<'a>(given: &Values<'_, 'a>) -> Result<Item<'a>, EvalError> {
    let value = given.number(0)?;
    let places = given.whole(1)?;
    let how = match given.values.get(2).map(|_| given.text(2)).transpose()?.as_deref() {
        None => RoundingStrategy::MidpointAwayFromZero,
        Some("even") => RoundingStrategy::MidpointNearestEven,
        Some("up") => RoundingStrategy::AwayFromZero,
        Some("down") => RoundingStrategy::ToZero,
        Some(other) => {
            return fail(&given.nodes[2], format!("`{}` is no way to round: 'even', 'up' or 'down'", shorten(other)));
        }
    };
    match texts::rounded(value, places, how) {
        Some(rounded) => Ok(Item::Number(rounded)),
        None => fail(&given.nodes[1], format!("{value} has no room for {places} decimal places")),
    }
}

fn table<'a>(node: &'a Node, given: &Values<'_, 'a>, scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    let (table, Some(code)) = (given.text(0)?, text(&given.nodes[1], &given.values[1])?) else { return Ok(Item::Missing) };
    let Some(rows) = scope.library.tables.get(&*table) else { return fail(node, format!("there is no table `{table}`")) };
    match rows.get(&*code) {
        Some(meaning) => Ok(Item::text(meaning.as_str())),
        None if given.values.len() == 3 => Ok(given.values[2].clone()),
        None => fail(node, format!("table `{table}` has no row for `{}`", shorten(&code))),
    }
}

/// A function that writes a whole value as a text.
fn whole_value<'a>(node: &'a Node, name: &str, given: &Values<'_, 'a>) -> Result<Item<'a>, EvalError> {
    let value = match given.values[0].clone() {
        nothing if nothing.is_nothing() && name == "xml" => return Ok(Item::Missing),
        other => other.value(),
    };
    let Some(value) = value else { return Ok(Item::Missing) };
    match name {
        "json" => Ok(Item::text(value.to_string())),
        _ => {
            let root = given.text(1)?;
            crate::outline::to_xml(&value, &root).map_or_else(|says| fail(node, says), |text| Ok(Item::text(text)))
        }
    }
}

/// A function that the workspace defines.
fn named<'a>(node: &'a Node, name: &str, arguments: &'a [Node], scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    match scope.library.functions.get(name) {
        Some(own) if own.takes.len() == arguments.len() => {
            let values = arguments.iter().map(|argument| eval(argument, scope)).collect::<Result<Vec<_>, _>>()?;
            let given = own.takes.iter().map(String::as_str).zip(values).collect();
            let inner = Scope { it: Item::Missing, doc: Item::Missing, given: Some(given), position: None, ..scope.clone() };
            eval(&own.gives.root, &inner)
                .map_err(|error| EvalError { span: node.span.clone(), says: format!("{name}: {}", error.says) })
        }
        // The checker refuses other names before anything runs.
        _ => fail(node, format!("there is no function `{name}`")),
    }
}

/// X12 data element 235, the qualifier of a product id; the id, element 234, follows it.
const QUALIFIER: u16 = 235;

/// `id(VP)`: in the segment at hand, the values behind that qualifier.
fn product_id<'a>(node: &'a Node, qualifier: &'a Node, scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    let wanted = match &qualifier.kind {
        Kind::Name(name) => name.clone(),
        _ => match text(qualifier, &eval(qualifier, scope)?)? {
            Some(wanted) => wanted.into_owned(),
            None => return Ok(Item::Missing),
        },
    };
    let (segment, tree) = match &scope.it {
        Item::Segment(segment, tree) => (*segment, *tree),
        Item::Loop(inner) => match inner.segments().next() {
            Some(segment) => (segment, inner.tree()),
            None => return Ok(Item::Missing),
        },
        _ => return fail(node, "a product id is read on a line of a transaction set"),
    };
    let Some(known) = tree.described(&segment) else { return Ok(Item::Missing) };
    let is_qualifier = |n: &usize| known.element(*n).is_some_and(|element| element.number == QUALIFIER);
    let places = (1..segment.count()).filter(is_qualifier).filter(|n| segment.text(*n) == wanted);
    Ok(Item::many(places.map(|n| super::item::element_of(segment, tree, n + 1)).collect()))
}

#[cfg(test)]
mod tests {
    use super::FUNCTIONS;

    #[test]
    fn the_reference_lists_every_function() {
        let reference = include_str!("../../../../../docs/workspace.md");
        let listed: Vec<&str> =
            reference.lines().filter_map(|line| line.strip_prefix("| `")?.split_once('`').map(|(form, _)| form)).collect();
        for function in &FUNCTIONS {
            let form = function.form.split(": ").next().unwrap_or_default();
            assert!(listed.iter().any(|known| form.starts_with(known)), "{form} is not in the reference");
        }
        let names: Vec<&str> = FUNCTIONS.iter().map(|function| function.name).collect();
        assert!(names.is_sorted(), "people look for a name in it");
    }
}
