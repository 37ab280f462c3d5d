//! Schemas: the typed field tree of a JSON document, as JSON Schema 2020-12.
//!
//! Documents are validated against all of it ([`Validator`]). Checks, forms and proposals read `type`, `properties`, `required`,
//! `items`, `$ref` to `#/$defs/…`, `enum`. Keywords for other written forms: `xml` (the XML Object of OpenAPI), `x-csv`,
//! `x-record`, `x-encoding`.

mod infer;
mod leaves;
mod of_set;
mod openapi;
mod plant;
mod records;
mod rows;
mod sample;
mod validate;
mod written;
mod xml;
mod xsd;

pub use infer::{infer, infer_of_texts, with_examples};
pub use leaves::{Leaf, Level, names_a_day};
pub use of_set::fields_of_set;
pub use openapi::{is_openapi, of_openapi};
pub use plant::{TableColumn, of_columns, of_fields, of_positions};
pub use rows::to_csv;
pub use sample::sample;
pub use validate::{Misfit, Validator, in_words};
pub use written::{Written, annotate, read_sample};
pub use xml::to_xml;
pub use xsd::{is_xml_schema, of_xml_schema};

use serde_json::Value;

/// A JSON schema.
#[derive(Debug, Clone, PartialEq)]
pub struct Schema {
    pub name: String,
    pub root: Value,
}

impl Schema {
    /// The schema with references followed, at most a few deep.
    #[must_use]
    pub fn resolve<'a>(&'a self, mut node: &'a Value) -> &'a Value {
        for _ in 0..8 {
            let Some(reference) = node.get("$ref").and_then(Value::as_str) else { return node };
            match self.root.pointer(reference.trim_start_matches('#')) {
                Some(target) => node = target,
                None => return node,
            }
        }
        node
    }

    /// Returns the schema of field `name` of an object, looking through lists.
    ///
    /// `Ok(None)` if the schema does not describe fields.
    ///
    /// # Errors
    /// The known names, if the schema lists its fields and `name` is not among them.
    pub fn field<'a>(&'a self, node: &'a Value, name: &str) -> Result<Option<&'a Value>, Vec<String>> {
        let node = self.resolve(node);
        let own = node.get("properties").and_then(Value::as_object);
        match (own, node.get("items")) {
            (Some(known), Some(items)) if !known.contains_key(name) => self.field(items, name),
            (None, Some(items)) => self.field(items, name),
            (None, None) => Ok(None),
            (Some(known), _) => known.get(name).map(Some).ok_or_else(|| known.keys().cloned().collect()),
        }
    }

    /// The schema of one item of a list.
    #[must_use]
    pub fn item<'a>(&'a self, node: &'a Value) -> Option<&'a Value> {
        self.resolve(node).get("items").map(|items| self.resolve(items))
    }

    /// The schema of the field at a path of names, from that of an object.
    #[must_use]
    pub fn below<'a>(&'a self, node: &'a Value, path: &[String]) -> Option<&'a Value> {
        let own = |node: &'a Value, name: &String| Some(self.resolve(self.resolve(node).get("properties")?.get(name)?));
        path.iter().try_fold(node, own)
    }

    /// Returns the type of a value by its name in JSON Schema, if the schema allows only one beside `null`; `number` for
    /// `integer`.
    #[must_use]
    pub fn json_type<'a>(&'a self, node: &'a Value) -> Option<&'a str> {
        let of = match self.resolve(node).get("type")? {
            Value::String(name) => name.as_str(),
            Value::Array(names) => {
                let mut names = names.iter().filter_map(Value::as_str).filter(|name| *name != "null");
                names.next().filter(|_| names.next().is_none())?
            }
            _ => return None,
        };
        Some(if of == "integer" { "number" } else { of })
    }

    /// The fields of an object with whether each is required.
    #[must_use]
    pub fn fields<'a>(&'a self, node: &'a Value) -> Vec<(&'a str, bool)> {
        let node = self.resolve(node);
        let required: Vec<&str> = node
            .get("required")
            .and_then(Value::as_array)
            .map(|names| names.iter().filter_map(Value::as_str).collect())
            .unwrap_or_default();
        let known = node.get("properties").and_then(Value::as_object);
        known
            .map(|known| known.keys().map(|name| (name.as_str(), required.contains(&name.as_str()))).collect())
            .unwrap_or_default()
    }
}

/// Returns what is wrong with a document, as sentences.
#[cfg(test)]
pub(crate) fn misfits(schema: &Schema, document: &Value) -> Vec<String> {
    let validator = Validator::of(schema).expect("a schema");
    validator.misfits(document).into_iter().map(|one| one.says).collect()
}
