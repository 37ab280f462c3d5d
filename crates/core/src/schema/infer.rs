//! A schema made from samples.

use serde_json::{Map, Value, json};

/// Most distinct values collected per field.
const EXAMPLES: usize = 3;
/// Longest text collected as an example, in characters.
const LONGEST: usize = 60;

/// Statistics of one place.
#[derive(Default)]
struct Seen {
    times: usize,
    nulls: usize,
    truths: usize,
    whole: usize,
    numbers: usize,
    texts: usize,
    /// The format that every text had so far; `None` once two differ.
    format: Option<&'static str>,
    objects: usize,
    fields: Vec<(String, Seen)>,
    lists: usize,
    items: Option<Box<Seen>>,
    examples: Vec<Value>,
}

/// Infers a schema (JSON Schema 2020-12) from all `samples`: a field missing in one of them is not required, values of two types
/// allow both, and some values are collected as examples.
#[must_use]
pub fn infer(samples: &[Value], title: &str) -> Value {
    inferred(samples, title, false)
}

/// As [`infer`], for documents in which everything is a text (CSV, XML): a field that looks like a number in one place and like a
/// code in another is a text, and so is one named like an id (`orderNo`, `sku`, `zip`).
#[must_use]
pub fn infer_of_texts(samples: &[Value], title: &str) -> Value {
    inferred(samples, title, true)
}

fn inferred(samples: &[Value], title: &str, texts: bool) -> Value {
    let mut seen = Seen::default();
    samples.iter().for_each(|sample| seen.see(sample));
    if texts {
        seen.codes_are_texts("");
    }
    let mut node = Map::new();
    node.insert("$schema".to_owned(), Value::from("https://json-schema.org/draft/2020-12/schema"));
    node.insert("title".to_owned(), Value::from(title));
    if let Value::Object(own) = seen.node() {
        node.extend(own);
    }
    Value::Object(node)
}

/// Keeps values of `samples` as examples at the fields of a schema that was not made from them.
pub fn with_examples(node: &mut Value, samples: &[Value]) {
    let mut seen = Seen::default();
    samples.iter().for_each(|sample| seen.see(sample));
    seen.exemplify(node);
}

impl Seen {
    fn exemplify(&self, node: &mut Value) {
        if !self.examples.is_empty() {
            node["examples"] = Value::Array(self.examples.clone());
        }
        if let (Some(items), Some(node)) = (&self.items, node.get_mut("items")) {
            items.exemplify(node);
        }
        for (name, inner) in &self.fields {
            if let Some(node) = node.get_mut("properties").and_then(|fields| fields.get_mut(name)) {
                inner.exemplify(node);
            }
        }
    }

    /// Makes texts of the numbers of a place where texts were seen too, or that is called like an id.
    fn codes_are_texts(&mut self, name: &str) {
        if self.numbers > 0 && (self.texts > 0 || names_an_id(name)) {
            self.texts += self.numbers;
            (self.numbers, self.whole, self.format) = (0, 0, None);
            for example in &mut self.examples {
                if let Value::Number(number) = example {
                    *example = Value::from(number.as_str());
                }
            }
        }
        for (name, inner) in &mut self.fields {
            inner.codes_are_texts(name);
        }
        if let Some(items) = &mut self.items {
            items.codes_are_texts(name);
        }
    }

    fn see(&mut self, value: &Value) {
        self.times += 1;
        match value {
            Value::Null => self.nulls += 1,
            Value::Bool(_) => self.truths += 1,
            Value::Number(number) => {
                self.numbers += 1;
                self.whole += usize::from(!number.to_string().contains(['.', 'e', 'E']));
            }
            Value::String(text) => {
                let format = format_of(text);
                self.format = if self.texts == 0 || self.format == format { format } else { None };
                self.texts += 1;
            }
            Value::Array(items) => {
                self.lists += 1;
                let inner = self.items.get_or_insert_with(Box::default);
                items.iter().for_each(|item| inner.see(item));
            }
            Value::Object(fields) => {
                self.objects += 1;
                for (name, inner) in fields {
                    let at = self.fields.iter().position(|(known, _)| known == name).unwrap_or_else(|| {
                        self.fields.push((name.clone(), Self::default()));
                        self.fields.len() - 1
                    });
                    self.fields[at].1.see(inner);
                }
            }
        }
        let short = value.as_str().is_none_or(|text| !text.is_empty() && text.chars().count() <= LONGEST);
        let scalar = !value.is_null() && !value.is_array() && !value.is_object();
        if scalar && short && self.examples.len() < EXAMPLES && !self.examples.contains(value) {
            self.examples.push(value.clone());
        }
    }

    fn node(&self) -> Value {
        let number = if self.whole == self.numbers { "integer" } else { "number" };
        let kinds = [
            (self.objects, "object"),
            (self.lists, "array"),
            (self.texts, "string"),
            (self.numbers, number),
            (self.truths, "boolean"),
            (self.nulls, "null"),
        ];
        let types: Vec<&str> = kinds.iter().filter(|(times, _)| *times > 0).map(|(_, name)| *name).collect();
        let mut node = Map::new();
        match types.as_slice() {
            [] => {}
            [one] => {
                node.insert("type".to_owned(), Value::from(*one));
            }
            _ => {
                node.insert("type".to_owned(), json!(types));
            }
        }
        if self.texts > 0
            && let Some(format) = self.format
        {
            node.insert("format".to_owned(), Value::from(format));
        }
        if self.objects > 0 {
            let needed: Vec<&str> =
                self.fields.iter().filter(|(_, inner)| inner.times == self.objects).map(|(name, _)| name.as_str()).collect();
            if !needed.is_empty() {
                node.insert("required".to_owned(), json!(needed));
            }
            let properties = self.fields.iter().map(|(name, inner)| (name.clone(), inner.node())).collect();
            node.insert("properties".to_owned(), Value::Object(properties));
        }
        if let Some(items) = &self.items {
            node.insert("items".to_owned(), items.node());
        }
        if !self.examples.is_empty() {
            node.insert("examples".to_owned(), Value::Array(self.examples.clone()));
        }
        Value::Object(node)
    }
}

/// Returns whether a field is named like an id or a code, whose digits are not a number to calculate with.
fn names_an_id(name: &str) -> bool {
    let mut words: Vec<String> = vec![String::new()];
    for c in name.chars() {
        if !c.is_alphanumeric() || c.is_uppercase() && words.last().is_some_and(|word| word.ends_with(char::is_lowercase)) {
            words.push(String::new());
        }
        if c.is_alphanumeric()
            && let Some(word) = words.last_mut()
        {
            word.extend(c.to_lowercase());
        }
    }
    const IDS: [&str; 19] = [
        "id",
        "ids",
        "no",
        "nr",
        "number",
        "code",
        "sku",
        "gtin",
        "ean",
        "upc",
        "gln",
        "zip",
        "postcode",
        "postal",
        "phone",
        "fax",
        "account",
        "reference",
        "ref",
    ];
    words.last().is_some_and(|word| IDS.contains(&word.as_str()))
}

/// The format of JSON Schema that a text has, where it is one of those that matter to a map.
fn format_of(text: &str) -> Option<&'static str> {
    let digits = |from: usize, to: usize| text.get(from..to).is_some_and(|part| part.bytes().all(|byte| byte.is_ascii_digit()));
    let date = || digits(0, 4) && digits(5, 7) && digits(8, 10) && text.get(4..5) == Some("-") && text.get(7..8) == Some("-");
    if text.len() == 10 && date() && text.parse::<jiff::civil::Date>().is_ok() {
        return Some("date");
    }
    if text.len() > 10 && text.get(0..10).is_some() && date() && text.parse::<jiff::Timestamp>().is_ok() {
        return Some("date-time");
    }
    if text.starts_with("https://") || text.starts_with("http://") {
        return Some("uri");
    }
    let (user, host) = text.split_once('@')?;
    (!user.is_empty() && host.contains('.') && !text.contains(char::is_whitespace)).then_some("email")
}
