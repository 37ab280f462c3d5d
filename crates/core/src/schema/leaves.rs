//! The fields of a schema, level by level: what a person searches and what a proposal pairs.

use super::Schema;
use serde_json::Value;

/// Deepest nesting that is followed; a schema that refers to itself ends there.
const DEPTH: usize = 16;

/// A field with a single value, or a list of such.
#[derive(Debug, Clone, PartialEq)]
pub struct Leaf {
    /// Names from the level down: `parcel_to.street`.
    pub path: Vec<String>,
    /// `string`, `number`, `integer`, `boolean`, or `list`; empty where it may be several.
    pub kind: String,
    /// Format by its name in JSON Schema; empty if it has none.
    pub format: String,
    pub required: bool,
    /// Title in words; may be empty.
    pub title: String,
    /// The values that it may have, where they are listed; otherwise some that were seen.
    pub examples: Vec<Value>,
}

/// One level of a schema: the document, or an item of a list in it.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Level {
    pub leaves: Vec<Leaf>,
    /// Lists of objects, by their path from here.
    pub lists: Vec<(Vec<String>, Level)>,
}

/// Returns whether a field without a format is a day by its name: `placed_on`, `shipDate`.
#[must_use]
pub fn names_a_day(name: &str) -> bool {
    let name = name.to_lowercase();
    ["_on", "date", "day"].iter().any(|end| name.ends_with(end))
}

impl Schema {
    /// Returns its fields. A schema whose root is a list has them in the list with the empty path.
    #[must_use]
    pub fn level(&self) -> Level {
        let mut level = Level::default();
        let root = self.resolve(&self.root);
        match root.get("items") {
            Some(items) => level.lists.push((Vec::new(), self.level_of(items, 0))),
            None => self.collect(root, &[], true, 0, &mut level),
        }
        level
    }

    pub(super) fn level_of(&self, node: &Value, depth: usize) -> Level {
        let mut level = Level::default();
        self.collect(self.resolve(node), &[], true, depth, &mut level);
        level
    }

    fn collect(&self, node: &Value, path: &[String], needed: bool, depth: usize, level: &mut Level) {
        if depth > DEPTH {
            return;
        }
        for (name, required) in self.fields(node) {
            let Ok(Some(own)) = self.field(node, name) else { continue };
            let own = self.resolve(own);
            let path: Vec<String> = path.iter().cloned().chain([name.to_owned()]).collect();
            let required = required && needed;
            if own.get("properties").is_some() {
                self.collect(own, &path, required, depth + 1, level);
                continue;
            }
            match self.item(own) {
                Some(item) if item.get("properties").is_some() => level.lists.push((path, self.level_of(item, depth + 1))),
                item => level.leaves.push(leaf(path, own, item.is_some(), required)),
            }
        }
    }
}

fn leaf(path: Vec<String>, node: &Value, is_list: bool, required: bool) -> Leaf {
    let text = |key: &str| node.get(key).and_then(Value::as_str).unwrap_or_default().to_owned();
    let kind = if is_list { "list".to_owned() } else { text("type") };
    let values = |key: &str| node.get(key).and_then(Value::as_array).cloned();
    let examples = values("enum").or_else(|| values("examples")).unwrap_or_default();
    let title = if text("title").is_empty() { text("description") } else { text("title") };
    Leaf { path, kind, format: text("format"), required, title, examples }
}

impl Level {
    /// Passes every field below to `tell`, with the lists it is in: `basket[].article`.
    pub fn each(&self, below: &str, tell: &mut impl FnMut(&str, &Leaf)) {
        for leaf in &self.leaves {
            tell(&format!("{below}{}", leaf.path.join(".")), leaf);
        }
        for (path, inner) in &self.lists {
            inner.each(&format!("{below}{}[].", path.join(".")), tell);
        }
    }
}
