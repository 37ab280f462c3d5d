//! A set as JSON, by its loops, and back.
//!
//! A segment is an object with its id and its elements by designator, a loop an object with the segments and loops in it:
//!
//! ```json
//! { "segment": "BEG", "BEG01": "00", "BEG02": "SA", "BEG03": "MF-20417", "BEG05": "20261123" }
//! { "loop": "N1", "of": [ { "segment": "N1", "N101": "ST", "N102": "Store 12" } ] }
//! ```
//!
//! A composite is a list of its components, a repeated element `{ "repeats": [ … ] }`. Texts stand as in the document, but for
//! numbers with implied decimal places, which have their point here: `77400` in an `N2` is `774.00`, and so is written 774.

use crate::x12::SetTree;
use crate::x12::plain::{Element, Node};
use serde_json::{Map, Value, json};

/// JSON that is not a set.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{at}: {says}")]
pub struct NoTree {
    /// Path in the JSON, e.g. `tree.of[3].PO102`.
    pub at: String,
    pub says: String,
}

/// The tree of a set.
#[must_use]
pub fn to_json(tree: &SetTree) -> Value {
    json!({ "loop": tree.definition().set, "of": tree.plain().iter().map(node).collect::<Vec<_>>() })
}

fn node(node: &Node) -> Value {
    match node {
        Node::Loop { id, of } => json!({ "loop": id, "of": of.iter().map(self::node).collect::<Vec<_>>() }),
        Node::Segment { id, elements } => {
            let mut object = Map::new();
            object.insert("segment".to_owned(), id.as_str().into());
            let filled = elements.iter().enumerate().filter(|(_, element)| !element.is_empty());
            object.extend(filled.map(|(n, one)| (format!("{id}{:02}", n + 1), element(one))));
            Value::Object(object)
        }
    }
}

fn element(element: &Element) -> Value {
    match element {
        Element::Empty => Value::Null,
        Element::Text(text) | Element::Number(text) => text.as_str().into(),
        Element::Components(parts) => parts.iter().map(|part| Value::from(part.as_str())).collect(),
        Element::Repeats(all) => json!({ "repeats": all.iter().map(self::element).collect::<Vec<_>>() }),
    }
}

/// Reads a tree as [`to_json`] writes it.
///
/// # Errors
/// [`NoTree`] with the place.
pub fn from_json(tree: &Value) -> Result<Vec<Node>, NoTree> {
    of(tree, "tree")
}

fn of(within: &Value, at: &str) -> Result<Vec<Node>, NoTree> {
    let Some(all) = within.get("of").and_then(Value::as_array) else {
        return Err(NoTree { at: at.to_owned(), says: "a loop needs a list `of` of segments and loops".to_owned() });
    };
    all.iter().enumerate().map(|(n, one)| read_node(one, &format!("{at}.of[{n}]"))).collect()
}

fn read_node(value: &Value, at: &str) -> Result<Node, NoTree> {
    let text = |key: &str| value.get(key).and_then(Value::as_str).map(str::to_owned);
    if let Some(id) = text("loop") {
        return Ok(Node::Loop { id, of: of(value, at)? });
    }
    let (Some(id), Some(fields)) = (text("segment"), value.as_object()) else {
        return Err(NoTree { at: at.to_owned(), says: "expected an object with `loop` or `segment`".to_owned() });
    };
    let mut elements: Vec<Element> = Vec::new();
    for (designator, value) in fields.iter().filter(|(key, _)| *key != "segment") {
        let at = format!("{at}.{designator}");
        let number = designator.strip_prefix(id.as_str()).and_then(|number| number.parse::<usize>().ok());
        let Some(n) = number.filter(|n| (1..=99).contains(n)) else {
            return Err(NoTree { at, says: format!("elements of {id} are named {id}01, {id}02, …") });
        };
        if elements.len() < n {
            elements.resize(n, Element::Empty);
        }
        elements[n - 1] = read_element(value, &at)?;
    }
    Ok(Node::Segment { id, elements })
}

fn read_element(value: &Value, at: &str) -> Result<Element, NoTree> {
    let wrong = || NoTree {
        at: at.to_owned(),
        says: "expected a text, a number, a list of components, or { \"repeats\": [ … ] }".to_owned(),
    };
    Ok(match value {
        Value::Null => Element::Empty,
        Value::String(text) => Element::Text(text.clone()),
        Value::Number(number) => Element::Number(number.to_string()),
        Value::Array(parts) => {
            let part = |part: &Value| match part {
                Value::Null => Some(String::new()),
                Value::String(text) => Some(text.clone()),
                Value::Number(number) => Some(number.to_string()),
                Value::Bool(_) | Value::Array(_) | Value::Object(_) => None,
            };
            Element::Components(parts.iter().map(part).collect::<Option<_>>().ok_or_else(wrong)?)
        }
        Value::Object(object) => {
            let all = object.get("repeats").and_then(Value::as_array).ok_or_else(wrong)?;
            Element::Repeats(all.iter().map(|one| read_element(one, at)).collect::<Result<_, _>>()?)
        }
        Value::Bool(_) => return Err(wrong()),
    })
}
