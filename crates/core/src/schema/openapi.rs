//! Schemas from the schemas of an OpenAPI 3 document.

use crate::nearest::nearest;
use serde_json::{Map, Value, json};

/// Path of the schemas in an OpenAPI document.
const SCHEMAS: &str = "#/components/schemas/";

/// Returns whether a JSON document is an OpenAPI document.
#[must_use]
pub fn is_openapi(document: &Value) -> bool {
    document.get("openapi").is_some_and(Value::is_string)
}

/// Returns a schema of an OpenAPI document with those that it refers to; without a name, the only one there is. `allOf` is
/// merged; alternatives of `oneOf` and `anyOf` become optional.
///
/// # Errors
/// A sentence with the names that exist.
pub fn of_openapi(document: &Value, name: Option<&str>) -> Result<Value, String> {
    let none = Map::new();
    let schemas = document.pointer("/components/schemas").and_then(Value::as_object).unwrap_or(&none);
    let known: Vec<&str> = schemas.keys().map(String::as_str).collect();
    let name = match (name, known.as_slice()) {
        (Some(name), _) => name,
        (None, [only]) => only,
        (None, []) => return Err("it has no schemas".to_owned()),
        (None, _) => return Err(format!("it has several schemas; name one of {}", known.join(", "))),
    };
    let Some(own) = schemas.get(name) else {
        let near = nearest(name, known.iter().copied()).map_or_else(|| known.join(", "), |near| format!("did you mean {near}?"));
        return Err(format!("it has no schema {name}; {near}"));
    };
    let mut converter = Converter { schemas, needed: vec![name.to_owned()] };
    let mut root = converter.converted(own);
    let mut definitions = Map::new();
    let mut done = 1;
    while let Some(next) = converter.needed.get(done).cloned() {
        done += 1;
        let node = converter.schemas.get(&next).map_or(Value::Bool(true), |node| converter.converted(node));
        definitions.insert(next, node);
    }
    let mut node = json!({ "$schema": "https://json-schema.org/draft/2020-12/schema", "title": name });
    if let (Value::Object(node), Value::Object(root)) = (&mut node, &mut root) {
        node.extend(std::mem::take(root));
        if !definitions.is_empty() {
            node.insert("$defs".to_owned(), Value::Object(definitions));
        }
    }
    Ok(node)
}

struct Converter<'a> {
    schemas: &'a Map<String, Value>,
    /// The root, then what is referred to, in the order it was met.
    needed: Vec<String>,
}

impl Converter<'_> {
    fn converted(&mut self, node: &Value) -> Value {
        let Value::Object(own) = node else { return node.clone() };
        if let Some(reference) = own.get("$ref").and_then(Value::as_str) {
            return self.reference(reference);
        }
        let mut made = Map::new();
        for (key, value) in own {
            match (key.as_str(), value) {
                ("properties", Value::Object(fields)) => {
                    let fields = fields.iter().map(|(name, inner)| (name.clone(), self.converted(inner))).collect();
                    made.insert(key.clone(), Value::Object(fields));
                }
                ("items", inner) => {
                    made.insert(key.clone(), self.converted(inner));
                }
                ("example", value) => {
                    made.insert("examples".to_owned(), json!([value]));
                }
                // `nullable` is of 3.0; 3.1 has `null` among the types.
                ("nullable" | "allOf" | "oneOf" | "anyOf" | "discriminator" | "externalDocs", _) => {}
                _ => {
                    made.insert(key.clone(), value.clone());
                }
            }
        }
        for (key, together) in [("allOf", true), ("oneOf", false), ("anyOf", false)] {
            for part in own.get(key).and_then(Value::as_array).into_iter().flatten() {
                let part = self.whole(part, 0);
                join(&mut made, &part, together);
            }
        }
        if own.get("nullable") == Some(&Value::Bool(true))
            && let Some(kind @ Value::String(_)) = made.get_mut("type")
        {
            *kind = json!([kind.clone(), "null"]);
        }
        Value::Object(made)
    }

    fn reference(&mut self, reference: &str) -> Value {
        let Some(name) = reference.strip_prefix(SCHEMAS) else { return Value::Bool(true) };
        if self.needed[0] == name {
            return json!({ "$ref": "#" });
        }
        if !self.needed.iter().any(|known| known == name) {
            self.needed.push(name.to_owned());
        }
        json!({ "$ref": format!("#/$defs/{name}") })
    }

    /// A part of a schema with what it refers to, so that its fields can be put among others.
    fn whole(&mut self, part: &Value, depth: usize) -> Value {
        let referred =
            part.get("$ref").and_then(Value::as_str).and_then(|reference| self.schemas.get(reference.strip_prefix(SCHEMAS)?));
        match referred {
            Some(node) if depth < 8 => self.whole(node, depth + 1),
            _ => self.converted(part),
        }
    }
}

/// Puts the fields of a part among those of the whole. What may be is not required.
fn join(whole: &mut Map<String, Value>, part: &Value, together: bool) {
    let Value::Object(part) = part else { return };
    for (key, value) in part {
        match (key.as_str(), whole.get_mut(key), value) {
            ("required", _, _) if !together => {}
            ("properties", Some(Value::Object(before)), Value::Object(more)) => {
                for (name, node) in more {
                    before.entry(name.clone()).or_insert_with(|| node.clone());
                }
            }
            ("required", Some(Value::Array(before)), Value::Array(more)) => before.extend(more.iter().cloned()),
            (_, Some(_), _) => {}
            (_, None, value) => {
                whole.insert(key.clone(), value.clone());
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::Schema;
    use super::*;
    use crate::schema::misfits;

    fn document() -> Value {
        json!({ "openapi": "3.0.3", "components": { "schemas": {
            "Order": { "allOf": [{ "$ref": "#/components/schemas/Named" }, { "type": "object", "required": ["lines"], "properties": {
                "lines": { "type": "array", "items": { "$ref": "#/components/schemas/Line" } },
                "paid": { "oneOf": [{ "type": "object", "required": ["card"], "properties": { "card": { "type": "string" } } }, { "type": "object", "properties": { "cash": { "type": "number" } } }] } } }] },
            "Named": { "type": "object", "required": ["no"], "properties": { "no": { "type": "string", "example": "QH-1" } } },
            "Line": { "type": "object", "properties": { "pieces": { "type": "integer", "nullable": true }, "of": { "$ref": "#/components/schemas/Order" } } },
        } } })
    }

    #[test]
    fn a_schema_comes_with_what_it_refers_to() {
        let node = of_openapi(&document(), Some("Order")).unwrap();
        let schema = Schema { name: "order".to_owned(), root: node };
        assert_eq!(schema.fields(&schema.root), [("no", true), ("lines", true), ("paid", false)]);
        let fits =
            json!({ "no": "QH-2", "lines": [{ "pieces": null, "of": { "no": "a", "lines": [] } }], "paid": { "cash": 1 } });
        assert_eq!(misfits(&schema, &fits), Vec::<String>::new());
        assert_eq!(
            misfits(&schema, &json!({ "no": "a", "lines": [{ "pieces": "2" }] })),
            ["`lines[1].pieces` must be a whole number or null, but is a text"]
        );
        assert_eq!(schema.root["properties"]["no"], json!({ "type": "string", "examples": ["QH-1"] }));
    }

    #[test]
    fn a_name_is_asked_for_where_there_are_several() {
        let says = |name| of_openapi(&document(), name).unwrap_err();
        assert_eq!(says(None), "it has several schemas; name one of Order, Named, Line");
        assert_eq!(says(Some("Ordre")), "it has no schema Ordre; did you mean Order?");
        assert_eq!(of_openapi(&json!({ "openapi": "3.1.0" }), None).unwrap_err(), "it has no schemas");
    }
}
