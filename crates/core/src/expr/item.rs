//! Values of expressions: what a path selects, and how that becomes one value, a list, a text or a condition.
//!
//! A path selects items. `null` and missing values are not items. A list stands for its items, and a path continues from each of
//! them, so that the selection through nested lists is one flat list.

use crate::Document;
use crate::number;
use crate::x12::definitions::{Content, Kind};
use crate::x12::{LoopRef, Segment, SetTree};
use rust_decimal::Decimal;
use serde_json::{Map, Number, Value};
use std::borrow::Cow;
use std::cmp::Ordering;

/// A value while an expression is worked out.
#[derive(Debug, Clone)]
pub enum Item<'a> {
    /// No value. `null` is treated alike, but is copied as `null`.
    Missing,
    /// A text: of an element, borrowed from the set's bytes, or worked out.
    Text(Cow<'a, str>),
    /// An X12 element that the dictionary types as a number, with its decimal point: the text stays as it is, but compares and
    /// sorts as a number.
    Numeral(Cow<'a, str>),
    /// A computed number, with the decimal places of its result.
    Number(Decimal),
    Json(Cow<'a, Value>),
    Loop(LoopRef<'a>),
    Segment(Segment<'a>, &'a SetTree),
    /// Several items, or one item that is itself a list.
    Many(Vec<Item<'a>>),
}

/// Different values where one is needed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Several(pub usize);

/// Why an item is not a text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NoText {
    Several(Several),
    /// A list in a list, an object, a segment or a loop.
    Structure(&'static str),
}

impl<'a> Item<'a> {
    /// Returns the item for a whole document; bytes are a text.
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

    /// A selection of items; nothing where there are none, the item itself where there is one.
    pub(super) fn many(mut items: Vec<Self>) -> Self {
        items.retain(|item| !matches!(item, Self::Missing) && !item.is_null());
        match items.len() {
            0 => Self::Missing,
            1 if !items[0].is_list() => items.remove(0),
            _ => Self::Many(items),
        }
    }

    fn is_null(&self) -> bool {
        matches!(self, Self::Json(value) if value.is_null())
    }

    fn is_list(&self) -> bool {
        match self {
            Self::Many(_) => true,
            Self::Json(value) => value.is_array(),
            _ => false,
        }
    }

    /// Returns whether there is no value: missing, `null`, or a list without items.
    pub(super) fn is_nothing(&self) -> bool {
        match self {
            Self::Missing => true,
            Self::Json(value) => match value.as_ref() {
                Value::Null => true,
                Value::Array(items) => items.iter().all(Value::is_null),
                Value::Object(_) | Value::String(_) | Value::Bool(_) | Value::Number(_) => false,
            },
            Self::Many(items) => items.is_empty(),
            Self::Text(_) | Self::Numeral(_) | Self::Number(_) | Self::Loop(_) | Self::Segment(..) => false,
        }
    }

    /// Returns whether `else` continues: no value, an empty text, or an object without fields.
    pub(super) fn is_empty(&self) -> bool {
        match self {
            Self::Text(text) | Self::Numeral(text) => text.is_empty(),
            Self::Json(value) => match value.as_ref() {
                Value::String(text) => text.is_empty(),
                Value::Object(fields) => fields.is_empty(),
                _ => self.is_nothing(),
            },
            Self::Many(items) => items.iter().all(Self::is_empty),
            _ => self.is_nothing(),
        }
    }

    /// The items one after another: those of a selection or a list, or the item itself; none of nothing.
    #[must_use]
    pub fn items(self) -> Vec<Self> {
        match self {
            Self::Missing => Vec::new(),
            Self::Many(items) => items,
            Self::Json(Cow::Borrowed(Value::Array(items))) => {
                items.iter().filter(|item| !item.is_null()).map(|item| Self::Json(Cow::Borrowed(item))).collect()
            }
            Self::Json(Cow::Owned(Value::Array(items))) => {
                items.into_iter().filter(|item| !item.is_null()).map(|item| Self::Json(Cow::Owned(item))).collect()
            }
            other if other.is_null() => Vec::new(),
            other => vec![other],
        }
    }

    /// Adds its items to others.
    pub(super) fn into_items(self, all: &mut Vec<Self>) {
        match self {
            Self::Missing => {}
            list if list.is_list() => all.extend(list.items()),
            other if other.is_null() => {}
            other => all.push(other),
        }
    }

    /// Returns the number of items.
    pub(super) fn count(&self) -> usize {
        match self {
            Self::Missing => 0,
            Self::Many(items) => items.len(),
            Self::Json(value) => match value.as_ref() {
                Value::Null => 0,
                Value::Array(items) => items.iter().filter(|item| !item.is_null()).count(),
                _ => 1,
            },
            Self::Text(_) | Self::Numeral(_) | Self::Number(_) | Self::Loop(_) | Self::Segment(..) => 1,
        }
    }

    /// The one item that there is, or [`Item::Missing`]. Several that are all equal count as one.
    ///
    /// # Errors
    /// [`Several`] with how many there are.
    pub fn single(self) -> Result<Self, Several> {
        if !self.is_list() {
            return Ok(self);
        }
        let items = self.items();
        let count = items.len();
        let mut items = items.into_iter();
        let Some(first) = items.next() else { return Ok(Self::Missing) };
        if items.all(|item| first.equals(&item)) { Ok(first) } else { Err(Several(count)) }
    }

    /// Returns it as JSON: several items as a list, a segment or loop as an object of its elements; `None` if missing.
    #[must_use]
    pub fn value(self) -> Option<Cow<'a, Value>> {
        match self {
            Self::Missing => None,
            Self::Text(text) | Self::Numeral(text) => Some(Cow::Owned(Value::String(text.into_owned()))),
            Self::Number(number) => Some(Cow::Owned(Value::Number(decimal_to_json(number)))),
            Self::Json(value) => Some(value),
            Self::Many(items) if items.is_empty() => None,
            Self::Many(items) => Some(Cow::Owned(items.into_iter().filter_map(Self::value).map(Cow::into_owned).collect())),
            Self::Segment(segment, tree) => Some(Cow::Owned(segment_to_json(segment, tree))),
            Self::Loop(inner) => Some(Cow::Owned(loop_to_json(inner))),
        }
    }

    /// Returns it as a JSON list of its items, also for one item; `None` if missing.
    #[must_use]
    pub fn list(self) -> Option<Cow<'a, Value>> {
        match self {
            Self::Json(value) if value.as_array().is_some_and(|items| !items.iter().any(Value::is_null)) => Some(value),
            other => {
                let items: Vec<Value> = other.items().into_iter().filter_map(Self::value).map(Cow::into_owned).collect();
                (!items.is_empty()).then(|| Cow::Owned(Value::Array(items)))
            }
        }
    }

    /// Returns its single text; `None` if missing. Numbers keep their digits; `true` and `false` become words.
    ///
    /// # Errors
    /// [`NoText`] for several values, an object, a segment or a loop.
    pub fn to_text(&self) -> Result<Option<Cow<'_, str>>, NoText> {
        match self {
            Self::Missing => Ok(None),
            Self::Text(text) | Self::Numeral(text) => Ok(Some(Cow::Borrowed(text))),
            Self::Number(number) => Ok(Some(Cow::Owned(number.to_string()))),
            Self::Json(value) => match value.as_ref() {
                Value::Null => Ok(None),
                Value::String(text) => Ok(Some(Cow::Borrowed(text))),
                Value::Number(number) => Ok(Some(Cow::Borrowed(number.as_str()))),
                Value::Bool(yes) => Ok(Some(Cow::Borrowed(if *yes { "true" } else { "false" }))),
                Value::Object(_) => Err(NoText::Structure("an object")),
                Value::Array(_) => self.one_of_list(),
            },
            Self::Many(_) => self.one_of_list(),
            Self::Loop(_) => Err(NoText::Structure("a loop")),
            Self::Segment(..) => Err(NoText::Structure("a segment")),
        }
    }

    fn one_of_list(&self) -> Result<Option<Cow<'_, str>>, NoText> {
        let one = self.clone().single().map_err(NoText::Several)?;
        if one.is_list() {
            return Err(NoText::Structure("a list"));
        }
        Ok(one.to_text()?.map(|text| Cow::Owned(text.into_owned())))
    }

    /// Returns whether it holds as a condition. A missing value, `false`, an empty text and an object without fields do not;
    /// everything else does.
    ///
    /// # Errors
    /// [`Several`] for several values that differ: `any(…)`, `all(…)` or `exists(…)` make the condition clear.
    pub fn holds(&self) -> Result<bool, Several> {
        match self {
            Self::Json(value) if !value.is_array() => Ok(match value.as_ref() {
                Value::Bool(yes) => *yes,
                _ => !self.is_empty(),
            }),
            Self::Json(_) | Self::Many(_) => match self.clone().single()? {
                list if list.is_list() => Ok(true),
                one => one.holds(),
            },
            _ => Ok(!self.is_empty()),
        }
    }

    /// Returns the number if its type is a number, as JSON writes it. A text is not a number, whatever it looks like.
    pub(super) fn as_number(&self) -> Option<Cow<'_, str>> {
        match self {
            Self::Number(number) => Some(Cow::Owned(number.to_string())),
            Self::Numeral(text) => number::read(text),
            Self::Json(value) => value.as_number().map(|number| Cow::Borrowed(number.as_str())),
            Self::Missing | Self::Text(_) | Self::Loop(_) | Self::Segment(..) | Self::Many(_) => None,
        }
    }

    /// Compares two single values: as numbers if either is a number, otherwise as texts; objects and lists by fields and items. A
    /// missing value equals a missing value only.
    pub(super) fn equals(&self, other: &Self) -> bool {
        if self.is_nothing() || other.is_nothing() {
            return self.is_nothing() && other.is_nothing();
        }
        match self.order(other) {
            Some(order) => order.is_eq(),
            None => match (self.clone().value(), other.clone().value()) {
                (Some(a), Some(b)) if is_structure(&a) && is_structure(&b) => same_json(&a, &b),
                _ => false,
            },
        }
    }

    /// Orders two single values: as numbers if either is a number, otherwise as texts by characters. `None` if they cannot be
    /// compared: a number and a text that is not one, an object, a list.
    pub(super) fn order(&self, other: &Self) -> Option<Ordering> {
        let (a, b) = (self.as_number(), other.as_number());
        if a.is_none() && b.is_none() {
            return Some(self.scalar()?.cmp(&other.scalar()?));
        }
        let read = |item: &Self, own: Option<Cow<'_, str>>| match own {
            Some(number) => Some(number.into_owned()),
            None if matches!(item, Self::Json(value) if value.is_boolean()) => None,
            None => number::read(&item.scalar()?).map(Cow::into_owned),
        };
        let (a, b) = (read(self, a)?, read(other, b)?);
        number::compare(&a, &b)
    }

    /// Returns the text of a single value that is not a structure.
    fn scalar(&self) -> Option<Cow<'_, str>> {
        if self.is_list() { None } else { self.to_text().ok().flatten() }
    }

    /// A text that two items share when they are the same key: numbers of one value (`1.5`, `1.50`), texts of the same
    /// characters. A number and a text are different keys.
    pub(super) fn key(&self) -> String {
        if let Some(number) = self.as_number() {
            return format!("n{}", number::canonical(&number).unwrap_or_default());
        }
        match self.scalar() {
            Some(text) => format!("t{text}"),
            None => format!("j{}", self.clone().value().map_or_else(String::new, |value| value.to_string())),
        }
    }
}

/// Sort key of an item: numbers first, then texts, then `false` and `true`, then objects and lists, last items without a key. The
/// order is total.
#[derive(Debug, PartialEq, Eq)]
pub(super) enum SortKey {
    Number(String),
    Text(String),
    Truth(bool),
    Structure(String),
    Nothing,
}

impl SortKey {
    /// The place of a single value.
    pub fn of(item: &Item<'_>) -> Self {
        if item.is_nothing() {
            return Self::Nothing;
        }
        if let Some(number) = item.as_number() {
            return Self::Number(number.into_owned());
        }
        if let Item::Json(value) = item
            && let Value::Bool(yes) = value.as_ref()
        {
            return Self::Truth(*yes);
        }
        match item.scalar() {
            Some(text) => Self::Text(text.into_owned()),
            None => Self::Structure(item.clone().value().map_or_else(String::new, |value| value.to_string())),
        }
    }

    const fn rank(&self) -> u8 {
        match self {
            Self::Number(_) => 0,
            Self::Text(_) => 1,
            Self::Truth(_) => 2,
            Self::Structure(_) => 3,
            Self::Nothing => 4,
        }
    }
}

impl Ord for SortKey {
    fn cmp(&self, other: &Self) -> Ordering {
        match (self, other) {
            (Self::Number(a), Self::Number(b)) => number::compare(a, b).unwrap_or(Ordering::Equal),
            (Self::Text(a), Self::Text(b)) | (Self::Structure(a), Self::Structure(b)) => a.cmp(b),
            (Self::Truth(a), Self::Truth(b)) => a.cmp(b),
            _ => self.rank().cmp(&other.rank()),
        }
    }
}

impl PartialOrd for SortKey {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

fn is_structure(value: &Value) -> bool {
    value.is_object() || value.is_array()
}

/// Equal as JSON: fields in any order, numbers by their value.
fn same_json(a: &Value, b: &Value) -> bool {
    match (a, b) {
        (Value::Object(a), Value::Object(b)) => {
            a.len() == b.len() && a.iter().all(|(name, value)| b.get(name).is_some_and(|other| same_json(value, other)))
        }
        (Value::Array(a), Value::Array(b)) => a.len() == b.len() && a.iter().zip(b).all(|(a, b)| same_json(a, b)),
        (Value::Number(a), Value::Number(b)) => number::compare(a.as_str(), b.as_str()) == Some(Ordering::Equal),
        _ => a == b,
    }
}

fn decimal_to_json(number: Decimal) -> Number {
    if number.scale() == 0
        && let Ok(whole) = i64::try_from(number.mantissa())
        && !(whole == 0 && number.is_sign_negative())
    {
        return Number::from(whole);
    }
    serde_json::from_str(&number.to_string()).expect("a decimal is a JSON number")
}

/// Returns element `n` of a segment, typed by the dictionary and without the padding of fixed-length elements.
pub(super) fn element_of<'a>(segment: Segment<'a>, tree: &'a SetTree, n: usize) -> Item<'a> {
    let text = String::from_utf8_lossy(segment.element(n).trim_ascii_end());
    if text.is_empty() {
        return Item::Missing;
    }
    match tree.described(&segment).and_then(|known| known.place(n)).map(|place| &place.content) {
        Some(Content::Element(element)) => match element.kind {
            Kind::Numeric(0) => Item::Numeral(text),
            Kind::Numeric(places) => Item::Numeral(crate::x12::plain::with_point(&text, places).map_or(text, Cow::Owned)),
            Kind::Decimal => Item::Numeral(text),
            Kind::Text | Kind::Code | Kind::Date | Kind::Time | Kind::Binary => Item::Text(text),
        },
        Some(Content::Composite(_)) | None => Item::Text(text),
    }
}

fn segment_to_json(segment: Segment<'_>, tree: &SetTree) -> Value {
    let element = |n: usize| element_of(segment, tree, n).value().map(|value| (format!("{n:02}"), value.into_owned()));
    Value::Object((1..=segment.count()).filter_map(element).collect())
}

fn loop_to_json(inner: LoopRef<'_>) -> Value {
    let mut fields = Map::new();
    for segment in inner.segments() {
        let list = fields.entry(segment.text(0)).or_insert_with(|| Value::Array(Vec::new()));
        if let Value::Array(items) = list {
            items.push(segment_to_json(segment, inner.tree()));
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
