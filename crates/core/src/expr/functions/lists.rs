//! Functions over lists.

use crate::expr::eval::{eval, fail, number, order};
use crate::expr::{EvalError, Item, Node, Scope};
use rust_decimal::Decimal;
use serde_json::{Value, json};
use std::borrow::Cow;
use std::cmp::Ordering;

/// Functions whose second value, and no other, is worked out for each item, with the item as `it`.
pub(in crate::expr) const OVER_ITEMS: [&str; 4] = ["group", "matching", "of_each", "sort"];
/// Functions that give items of the list they are given.
pub(in crate::expr) const SAME_ITEMS: [&str; 7] = ["distinct", "filled", "matching", "reverse", "skip", "sort", "take"];

/// A function of [`OVER_ITEMS`].
pub(super) fn over_items<'a>(name: &str, arguments: &'a [Node], scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    let items = eval(&arguments[0], scope)?.each();
    let Some(by) = arguments.get(1) else { return Ok(sorted(items.iter().cloned().zip(items.iter().cloned()).collect())) };
    let wanted = arguments.get(2).map(|value| eval(value, scope)).transpose()?;
    let mut all = Vec::with_capacity(items.len());
    for item in items {
        let value = eval(by, &Scope { it: item.clone(), ..scope.clone() })?;
        all.push((value, item));
    }
    Ok(match name {
        "group" => grouped(all),
        "matching" => {
            // Nothing matches nothing: a key that is missing on both sides joins no two rows.
            let wanted = wanted.filter(|wanted| !wanted.is_empty());
            let same = |value: &Item<'_>| wanted.as_ref().is_some_and(|wanted| order(value, wanted) == Some(Ordering::Equal));
            Item::Many(all.into_iter().filter(|(value, _)| same(value)).map(|(_, item)| item).collect())
        }
        "of_each" => Item::Many(all.into_iter().map(|(value, _)| value).collect()),
        _ => sorted(all),
    })
}

/// By their values, those without one last; what is alike stays in its order.
fn sorted<'a>(mut all: Vec<(Item<'a>, Item<'a>)>) -> Item<'a> {
    all.sort_by(|(a, _), (b, _)| match (a.to_text(), b.to_text()) {
        (Some(_), Some(_)) => order(a, b).unwrap_or(Ordering::Equal),
        (a, b) => a.is_none().cmp(&b.is_none()),
    });
    Item::Many(all.into_iter().map(|(_, item)| item).collect())
}

/// `[{"key": …, "items": […]}, …]`, groups in the order of their first items.
fn grouped<'a>(all: Vec<(Item<'a>, Item<'a>)>) -> Item<'a> {
    let mut groups: Vec<(String, Vec<Value>)> = Vec::new();
    let mut places = std::collections::HashMap::new();
    for (key, item) in all {
        let key = key.to_text().unwrap_or_default().into_owned();
        let at = *places.entry(key.clone()).or_insert_with(|| {
            groups.push((key, Vec::new()));
            groups.len() - 1
        });
        groups[at].1.extend(item.one().map(Cow::into_owned));
    }
    let groups = groups.into_iter().map(|(key, items)| json!({ "key": key, "items": items })).collect();
    Item::Json(Cow::Owned(Value::Array(groups)))
}

/// The other functions over lists; `None` for a name that is none of them.
pub(super) fn call<'a>(
    name: &str,
    arguments: &'a [Node],
    values: &[Item<'a>],
    whole: &dyn Fn(usize) -> Result<usize, EvalError>,
) -> Option<Result<Item<'a>, EvalError>> {
    let items = || values[0].clone().each();
    let many = |items: Vec<Item<'a>>| Some(Ok(Item::Many(items)));
    match name {
        "distinct" => {
            let mut seen = std::collections::HashSet::new();
            many(items().into_iter().filter(|item| seen.insert(item.to_text().unwrap_or_default().into_owned())).collect())
        }
        "filled" => many(items().into_iter().filter(|item| !item.is_empty()).collect()),
        "reverse" => many(items().into_iter().rev().collect()),
        "take" => Some(whole(1).map(|count| Item::Many(items().into_iter().take(count).collect()))),
        "skip" => Some(whole(1).map(|count| Item::Many(items().into_iter().skip(count).collect()))),
        "max" | "min" => Some(extreme(name, &arguments[0], items())),
        _ => None,
    }
}

fn extreme<'a>(name: &str, node: &'a Node, items: Vec<Item<'a>>) -> Result<Item<'a>, EvalError> {
    let mut best: Option<Decimal> = None;
    for item in items {
        let value = number(node, &item)?;
        let better = best.is_none_or(|best| if name == "max" { value > best } else { value < best });
        best = if better { Some(value) } else { best };
    }
    Ok(best.map_or(Item::Missing, Item::Number))
}

/// `split(text, separator)`: the parts as texts; none of nothing.
pub(super) fn split<'a>(node: &'a Node, text: Option<Cow<'_, str>>, separator: &str) -> Result<Item<'a>, EvalError> {
    match text {
        None => Ok(Item::Missing),
        Some(_) if separator.is_empty() => fail(node, "a separator is needed to split by"),
        Some(text) => Ok(Item::Many(text.split(separator).map(|part| Item::text(part.to_owned())).collect())),
    }
}
