//! From an element to the tree that its outline describes.

use super::{Element, Field, TEXT, guess, join};
use crate::outline::Outline;
use crate::outline::written::{guess as guess_scalar, typed};
use serde_json::{Map, Value};

/// What an element says by the outline: lists are lists, of one item too, and values have their types. What the outline does
/// not know is kept.
pub(in crate::outline) fn fit(outline: &Outline, root: &Element) -> Result<Value, String> {
    match outline.item(&outline.schema) {
        Some(item) => root.children.iter().map(|child| value(outline, item, child, child.local_name())).collect(),
        None => value(outline, &outline.schema, root, ""),
    }
}

fn value(outline: &Outline, schema: &Value, element: &Element, at: &str) -> Result<Value, String> {
    let schema = outline.resolve(schema);
    let place = || if at.is_empty() { element.local_name().to_owned() } else { at.to_owned() };
    if schema.get("properties").is_some() || outline.json_type(schema) == Some("object") {
        return object(outline, schema, element, at);
    }
    if schema.get("type").is_none() || !element.children.is_empty() {
        return Ok(guess(element));
    }
    Ok(typed(outline, schema, &element.text, &place())?.unwrap_or(Value::Null))
}

fn object(outline: &Outline, schema: &Value, element: &Element, at: &str) -> Result<Value, String> {
    let known = Field::of(outline, schema);
    let mut fields = Map::new();
    let below = |name: &str| if at.is_empty() { name.to_owned() } else { format!("{at}.{name}") };
    for field in &known {
        let (shown, at) = (field.shown(), below(field.name));
        let found = if field.said.is_attribute() {
            element.attribute(shown).map(|text| typed(outline, field.schema, text, &at)).transpose()?.flatten()
        } else if field.said.is_text() {
            typed(outline, field.schema, &element.text, &at)?
                .filter(|value| value.as_str() != Some("") || element.children.is_empty())
        } else if let Some(item) = field.item {
            let each = |elements: &mut dyn Iterator<Item = &Element>| {
                elements.map(|one| value(outline, item, one, &at)).collect::<Result<Vec<_>, _>>()
            };
            match field.said.is_wrapped() {
                true => match element.children(shown).next() {
                    Some(wrapper) => Some(Value::Array(each(&mut wrapper.children(field.inner()))?)),
                    None => None,
                },
                false => Some(each(&mut element.children(shown))?).filter(|items| !items.is_empty()).map(Value::Array),
            }
        } else {
            let mut all = element.children(shown);
            match (all.next(), all.next()) {
                (Some(_), Some(_)) => return Err(format!("{at}: it stands there twice, and is no list")),
                (Some(one), None) => Some(value(outline, field.schema, one, &at)?),
                (None, _) => None,
            }
        };
        fields.extend(found.map(|found| (field.name.to_owned(), found)));
    }
    let told =
        |name: &str, attribute: bool| known.iter().any(|field| field.said.is_attribute() == attribute && field.shown() == name);
    for (name, text) in element.own_attributes().filter(|(name, _)| !told(name, true)) {
        fields.insert(name.to_owned(), guess_scalar(text));
    }
    for child in element.children.iter().filter(|child| !told(child.local_name(), false)) {
        join(&mut fields, child.local_name(), guess(child));
    }
    if !element.text.trim().is_empty() && !known.iter().any(|field| field.said.is_text()) {
        join(&mut fields, TEXT, guess_scalar(element.text.trim()));
    }
    Ok(Value::Object(fields))
}
