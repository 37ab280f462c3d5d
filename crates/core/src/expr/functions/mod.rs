//! The functions. One table states the arguments, result and implementation of each; checking and evaluation both read it.
//!
//! A function of a missing value gives a missing value, so that `else` can follow; a missing value in a later argument is an
//! error. The exceptions are in `docs/values.md`.

mod dates;
mod lists;
mod numbers;
mod texts;

use super::eval::{counted, eval, fail, number, shorten, single, text};
use super::{EvalError, Gives, Item, Kind, Node, Scope};
use rust_decimal::Decimal;
use std::borrow::Cow;
use std::fmt;

/// First argument of a function.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Takes {
    /// One text, number or truth value.
    One,
    /// Any number of items.
    Items,
    /// Whatever is there, as it is.
    Any,
}

/// The result of a function.
type Given<'a> = Result<Item<'a>, EvalError>;

/// Implementation of a function.
enum Run {
    /// Makes a text of one text.
    Text(fn(&str) -> String),
    /// Reads one value, which is there.
    One(for<'a> fn(&Values<'_, 'a>) -> Given<'a>),
    /// Reads a number or a date from one value, in which more than blanks are written.
    Read(for<'a> fn(&Values<'_, 'a>) -> Given<'a>),
    /// Reads the items of a list, also of none.
    Items(for<'a> fn(&Values<'_, 'a>) -> Given<'a>),
    /// Writes a whole value, also of nothing.
    Whole(for<'a> fn(&Values<'_, 'a>) -> Given<'a>),
    /// Works its second argument out for each item of its first, with the item as `it`.
    Each(for<'a> fn(Vec<Item<'a>>, &Arguments<'_, 'a>) -> Given<'a>),
    /// Reads its argument as a name on the current line.
    Line(for<'a> fn(&Arguments<'_, 'a>) -> Given<'a>),
}

/// Signature of a function.
pub(crate) struct Function {
    pub name: &'static str,
    pub arguments: std::ops::RangeInclusive<usize>,
    run: Run,
    /// Type of its single value; `None` if that depends on the arguments.
    pub gives: Option<Gives>,
    /// Usage, for help texts.
    pub form: &'static str,
}

impl Function {
    /// Returns its first argument.
    pub const fn takes(&self) -> Takes {
        match self.run {
            Run::Text(_) | Run::One(_) | Run::Read(_) => Takes::One,
            Run::Items(_) | Run::Each(_) => Takes::Items,
            Run::Whole(_) | Run::Line(_) => Takes::Any,
        }
    }

    /// Returns whether its second argument, and no other, is evaluated for each item, with the item as `it`.
    pub const fn is_over_items(&self) -> bool {
        matches!(self.run, Run::Each(_))
    }

    /// Returns whether it gives items of its list.
    pub fn gives_items(&self) -> bool {
        ["distinct", "filled", "matching", "reverse", "skip", "sort", "take"].contains(&self.name)
    }
}

impl PartialEq for Function {
    fn eq(&self, other: &Self) -> bool {
        self.name == other.name
    }
}

impl fmt::Debug for Function {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name)
    }
}

const fn f(name: &'static str, least: usize, most: usize, run: Run, gives: Option<Gives>, form: &'static str) -> Function {
    Function { name, arguments: least..=most, run, gives, form }
}

const TEXT: Option<Gives> = Some(Gives::Text);
const NUMBER: Option<Gives> = Some(Gives::Number);
const TRUTH: Option<Gives> = Some(Gives::Truth);

/// Most arguments of a function.
const MOST: usize = 4;

pub(super) static FUNCTIONS: [Function; 54] = {
    use Run::{Each, Items, Line, One, Read, Text, Whole};
    [
        f("abs", 1, 1, One(numbers::abs), NUMBER, "abs(number)"),
        f("all", 1, 2, Each(lists::all), TRUTH, "all(items, condition): true if the condition holds for every item"),
        f("any", 1, 2, Each(lists::any), TRUTH, "any(items, condition): true if the condition holds for at least one item"),
        f("base64", 1, 1, Text(texts::base64), TEXT, "base64(text)"),
        f("contains", 2, 2, One(texts::contains), TRUTH, "contains(text, part)"),
        f("count", 1, 1, Items(|given| Ok(Item::Number(Decimal::from(given.values[0].count())))), NUMBER, "count(items)"),
        f("csv", 1, 1, Items(lists::csv), TEXT, "csv(rows): CSV text, with a header line"),
        f("date", 1, 1, Read(dates::date), TEXT, "date(text): ISO date of CCYYMMDD, YYMMDD, an ISO date or a time"),
        f("date_as", 2, 2, Read(dates::date_as), TEXT, "date_as(date, '%d.%m.%Y'): date in a strftime format"),
        f(
            "date_from",
            2,
            2,
            Read(dates::date_from),
            TEXT,
            "date_from(text, '%d/%m/%y'): ISO date of a text in a strftime format",
        ),
        f(
            "date_plus",
            2,
            2,
            Read(dates::date_plus),
            TEXT,
            "date_plus(date, days): date that many days later (earlier if negative)",
        ),
        f(
            "days_between",
            2,
            2,
            Read(dates::days_between),
            NUMBER,
            "days_between(date, later): number of days from one date to the other",
        ),
        f("digits", 1, 1, Text(texts::digits), TEXT, "digits(text): only the digits of the text"),
        f("distinct", 1, 1, Items(lists::distinct), None, "distinct(items): items without duplicates"),
        f("exists", 1, 1, Items(|given| Ok(Item::bool(given.values[0].count() > 0))), TRUTH, "exists(path)"),
        f("filled", 1, 1, Items(lists::filled), None, "filled(items): items that are not empty"),
        f("first", 1, 1, Items(lists::first), None, "first(items)"),
        f("group", 2, 2, Each(lists::group), None, "group(items, by): list of {key, items}, one for each value of `by`"),
        f("hash", 1, 1, Text(texts::hash), TEXT, "hash(text): SHA-256 as hexadecimal digits"),
        f("id", 1, 1, Line(product_id), TEXT, "id(VP): product id with that qualifier on the current line"),
        f("join", 2, 2, Items(lists::join), TEXT, "join(items, separator): one text of the items that are not empty"),
        f("json", 1, 1, Whole(texts::json), TEXT, "json(value): value as JSON text"),
        f("last", 1, 1, Items(lists::last), None, "last(items)"),
        f("left", 2, 2, One(texts::left), TEXT, "left(text, length)"),
        f("length", 1, 1, One(texts::length), NUMBER, "length(text)"),
        f("list", 1, 1, Items(lists::list), None, "list(items): JSON list, also of one item or none"),
        f("local", 2, 2, Read(dates::local), TEXT, "local(time, 'Europe/Vienna'): the same time in that zone, with its offset"),
        f("lower", 1, 1, Text(str::to_lowercase), TEXT, "lower(text)"),
        f("matching", 3, 3, Each(lists::matching), None, "matching(items, by, value): items whose `by` equals the value"),
        f("max", 1, 1, Items(lists::max), NUMBER, "max(numbers)"),
        f("min", 1, 1, Items(lists::min), NUMBER, "min(numbers)"),
        f("number", 1, 1, Read(numbers::number_of), NUMBER, "number(text)"),
        f(
            "number_as",
            4,
            4,
            One(numbers::number_as),
            TEXT,
            "number_as(number, places, ',', '.'): text with thousands separator and decimal point",
        ),
        f("of_each", 2, 2, Each(lists::of_each), None, "of_each(items, value): the value for each item"),
        f("pad", 3, 3, One(texts::pad), TEXT, "pad(text, length, with): text filled on the left to that length"),
        f("replace", 3, 3, One(texts::replace), TEXT, "replace(text, part, with): text with every `part` replaced"),
        f("reverse", 1, 1, Items(lists::reverse), None, "reverse(items)"),
        f("right", 2, 2, One(texts::right), TEXT, "right(text, length)"),
        f(
            "round",
            2,
            3,
            One(numbers::round),
            NUMBER,
            "round(number, places): rounds half away from zero; 3rd value 'even', 'up' or 'down' for other ways",
        ),
        f("skip", 2, 2, Items(lists::skip), None, "skip(items, count): items after the first `count`"),
        f("sort", 1, 2, Each(lists::sort), None, "sort(items, by): items in ascending order of `by`"),
        f("split", 2, 2, One(lists::split), None, "split(text, separator)"),
        f("sum", 1, 1, Items(lists::sum), NUMBER, "sum(numbers)"),
        f("table", 2, 3, One(table), None, "table('name', code, otherwise)"),
        f("take", 2, 2, Items(lists::take), None, "take(items, count): the first `count` items"),
        f("text", 1, 1, Text(str::to_owned), TEXT, "text(value)"),
        f("title", 1, 1, Text(texts::title), TEXT, "title(text): text with a capital letter at each word"),
        f("trim", 1, 1, Text(|text| text.trim().to_owned()), TEXT, "trim(text)"),
        f("upper", 1, 1, Text(str::to_uppercase), TEXT, "upper(text)"),
        f("url_part", 1, 1, Text(texts::url_part), TEXT, "url_part(text): percent-encoded"),
        f("utc", 2, 2, Read(dates::utc), TEXT, "utc('2026-11-23T08:00', 'Europe/Vienna'): UTC time of a local time in that zone"),
        f("uuid", 1, 1, Text(texts::uuid), TEXT, "uuid(text): UUID made of the text; the same text gives the same UUID"),
        f("xml", 2, 2, Whole(texts::xml), TEXT, "xml(value, root): value as XML text"),
        f("zeros_off", 1, 1, Text(texts::zeros_off), TEXT, "zeros_off(text): text without leading zeros"),
    ]
};

/// The function of that name.
pub(super) fn function(name: &str) -> Option<&'static Function> {
    // Sorted by name, which a test checks.
    FUNCTIONS.binary_search_by(|function| function.name.cmp(name)).ok().map(|at| &FUNCTIONS[at])
}

/// Returns whether the language has a function of that name.
pub(crate) fn is_built_in(name: &str) -> bool {
    function(name).is_some()
}

/// Arguments of a call, unevaluated.
struct Arguments<'s, 'a> {
    node: &'a Node,
    nodes: &'a [Node],
    scope: &'s Scope<'a>,
}

/// Evaluated arguments, each with its expression.
struct Values<'s, 'a> {
    node: &'a Node,
    nodes: &'a [Node],
    values: &'s [Item<'a>],
    scope: &'s Scope<'a>,
}

impl<'a> Values<'_, 'a> {
    /// Returns the text argument at an index; an error if it is missing.
    fn text(&self, at: usize) -> Result<Cow<'_, str>, EvalError> {
        let given = text(&self.nodes[at], &self.values[at])?;
        given.map_or_else(|| fail(&self.nodes[at], "expected a text, found no value"), Ok)
    }

    /// The text at a place, where there is one.
    fn text_or_nothing(&self, at: usize) -> Result<Option<Cow<'_, str>>, EvalError> {
        text(&self.nodes[at], &self.values[at])
    }

    /// Returns the number argument at an index; an error if it is missing.
    fn number(&self, at: usize) -> Result<Decimal, EvalError> {
        number(&self.nodes[at], &self.values[at])
    }

    /// The length or count at a place.
    fn whole(&self, at: usize) -> Result<usize, EvalError> {
        let value = self.number(at)?;
        match usize::try_from(value.normalize()) {
            Ok(whole) if value.normalize().scale() == 0 && whole <= 10_000 => Ok(whole),
            _ => fail(&self.nodes[at], "expected a whole number from 0 to 10000"),
        }
    }

    /// The items at the first place.
    fn items(&self) -> Vec<Item<'a>> {
        self.values[0].clone().items()
    }
}

/// Calls a built-in function.
pub(super) fn call<'a>(function: &Function, node: &'a Node, nodes: &'a [Node], scope: &Scope<'a>) -> Given<'a> {
    if !function.arguments.contains(&nodes.len()) {
        // The checker reports this before a run.
        return fail(node, format!("`{}` does not take {} values: {}", function.name, nodes.len(), function.form));
    }
    match function.run {
        Run::Each(run) => return run(counted(&nodes[0], scope)?.items(), &Arguments { node, nodes, scope }),
        Run::Line(run) => return run(&Arguments { node, nodes, scope }),
        Run::Text(_) | Run::One(_) | Run::Read(_) | Run::Items(_) | Run::Whole(_) => {}
    }
    let mut values = [const { Item::Missing }; MOST];
    let takes = function.takes();
    for (n, (value, argument)) in values.iter_mut().zip(nodes).enumerate() {
        *value = match takes {
            // A table's last value is given as it is.
            Takes::One if n == 2 && function.name == "table" => eval(argument, scope)?,
            Takes::Items | Takes::Any if n == 0 => counted(argument, scope)?,
            Takes::One | Takes::Items | Takes::Any => single(argument, scope)?,
        };
    }
    let given = Values { node, nodes, values: &values[..nodes.len()], scope };
    let nothing = takes == Takes::One && values[0].is_nothing();
    match function.run {
        _ if nothing => Ok(Item::Missing),
        Run::Text(change) => Ok(Item::text(change(&given.text(0)?))),
        // An empty field is not an error in a number or date.
        Run::Read(_) if given.text(0)?.trim().is_empty() => Ok(Item::Missing),
        Run::One(run) | Run::Read(run) | Run::Items(run) | Run::Whole(run) => run(&given),
        Run::Each(_) | Run::Line(_) => unreachable!("these work their arguments out themselves"),
    }
}

/// `table(name, code, otherwise)`.
fn table<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let (table, Some(code)) = (given.text(0)?, given.text_or_nothing(1)?) else { return Ok(Item::Missing) };
    let Some(rows) = given.scope.library.tables.get(&*table) else {
        return fail(given.node, format!("there is no table `{table}`"));
    };
    match rows.get(&*code) {
        Some(meaning) => Ok(Item::text(meaning.as_str())),
        None if given.values.len() == 3 => Ok(given.values[2].clone()),
        None => fail(given.node, format!("table `{table}` has no row for `{}`", shorten(&code))),
    }
}

/// Calls a function that the workspace defines.
pub(super) fn own<'a>(name: &str, node: &'a Node, arguments: &'a [Node], scope: &Scope<'a>) -> Given<'a> {
    #[cfg(test)]
    assert!(name != "break_for_tests", "asked to break");
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

/// `id(VP)`: the values after that qualifier in the current segment.
fn product_id<'a>(given: &Arguments<'_, 'a>) -> Given<'a> {
    let Arguments { node, scope, .. } = *given;
    let qualifier = &given.nodes[0];
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
        _ => return fail(node, "id(…) works only on a line of a transaction set"),
    };
    let Some(known) = tree.described(&segment) else { return Ok(Item::Missing) };
    let is_qualifier = |n: &usize| known.element(*n).is_some_and(|element| element.number == QUALIFIER);
    let places = (1..segment.count()).filter(is_qualifier).filter(|n| segment.element(*n).trim_ascii() == wanted.as_bytes());
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
        assert!(FUNCTIONS.iter().all(|function| *function.arguments.end() <= super::MOST));
    }
}
