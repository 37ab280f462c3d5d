//! The fields of the source, and those that no rule uses.

use super::{Map, Rules};
use crate::Document;
use crate::expr::{PRODUCT_ID, Reads, segment_path};
use crate::x12::definitions::SegmentDefinition;
use crate::x12::{Child, LoopRef, Segment};
use serde::Serialize;
use serde_json::Value;
use std::collections::HashMap;

/// A filled field of the source.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct SourceField {
    /// Path as an expression reads it: `data.buyer.mail`; of a transaction set `BEG03`, `N1.N301`, or `N1.04` in the segment that
    /// opens the loop.
    pub path: String,
    /// English name of the element of a transaction set, as its definition has it; empty for other documents.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub title: String,
    /// First value.
    pub value: String,
    /// Number of its values.
    pub times: usize,
    /// A rule reads it, whether or not it was evaluated this time.
    pub used: bool,
}

impl Map {
    /// The filled fields of `document` that no rule reads.
    #[must_use]
    pub fn unused(&self, document: &Document) -> Vec<SourceField> {
        self.source(document).into_iter().filter(|field| !field.used).collect()
    }

    /// The filled fields of `document`, in its order. Envelope segments do not count.
    #[must_use]
    pub fn source(&self, document: &Document) -> Vec<SourceField> {
        let x12 = matches!(document, Document::X12(_));
        let mut reads = Reads::new(x12);
        of_rules(&self.rules, Some(""), &mut reads);
        if self.begin.is_some() {
            reads.read(Some(String::new()));
        }
        let mut left = Fields { reads, all: Vec::new(), places: HashMap::new() };
        match document {
            Document::Json(value) => left.json(value, ""),
            Document::X12(tree) => left.level(tree.root(), ""),
            Document::Bytes(_) => {}
        }
        left.all
    }
}

fn of_rules(rules: &Rules, it: Option<&str>, reads: &mut Reads) {
    for rule in &rules.set {
        let path = reads.add(&rule.value, it);
        reads.read(path);
    }
    for each in &rules.each {
        let of = reads.add(&each.of, it);
        of_rules(&each.rules, of.as_deref(), reads);
    }
}

struct Fields {
    reads: Reads,
    all: Vec<SourceField>,
    /// Index of each path in `all`.
    places: HashMap<String, usize>,
}

impl Fields {
    fn tell(&mut self, path: &str, title: &str, value: String, used: bool) {
        if let Some(at) = self.places.get(path) {
            self.all[*at].times += 1;
            return;
        }
        self.places.insert(path.to_owned(), self.all.len());
        self.all.push(SourceField { path: path.to_owned(), title: title.to_owned(), value, times: 1, used });
    }

    fn json(&mut self, value: &Value, path: &str) {
        match value {
            Value::Null => {}
            Value::Object(fields) => {
                for (name, inner) in fields {
                    let below = if path.is_empty() { name.clone() } else { format!("{path}.{name}") };
                    self.json(inner, &below);
                }
            }
            Value::Array(items) => items.iter().for_each(|item| self.json(item, path)),
            Value::String(text) => self.tell(path, "", text.clone(), self.reads.has(path)),
            Value::Bool(_) | Value::Number(_) => self.tell(path, "", value.to_string(), self.reads.has(path)),
        }
    }

    fn level(&mut self, of: LoopRef<'_>, path: &str) {
        for child in of.children() {
            match child {
                Child::Segment(segment) => self.segment(&segment, of.tree().described(&segment), path),
                Child::Loop(inner) => self.level(inner, &segment_path(path, inner.name())),
            }
        }
    }

    fn segment(&mut self, segment: &Segment<'_>, definition: Option<&SegmentDefinition>, path: &str) {
        let id = segment.text(0);
        if matches!(id.as_str(), "ST" | "SE") {
            return;
        }
        let own = segment_path(path, &id);
        // The segment that opens a loop is the loop: `N1.02`; others are named by designator: `N1.N301`, `BEG03`.
        let shown = if own == path { format!("{path}.") } else { own.clone() };
        let path = own;
        // Product ids come as pairs from the sixth element on, in LIN from the second.
        let pairs = if id == "LIN" { 2 } else { 6 };
        let ids = self.reads.has(&format!("{path}.{PRODUCT_ID}"));
        for n in 1..=segment.count() {
            let value = segment.text(n);
            if !value.is_empty() {
                let used = ids && n >= pairs || self.reads.has(&format!("{path}.{n:02}"));
                let title = definition.and_then(|known| known.place(n)).map_or("", |place| place.content.name());
                self.tell(&format!("{shown}{n:02}"), title, value, used);
            }
        }
    }
}
