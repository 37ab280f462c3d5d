//! The functions. One table gives name, arguments and meaning; checking and evaluation both read it.

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

pub(super) const FUNCTIONS: [Function; 23] = [
    f("abs", 1, 1, "abs(number)"),
    f("contains", 2, 2, "contains(text, part)"),
    f("count", 1, 1, "count(items)"),
    f("date", 1, 1, "date(text): CCYYMMDD, YYMMDD or an ISO date as an ISO date"),
    f("exists", 1, 1, "exists(path)"),
    f("first", 1, 1, "first(items)"),
    f("id", 1, 1, "id(VP): the product id with that qualifier on the line at hand"),
    f("join", 2, 2, "join(items, separator)"),
    f("last", 1, 1, "last(items)"),
    f("left", 2, 2, "left(text, length)"),
    f("length", 1, 1, "length(text)"),
    f("list", 1, 1, "list(items): a JSON list of them, also of one or none"),
    f("lower", 1, 1, "lower(text)"),
    f("number", 1, 1, "number(text)"),
    f("pad", 3, 3, "pad(text, length, with): filled on the left"),
    f("replace", 3, 3, "replace(text, part, with)"),
    f("right", 2, 2, "right(text, length)"),
    f("round", 2, 2, "round(number, places): half away from zero"),
    f("sum", 1, 1, "sum(numbers)"),
    f("table", 2, 3, "table('name', code, otherwise)"),
    f("text", 1, 1, "text(value)"),
    f("trim", 1, 1, "trim(text)"),
    f("upper", 1, 1, "upper(text)"),
];

pub(super) fn call<'a>(node: &'a Node, name: &str, arguments: &'a [Node], scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    if name == "id" {
        return product_id(node, &arguments[0], scope);
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
    let of_text = |change: fn(&str) -> String| Ok(values[0].to_text().map_or(Item::Missing, |text| Item::text(change(&text))));
    match name {
        "abs" => Ok(Item::Number(number(&arguments[0], &values[0])?.abs())),
        "contains" => Ok(Item::bool(text(0).contains(&*text(1)))),
        "count" => Ok(Item::Number(Decimal::from(values[0].clone().each().len()))),
        "date" => match values[0].to_text() {
            None => Ok(Item::Missing),
            Some(text) => {
                date(&text).map_or_else(|| fail(node, format!("`{}` is no date", shorten(&text))), |date| Ok(Item::text(date)))
            }
        },
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
        "lower" => of_text(str::to_lowercase),
        "upper" => of_text(str::to_uppercase),
        "trim" => of_text(|text| text.trim().to_owned()),
        "text" => of_text(str::to_owned),
        // The digits stay as they were written: 1.10 is 1.10, not 1.1.
        "number" => match values[0].to_text() {
            None => Ok(Item::Missing),
            Some(_) => number(&arguments[0], &values[0]).map(Item::Number),
        },
        "pad" => {
            let (text, fill) = (text(0), text(2));
            let missing = whole(1)?.saturating_sub(text.chars().count());
            Ok(Item::text(fill.chars().cycle().take(missing).collect::<String>() + &text))
        }
        "replace" => Ok(Item::text(if text(1).is_empty() { text(0).into_owned() } else { text(0).replace(&*text(1), &text(2)) })),
        "round" => {
            let places = u32::try_from(whole(1)?).unwrap_or(28).min(28);
            let mut rounded =
                number(&arguments[0], &values[0])?.round_dp_with_strategy(places, RoundingStrategy::MidpointAwayFromZero);
            rounded.rescale(places);
            Ok(Item::Number(rounded))
        }
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
            match scope.tables.get(&*table).and_then(|rows| rows.get(&*code)) {
                Some(meaning) => Ok(Item::text(meaning.as_str())),
                None if values.len() == 3 => Ok(values[2].clone()),
                None => fail(node, format!("table `{table}` has no row for `{}`", shorten(&code))),
            }
        }
        // The checker refuses other names before anything runs.
        _ => fail(node, format!("there is no function `{name}`")),
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
        let reference = include_str!("../../../../docs/workspace.md");
        let listed = reference.lines().rfind(|line| line.starts_with('`')).unwrap_or_default();
        let names: Vec<&str> = FUNCTIONS.iter().map(|function| function.name).collect();
        assert_eq!(listed.trim_matches('`'), names.join(" "));
        assert!(names.is_sorted(), "people look for a name in it");
    }
}
