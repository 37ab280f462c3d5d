//! From an element to the tree that its outline describes. What the outline does not know is kept; what has no place in a tree is an
//! error.

use super::{Element, Field, Said, TEXT, guess, join, local};
use crate::outline::Outline;
use crate::outline::written::{guess as guess_scalar, typed};
use serde_json::{Map, Value};

/// What an element says by the outline: lists are lists, of one item too, and values have their types.
pub(in crate::outline) fn fit(outline: &Outline, root: &Element) -> Result<Value, String> {
    is_root(outline, root)?;
    match outline.item(&outline.schema) {
        Some(item) => items(outline, item, Said::of(item).text("name"), root, root.local_name()),
        None => value(outline, &outline.schema, root, ""),
    }
}

/// Another root, or one of another namespace, is another document.
fn is_root(outline: &Outline, root: &Element) -> Result<(), String> {
    let said = Said::of(&outline.schema);
    if let Some(name) = said.text("name").filter(|name| local(name) != root.local_name()) {
        return Err(format!("the root is {}, and the outline {} says {name}", root.local_name(), outline.name));
    }
    let declared = match root.name.split_once(':') {
        Some((prefix, _)) => format!("xmlns:{prefix}"),
        None => "xmlns".to_owned(),
    };
    let own = root.attributes.iter().find(|(name, _)| *name == declared).map(|(_, value)| value.as_str());
    match (said.text("namespace"), own) {
        (Some(namespace), Some(own)) if namespace != own => {
            Err(format!("the root is of the namespace {own}, and the outline {} says {namespace}", outline.name))
        }
        _ => Ok(()),
    }
}

/// The items of a list whose elements stand in one of their own. `name` is how each is called, where that is known.
fn items(outline: &Outline, item: &Value, name: Option<&str>, wrapper: &Element, at: &str) -> Result<Value, String> {
    if let Some((attribute, _)) = wrapper.own_attributes().next() {
        return Err(format!("{at}: the attribute {attribute} has no place at a list"));
    }
    if wrapper.has_text() {
        return Err(format!("{at}: a text has no place among the items of a list"));
    }
    let each = |child: &Element| match name {
        Some(name) if name != child.local_name() => {
            Err(format!("{at}: {} stands among the items, which are called {name}", child.local_name()))
        }
        _ => value(outline, item, child, at),
    };
    wrapper.children.iter().map(each).collect()
}

fn value(outline: &Outline, schema: &Value, element: &Element, at: &str) -> Result<Value, String> {
    let schema = outline.resolve(schema);
    if element.is_nil() {
        return Ok(Value::Null);
    }
    let place = || if at.is_empty() { element.local_name().to_owned() } else { at.to_owned() };
    if schema.get("properties").is_some() || outline.json_type(schema) == Some("object") {
        return object(outline, schema, element, at);
    }
    // More than a single value stands there: all of it is kept, and its schema says whether it may.
    if schema.get("type").is_none() || !element.children.is_empty() || element.own_attributes().next().is_some() {
        return Ok(guess(element));
    }
    Ok(typed(outline, schema, &element.text, &place())?.unwrap_or(Value::Null))
}

fn object(outline: &Outline, schema: &Value, element: &Element, at: &str) -> Result<Value, String> {
    let known = Field::of(outline, schema);
    let mut fields = Map::new();
    let below = |name: &str| if at.is_empty() { name.to_owned() } else { format!("{at}.{name}") };
    let twice = |at: &str| format!("{at}: it stands there twice, and is no list");
    for field in &known {
        let (shown, at) = (field.shown(), below(field.name));
        let found = if field.said.is_attribute() {
            element.attribute(shown).map(|text| typed(outline, field.schema, text, &at)).transpose()?.flatten()
        } else if field.said.is_text() {
            typed(outline, field.schema, &element.text, &at)?
                .filter(|value| value.as_str() != Some("") || element.children.is_empty())
        } else if let Some(item) = field.item {
            let mut all = element.children(shown);
            if field.said.is_wrapped() {
                match (all.next(), all.next()) {
                    (Some(_), Some(_)) => return Err(twice(&at)),
                    (Some(wrapper), None) => Some(items(outline, item, Some(field.inner()), wrapper, &at)?),
                    (None, _) => None,
                }
            } else {
                let items = all.map(|one| value(outline, item, one, &at)).collect::<Result<Vec<_>, _>>()?;
                (!items.is_empty()).then_some(Value::Array(items))
            }
        } else {
            let mut all = element.children(shown);
            match (all.next(), all.next()) {
                (Some(_), Some(_)) => return Err(twice(&at)),
                (Some(one), None) => Some(value(outline, field.schema, one, &at)?),
                (None, _) => None,
            }
        };
        fields.extend(found.map(|found| (field.name.to_owned(), found)));
    }
    let told =
        |name: &str, attribute: bool| known.iter().any(|field| field.said.is_attribute() == attribute && field.shown() == name);
    // What is called like a single value that the outline has in another place is that value; beside it, or in the place of a list
    // or an object, it would be taken for it.
    let clash = |name: &str, what: &str| format!("{}: the {what} {name} has no place beside the field of that name", below(name));
    let called = |name: &str| known.iter().find(|field| field.name == name);
    for (name, text) in element.own_attributes().filter(|(name, _)| !told(name, true)) {
        let value = match called(name) {
            _ if fields.contains_key(name) => return Err(clash(name, "attribute")),
            Some(field) if !field.is_single(outline) => return Err(clash(name, "attribute")),
            Some(field) => typed(outline, field.schema, text, &below(name))?.unwrap_or(Value::Null),
            None => guess_scalar(text),
        };
        fields.insert(name.to_owned(), value);
    }
    let mut strangers: Vec<&str> = Vec::new();
    for child in element.children.iter().filter(|child| !told(child.local_name(), false)) {
        let name = child.local_name();
        if fields.contains_key(name) && !strangers.contains(&name) {
            return Err(clash(name, "element"));
        }
        match called(name) {
            Some(field) if !field.is_single(outline) || strangers.contains(&name) => return Err(clash(name, "element")),
            Some(field) => drop(fields.insert(name.to_owned(), value(outline, field.schema, child, &below(name))?)),
            None => join(&mut fields, name, guess(child)),
        }
        strangers.push(name);
    }
    if let Some(text) = element.own_text().filter(|_| element.has_text() && !known.iter().any(|field| field.said.is_text())) {
        if fields.contains_key(TEXT) || called(TEXT).is_some() {
            return Err(clash(TEXT, "text"));
        }
        fields.insert(TEXT.to_owned(), guess_scalar(text));
    }
    Ok(Value::Object(fields))
}
