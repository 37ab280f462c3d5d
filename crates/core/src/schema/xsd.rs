//! Schemas from an XML Schema (W3C XML Schema 1.0): the documents of one of its elements, as trees and as XML.

use super::xml::{self, Element};
use crate::nearest::nearest;
use serde_json::{Map, Value, json};

/// The namespace of XML Schema.
const NAMESPACE: &str = "http://www.w3.org/2001/XMLSchema";
/// Deepest nesting of parts within a type.
const DEPTH: usize = 32;

/// Returns whether a document looks like an XML Schema.
#[must_use]
pub fn is_xml_schema(bytes: &[u8]) -> bool {
    let start = String::from_utf8_lossy(&bytes[..bytes.len().min(4096)]);
    start.contains(NAMESPACE) && (start.contains(":schema") || start.contains("<schema"))
}

/// The schema of one of the elements that a schema declares; of the only one where no name is given.
///
/// # Errors
/// A sentence: not XML, no such element, or a schema that includes another, which is not read.
pub fn of_xml_schema(bytes: &[u8], name: Option<&str>) -> Result<Value, String> {
    let text = std::str::from_utf8(bytes).map_err(|_| "not an XML Schema in UTF-8".to_owned())?;
    let root = xml::read(text)?;
    if root.local_name() != "schema" {
        return Err("not an XML Schema: its root is not `schema`".to_owned());
    }
    let elsewhere = root.children.iter().find(|one| matches!(one.local_name(), "include" | "import" | "redefine"));
    if let Some(elsewhere) = elsewhere.filter(|one| one.attribute("schemaLocation").is_some()) {
        let place = elsewhere.attribute("schemaLocation").unwrap_or_default();
        return Err(format!("it imports {place}, which is not read; put everything into one file"));
    }
    let known: Vec<&str> = root.children("element").filter_map(|one| one.attribute("name")).collect();
    let name = match (name, known.as_slice()) {
        (Some(name), _) => name,
        (None, [only]) => only,
        (None, []) => return Err("it declares no element".to_owned()),
        (None, _) => return Err(format!("it declares several elements; name one of {}", known.join(", "))),
    };
    let Some(element) = root.children("element").find(|one| one.attribute("name") == Some(name)) else {
        let near = nearest(name, known.iter().copied()).map_or_else(|| known.join(", "), |near| format!("did you mean {near}?"));
        return Err(format!("it declares no element {name}; {near}"));
    };
    let mut reader = Reader { root: &root, definitions: Map::new(), open: Vec::new() };
    let own = reader.element(element, 0)?;
    let mut node = json!({ "$schema": "https://json-schema.org/draft/2020-12/schema", "title": name });
    let mut xml = json!({ "name": name });
    if let Some(namespace) = root.attribute("targetNamespace") {
        xml["namespace"] = Value::from(namespace);
        if root.attribute("elementFormDefault") != Some("qualified") {
            xml["prefix"] = Value::from("n");
            xml["x-children"] = Value::from("unqualified");
        }
    }
    if let (Value::Object(node), Value::Object(own)) = (&mut node, reader.spread(own)) {
        node.extend(own);
        node.insert("xml".to_owned(), xml);
        if !reader.definitions.is_empty() {
            node.insert("$defs".to_owned(), Value::Object(reader.definitions));
        }
    }
    Ok(node)
}

struct Reader<'a> {
    root: &'a Element,
    /// Complex types by name.
    definitions: Map<String, Value>,
    /// Types that are being read: one that refers to itself is met again.
    open: Vec<String>,
}

impl<'a> Reader<'a> {
    fn named(&self, kind: &str, name: &str) -> Option<&'a Element> {
        let name = local(name);
        self.root.children.iter().find(|one| one.local_name() == kind && one.attribute("name") == Some(name))
    }

    /// The schema of an element's content.
    fn element(&mut self, element: &'a Element, depth: usize) -> Result<Value, String> {
        if depth > DEPTH {
            return Err(format!("{} is nested more than {DEPTH} deep", element.attribute("name").unwrap_or_default()));
        }
        let mut node = match (element.attribute("type"), element.children.iter().find(|one| one.local_name().ends_with("Type"))) {
            (Some(kind), _) => self.kind(kind, depth)?,
            (None, Some(own)) if own.local_name() == "complexType" => self.complex(own, depth)?,
            (None, Some(own)) => self.simple(own, depth)?,
            (None, None) => json!({}),
        };
        if let Some(says) = documentation(element) {
            node["description"] = Value::from(says);
        }
        if element.attribute("nillable") == Some("true")
            && let Some(kind @ Value::String(_)) = node.get_mut("type")
        {
            *kind = json!([kind.clone(), "null"]);
        }
        Ok(node)
    }

    fn kind(&mut self, name: &str, depth: usize) -> Result<Value, String> {
        if let Some(simple) = self.named("simpleType", name) {
            return self.simple(simple, depth + 1);
        }
        let Some(complex) = self.named("complexType", name) else { return Ok(built_in(local(name))) };
        let name = local(name).to_owned();
        if !self.open.contains(&name) && !self.definitions.contains_key(&name) {
            self.open.push(name.clone());
            let made = self.complex(complex, depth + 1)?;
            self.open.pop();
            self.definitions.insert(name.clone(), made);
        }
        Ok(json!({ "$ref": format!("#/$defs/{name}") }))
    }

    /// Resolves a reference whose fields are merged into those of others.
    fn spread(&self, node: Value) -> Value {
        let named = node.get("$ref").and_then(Value::as_str).and_then(|reference| reference.strip_prefix("#/$defs/"));
        named.and_then(|name| self.definitions.get(name)).cloned().unwrap_or(node)
    }

    fn simple(&mut self, of: &'a Element, depth: usize) -> Result<Value, String> {
        let Some(restriction) = of.children("restriction").next() else { return Ok(json!({ "type": "string" })) };
        let mut node = match restriction.attribute("base") {
            Some(base) => self.kind(base, depth + 1)?,
            None => json!({ "type": "string" }),
        };
        let values: Vec<&str> = restriction.children("enumeration").filter_map(|one| one.attribute("value")).collect();
        if !values.is_empty() {
            let typed = |text: &&str| if node["type"] == "string" { Value::from(*text) } else { super::written::guess(text) };
            node["enum"] = values.iter().map(typed).collect();
        }
        for (facet, key) in [("maxLength", "maxLength"), ("minLength", "minLength"), ("length", "maxLength")] {
            if let Some(length) = restriction.children(facet).next().and_then(|one| one.attribute("value")?.parse::<u32>().ok()) {
                node[key] = Value::from(length);
            }
        }
        Ok(node)
    }

    fn complex(&mut self, of: &'a Element, depth: usize) -> Result<Value, String> {
        let mut fields = Fields::default();
        self.content(of, &mut fields, false, depth)?;
        Ok(fields.node())
    }

    /// Fields of a type, a group, or a sequence, choice or all within it; of a choice none is always there.
    fn content(&mut self, of: &'a Element, fields: &mut Fields, optional: bool, depth: usize) -> Result<(), String> {
        if depth > DEPTH {
            return Err(format!("{} is nested more than {DEPTH} deep", of.local_name()));
        }
        let depth = depth + 1;
        for part in &of.children {
            let optional = optional || part.attribute("minOccurs") == Some("0");
            let many = part.attribute("maxOccurs").is_some_and(|most| most != "1" && most != "0");
            match part.local_name() {
                "sequence" | "all" => self.particle(part, fields, optional, many, depth)?,
                "choice" => self.particle(part, fields, true, many, depth)?,
                "group" | "attributeGroup" => {
                    let referred = part.attribute("ref").and_then(|name| self.named(part.local_name(), name));
                    if let Some(group) = referred {
                        self.content(group, fields, optional, depth)?;
                    }
                }
                "element" => {
                    let declared = part.attribute("ref").and_then(|name| self.named("element", name)).unwrap_or(part);
                    let Some(name) = declared.attribute("name") else { continue };
                    let node = self.element(declared, depth)?;
                    fields.add(name, node, !optional, many);
                }
                "attribute" => {
                    let Some(name) = part.attribute("name").or(part.attribute("ref")).map(local) else { continue };
                    let mut node = self.element(part, depth)?;
                    if node.get("type").is_none() {
                        node["type"] = Value::from("string");
                    }
                    node["xml"] = json!({ "attribute": true });
                    fields.add(name, node, part.attribute("use") == Some("required"), false);
                }
                "complexContent" | "simpleContent" => self.content(part, fields, optional, depth)?,
                "extension" | "restriction" => {
                    let base = part.attribute("base").unwrap_or_default();
                    match self.named("complexType", base) {
                        Some(base) if part.local_name() == "extension" => self.content(base, fields, optional, depth)?,
                        Some(_) => {}
                        None => {
                            let mut text = self.kind(base, depth)?;
                            text["xml"] = json!({ "nodeType": "text" });
                            fields.add(xml::TEXT, text, false, false);
                        }
                    }
                    self.content(part, fields, optional, depth)?;
                }
                _ => {}
            }
        }
        Ok(())
    }

    /// A sequence or choice: what may come several times together makes a list of each.
    fn particle(
        &mut self,
        part: &'a Element,
        fields: &mut Fields,
        optional: bool,
        many: bool,
        depth: usize,
    ) -> Result<(), String> {
        let mut own = Fields::default();
        self.content(part, &mut own, optional, depth)?;
        for (name, node, required) in own.all {
            let many = many && node.get("items").is_none();
            fields.add(&name, node, required, many);
        }
        Ok(())
    }
}

#[derive(Default)]
struct Fields {
    all: Vec<(String, Value, bool)>,
}

impl Fields {
    fn add(&mut self, name: &str, node: Value, required: bool, many: bool) {
        let node = if many { json!({ "type": "array", "items": node }) } else { node };
        match self.all.iter_mut().find(|(known, ..)| known == name) {
            // An element at two places of a type is repeated.
            Some((_, before, _)) if before.get("items").is_none() => {
                *before = json!({ "type": "array", "items": before.clone() })
            }
            Some(_) => {}
            None => self.all.push((name.to_owned(), node, required)),
        }
    }

    fn node(self) -> Value {
        let required: Vec<&str> = self.all.iter().filter(|(.., required)| *required).map(|(name, ..)| name.as_str()).collect();
        let mut node = json!({ "type": "object" });
        if !required.is_empty() {
            node["required"] = json!(required);
        }
        node["properties"] = Value::Object(self.all.into_iter().map(|(name, node, _)| (name, node)).collect());
        node
    }
}

fn local(name: &str) -> &str {
    name.rsplit(':').next().unwrap_or(name)
}

fn documentation(of: &Element) -> Option<String> {
    let text = of.children("annotation").next()?.children("documentation").next()?.text.trim();
    (!text.is_empty()).then(|| text.split_whitespace().collect::<Vec<_>>().join(" "))
}

/// The types of the standard, as JSON Schema has them.
fn built_in(name: &str) -> Value {
    match name {
        "decimal" | "double" | "float" => json!({ "type": "number" }),
        "boolean" => json!({ "type": "boolean" }),
        "date" => json!({ "type": "string", "format": "date" }),
        "dateTime" | "dateTimeStamp" => json!({ "type": "string", "format": "date-time" }),
        "anyURI" => json!({ "type": "string", "format": "uri" }),
        "anyType" => json!({}),
        "byte" | "short" | "int" | "long" | "integer" => json!({ "type": "integer" }),
        name if name.starts_with("unsigned") || name.ends_with("Integer") => json!({ "type": "integer" }),
        _ => json!({ "type": "string" }),
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Schema, Written};
    use super::*;
    use crate::schema::misfits;

    const SCHEMA: &str = r#"<?xml version="1.0"?>
<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns="urn:quillhaven:pick" targetNamespace="urn:quillhaven:pick">
  <xs:element name="Pick" type="PickType"/>
  <xs:element name="Remark" type="xs:string"/>
  <xs:complexType name="PickType">
    <xs:sequence>
      <xs:element name="Day" type="xs:date"><xs:annotation><xs:documentation>The day
        it ships</xs:documentation></xs:annotation></xs:element>
      <xs:choice><xs:element name="Van" type="Van"/><xs:element name="Post" type="xs:boolean"/></xs:choice>
      <xs:element name="Line" maxOccurs="unbounded" minOccurs="0">
        <xs:complexType><xs:simpleContent><xs:extension base="xs:string"><xs:attribute name="pieces" type="xs:positiveInteger" use="required"/></xs:extension></xs:simpleContent></xs:complexType>
      </xs:element>
      <xs:element ref="Remark" minOccurs="0"/>
    </xs:sequence>
    <xs:attribute name="order"/>
  </xs:complexType>
  <xs:simpleType name="Van"><xs:restriction base="xs:string"><xs:enumeration value="small"/><xs:enumeration value="large"/></xs:restriction></xs:simpleType>
</xs:schema>"#;

    #[test]
    fn an_element_is_a_schema_that_reads_and_writes_its_documents() {
        assert!(is_xml_schema(SCHEMA.as_bytes()));
        let schema = Schema { name: "pick".to_owned(), root: of_xml_schema(SCHEMA.as_bytes(), Some("Pick")).unwrap() };
        let fields = [("Day", true), ("Van", false), ("Post", false), ("Line", false), ("Remark", false), ("order", false)];
        assert_eq!(schema.fields(&schema.root), fields);
        assert_eq!(
            schema.root["properties"]["Day"],
            json!({ "type": "string", "format": "date", "description": "The day it ships" })
        );
        let pick = json!({ "Day": "2026-12-01", "Van": "large", "Line": [{ "text": "QH-1", "pieces": 2 }], "order": "7" });
        assert_eq!(misfits(&schema, &pick), Vec::<String>::new());
        let text = schema.write(Written::Xml, &pick).unwrap();
        let expected = "<n:Pick xmlns:n=\"urn:quillhaven:pick\" order=\"7\"><Day>2026-12-01</Day><Van>large</Van><Line pieces=\"2\">QH-1</Line></n:Pick>";
        assert_eq!(String::from_utf8_lossy(&text).lines().nth(1), Some(expected));
        assert_eq!(schema.read(Written::Xml, &text).unwrap().to_string(), pick.to_string());
    }

    #[test]
    fn types_that_hold_themselves_are_read_once() {
        let node = r#"<schema xmlns="http://www.w3.org/2001/XMLSchema" elementFormDefault="qualified">
            <element name="Box" type="Box"/><complexType name="Box"><sequence><element name="Box" type="Box" minOccurs="0"/>
            <element name="Of" type="decimal"/></sequence></complexType></schema>"#;
        let schema = Schema { name: "box".to_owned(), root: of_xml_schema(node.as_bytes(), None).unwrap() };
        assert_eq!(
            schema.read(Written::Xml, b"<Box><Box><Of>2</Of></Box><Of>01.5</Of></Box>"),
            Ok(json!({ "Box": { "Of": 2 }, "Of": 1.5 }))
        );
    }

    #[test]
    fn what_cannot_be_read_is_reported() {
        let says = |text: &str, name| of_xml_schema(text.as_bytes(), name).unwrap_err();
        assert_eq!(says(SCHEMA, None), "it declares several elements; name one of Pick, Remark");
        assert_eq!(says(SCHEMA, Some("Pik")), "it declares no element Pik; did you mean Pick?");
        assert_eq!(says("<a/>", None), "not an XML Schema: its root is not `schema`");
        let other = r#"<schema><include schemaLocation="more.xsd"/><element name="a"/></schema>"#;
        assert_eq!(says(other, None), "it imports more.xsd, which is not read; put everything into one file");
    }
}
