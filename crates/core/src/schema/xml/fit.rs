//! Converts an element to the tree of its schema. Content that the schema does not know stays; content without a place in a
//! tree is an error.

use super::{Element, Field, TEXT, XmlKeys, guess, join, local};
use crate::schema::Schema;
use crate::schema::written::{guess as guess_scalar, typed};
use serde_json::{Map, Value};

/// Converts an element by the schema: lists are lists, even with one item, and values have their types.
pub(in crate::schema) fn fit(schema: &Schema, root: &Element) -> Result<Value, String> {
    is_root(schema, root)?;
    match schema.item(&schema.root) {
        Some(item) => items(schema, item, XmlKeys::of(item).text("name"), root, root.local_name()),
        None => value(schema, &schema.root, root, ""),
    }
}

/// Another root, or one of another namespace, is another document.
fn is_root(schema: &Schema, root: &Element) -> Result<(), String> {
    let xml = XmlKeys::of(&schema.root);
    if let Some(name) = xml.text("name").filter(|name| local(name) != root.local_name()) {
        return Err(format!("the root is {}, but the schema {} expects {name}", root.local_name(), schema.name));
    }
    let declared = match root.name.split_once(':') {
        Some((prefix, _)) => format!("xmlns:{prefix}"),
        None => "xmlns".to_owned(),
    };
    let own = root.attributes.iter().find(|(name, _)| *name == declared).map(|(_, value)| value.as_str());
    match (xml.text("namespace"), own) {
        (Some(namespace), Some(own)) if namespace != own => {
            Err(format!("the root has the namespace {own}, but the schema {} expects {namespace}", schema.name))
        }
        _ => Ok(()),
    }
}

/// Returns the items of a list whose elements have a wrapper. `name` is the items' name, if known.
fn items(schema: &Schema, item: &Value, name: Option<&str>, wrapper: &Element, at: &str) -> Result<Value, String> {
    if let Some((attribute, _)) = wrapper.own_attributes().next() {
        return Err(format!("{at}: the attribute {attribute} is not allowed at a list"));
    }
    if wrapper.has_text() {
        return Err(format!("{at}: a text is not allowed among the items of a list"));
    }
    let each = |child: &Element| match name {
        Some(name) if name != child.local_name() => {
            Err(format!("{at}: {} is not allowed among the items, which are called {name}", child.local_name()))
        }
        _ => value(schema, item, child, at),
    };
    wrapper.children.iter().map(each).collect()
}

fn value(schema: &Schema, node: &Value, element: &Element, at: &str) -> Result<Value, String> {
    let node = schema.resolve(node);
    if element.is_nil() {
        return Ok(Value::Null);
    }
    let place = || if at.is_empty() { element.local_name().to_owned() } else { at.to_owned() };
    if node.get("properties").is_some() || schema.json_type(node) == Some("object") {
        return object(schema, node, element, at);
    }
    // It has more than a single value: all of it stays, and the schema decides whether it may.
    if node.get("type").is_none() || !element.children.is_empty() || element.own_attributes().next().is_some() {
        return Ok(guess(element));
    }
    Ok(typed(schema, node, &element.text, &place())?.unwrap_or(Value::Null))
}

fn object(schema: &Schema, node: &Value, element: &Element, at: &str) -> Result<Value, String> {
    let known = Field::of(schema, node);
    let mut fields = Map::new();
    let below = |name: &str| if at.is_empty() { name.to_owned() } else { format!("{at}.{name}") };
    let twice = |at: &str| format!("{at}: it is there twice, but is not a list");
    for field in &known {
        let (shown, at) = (field.shown(), below(field.name));
        let found = if field.xml.is_attribute() {
            element.attribute(shown).map(|text| typed(schema, field.node, text, &at)).transpose()?.flatten()
        } else if field.xml.is_text() {
            typed(schema, field.node, &element.text, &at)?
                .filter(|value| value.as_str() != Some("") || element.children.is_empty())
        } else if let Some(item) = field.item {
            let mut all = element.children(shown);
            if field.xml.is_wrapped() {
                match (all.next(), all.next()) {
                    (Some(_), Some(_)) => return Err(twice(&at)),
                    (Some(wrapper), None) => Some(items(schema, item, Some(field.inner()), wrapper, &at)?),
                    (None, _) => None,
                }
            } else {
                let items = all.map(|one| value(schema, item, one, &at)).collect::<Result<Vec<_>, _>>()?;
                (!items.is_empty()).then_some(Value::Array(items))
            }
        } else {
            let mut all = element.children(shown);
            match (all.next(), all.next()) {
                (Some(_), Some(_)) => return Err(twice(&at)),
                (Some(one), None) => Some(value(schema, field.node, one, &at)?),
                (None, _) => None,
            }
        };
        fields.extend(found.map(|found| (field.name.to_owned(), found)));
    }
    let described =
        |name: &str, attribute: bool| known.iter().any(|field| field.xml.is_attribute() == attribute && field.shown() == name);
    // A child named like a single value in another place of the schema would be mistaken for it.
    let clash =
        |name: &str, what: &str| format!("{}: the {what} {name} is not allowed beside the field of that name", below(name));
    let called = |name: &str| known.iter().find(|field| field.name == name);
    for (name, text) in element.own_attributes().filter(|(name, _)| !described(name, true)) {
        let value = match called(name) {
            _ if fields.contains_key(name) => return Err(clash(name, "attribute")),
            Some(field) if !field.is_single(schema) => return Err(clash(name, "attribute")),
            Some(field) => typed(schema, field.node, text, &below(name))?.unwrap_or(Value::Null),
            None => guess_scalar(text),
        };
        fields.insert(name.to_owned(), value);
    }
    let mut strangers: Vec<&str> = Vec::new();
    for child in element.children.iter().filter(|child| !described(child.local_name(), false)) {
        let name = child.local_name();
        if fields.contains_key(name) && !strangers.contains(&name) {
            return Err(clash(name, "element"));
        }
        match called(name) {
            Some(field) if !field.is_single(schema) || strangers.contains(&name) => return Err(clash(name, "element")),
            Some(field) => drop(fields.insert(name.to_owned(), value(schema, field.node, child, &below(name))?)),
            None => join(&mut fields, name, guess(child)),
        }
        strangers.push(name);
    }
    if let Some(text) = element.own_text().filter(|_| element.has_text() && !known.iter().any(|field| field.xml.is_text())) {
        if fields.contains_key(TEXT) || called(TEXT).is_some() {
            return Err(clash(TEXT, "text"));
        }
        fields.insert(TEXT.to_owned(), guess_scalar(text));
    }
    Ok(Value::Object(fields))
}
