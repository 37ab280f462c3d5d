//! Validates documents against their schema (JSON Schema 2020-12), formats included.

use super::Schema;
use jsonschema::error::{TypeKind, ValidationErrorKind};
use serde_json::Value;
use std::fmt;

/// Most findings of one document.
const MOST: usize = 20;

/// A schema made ready.
pub struct Validator(jsonschema::Validator);

impl fmt::Debug for Validator {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Validator")
    }
}

/// A place where a document does not fit its schema.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Misfit {
    /// The field, items counted from 1: `rows[2].quantity`; empty for the whole document.
    pub at: String,
    /// A whole sentence, which names the field.
    pub says: String,
}

impl Validator {
    /// Compiles a schema. References lead to places in it; nothing is fetched.
    ///
    /// # Errors
    /// A sentence: an invalid schema, or a reference that leads nowhere.
    pub fn of(schema: &Schema) -> Result<Self, String> {
        Self::of_schema(&schema.root)
    }

    fn of_schema(node: &Value) -> Result<Self, String> {
        let options = jsonschema::draft202012::options().should_validate_formats(true);
        options.build(node).map(Self).map_err(|error| {
            let at = error.instance_path().to_string();
            let at = if at.is_empty() { "the schema".to_owned() } else { format!("`{at}`") };
            format!("{at}: {}", shorten(&error.to_string(), 200))
        })
    }

    /// The schema of one place in a schema made ready, with what it refers to.
    pub(crate) fn of_part(schema: &Schema, node: &Value) -> Option<Self> {
        let mut part = schema.resolve(node).clone();
        if let (Some(part), Some(defs)) = (part.as_object_mut(), schema.root.get("$defs")) {
            part.insert("$defs".to_owned(), defs.clone());
        }
        Self::of_schema(&part).ok()
    }

    /// Returns whether a document fits.
    #[must_use]
    pub fn fits(&self, document: &Value) -> bool {
        self.0.is_valid(document)
    }

    /// Returns the places where a document does not fit, in its order; 20 at most.
    #[must_use]
    pub fn misfits(&self, document: &Value) -> Vec<Misfit> {
        if self.0.is_valid(document) {
            return Vec::new();
        }
        self.0.iter_errors(document).take(MOST).map(|error| misfit(document, &error)).collect()
    }
}

/// Joins findings in one sentence, the first three in full.
#[must_use]
pub fn in_words(misfits: &[Misfit]) -> String {
    let mut sentences: Vec<&str> = misfits.iter().take(3).map(|one| one.says.as_str()).collect();
    let more = match misfits.len().saturating_sub(3) {
        0 => String::new(),
        more if misfits.len() == MOST => format!("at least {more} more"),
        more => format!("{more} more"),
    };
    if !more.is_empty() {
        sentences.push(&more);
    }
    sentences.join("; ")
}

/// The path of an instance as expressions write it.
fn path(document: &Value, pointer: &str) -> String {
    let mut text = String::new();
    let mut value = Some(document);
    for token in pointer.split('/').skip(1) {
        let name = token.replace("~1", "/").replace("~0", "~");
        value = match value {
            Some(Value::Array(items)) => {
                let at = name.parse::<usize>().unwrap_or(0);
                text += &format!("[{}]", at + 1);
                items.get(at)
            }
            other => {
                text += &format!("{}{name}", if text.is_empty() { "" } else { "." });
                other.and_then(|value| value.get(&name))
            }
        };
    }
    text
}

fn misfit(document: &Value, error: &jsonschema::ValidationError<'_>) -> Misfit {
    let at = path(document, error.instance_path().as_str());
    let below = |name: &str| if at.is_empty() { name.to_owned() } else { format!("{at}.{name}") };
    let place = if at.is_empty() { "the document".to_owned() } else { format!("`{at}`") };
    let value = shorten(&error.instance().to_string(), 40);
    let should = |what: String| (at.clone(), format!("{place} must {what}"));
    let (at, says) = match error.kind() {
        ValidationErrorKind::Required { property } => {
            let own = below(property.as_str().unwrap_or_default());
            let says = format!("`{own}` is missing");
            (own, says)
        }
        ValidationErrorKind::Type { kind } => should(format!("be {}, but is {}", types(kind), kind_of(error.instance()))),
        ValidationErrorKind::AdditionalProperties { unexpected } | ValidationErrorKind::UnevaluatedProperties { unexpected } => {
            let names: Vec<String> = unexpected.iter().take(3).map(|name| format!("`{}`", below(name))).collect();
            let more = unexpected.len().saturating_sub(3);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            (at.clone(), format!("the schema has no {}{more}", names.join(", ")))
        }
        ValidationErrorKind::Enum { options } => {
            should(format!("be one of {}, but is {value}", shorten(&options.to_string(), 80)))
        }
        ValidationErrorKind::Constant { expected_value } => {
            should(format!("be {}, but is {value}", shorten(&expected_value.to_string(), 40)))
        }
        ValidationErrorKind::Format { format } => should(format!("have the format {format}, but is {value}")),
        ValidationErrorKind::Pattern { pattern } => should(format!("match the pattern {}, but is {value}", shorten(pattern, 60))),
        ValidationErrorKind::MinLength { limit } => should(format!("have at least {limit} characters, but is {value}")),
        ValidationErrorKind::MaxLength { limit } => should(format!("have at most {limit} characters, but is {value}")),
        ValidationErrorKind::Minimum { limit } => should(format!("be at least {limit}, but is {value}")),
        ValidationErrorKind::Maximum { limit } => should(format!("be at most {limit}, but is {value}")),
        ValidationErrorKind::ExclusiveMinimum { limit } => should(format!("be more than {limit}, but is {value}")),
        ValidationErrorKind::ExclusiveMaximum { limit } => should(format!("be less than {limit}, but is {value}")),
        ValidationErrorKind::MultipleOf { multiple_of } => should(format!("be a multiple of {multiple_of}, but is {value}")),
        ValidationErrorKind::MinItems { limit } => should(format!("have at least {limit} items")),
        ValidationErrorKind::MaxItems { limit } => should(format!("have at most {limit} items")),
        ValidationErrorKind::UniqueItems => should("not have the same item twice".to_owned()),
        ValidationErrorKind::FalseSchema => should("not be there".to_owned()),
        _ => (at.clone(), format!("{place}: {}", shorten(&error.to_string(), 200))),
    };
    Misfit { at, says }
}

fn types(kind: &TypeKind) -> String {
    let word = |name: &str| match name {
        "string" => "a text",
        "number" => "a number",
        "integer" => "a whole number",
        "boolean" => "true or false",
        "array" => "a list",
        "object" => "an object",
        _ => "null",
    };
    match kind {
        TypeKind::Single(one) => word(&one.to_string()).to_owned(),
        TypeKind::Multiple(all) => {
            let mut words: Vec<&str> = all.iter().map(|one| word(&one.to_string())).collect();
            words.sort_by_key(|word| *word == "null");
            words.join(" or ")
        }
    }
}

const fn kind_of(value: &Value) -> &'static str {
    match value {
        Value::Null => "null",
        Value::Bool(_) => "true or false",
        Value::Number(_) => "a number",
        Value::String(_) => "a text",
        Value::Array(_) => "a list",
        Value::Object(_) => "an object",
    }
}

fn shorten(text: &str, most: usize) -> String {
    if text.chars().count() <= most { text.to_owned() } else { text.chars().take(most - 1).chain(['…']).collect() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn each_misfit_names_its_field_and_what_is_there() {
        let node = json!({
            "type": "object", "required": ["no", "lines"], "additionalProperties": false,
            "properties": {
                "no": { "type": "string", "maxLength": 4 }, "day": { "type": "string", "format": "date" }, "unit": { "enum": ["EA", "CA"] },
                "lines": { "type": "array", "minItems": 1, "items": { "$ref": "#/$defs/line" } },
            },
            "$defs": { "line": { "type": "object", "required": ["q"], "properties": { "q": { "type": "integer", "minimum": 1 } } } },
        });
        let schema = Schema { name: "order".to_owned(), root: node };
        let validator = Validator::of(&schema).unwrap();
        let says = |document: Value| validator.misfits(&document).into_iter().map(|one| one.says).collect::<Vec<_>>();
        assert_eq!(says(json!({ "no": "1", "lines": [{ "q": 1 }] })), Vec::<String>::new());
        assert_eq!(says(json!([])), ["the document must be an object, but is a list"]);
        assert_eq!(says(json!({ "no": "1", "lines": null })), ["`lines` must be a list, but is null"]);
        let mut all = says(json!({
            "no": "12345", "day": "2026-02-30", "unit": "XX", "more": 1, "lines": [{}, { "q": 1.5 }, { "q": 0 }, { "q": "1" }],
        }));
        all.sort();
        assert_eq!(
            all,
            [
                "`day` must have the format date, but is \"2026-02-30\"",
                "`lines[1].q` is missing",
                "`lines[2].q` must be a whole number, but is a number",
                "`lines[3].q` must be at least 1, but is 0",
                "`lines[4].q` must be a whole number, but is a text",
                "`no` must have at most 4 characters, but is \"12345\"",
                "`unit` must be one of [\"EA\",\"CA\"], but is \"XX\"",
                "the schema has no `more`",
            ]
        );
        let misfits = validator.misfits(&json!({ "lines": [{}, {}, {}] }));
        assert!(in_words(&misfits).ends_with("; 1 more"), "{}", in_words(&misfits));
        let many: Vec<Value> = (0..100).map(|_| json!({})).collect();
        assert_eq!(validator.misfits(&json!({ "lines": many })).len(), 20);
    }

    #[test]
    fn what_is_no_schema_is_refused() {
        let of = |node: Value| Validator::of(&Schema { name: "x".to_owned(), root: node }).map(|_| ()).unwrap_err();
        assert!(of(json!({ "type": "word" })).starts_with("`/type`: "), "{}", of(json!({ "type": "word" })));
        assert!(of(json!({ "$ref": "#/$defs/none" })).contains("none"));
        assert!(of(json!({ "$ref": "http://localhost:1/x.json" })).contains("localhost"), "nothing is fetched");
    }
}
