//! The steps of a path: fields, reference designators, elements.

use super::Item;
use super::item::element_of;
use crate::x12::{Child, LoopRef};
use serde_json::Value;
use std::borrow::Cow;

/// Field `name` of an item; of a list, that of each of its items, in one flat list.
pub(super) fn field<'a>(of: Item<'a>, name: &str) -> Item<'a> {
    match of {
        Item::Json(Cow::Borrowed(Value::Object(fields))) => {
            fields.get(name).map_or(Item::Missing, |value| Item::Json(Cow::Borrowed(value)))
        }
        Item::Json(Cow::Owned(Value::Object(mut fields))) => {
            fields.swap_remove(name).map_or(Item::Missing, |value| Item::Json(Cow::Owned(value)))
        }
        Item::Json(value) if value.is_array() => through(Item::Json(value), |item| field(item, name)),
        Item::Many(items) => through(Item::Many(items), |item| field(item, name)),
        Item::Loop(inner) => designator(inner, name),
        Item::Segment(segment, tree) => match split_designator(name) {
            (id, Some(n)) if id.as_bytes() == segment.id() => element_of(segment, tree, usize::from(n)),
            _ => Item::Missing,
        },
        Item::Missing | Item::Json(_) | Item::Text(_) | Item::Numeral(_) | Item::Number(_) => Item::Missing,
    }
}

/// Applies `step` to each item of a list and returns one flat list.
pub(super) fn through<'a>(list: Item<'a>, step: impl Fn(Item<'a>) -> Item<'a>) -> Item<'a> {
    let mut all = Vec::new();
    for item in list.items() {
        step(item).into_items(&mut all);
    }
    Item::many(all)
}

/// Element `n` of a segment, or of the segment that opens a loop.
pub(super) fn element<'a>(of: Item<'a>, n: u8) -> Item<'a> {
    match of {
        Item::Segment(segment, tree) => element_of(segment, tree, usize::from(n)),
        Item::Loop(inner) => {
            inner.segments().next().map_or(Item::Missing, |first| element_of(first, inner.tree(), usize::from(n)))
        }
        Item::Many(items) => through(Item::Many(items), |item| element(item, n)),
        Item::Missing | Item::Text(_) | Item::Numeral(_) | Item::Number(_) | Item::Json(_) => Item::Missing,
    }
}

/// `BEG03` into `BEG` and 3; `N1` into `N1` and none. An id has two or three characters, so `N104` is N1 and 4.
pub(crate) fn split_designator(name: &str) -> (&str, Option<u8>) {
    match name.len().checked_sub(2).filter(|&at| at >= 2 && name.is_char_boundary(at)) {
        Some(at) if name[at..].bytes().all(|byte| byte.is_ascii_digit()) => (&name[..at], name[at..].parse().ok()),
        _ => (name, None),
    }
}

/// The segments and loops of an id directly in a loop, in the order of the document, or that element of each of them.
fn designator<'a>(inner: LoopRef<'a>, name: &str) -> Item<'a> {
    let (id, n) = split_designator(name);
    let found = |child| match (child, n) {
        (Child::Segment(segment), None) => Item::Segment(segment, inner.tree()),
        (Child::Segment(segment), Some(n)) => element_of(segment, inner.tree(), usize::from(n)),
        (Child::Loop(below), None) => Item::Loop(below),
        (Child::Loop(below), Some(n)) => element(Item::Loop(below), n),
    };
    let mut selected = inner.named(id).map(found).filter(|item| !matches!(item, Item::Missing));
    // Most segments come once: a list is made for others alone.
    match (selected.next(), selected.next()) {
        (None, _) => Item::Missing,
        (Some(only), None) => only,
        (Some(first), Some(second)) => Item::many([first, second].into_iter().chain(selected).collect()),
    }
}
