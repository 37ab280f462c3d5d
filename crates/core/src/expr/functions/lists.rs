//! Functions over lists.

use super::{Arguments, Given, Values};
use crate::expr::eval::{QUANTIFY, eval, fail, for_each, number, number_or_nothing, one, several, single, text};
use crate::expr::item::SortKey;
use crate::expr::{EvalError, Item};
use crate::number;
use rust_decimal::Decimal;
use serde_json::{Value, json};
use std::borrow::Cow;
use std::collections::{HashMap, HashSet};

/// An item with the one value that it is known by.
type Keyed<'a> = (Item<'a>, Item<'a>);

/// Returns each item with its key; the item itself without a key expression.
fn keyed<'a>(items: Vec<Item<'a>>, given: &Arguments<'_, 'a>) -> Result<Vec<Keyed<'a>>, EvalError> {
    let key = |(n, item): (usize, Item<'a>)| {
        let key = match given.nodes.get(1) {
            Some(by) => single(by, &given.scope.at(item.clone(), n))?,
            None => one(&given.nodes[0], item.clone())?,
        };
        Ok((key, item))
    };
    items.into_iter().enumerate().map(key).collect()
}

/// `all(items, condition)`; true without items.
pub(super) fn all<'a>(items: Vec<Item<'a>>, given: &Arguments<'_, 'a>) -> Given<'a> {
    Ok(Item::bool(!is_found(items, given, false)?))
}

/// `any(items, condition)`; false without items.
pub(super) fn any<'a>(items: Vec<Item<'a>>, given: &Arguments<'_, 'a>) -> Given<'a> {
    Ok(Item::bool(is_found(items, given, true)?))
}

/// Returns whether the condition is `wanted` for some item; without a condition, the item itself is tested.
fn is_found<'a>(items: Vec<Item<'a>>, given: &Arguments<'_, 'a>, wanted: bool) -> Result<bool, EvalError> {
    for (n, item) in items.into_iter().enumerate() {
        let (node, value) = match given.nodes.get(1) {
            Some(by) => (by, eval(by, &given.scope.at(item, n))?),
            None => (&given.nodes[0], item),
        };
        if value.holds().or_else(|count| several(node, count, QUANTIFY))? == wanted {
            return Ok(true);
        }
    }
    Ok(false)
}

/// `of_each(items, value)`.
pub(super) fn of_each<'a>(items: Vec<Item<'a>>, given: &Arguments<'_, 'a>) -> Given<'a> {
    for_each(items, &given.nodes[1], given.scope)
}

/// `group(items, by)`: `[{"key": …, "items": […]}, …]`, groups in the order of their first items. The key is a text; `null`
/// where an item has none.
pub(super) fn group<'a>(items: Vec<Item<'a>>, given: &Arguments<'_, 'a>) -> Given<'a> {
    let mut groups: Vec<(Value, Vec<Value>)> = Vec::new();
    let mut places = HashMap::new();
    for (key, item) in keyed(items, given)? {
        let at = *places.entry((!key.is_nothing()).then(|| key.key())).or_insert_with(|| {
            let shown = key.to_text().ok().flatten().map(|text| Value::from(&*text));
            groups.push((shown.or_else(|| key.clone().value().map(Cow::into_owned)).unwrap_or(Value::Null), Vec::new()));
            groups.len() - 1
        });
        groups[at].1.extend(item.value().map(Cow::into_owned));
    }
    let groups: Vec<Value> = groups.into_iter().map(|(key, items)| json!({ "key": key, "items": items })).collect();
    Ok(if groups.is_empty() { Item::Missing } else { Item::Json(Cow::Owned(Value::Array(groups))) })
}

/// `matching(items, by, value)`.
pub(super) fn matching<'a>(items: Vec<Item<'a>>, given: &Arguments<'_, 'a>) -> Given<'a> {
    // A missing key matches nothing: keys missing on both sides do not join rows.
    let wanted = single(&given.nodes[2], given.scope)?;
    if wanted.is_empty() {
        return Ok(Item::Missing);
    }
    let all = keyed(items, given)?;
    Ok(Item::many(all.into_iter().filter(|(key, _)| key.equals(&wanted)).map(|(_, item)| item).collect()))
}

/// `sort(items, by)`; what is alike stays in its order.
pub(super) fn sort<'a>(items: Vec<Item<'a>>, given: &Arguments<'_, 'a>) -> Given<'a> {
    let all = keyed(items, given)?;
    let mut all: Vec<(SortKey, Item<'a>)> = all.into_iter().map(|(key, item)| (SortKey::of(&key), item)).collect();
    all.sort_by(|(a, _), (b, _)| a.cmp(b));
    Ok(Item::many(all.into_iter().map(|(_, item)| item).collect()))
}

/// `first(items)`.
pub(super) fn first<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    Ok(given.items().into_iter().next().unwrap_or(Item::Missing))
}

/// `last(items)`.
pub(super) fn last<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    Ok(given.items().pop().unwrap_or(Item::Missing))
}

/// `list(items)`: a JSON list, also of one or none.
pub(super) fn list<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let list = given.values[0].clone().list();
    Ok(list.map_or_else(|| Item::Json(Cow::Owned(Value::Array(Vec::new()))), Item::Json))
}

/// `distinct(items)`.
pub(super) fn distinct<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let mut seen = HashSet::new();
    Ok(Item::many(given.items().into_iter().filter(|item| seen.insert(item.key())).collect()))
}

/// `filled(items)`.
pub(super) fn filled<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    Ok(Item::many(given.items().into_iter().filter(|item| !item.is_empty()).collect()))
}

/// `reverse(items)`.
pub(super) fn reverse<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    Ok(Item::many(given.items().into_iter().rev().collect()))
}

/// `take(items, count)`.
pub(super) fn take<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let count = given.whole(1)?;
    Ok(Item::many(given.items().into_iter().take(count).collect()))
}

/// `skip(items, count)`.
pub(super) fn skip<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let count = given.whole(1)?;
    Ok(Item::many(given.items().into_iter().skip(count).collect()))
}

/// `join(items, separator)`.
pub(super) fn join<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let separator = given.text(1)?;
    let mut texts = Vec::new();
    for item in given.items() {
        texts.extend(text(&given.nodes[0], &item)?.filter(|text| !text.is_empty()).map(Cow::into_owned));
    }
    Ok(if texts.is_empty() { Item::Missing } else { Item::text(texts.join(&separator)) })
}

/// `sum(numbers)`; of none it is 0.
pub(super) fn sum<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let mut total = Decimal::ZERO;
    for item in given.items() {
        let more = number(&given.nodes[0], &item)?;
        total = match number::add(total, more) {
            Some(total) => total,
            None => return fail(given.node, "the sum has more than 28 digits, the limit of calculations"),
        };
    }
    Ok(Item::Number(total))
}

/// `csv(rows)`.
pub(super) fn csv<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let rows: Vec<Value> = given.items().into_iter().filter_map(Item::value).map(Cow::into_owned).collect();
    match crate::schema::to_csv(&rows) {
        _ if rows.is_empty() => Ok(Item::Missing),
        Ok(text) => Ok(Item::text(text)),
        Err(says) => fail(given.node, says),
    }
}

/// `max(numbers)`.
pub(super) fn max<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    extreme(given, |value, best| value > best)
}

/// `min(numbers)`.
pub(super) fn min<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    extreme(given, |value, best| value < best)
}

fn extreme<'a>(given: &Values<'_, 'a>, better: fn(Decimal, Decimal) -> bool) -> Given<'a> {
    let mut best: Option<Decimal> = None;
    for item in given.items() {
        let Some(value) = number_or_nothing(&given.nodes[0], &item)? else { continue };
        best = Some(best.filter(|best| !better(value, *best)).unwrap_or(value));
    }
    Ok(best.map_or(Item::Missing, Item::Number))
}

/// `split(text, separator)`: the parts as texts.
pub(super) fn split<'a>(given: &Values<'_, 'a>) -> Given<'a> {
    let (text, separator) = (given.text(0)?, given.text(1)?);
    if separator.is_empty() {
        return fail(&given.nodes[1], "the separator is empty");
    }
    Ok(Item::many(text.split(&*separator).map(|part| Item::text(part.to_owned())).collect()))
}
