//! The functions. One table gives name, arguments and meaning; checking and evaluation both read it.

mod lists;
mod texts;

pub(super) use lists::{OVER_ITEMS, SAME_ITEMS};

use super::eval::{eval, fail, number, shorten};
use super::{EvalError, Item, Kind, Node, Scope};
use rust_decimal::{Decimal, RoundingStrategy};
use serde_json::Value;
use std::borrow::Cow;

/// What is known of a function before it is called.
pub(super) struct Function {
    pub name: &'static str,
    pub arguments: std::ops::RangeInclusive<usize>,
    /// How it is written, for help.
    pub form: &'static str,
}

const fn f(name: &'static str, least: usize, most: usize, form: &'static str) -> Function {
    Function { name, arguments: least..=most, form }
}

pub(super) const FUNCTIONS: [Function; 51] = [
    f("abs", 1, 1, "abs(number)"),
    f("base64", 1, 1, "base64(text)"),
    f("contains", 2, 2, "contains(text, part)"),
    f("count", 1, 1, "count(items)"),
    f("csv", 1, 1, "csv(rows): a text of them, with a line of names"),
    f("date", 1, 1, "date(text): CCYYMMDD, YYMMDD or an ISO date as an ISO date"),
    f("date_as", 2, 2, "date_as(date, '%d.%m.%Y'), by the letters of strftime"),
    f("date_from", 2, 2, "date_from(text, '%d/%m/%y'): an ISO date"),
    f("date_plus", 2, 2, "date_plus(date, days): so many days later, or earlier"),
    f("days_between", 2, 2, "days_between(date, later): how many days"),
    f("digits", 1, 1, "digits(text): nothing but its digits"),
    f("distinct", 1, 1, "distinct(items): each once"),
    f("exists", 1, 1, "exists(path)"),
    f("filled", 1, 1, "filled(items): those that are not empty"),
    f("first", 1, 1, "first(items)"),
    f("group", 2, 2, "group(items, by): a list of {key, items}; `by` is worked out for each item"),
    f("hash", 1, 1, "hash(text): SHA-256 in hexadecimal digits"),
    f("id", 1, 1, "id(VP): the product id with that qualifier on the line at hand"),
    f("join", 2, 2, "join(items, separator)"),
    f("last", 1, 1, "last(items)"),
    f("left", 2, 2, "left(text, length)"),
    f("length", 1, 1, "length(text)"),
    f("list", 1, 1, "list(items): a JSON list of them, also of one or none"),
    f("local", 2, 2, "local(moment, 'Europe/Vienna'): the time there, with its offset"),
    f("lower", 1, 1, "lower(text)"),
    f("matching", 3, 3, "matching(items, by, value): the items whose `by` is that value"),
    f("max", 1, 1, "max(numbers)"),
    f("min", 1, 1, "min(numbers)"),
    f("number", 1, 1, "number(text)"),
    f("number_as", 4, 4, "number_as(number, places, ',', '.'): with a sign between thousands and a decimal point"),
    f("of_each", 2, 2, "of_each(items, value): the value worked out for each item"),
    f("pad", 3, 3, "pad(text, length, with): filled on the left"),
    f("replace", 3, 3, "replace(text, part, with)"),
    f("reverse", 1, 1, "reverse(items)"),
    f("right", 2, 2, "right(text, length)"),
    f("round", 2, 3, "round(number, places): half away from zero; or with 'even', 'up', 'down'"),
    f("skip", 2, 2, "skip(items, count): all but the first"),
    f("sort", 1, 2, "sort(items, by): ascending; `by` is worked out for each item"),
    f("split", 2, 2, "split(text, separator)"),
    f("sum", 1, 1, "sum(numbers)"),
    f("table", 2, 3, "table('name', code, otherwise)"),
    f("take", 2, 2, "take(items, count): the first"),
    f("text", 1, 1, "text(value)"),
    f("title", 1, 1, "title(text): each word with a capital letter"),
    f("trim", 1, 1, "trim(text)"),
    f("upper", 1, 1, "upper(text)"),
    f("url_part", 1, 1, "url_part(text): percent-encoded"),
    f("utc", 2, 2, "utc('2026-11-23T08:00', 'Europe/Vienna'): the moment that a clock there shows"),
    f("uuid", 1, 1, "uuid(text): the same for the same text"),
    f("xml", 2, 2, "xml(value, root): a text of it"),
    f("zeros_off", 1, 1, "zeros_off(text): without the zeros on the left"),
];

/// Whether the language has a function of that name.
pub(crate) fn is_built_in(name: &str) -> bool {
    FUNCTIONS.iter().any(|function| function.name == name)
}

pub(super) fn call<'a>(node: &'a Node, name: &str, arguments: &'a [Node], scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    if name == "id" {
        return product_id(node, &arguments[0], scope);
    }
    if OVER_ITEMS.contains(&name) {
        return lists::over_items(name, arguments, scope);
    }
    let values = arguments.iter().map(|argument| eval(argument, scope)).collect::<Result<Vec<_>, _>>()?;
    let text = |at: usize| values[at].to_text().unwrap_or_default();
    let whole = |at: usize| -> Result<usize, EvalError> {
        let value = number(&arguments[at], &values[at])?;
        match usize::try_from(value) {
            Ok(value) if value <= 10_000 => Ok(value),
            _ => fail(&arguments[at], "a whole number from 0 to 10000 is needed here"),
        }
    };
    // A function of one text gives nothing for nothing, so that `else` can follow.
    if let Some(change) = texts::of_text(name) {
        return Ok(values[0].to_text().map_or(Item::Missing, |text| Item::text(change(&text))));
    }
    if let Some(done) = lists::call(name, arguments, &values, &whole) {
        return done;
    }
    match name {
        "abs" => Ok(Item::Number(number(&arguments[0], &values[0])?.abs())),
        "contains" => Ok(Item::bool(text(0).contains(&*text(1)))),
        "count" => Ok(Item::Number(Decimal::from(values[0].clone().each().len()))),
        "csv" => {
            let rows: Vec<Value> = values[0].clone().each().into_iter().filter_map(Item::one).map(Cow::into_owned).collect();
            Ok(Item::text(crate::outline::to_csv(&rows)))
        }
        "xml" => match values[0].clone().one() {
            None => Ok(Item::Missing),
            Some(value) => {
                crate::outline::to_xml(&value, &text(1)).map_or_else(|says| fail(node, says), |text| Ok(Item::text(text)))
            }
        },
        "date" => match values[0].to_text() {
            None => Ok(Item::Missing),
            Some(text) => {
                date(&text).map_or_else(|| fail(node, format!("`{}` is no date", shorten(&text))), |date| Ok(Item::text(date)))
            }
        },
        "date_as" | "date_from" | "date_plus" if values[0].is_empty() => Ok(Item::Missing),
        "date_as" => texts::date_as(node, &text(0), &text(1)),
        "date_from" => texts::date_from(node, &text(0), &text(1)),
        "exists" => Ok(Item::bool(!matches!(values[0], Item::Missing))),
        "first" => Ok(values[0].clone().each().into_iter().next().unwrap_or(Item::Missing)),
        "last" => Ok(values[0].clone().each().pop().unwrap_or(Item::Missing)),
        "join" => {
            let items = values[0].clone().each();
            let texts: Vec<_> = items.iter().filter_map(Item::to_text).collect();
            Ok(Item::text(texts.join(&text(1))))
        }
        "left" => Ok(Item::text(text(0).chars().take(whole(1)?).collect::<String>())),
        "right" => {
            let text = text(0);
            let skip = text.chars().count().saturating_sub(whole(1)?);
            Ok(Item::text(text.chars().skip(skip).collect::<String>()))
        }
        "length" => Ok(Item::Number(Decimal::from(text(0).chars().count()))),
        "list" => {
            let items = values[0].clone().each().into_iter().filter_map(Item::one).map(Cow::into_owned).collect();
            Ok(Item::Json(Cow::Owned(Value::Array(items))))
        }
        // The digits stay as they were written: 1.10 is 1.10, not 1.1.
        "number" => match values[0].to_text() {
            None => Ok(Item::Missing),
            Some(_) => number(&arguments[0], &values[0]).map(Item::Number),
        },
        "number_as" => texts::number_as(&arguments[0], &values[0], whole(1)?, &text(2), &text(3)),
        "pad" => {
            let (text, fill) = (text(0), text(2));
            let missing = whole(1)?.saturating_sub(text.chars().count());
            Ok(Item::text(fill.chars().cycle().take(missing).collect::<String>() + &text))
        }
        "replace" => Ok(Item::text(if text(1).is_empty() { text(0).into_owned() } else { text(0).replace(&*text(1), &text(2)) })),
        "round" => {
            let places = u32::try_from(whole(1)?).unwrap_or(28).min(28);
            let how = match values.get(2).and_then(Item::to_text).as_deref() {
                None => RoundingStrategy::MidpointAwayFromZero,
                Some("even") => RoundingStrategy::MidpointNearestEven,
                Some("up") => RoundingStrategy::AwayFromZero,
                Some("down") => RoundingStrategy::ToZero,
                Some(other) => return fail(&arguments[2], format!("`{other}` is no way to round: 'even', 'up' or 'down'")),
            };
            let mut rounded = number(&arguments[0], &values[0])?.round_dp_with_strategy(places, how);
            rounded.rescale(places);
            Ok(Item::Number(rounded))
        }
        "split" => lists::split(&arguments[1], values[0].to_text(), &text(1)),
        "sum" => {
            let mut total = Decimal::ZERO;
            for item in values[0].clone().each() {
                let value = number(&arguments[0], &item)?;
                total = total.checked_add(value).map_or_else(|| fail(node, "the sum has too many digits"), Ok)?;
            }
            Ok(Item::Number(total))
        }
        "table" => {
            let (table, code) = (text(0), text(1));
            match scope.library.tables.get(&*table).and_then(|rows| rows.get(&*code)) {
                Some(meaning) => Ok(Item::text(meaning.as_str())),
                None if values.len() == 3 => Ok(values[2].clone()),
                None => fail(node, format!("table `{table}` has no row for `{}`", shorten(&code))),
            }
        }
        "date_plus" => texts::date_plus(node, &text(0), number(&arguments[1], &values[1])?),
        "days_between" => texts::days_between(node, &text(0), &text(1)),
        "local" | "utc" if values[0].is_empty() => Ok(Item::Missing),
        "local" => texts::local(node, &text(0), &text(1)),
        "utc" => texts::utc(node, &text(0), &text(1)),
        _ => match scope.library.functions.get(name) {
            Some(own) if own.takes.len() == values.len() => {
                let given = own.takes.iter().map(String::as_str).zip(values).collect();
                let inner = Scope { it: Item::Missing, doc: Item::Missing, given: Some(given), ..scope.clone() };
                eval(&own.gives.root, &inner)
                    .map_err(|error| EvalError { span: node.span.clone(), says: format!("{name}: {}", error.says) })
            }
            // The checker refuses other names before anything runs.
            _ => fail(node, format!("there is no function `{name}`")),
        },
    }
}

/// `id(VP)`: in the segment at hand, the value behind the qualifier; product ids come as pairs of
/// data element 235 and 234, which is from the sixth element on in PO1 and from the second in LIN.
fn product_id<'a>(node: &'a Node, qualifier: &'a Node, scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    let wanted = match &qualifier.kind {
        Kind::Name(name) => name.clone(),
        _ => eval(qualifier, scope)?.to_text().unwrap_or_default().into_owned(),
    };
    let segment = match &scope.it {
        Item::Segment(segment) => Some(*segment),
        Item::Loop(inner) => inner.segments().next(),
        _ => return fail(node, "a product id is read on a line of a transaction set"),
    };
    let Some(segment) = segment else { return Ok(Item::Missing) };
    let from = if segment.id() == b"LIN" { 2 } else { 6 };
    let mut elements = segment.elements().skip(from);
    while let (Some(qualifier), Some(value)) = (elements.next(), elements.next()) {
        if qualifier == wanted.as_bytes() {
            return Ok(if value.is_empty() { Item::Missing } else { Item::text(String::from_utf8_lossy(value)) });
        }
    }
    Ok(Item::Missing)
}

fn date(text: &str) -> Option<String> {
    let digits: Cow<'_, str> = match text.len() {
        6 => format!("20{text}").into(),
        8 => text.into(),
        10 if text.as_bytes()[4] == b'-' && text.as_bytes()[7] == b'-' => text.replace('-', "").into(),
        _ => return None,
    };
    let known = digits.len() == 8 && crate::x12::is_date(&digits);
    known.then(|| format!("{}-{}-{}", &digits[..4], &digits[4..6], &digits[6..]))
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
