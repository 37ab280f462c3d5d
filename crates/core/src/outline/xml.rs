//! XML 1.0. What an outline says of it, it says by the XML Object of OpenAPI: `xml` at a field with `name`, `attribute`,
//! `wrapped`, `namespace`, `prefix`, and `nodeType` `text` for the text that stands beside attributes.

use super::Outline;
use super::written::{guess as guess_scalar, plain, typed};
use quick_xml::events::{BytesStart, Event};
use serde_json::{Map, Value};
use std::fmt::Write;

/// Deepest nesting of a document.
const DEPTH: usize = 64;

/// An element as it stands in a document.
#[derive(Debug, Default, PartialEq)]
pub(super) struct Element {
    /// As written, with its prefix.
    pub name: String,
    /// As written, those that declare namespaces among them.
    pub attributes: Vec<(String, String)>,
    pub children: Vec<Element>,
    /// All text that stands in it and in none of its children.
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

    /// Its attributes by their names without prefixes: not those that declare namespaces or speak of a schema.
    pub fn own_attributes(&self) -> impl Iterator<Item = (&str, &str)> {
        let own = |(name, value): &'_ (String, String)| {
            !(name.starts_with("xmlns") || name.starts_with("xsi:") || value.is_empty() && name.is_empty())
        };
        self.attributes.iter().filter(move |one| own(one)).map(|(name, value)| (local(name), value.as_str()))
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
        // Comments and blanks may stand beside the root; what else does would be lost.
        let stray = match &event {
            Event::Start(_) | Event::Empty(_) => root.is_some(),
            Event::Text(text) => open.is_empty() && !text.trim_start_matches('\u{feff}').trim().is_empty(),
            Event::CData(_) | Event::GeneralRef(_) => open.is_empty(),
            Event::End(_) | Event::Eof | Event::Comment(_) | Event::Decl(_) | Event::PI(_) | Event::DocType(_) => false,
        };
        if stray {
            return Err(wrong(&reader, "something stands beside its root".to_owned()));
        }
        let mut close = |open: &mut Vec<Element>| {
            let Some(done) = open.pop() else { return };
            match open.last_mut() {
                Some(outer) => outer.children.push(done),
                None => root = Some(done),
            }
        };
        match event {
            Event::Start(start) | Event::Empty(start) if open.len() >= DEPTH => {
                let name = start.local_name().as_ref().to_owned();
                return Err(wrong(&reader, format!("{name} is nested more than {DEPTH} deep")));
            }
            Event::Start(start) => open.push(opened(&start).map_err(|says| wrong(&reader, says))?),
            Event::Empty(start) => {
                open.push(opened(&start).map_err(|says| wrong(&reader, says))?);
                close(&mut open);
            }
            Event::End(_) => close(&mut open),
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
                return whole.ok_or_else(|| wrong(&reader, "it ends before its root does".to_owned()));
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

/// What an element says, where no outline knows better: child elements and attributes as fields, an element that comes twice
/// as a list, text alone as text; text beside them as `text`. Prefixes of names are left out.
pub(super) fn guess(element: &Element) -> Value {
    let mut fields = Map::new();
    for (name, value) in element.own_attributes() {
        fields.insert(name.to_owned(), guess_scalar(value));
    }
    for child in &element.children {
        join(&mut fields, child.local_name(), guess(child));
    }
    let text = element.text.trim();
    match (fields.is_empty(), text.is_empty()) {
        (true, _) => return guess_scalar(text),
        (false, true) => {}
        (false, false) => join(&mut fields, TEXT, guess_scalar(text)),
    }
    Value::Object(fields)
}

/// Notes at the schema of such documents what their tree does not show: the root's name and namespace, which fields are attributes, and
/// where text stands beside them.
pub(super) fn annotate(schema: &mut Value, root: &Element) {
    let (prefix, name) = root.name.split_once(':').map_or((None, root.name.as_str()), |(prefix, name)| (Some(prefix), name));
    let mut said = Map::from_iter([("name".to_owned(), Value::from(name))]);
    let declared = prefix.map_or_else(|| "xmlns".to_owned(), |prefix| format!("xmlns:{prefix}"));
    if let Some((_, namespace)) = root.attributes.iter().find(|(name, _)| *name == declared) {
        said.insert("namespace".to_owned(), Value::from(namespace.as_str()));
        said.extend(prefix.map(|prefix| ("prefix".to_owned(), Value::from(prefix))));
        if prefix.is_some() && root.children.iter().any(|child| !child.name.contains(':')) {
            said.insert("x-children".to_owned(), Value::from("unqualified"));
        }
    }
    note(schema, root);
    schema["xml"] = Value::Object(said);
}

fn note(schema: &mut Value, element: &Element) {
    let Some(fields) = schema.get_mut("properties").and_then(Value::as_object_mut) else { return };
    for (name, _) in element.own_attributes() {
        if let Some(field) = fields.get_mut(name) {
            field["xml"] = serde_json::json!({ "attribute": true });
        }
    }
    if !element.text.trim().is_empty()
        && let Some(field) = fields.get_mut(TEXT)
    {
        field["xml"] = serde_json::json!({ "nodeType": "text" });
    }
    for child in &element.children {
        let Some(field) = fields.get_mut(child.local_name()) else { continue };
        note(if field.get("items").is_some() { &mut field["items"] } else { field }, child);
    }
}

/// The field for text beside attributes and elements.
pub(super) const TEXT: &str = "text";

/// What comes again under a name makes a list of both.
fn join(fields: &mut Map<String, Value>, name: &str, value: Value) {
    match fields.get_mut(name) {
        None => {
            fields.insert(name.to_owned(), value);
        }
        Some(Value::Array(items)) => items.push(value),
        Some(other) => *other = Value::Array(vec![other.take(), value]),
    }
}

/// What an outline says of how a field is written.
#[derive(Clone, Copy)]
struct Said<'a> {
    xml: Option<&'a Value>,
}

impl<'a> Said<'a> {
    fn of(schema: &'a Value) -> Self {
        Self { xml: schema.get("xml") }
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
    schema: &'a Value,
    said: Said<'a>,
    /// What stands in a list.
    item: Option<&'a Value>,
}

impl<'a> Field<'a> {
    fn of(outline: &'a Outline, schema: &'a Value) -> Vec<Self> {
        let field = |(name, _): (&'a str, bool)| {
            let schema = outline.resolve(outline.resolve(schema).get("properties")?.get(name)?);
            Some(Self { name, schema, said: Said::of(schema), item: outline.item(schema) })
        };
        outline.fields(schema).into_iter().filter_map(field).collect()
    }

    /// The name of its element or attribute; of a list that is not wrapped, of each item's element.
    fn shown(&self) -> &'a str {
        let own = self.said.text("name").unwrap_or(self.name);
        match self.item {
            Some(item) if !self.said.is_wrapped() => Said::of(item).text("name").unwrap_or(own),
            _ => own,
        }
    }

    /// The name of the elements in a wrapped list.
    fn inner(&self) -> &'a str {
        self.item.and_then(|item| Said::of(item).text("name")).unwrap_or(self.name)
    }
}

/// What an element says by the outline: lists are lists, of one item too, and values have their types. What the outline does
/// not know is kept.
pub(super) fn fit(outline: &Outline, root: &Element) -> Result<Value, String> {
    match outline.item(&outline.schema) {
        Some(item) => root.children.iter().map(|child| value(outline, item, child, child.local_name())).collect(),
        None => value(outline, &outline.schema, root, ""),
    }
}

fn value(outline: &Outline, schema: &Value, element: &Element, at: &str) -> Result<Value, String> {
    let schema = outline.resolve(schema);
    let place = || if at.is_empty() { element.local_name().to_owned() } else { at.to_owned() };
    if schema.get("properties").is_some() || outline.json_type(schema) == Some("object") {
        return object(outline, schema, element, at);
    }
    if schema.get("type").is_none() || !element.children.is_empty() {
        return Ok(guess(element));
    }
    Ok(typed(outline, schema, &element.text, &place())?.unwrap_or(Value::Null))
}

fn object(outline: &Outline, schema: &Value, element: &Element, at: &str) -> Result<Value, String> {
    let known = Field::of(outline, schema);
    let mut fields = Map::new();
    let below = |name: &str| if at.is_empty() { name.to_owned() } else { format!("{at}.{name}") };
    for field in &known {
        let (shown, at) = (field.shown(), below(field.name));
        let found = if field.said.is_attribute() {
            element.attribute(shown).map(|text| typed(outline, field.schema, text, &at)).transpose()?.flatten()
        } else if field.said.is_text() {
            typed(outline, field.schema, &element.text, &at)?
                .filter(|value| value.as_str() != Some("") || element.children.is_empty())
        } else if let Some(item) = field.item {
            let each = |elements: &mut dyn Iterator<Item = &Element>| {
                elements.map(|one| value(outline, item, one, &at)).collect::<Result<Vec<_>, _>>()
            };
            match field.said.is_wrapped() {
                true => match element.children(shown).next() {
                    Some(wrapper) => Some(Value::Array(each(&mut wrapper.children(field.inner()))?)),
                    None => None,
                },
                false => Some(each(&mut element.children(shown))?).filter(|items| !items.is_empty()).map(Value::Array),
            }
        } else {
            let mut all = element.children(shown);
            match (all.next(), all.next()) {
                (Some(_), Some(_)) => return Err(format!("{at}: it stands there twice, and is no list")),
                (Some(one), None) => Some(value(outline, field.schema, one, &at)?),
                (None, _) => None,
            }
        };
        fields.extend(found.map(|found| (field.name.to_owned(), found)));
    }
    let told =
        |name: &str, attribute: bool| known.iter().any(|field| field.said.is_attribute() == attribute && field.shown() == name);
    for (name, text) in element.own_attributes().filter(|(name, _)| !told(name, true)) {
        fields.insert(name.to_owned(), guess_scalar(text));
    }
    for child in element.children.iter().filter(|child| !told(child.local_name(), false)) {
        join(&mut fields, child.local_name(), guess(child));
    }
    if !element.text.trim().is_empty() && !known.iter().any(|field| field.said.is_text()) {
        join(&mut fields, TEXT, guess_scalar(element.text.trim()));
    }
    Ok(Value::Object(fields))
}

/// The document of an outline: attributes and elements in the outline's order, then what it does not know. The elements of the
/// root's namespace have its prefix, unless `x-children` says that they are `unqualified`.
pub(super) fn write(outline: &Outline, document: &Value, encoding: &str) -> Result<String, String> {
    let said = Said::of(&outline.schema);
    let inner = said.text("prefix").filter(|_| said.text("x-children") != Some("unqualified"));
    let text = format!("<?xml version=\"1.0\" encoding=\"{encoding}\"?>\n");
    let mut writer = Writer { outline, text, prefixes: [said.text("prefix"), inner], open: 0 };
    let root = said.text("name").unwrap_or(&outline.name);
    let declared: Vec<(String, String)> = match (said.text("namespace"), said.text("prefix")) {
        (Some(namespace), Some(prefix)) => vec![(format!("xmlns:{prefix}"), namespace.to_owned())],
        (Some(namespace), None) => vec![("xmlns".to_owned(), namespace.to_owned())],
        (None, _) => Vec::new(),
    };
    match (document, outline.item(&outline.schema)) {
        (Value::Array(items), Some(item)) => {
            let name = name(root);
            writer.start(&name, &declared);
            let inner = Said::of(item).text("name").unwrap_or("item");
            for one in items {
                writer.element(item, inner, one, inner, &[])?;
            }
            writer.end(&name);
        }
        _ => writer.element(&outline.schema, root, document, "", &declared)?,
    }
    Ok(writer.text)
}

/// XML with that root of a value that no outline describes: fields as elements, items of a list as elements of the same name,
/// `null` as an empty element. Names that XML does not take have `_` for what is not allowed.
///
/// # Errors
/// A character that XML does not take.
pub fn to_xml(value: &Value, root: &str) -> Result<String, String> {
    write(&Outline { name: root.to_owned(), schema: Value::Object(Map::new()) }, value, "UTF-8")
}

struct Writer<'a> {
    outline: &'a Outline,
    text: String,
    /// The prefix of the root, and of what stands in it.
    prefixes: [Option<&'a str>; 2],
    /// How many elements are open.
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
        schema: &'a Value,
        shown: &str,
        value: &Value,
        at: &str,
        declared: &[(String, String)],
    ) -> Result<(), String> {
        let schema = self.outline.resolve(schema);
        let name = name(shown);
        match value {
            Value::Array(items) => {
                let item = self.outline.item(schema).unwrap_or(&Value::Null);
                return items.iter().try_for_each(|one| self.element(item, shown, one, at, declared));
            }
            Value::Object(fields) => self.object(schema, &name, fields, at, declared)?,
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
        schema: &'a Value,
        name: &str,
        fields: &Map<String, Value>,
        at: &str,
        declared: &[(String, String)],
    ) -> Result<(), String> {
        let known = Field::of(self.outline, schema);
        let below = |name: &str| if at.is_empty() { name.to_owned() } else { format!("{at}.{name}") };
        let mut attributes = declared.to_vec();
        for field in known.iter().filter(|field| field.said.is_attribute()) {
            let Some(value) = fields.get(field.name) else { continue };
            let text = plain(value).ok_or_else(|| format!("{}: an attribute takes a single value", below(field.name)))?;
            allowed(&text, &below(field.name))?;
            attributes.push((self::name(field.shown()), text.into_owned()));
        }
        self.start(name, &attributes);
        for field in known.iter().filter(|field| !field.said.is_attribute()) {
            let Some(value) = fields.get(field.name) else { continue };
            let at = below(field.name);
            match (field.item, value) {
                _ if field.said.is_text() => self.scalar(value, &at)?,
                (Some(item), Value::Array(items)) if field.said.is_wrapped() => {
                    let wrapper = self::name(field.shown());
                    self.start(&wrapper, &[]);
                    items.iter().try_for_each(|one| self.element(item, field.inner(), one, &at, &[]))?;
                    self.end(&wrapper);
                }
                _ => self.element(field.schema, field.shown(), value, &at, &[])?,
            }
        }
        for (own, value) in fields.iter().filter(|(own, _)| !known.iter().any(|field| field.name == *own)) {
            self.element(&Value::Null, own, value, &below(own), &[])?;
        }
        self.end(name);
        Ok(())
    }

    fn scalar(&mut self, value: &Value, at: &str) -> Result<(), String> {
        let text = plain(value).ok_or_else(|| format!("{at}: a text takes a single value"))?;
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
            Err(format!("{}: U+{:04X} is no character of XML", if at.is_empty() { "the document" } else { at }, u32::from(c)))
        }
    }
}

fn name(of: &str) -> String {
    let allowed = |c: char| if c.is_alphanumeric() || matches!(c, '_' | '-' | '.') { c } else { '_' };
    let shown: String = of.chars().map(allowed).collect();
    if shown.starts_with(|c: char| c.is_alphabetic() || c == '_') { shown } else { format!("_{shown}") }
}

#[cfg(test)]
mod tests {
    use super::super::{Outline, Written, read_sample};
    use super::to_xml;
    use proptest::prelude::*;
    use serde_json::{Value, json};

    #[test]
    fn values_are_written_as_elements() {
        let pick =
            json!({ "order": "7 & 8", "lines": [{ "item": "a", "pieces": 1.5 }, { "item": "<b>" }], "note": null, "2x": true });
        assert_eq!(
            to_xml(&pick, "pick list").unwrap(),
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<pick_list><order>7 &amp; 8</order><lines><item>a</item><pieces>1.5</pieces></lines>\
             <lines><item>&lt;b&gt;</item></lines><note/><_2x>true</_2x></pick_list>"
        );
        assert_eq!(to_xml(&json!({ "a": { "b": "\u{1}" } }), "x"), Err("a.b: U+0001 is no character of XML".to_owned()));
    }

    fn pick() -> Outline {
        let line = json!({ "type": "object", "xml": { "name": "Line" }, "properties": {
            "pieces": { "type": "number", "xml": { "name": "Pieces" } },
            "no": { "type": "integer", "xml": { "attribute": true } },
            "item": { "type": "string", "xml": { "nodeType": "text" } } } });
        let schema = json!({
            "type": "object", "xml": { "name": "Pick", "namespace": "urn:quillhaven:pick", "prefix": "q" },
            "properties": {
                "order": { "type": "string", "xml": { "attribute": true, "name": "Order" } },
                "lines": { "type": "array", "xml": { "wrapped": true, "name": "Lines" }, "items": line },
                "notes": { "type": "array", "items": { "type": "string", "xml": { "name": "Note" } } },
                "urgent": { "type": "boolean", "xml": { "name": "Urgent" } },
            },
        });
        Outline { name: "pick".to_owned(), schema }
    }

    #[test]
    fn an_outline_says_names_attributes_wrappers_and_namespace() {
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
    fn values_that_are_not_of_their_type_are_told_by_their_field() {
        let wrong = pick().read(Written::Xml, b"<Pick><Lines><Line><Pieces>two</Pieces></Line></Lines></Pick>");
        assert_eq!(wrong, Err("lines.pieces: `two` is no number".to_owned()));
        let twice = pick().read(Written::Xml, b"<Pick><Urgent>1</Urgent><Urgent>0</Urgent></Pick>");
        assert_eq!(twice, Err("urgent: it stands there twice, and is no list".to_owned()));
        assert_eq!(pick().read(Written::Xml, b"<Pick><Lines/></Pick>"), Ok(json!({ "lines": [] })));
        let list = pick().write(Written::Xml, &json!({ "order": ["a"] }));
        assert_eq!(list, Err("order: an attribute takes a single value".to_owned()));
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
            let mut outline = pick();
            outline.schema["x-encoding"] = Value::from(label);
            let lines: Vec<Value> = lines.iter().map(|(no, item)| json!({ "no": no, "item": item })).collect();
            let document = json!({ "order": order, "lines": lines, "notes": notes });
            prop_assert_eq!(outline.read(Written::Xml, &outline.write(Written::Xml, &document).unwrap()), Ok(document));
        }
    }
}
