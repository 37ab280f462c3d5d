//! Writes a tree as a document, in the order and under the names of its schema.

use super::{Field, XmlKeys};
use crate::schema::Schema;
use crate::schema::written::plain;
use serde_json::{Map, Value};
use std::fmt::Write;

/// Writes a document: attributes and elements in the schema's order, then fields that the schema does not know. Elements of the
/// root's namespace have its prefix, unless `x-children` is `unqualified`.
pub(in crate::schema) fn write(schema: &Schema, document: &Value, encoding: &str) -> Result<String, String> {
    let xml = XmlKeys::of(&schema.root);
    let inner = xml.text("prefix").filter(|_| xml.text("x-children") != Some("unqualified"));
    let text = format!("<?xml version=\"1.0\" encoding=\"{encoding}\"?>\n");
    let mut writer = Writer { schema, text, prefixes: [xml.text("prefix"), inner], open: 0 };
    let root = xml.text("name").unwrap_or(&schema.name);
    let declared: Vec<(String, String)> = match (xml.text("namespace"), xml.text("prefix")) {
        (Some(namespace), Some(prefix)) => vec![(format!("xmlns:{prefix}"), namespace.to_owned())],
        (Some(namespace), None) => vec![("xmlns".to_owned(), namespace.to_owned())],
        (None, _) => Vec::new(),
    };
    match (document, schema.item(&schema.root)) {
        (Value::Array(items), Some(item)) => {
            let name = name(root, "")?;
            writer.start(&name, &declared);
            let inner = XmlKeys::of(item).text("name").unwrap_or("item");
            for one in items {
                writer.element(item, inner, one, inner, &[])?;
            }
            writer.end(&name);
        }
        _ => writer.element(&schema.root, root, document, "", &declared)?,
    }
    Ok(writer.text)
}

/// Writes a value without a schema as XML with that root: fields as elements, items of a list as elements of the same name,
/// `null` as an empty element.
///
/// # Errors
/// A character or name that XML does not allow, or a list in a list.
pub fn to_xml(value: &Value, root: &str) -> Result<String, String> {
    write(&Schema { name: root.to_owned(), root: Value::Object(Map::new()) }, value, "UTF-8")
}

struct Writer<'a> {
    schema: &'a Schema,
    text: String,
    /// Prefix of the root, and of its children.
    prefixes: [Option<&'a str>; 2],
    /// Number of open elements.
    open: usize,
}

impl<'a> Writer<'a> {
    fn start(&mut self, name: &str, attributes: &[(String, String)]) {
        let _ = write!(self.text, "<{}", self.prefixed(name));
        for (name, value) in attributes {
            let _ = write!(self.text, " {name}=\"{}\"", escaped(value).replace('\n', "&#10;").replace('\t', "&#9;"));
        }
        self.text.push('>');
        self.open += 1;
    }

    fn end(&mut self, name: &str) {
        self.open -= 1;
        let _ = write!(self.text, "</{}>", self.prefixed(name));
    }

    fn prefixed(&self, name: &str) -> String {
        self.prefixes[self.open.min(1)].map_or_else(|| name.to_owned(), |prefix| format!("{prefix}:{name}"))
    }

    fn element(
        &mut self,
        node: &'a Value,
        shown: &str,
        value: &Value,
        at: &str,
        declared: &[(String, String)],
    ) -> Result<(), String> {
        let node = self.schema.resolve(node);
        let name = name(shown, at)?;
        match value {
            Value::Array(items) => {
                let item = self.schema.item(node).unwrap_or(&Value::Null);
                if items.iter().any(Value::is_array) {
                    return Err(format!("{at}: XML cannot have a list in a list"));
                }
                return items.iter().try_for_each(|one| self.element(item, shown, one, at, declared));
            }
            Value::Object(fields) => self.object(node, &name, fields, at, declared)?,
            Value::Null => {
                self.start(&name, declared);
                self.open -= 1;
                self.text.truncate(self.text.len() - 1);
                self.text.push_str("/>");
            }
            scalar => {
                self.start(&name, declared);
                self.scalar(scalar, at)?;
                self.end(&name);
            }
        }
        Ok(())
    }

    fn object(
        &mut self,
        node: &'a Value,
        name: &str,
        fields: &Map<String, Value>,
        at: &str,
        declared: &[(String, String)],
    ) -> Result<(), String> {
        let known = Field::of(self.schema, node);
        let below = |name: &str| if at.is_empty() { name.to_owned() } else { format!("{at}.{name}") };
        let mut attributes = declared.to_vec();
        for field in known.iter().filter(|field| field.xml.is_attribute()) {
            let Some(value) = fields.get(field.name) else { continue };
            let text = plain(value).ok_or_else(|| format!("{}: an attribute needs a single value", below(field.name)))?;
            allowed(&text, &below(field.name))?;
            attributes.push((self::name(field.shown(), &below(field.name))?, text.into_owned()));
        }
        self.start(name, &attributes);
        for field in known.iter().filter(|field| !field.xml.is_attribute()) {
            let Some(value) = fields.get(field.name) else { continue };
            let at = below(field.name);
            match (field.item, value) {
                _ if field.xml.is_text() => self.scalar(value, &at)?,
                (Some(item), Value::Array(items)) if field.xml.is_wrapped() => {
                    if items.iter().any(Value::is_array) {
                        return Err(format!("{at}: XML cannot have a list in a list"));
                    }
                    let wrapper = self::name(field.shown(), &at)?;
                    self.start(&wrapper, &[]);
                    items.iter().try_for_each(|one| self.element(item, field.inner(), one, &at, &[]))?;
                    self.end(&wrapper);
                }
                (Some(_), single) if field.xml.is_wrapped() && !single.is_null() => {
                    return Err(format!("{at}: the schema expects a list, and this is not a list"));
                }
                _ => self.element(field.node, field.shown(), value, &at, &[])?,
            }
        }
        for (own, value) in fields.iter().filter(|(own, _)| !known.iter().any(|field| field.name == *own)) {
            self.element(&Value::Null, own, value, &below(own), &[])?;
        }
        self.end(name);
        Ok(())
    }

    fn scalar(&mut self, value: &Value, at: &str) -> Result<(), String> {
        let text = plain(value).ok_or_else(|| format!("{at}: a text needs a single value"))?;
        allowed(&text, at)?;
        self.text.push_str(&escaped(&text));
        Ok(())
    }
}

/// Line ends are read as one (XML 1.0, 2.11) unless they are written as references.
fn escaped(text: &str) -> String {
    quick_xml::escape::escape(text).replace('\r', "&#13;")
}

/// The characters of XML 1.0 (2.2).
fn allowed(text: &str, at: &str) -> Result<(), String> {
    let is = |c: &char| matches!(c, '\t' | '\n' | '\r' | ' '..='\u{D7FF}' | '\u{E000}'..='\u{FFFD}' | '\u{10000}'..);
    match text.chars().find(|c| !is(c)) {
        None => Ok(()),
        Some(c) => {
            Err(format!("{}: U+{:04X} is not allowed in XML", if at.is_empty() { "the document" } else { at }, u32::from(c)))
        }
    }
}

/// Checks a name by Namespaces in XML 1.0, NCName. `at` is the field, for errors.
fn name(of: &str, at: &str) -> Result<String, String> {
    let inner = |c: char| c.is_alphanumeric() || matches!(c, '_' | '-' | '.');
    let sound = of.starts_with(|c: char| c.is_alphabetic() || c == '_') && of.chars().all(inner);
    if sound {
        return Ok(of.to_owned());
    }
    let place = if at.is_empty() { String::new() } else { format!("{at}: ") };
    Err(format!("{place}`{of}` is not an XML name; set another `xml.name` for this field"))
}
