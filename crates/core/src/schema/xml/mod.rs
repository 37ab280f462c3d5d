//! XML 1.0. A schema describes it with the XML Object of OpenAPI: `xml` at a field with `name`, `attribute`, `wrapped`,
//! `namespace`, `prefix`, and `nodeType` `text` for the text beside attributes.

mod fit;
mod write;

use super::Schema;
use super::written::guess as guess_scalar;
pub(super) use fit::fit;
use quick_xml::events::{BytesStart, Event};
use serde_json::{Map, Value};
use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
pub use write::to_xml;
pub(super) use write::write;

/// Deepest nesting of a document.
const DEPTH: usize = 64;

/// An element of a document.
#[derive(Debug, Default, PartialEq)]
pub(super) struct Element {
    /// Name as written, with its prefix.
    pub name: String,
    /// Attributes as written, namespace declarations included.
    pub attributes: Vec<(String, String)>,
    pub children: Vec<Element>,
    /// Text without that of its children.
    pub text: String,
}

impl Element {
    pub fn local_name(&self) -> &str {
        local(&self.name)
    }

    /// The value of an attribute, by its name without prefix.
    pub fn attribute(&self, name: &str) -> Option<&str> {
        self.own_attributes().find(|(own, _)| *own == name).map(|(_, value)| value)
    }

    /// Returns its attributes without prefixes, without namespace declarations and schema locations.
    pub fn own_attributes(&self) -> impl Iterator<Item = (&str, &str)> {
        let declares = |name: &str| name == "xmlns" || name.starts_with("xmlns:");
        let about = |name: &str| matches!(name, "xsi:schemaLocation" | "xsi:noNamespaceSchemaLocation" | "xsi:nil");
        let own = self.attributes.iter().filter(move |(name, _)| !declares(name) && !about(name));
        own.map(|(name, value)| (local(name), value.as_str()))
    }

    /// Returns whether it is declared `nil` (XML Schema, 2.6.2).
    pub fn is_nil(&self) -> bool {
        self.attributes.iter().any(|(name, value)| name == "xsi:nil" && matches!(value.as_str(), "true" | "1"))
    }

    /// Returns whether it has text other than layout.
    pub fn has_text(&self) -> bool {
        !self.text.trim().is_empty()
    }

    /// Returns its text beside attributes; `None` if that is only the layout of its children.
    pub fn own_text(&self) -> Option<&str> {
        (self.has_text() || self.children.is_empty() && !self.text.is_empty()).then_some(self.text.as_str())
    }

    /// Returns content that has no place in a tree: text beside elements, or two elements or attributes of one name in two
    /// namespaces.
    fn untreelike(&self) -> Option<String> {
        if self.has_text() && !self.children.is_empty() {
            return Some(format!("{} has text beside elements (mixed content)", self.name));
        }
        let mut names: HashMap<&str, &str> = HashMap::new();
        for child in &self.children {
            let before = names.entry(child.local_name()).or_insert(&child.name);
            if *before != child.name {
                return Some(format!("{before} and {} in {} have the same name without their prefixes", child.name, self.name));
            }
        }
        let mut names = HashSet::new();
        let twice = self.own_attributes().find(|(name, _)| !names.insert(*name));
        twice.map(|(name, _)| format!("two attributes of {} have the same name {name} without their prefixes", self.name))
    }

    pub fn children<'e>(&'e self, name: &'e str) -> impl Iterator<Item = &'e Self> {
        self.children.iter().filter(move |child| child.local_name() == name)
    }
}

fn local(name: &str) -> &str {
    name.rsplit(':').next().unwrap_or(name)
}

/// The root element of a document.
pub(super) fn read(text: &str) -> Result<Element, String> {
    // Line ends are one character wherever they come from (XML 1.0, 2.11).
    let plain = if text.contains('\r') { text.replace("\r\n", "\n").replace('\r', "\n").into() } else { Cow::Borrowed(text) };
    let text = &*plain;
    let mut reader = quick_xml::Reader::from_str(text);
    let mut open: Vec<Element> = Vec::new();
    let mut root: Option<Element> = None;
    let wrong = |reader: &quick_xml::Reader<&[u8]>, says: String| {
        let at = usize::try_from(reader.buffer_position()).unwrap_or(usize::MAX).min(text.len());
        let line = text.as_bytes()[..at].iter().filter(|byte| **byte == b'\n').count() + 1;
        format!("not XML: line {line}: {says}")
    };
    loop {
        let event = reader.read_event().map_err(|error| wrong(&reader, error.to_string()))?;
        // Comments and blanks are allowed beside the root; anything else would be lost.
        let stray = match &event {
            Event::Start(_) | Event::Empty(_) => root.is_some(),
            Event::Text(text) => open.is_empty() && !text.trim_start_matches('\u{feff}').trim().is_empty(),
            Event::CData(_) | Event::GeneralRef(_) => open.is_empty(),
            Event::End(_) | Event::Eof | Event::Comment(_) | Event::Decl(_) | Event::PI(_) | Event::DocType(_) => false,
        };
        if stray {
            return Err(wrong(&reader, "it has something beside its root element".to_owned()));
        }
        let mut close = |open: &mut Vec<Element>| {
            let done = open.pop()?;
            let lost = done.untreelike();
            match open.last_mut() {
                Some(outer) => outer.children.push(done),
                None => root = Some(done),
            }
            lost
        };
        match event {
            Event::Start(start) | Event::Empty(start) if open.len() >= DEPTH => {
                let name = start.local_name().as_ref().to_owned();
                return Err(wrong(&reader, format!("{name} is nested more than {DEPTH} deep")));
            }
            Event::Start(start) => open.push(opened(&start).map_err(|says| wrong(&reader, says))?),
            Event::Empty(start) => {
                open.push(opened(&start).map_err(|says| wrong(&reader, says))?);
                if let Some(says) = close(&mut open) {
                    return Err(wrong(&reader, says));
                }
            }
            Event::End(_) => {
                if let Some(says) = close(&mut open) {
                    return Err(wrong(&reader, says));
                }
            }
            Event::Text(text) => add(&mut open, &text),
            Event::CData(text) => add(&mut open, &text),
            Event::GeneralRef(name) => {
                let name = name.to_string();
                let number = name.strip_prefix('#').and_then(|digits| match digits.strip_prefix('x') {
                    Some(hex) => u32::from_str_radix(hex, 16).ok(),
                    None => digits.parse().ok(),
                });
                let text = match number {
                    Some(number) => char::from_u32(number).map(String::from),
                    None => quick_xml::escape::resolve_predefined_entity(&name).map(str::to_owned),
                };
                // Entities of one's own are not expanded: they can grow without bound.
                add(&mut open, &text.ok_or_else(|| wrong(&reader, format!("the entity &{name}; is not known")))?);
            }
            Event::Eof => {
                let whole = root.filter(|_| open.is_empty());
                return whole.ok_or_else(|| wrong(&reader, "it ends before its root element ends".to_owned()));
            }
            Event::Comment(_) | Event::Decl(_) | Event::PI(_) | Event::DocType(_) => {}
        }
    }
}

fn add(open: &mut [Element], text: &str) {
    if let Some(element) = open.last_mut() {
        element.text.push_str(text);
    }
}

fn opened(start: &BytesStart<'_>) -> Result<Element, String> {
    let mut element = Element { name: start.name().as_ref().to_owned(), ..Element::default() };
    for attribute in start.attributes() {
        let attribute = attribute.map_err(|error| error.to_string())?;
        let value = quick_xml::escape::unescape(&attribute.value).map_err(|error| error.to_string())?;
        element.attributes.push((attribute.key.as_ref().to_owned(), value.into_owned()));
    }
    Ok(element)
}

/// Converts an element without a schema: child elements and attributes as fields, repeated elements as a list, text alone as
/// text; text beside them as `text`. Prefixes are dropped.
pub(super) fn guess(element: &Element) -> Value {
    if element.is_nil() {
        return Value::Null;
    }
    let mut fields = Map::new();
    for (name, value) in element.own_attributes() {
        fields.insert(name.to_owned(), guess_scalar(value));
    }
    for child in &element.children {
        join(&mut fields, child.local_name(), guess(child));
    }
    match element.own_text() {
        text if fields.is_empty() => return guess_scalar(text.unwrap_or_default()),
        Some(text) => join(&mut fields, TEXT, guess_scalar(text)),
        None => {}
    }
    Value::Object(fields)
}

/// Adds to a schema what its documents' tree does not show: the root's name and namespace, which fields are attributes, and text
/// beside them.
pub(super) fn annotate(node: &mut Value, root: &Element) {
    let (prefix, name) = root.name.split_once(':').map_or((None, root.name.as_str()), |(prefix, name)| (Some(prefix), name));
    let mut xml = Map::from_iter([("name".to_owned(), Value::from(name))]);
    let declared = prefix.map_or_else(|| "xmlns".to_owned(), |prefix| format!("xmlns:{prefix}"));
    if let Some((_, namespace)) = root.attributes.iter().find(|(name, _)| *name == declared) {
        xml.insert("namespace".to_owned(), Value::from(namespace.as_str()));
        xml.extend(prefix.map(|prefix| ("prefix".to_owned(), Value::from(prefix))));
        if prefix.is_some() && root.children.iter().any(|child| !child.name.contains(':')) {
            xml.insert("x-children".to_owned(), Value::from("unqualified"));
        }
    }
    note(node, root);
    node["xml"] = Value::Object(xml);
}

fn note(node: &mut Value, element: &Element) {
    let Some(fields) = node.get_mut("properties").and_then(Value::as_object_mut) else { return };
    for (name, _) in element.own_attributes() {
        if let Some(field) = fields.get_mut(name) {
            field["xml"] = serde_json::json!({ "attribute": true });
        }
    }
    if element.own_text().is_some()
        && let Some(field) = fields.get_mut(TEXT)
    {
        field["xml"] = serde_json::json!({ "nodeType": "text" });
    }
    for child in &element.children {
        let Some(field) = fields.get_mut(child.local_name()) else { continue };
        note(if field.get("items").is_some() { &mut field["items"] } else { field }, child);
    }
}

/// Name of the field for text beside attributes and elements.
pub(super) const TEXT: &str = "text";

/// Adds a field; a second value under a name makes a list.
fn join(fields: &mut Map<String, Value>, name: &str, value: Value) {
    match fields.get_mut(name) {
        None => {
            fields.insert(name.to_owned(), value);
        }
        Some(Value::Array(items)) => items.push(value),
        Some(other) => *other = Value::Array(vec![other.take(), value]),
    }
}

/// Written form of a field.
#[derive(Clone, Copy)]
struct XmlKeys<'a> {
    xml: Option<&'a Value>,
}

impl<'a> XmlKeys<'a> {
    fn of(node: &'a Value) -> Self {
        Self { xml: node.get("xml") }
    }

    fn text(self, key: &str) -> Option<&'a str> {
        self.xml?.get(key)?.as_str()
    }

    fn is(self, key: &str) -> bool {
        self.xml.and_then(|xml| xml.get(key)) == Some(&Value::Bool(true))
    }

    fn is_attribute(self) -> bool {
        self.is("attribute") || self.text("nodeType") == Some("attribute")
    }

    fn is_text(self) -> bool {
        self.text("nodeType") == Some("text")
    }

    fn is_wrapped(self) -> bool {
        self.is("wrapped")
    }
}

/// A field of an object, as it is written.
struct Field<'a> {
    name: &'a str,
    node: &'a Value,
    xml: XmlKeys<'a>,
    /// Schema of the items, for a list.
    item: Option<&'a Value>,
}

impl<'a> Field<'a> {
    fn of(schema: &'a Schema, node: &'a Value) -> Vec<Self> {
        let field = |(name, _): (&'a str, bool)| {
            let node = schema.resolve(schema.resolve(node).get("properties")?.get(name)?);
            Some(Self { name, node, xml: XmlKeys::of(node), item: schema.item(node) })
        };
        schema.fields(node).into_iter().filter_map(field).collect()
    }

    /// The name of its element or attribute; of a list that is not wrapped, of each item's element.
    fn shown(&self) -> &'a str {
        let own = self.xml.text("name").unwrap_or(self.name);
        match self.item {
            Some(item) if !self.xml.is_wrapped() => XmlKeys::of(item).text("name").unwrap_or(own),
            _ => own,
        }
    }

    /// Returns whether it is neither a list nor an object.
    fn is_single(&self, schema: &Schema) -> bool {
        self.item.is_none() && self.node.get("properties").is_none() && schema.json_type(self.node) != Some("object")
    }

    /// The name of the elements in a wrapped list.
    fn inner(&self) -> &'a str {
        self.item.and_then(|item| XmlKeys::of(item).text("name")).unwrap_or(self.name)
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Schema, Written, read_sample};
    use super::to_xml;
    use proptest::prelude::*;
    use serde_json::{Value, json};

    #[test]
    fn values_are_written_as_elements() {
        let pick = json!({ "order": "7 & 8", "lines": [{ "item": "a", "pieces": 1.5 }, { "item": "<b>" }], "note": null });
        assert_eq!(
            to_xml(&pick, "pick-list").unwrap(),
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<pick-list><order>7 &amp; 8</order><lines><item>a</item><pieces>1.5</pieces></lines>\
             <lines><item>&lt;b&gt;</item></lines><note/></pick-list>"
        );
        let name = |value: Value| to_xml(&value, "x").unwrap_err();
        assert_eq!(
            to_xml(&pick, "pick list"),
            Err("`pick list` is not an XML name; set another `xml.name` for this field".to_owned())
        );
        assert_eq!(name(json!({ "2x": true })), "2x: `2x` is not an XML name; set another `xml.name` for this field");
        assert_eq!(name(json!({ "a": [[1, 2], [3]] })), "a: XML cannot have a list in a list");
        assert_eq!(name(json!({ "a": {}, "": 1 })), "`` is not an XML name; set another `xml.name` for this field");
        assert_eq!(to_xml(&json!({ "a": { "b": "\u{1}" } }), "x"), Err("a.b: U+0001 is not allowed in XML".to_owned()));
    }

    fn pick() -> Schema {
        let line = json!({ "type": "object", "xml": { "name": "Line" }, "properties": {
            "pieces": { "type": "number", "xml": { "name": "Pieces" } },
            "no": { "type": "integer", "xml": { "attribute": true } },
            "item": { "type": "string", "xml": { "nodeType": "text" } } } });
        let node = json!({
            "type": "object", "xml": { "name": "Pick", "namespace": "urn:quillhaven:pick", "prefix": "q" },
            "properties": {
                "order": { "type": "string", "xml": { "attribute": true, "name": "Order" } },
                "lines": { "type": "array", "xml": { "wrapped": true, "name": "Lines" }, "items": line },
                "notes": { "type": "array", "items": { "type": "string", "xml": { "name": "Note" } } },
                "urgent": { "type": "boolean", "xml": { "name": "Urgent" } },
            },
        });
        Schema { name: "pick".to_owned(), root: node }
    }

    #[test]
    fn a_schema_says_names_attributes_wrappers_and_namespace() {
        let document = json!({ "order": "0012", "lines": [{ "no": 1, "item": " A \"1\"\n" }], "notes": ["one"], "urgent": false, "more": "x" });
        let text = pick().write(Written::Xml, &document).unwrap();
        assert_eq!(
            String::from_utf8(text.clone()).unwrap(),
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<q:Pick xmlns:q=\"urn:quillhaven:pick\" Order=\"0012\"><q:Lines><q:Line no=\"1\"> A &quot;1&quot;\n\
             </q:Line></q:Lines><q:Note>one</q:Note><q:Urgent>false</q:Urgent><q:more>x</q:more></q:Pick>"
        );
        assert_eq!(pick().read(Written::Xml, &text), Ok(document));
    }

    #[test]
    fn values_that_are_not_of_their_type_are_reported_by_their_field() {
        let wrong = pick().read(Written::Xml, b"<Pick><Lines><Line><Pieces>two</Pieces></Line></Lines></Pick>");
        assert_eq!(wrong, Err("lines.pieces: expected a number, found `two`".to_owned()));
        let twice = pick().read(Written::Xml, b"<Pick><Urgent>1</Urgent><Urgent>0</Urgent></Pick>");
        assert_eq!(twice, Err("urgent: it is there twice, but is not a list".to_owned()));
        assert_eq!(pick().read(Written::Xml, b"<Pick><Lines/></Pick>"), Ok(json!({ "lines": [] })));
        let ends = pick().read(Written::Xml, b"<Pick>\r\n<Note>a\r\nb&#13;</Note>\r</Pick>");
        assert_eq!(ends, Ok(json!({ "notes": ["a\nb\r"] })), "line ends are one, unless they are referred to");
        let list = pick().write(Written::Xml, &json!({ "order": ["a"] }));
        assert_eq!(list, Err("order: an attribute needs a single value".to_owned()));
    }

    proptest! {
        #[test]
        fn elements_written_read_back(fields in prop::collection::btree_map("[a-z]{1,5}", "[a-z<&>\"']{1,9}", 1..6)) {
            let value = json!(fields);
            let back = read_sample(Written::Xml, to_xml(&value, "root").unwrap().as_bytes());
            prop_assert_eq!(back, Ok(vec![value]));
        }

        #[test]
        fn typed_documents_read_back(
            order in "[ -~é\t\r\n]{0,9}",
            lines in prop::collection::vec((0..99u32, "[0-9 <&>\r\n]{0,9}"), 0..4),
            notes in prop::collection::vec("[0-9a\n ]{0,5}", 1..4),
            label in prop::sample::select(vec!["utf-8", "windows-1252"]),
        ) {
            let mut schema = pick();
            schema.root["x-encoding"] = Value::from(label);
            let lines: Vec<Value> = lines.iter().map(|(no, item)| json!({ "no": no, "item": item })).collect();
            let document = json!({ "order": order, "lines": lines, "notes": notes });
            prop_assert_eq!(schema.read(Written::Xml, &schema.write(Written::Xml, &document).unwrap()), Ok(document));
        }
    }
}
