//! Functions over lists.

use super::Values;
use crate::expr::eval::{QUANTIFY, counted, eval, fail, for_each, number, number_or_nothing, one, several, single, text};
use crate::expr::item::SortKey;
use crate::expr::{EvalError, Item, Node, Scope};
use crate::number;
use rust_decimal::Decimal;
use serde_json::{Value, json};
use std::borrow::Cow;
use std::collections::{HashMap, HashSet};

/// Functions whose second value, and no other, is worked out for each item, with the item as `it`.
pub(in crate::expr) const OVER_ITEMS: [&str; 6] = ["all", "any", "group", "matching", "of_each", "sort"];
/// Functions that give items of the list they are given.
pub(in crate::expr) const SAME_ITEMS: [&str; 7] = ["distinct", "filled", "matching", "reverse", "skip", "sort", "take"];

/// A function of [`OVER_ITEMS`].
pub(super) fn over_items<'a>(name: &str, arguments: &'a [Node], scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
    let items = counted(&arguments[0], scope)?.items();
    let by = arguments.get(1);
    match name {
        "all" | "any" => quantified(name == "all", items, &arguments[0], by, scope),
        "of_each" => match by {
            Some(value) => for_each(items, value, scope),
            None => Ok(Item::many(items)),
        },
        "group" => Ok(grouped(keyed(items, &arguments[0], by, scope)?)),
        "matching" => {
            // Nothing matches nothing: a key that is missing on both sides joins no two rows.
            let wanted = arguments.get(2).map_or(Ok(Item::Missing), |value| single(value, scope))?;
            if wanted.is_empty() {
                return Ok(Item::Missing);
            }
            let all = keyed(items, &arguments[0], by, scope)?;
            Ok(Item::many(all.into_iter().filter(|(key, _)| key.equals(&wanted)).map(|(_, item)| item).collect()))
        }
        _ => {
            let all = keyed(items, &arguments[0], by, scope)?;
            let mut all: Vec<(SortKey, Item<'a>)> = all.into_iter().map(|(key, item)| (SortKey::of(&key), item)).collect();
            // What is alike stays in its order.
            all.sort_by(|(a, _), (b, _)| a.cmp(b));
            Ok(Item::many(all.into_iter().map(|(_, item)| item).collect()))
        }
    }
}

/// Each item with its one key; the item itself where nothing says what the key is.
fn keyed<'a>(
    items: Vec<Item<'a>>,
    of: &'a Node,
    by: Option<&'a Node>,
    scope: &Scope<'a>,
) -> Result<Vec<(Item<'a>, Item<'a>)>, EvalError> {
    let key = |(n, item): (usize, Item<'a>)| {
        let key = match by {
            Some(by) => single(by, &scope.at(item.clone(), n))?,
            None => one(of, item.clone())?,
        };
        Ok((key, item))
    };
    items.into_iter().enumerate().map(key).collect()
}

/// Whether a condition holds for all items, or for any; without a condition, whether the items themselves hold. Of no items
/// `all` is true and `any` false.
fn quantified<'a>(
    all: bool,
    items: Vec<Item<'a>>,
    of: &'a Node,
    by: Option<&'a Node>,
    scope: &Scope<'a>,
) -> Result<Item<'a>, EvalError> {
    for (n, item) in items.into_iter().enumerate() {
        let (node, value) = match by {
            Some(by) => (by, eval(by, &scope.at(item, n))?),
            None => (of, item),
        };
        if value.holds().or_else(|count| several(node, count, QUANTIFY))? != all {
            return Ok(Item::bool(!all));
        }
    }
    Ok(Item::bool(all))
}

/// `[{"key": …, "items": […]}, …]`, groups in the order of their first items. The key is a text; `null` where an item has none.
fn grouped<'a>(all: Vec<(Item<'a>, Item<'a>)>) -> Item<'a> {
    let mut groups: Vec<(Value, Vec<Value>)> = Vec::new();
    let mut places = HashMap::new();
    for (key, item) in all {
        let at = *places.entry((!key.is_nothing()).then(|| key.key())).or_insert_with(|| {
            let shown = key.to_text().ok().flatten().map(|text| Value::from(&*text));
            groups.push((shown.or_else(|| key.clone().value().map(Cow::into_owned)).unwrap_or(Value::Null), Vec::new()));
            groups.len() - 1
        });
        groups[at].1.extend(item.value().map(Cow::into_owned));
    }
    let groups: Vec<Value> = groups.into_iter().map(|(key, items)| json!({ "key": key, "items": items })).collect();
    if groups.is_empty() { Item::Missing } else { Item::Json(Cow::Owned(Value::Array(groups))) }
}

/// A function that takes items and works nothing out for each.
pub(super) fn call<'a>(node: &'a Node, name: &str, given: &Values<'_, 'a>) -> Result<Item<'a>, EvalError> {
    let from = &given.nodes[0];
    let list = given.values[0].clone();
    Ok(match name {
        "count" => Item::Number(Decimal::from(list.count())),
        "exists" => Item::bool(list.count() > 0),
        "first" => list.items().into_iter().next().unwrap_or(Item::Missing),
        "last" => list.items().pop().unwrap_or(Item::Missing),
        "list" => list.list().map_or_else(|| Item::Json(Cow::Owned(Value::Array(Vec::new()))), Item::Json),
        "distinct" => {
            let mut seen = HashSet::new();
            Item::many(list.items().into_iter().filter(|item| seen.insert(item.key())).collect())
        }
        "filled" => Item::many(list.items().into_iter().filter(|item| !item.is_empty()).collect()),
        "reverse" => Item::many(list.items().into_iter().rev().collect()),
        "take" => {
            let count = given.whole(1)?;
            Item::many(list.items().into_iter().take(count).collect())
        }
        "skip" => {
            let count = given.whole(1)?;
            Item::many(list.items().into_iter().skip(count).collect())
        }
        "join" => {
            let separator = given.text(1)?;
            let mut texts = Vec::new();
            for item in list.items() {
                texts.extend(text(from, &item)?.filter(|text| !text.is_empty()).map(Cow::into_owned));
            }
            if texts.is_empty() { Item::Missing } else { Item::text(texts.join(&separator)) }
        }
        "sum" => {
            let mut total = Decimal::ZERO;
            for item in list.items() {
                let more = number(from, &item)?;
                total = match number::add(total, more) {
                    Some(total) => total,
                    None => return fail(node, "the sum has more than 28 digits, which is more than is calculated with"),
                };
            }
            Item::Number(total)
        }
        "csv" => {
            let rows: Vec<Value> = list.items().into_iter().filter_map(Item::value).map(Cow::into_owned).collect();
            match crate::outline::to_csv(&rows) {
                _ if rows.is_empty() => Item::Missing,
                Ok(text) => Item::text(text),
                Err(says) => return fail(node, says),
            }
        }
        _ => extreme(name == "max", from, list.items())?,
    })
}

fn extreme<'a>(largest: bool, node: &'a Node, items: Vec<Item<'a>>) -> Result<Item<'a>, EvalError> {
    let mut best: Option<Decimal> = None;
    for item in items {
        let Some(value) = number_or_nothing(node, &item)? else { continue };
        let better = best.is_none_or(|best| if largest { value > best } else { value < best });
        best = if better { Some(value) } else { best };
    }
    Ok(best.map_or(Item::Missing, Item::Number))
}

/// `split(text, separator)`: the parts as texts.
pub(super) fn split<'a>(given: &Values<'_, 'a>) -> Result<Item<'a>, EvalError> {
    let (text, separator) = (given.text(0)?, given.text(1)?);
    if separator.is_empty() {
        return fail(&given.nodes[1], "a separator is needed to split by");
    }
    Ok(Item::many(text.split(&*separator).map(|part| Item::text(part.to_owned())).collect()))
}
