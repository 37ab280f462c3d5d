//! What the source carried that no rule used.

use super::{Map, Rules};
use crate::Document;
use crate::expr::{PRODUCT_ID, Reads, segment_path};
use crate::x12::{Child, LoopRef, Segment};
use serde::Serialize;
use serde_json::Value;

/// A field of the source that no rule reads.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Unused {
    /// `data.buyer.mail`; of a transaction set `N1.04`, the loop or segment with the element.
    pub path: String,
    /// The first value that stands there.
    pub value: String,
    /// How often it stands there.
    pub times: usize,
}

impl Map {
    /// The filled fields of `document` that no rule reads, in the order of the document. Envelope segments do not count.
    #[must_use]
    pub fn unused(&self, document: &Document) -> Vec<Unused> {
        let x12 = matches!(document, Document::X12(_));
        let mut reads = Reads::new(x12);
        of_rules(&self.rules, Some(""), &mut reads);
        let mut left = Left { reads, all: Vec::new() };
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

struct Left {
    reads: Reads,
    all: Vec<Unused>,
}

impl Left {
    fn tell(&mut self, path: &str, value: String) {
        if self.reads.has(path) {
            return;
        }
        match self.all.iter_mut().find(|known| known.path == path) {
            Some(known) => known.times += 1,
            None => self.all.push(Unused { path: path.to_owned(), value, times: 1 }),
        }
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
            Value::String(text) => self.tell(path, text.clone()),
            Value::Bool(_) | Value::Number(_) => self.tell(path, value.to_string()),
        }
    }

    fn level(&mut self, of: LoopRef<'_>, path: &str) {
        for child in of.children() {
            match child {
                Child::Segment(segment) => self.segment(&segment, path),
                Child::Loop(inner) => self.level(inner, &segment_path(path, inner.name())),
            }
        }
    }

    fn segment(&mut self, segment: &Segment<'_>, path: &str) {
        let id = segment.text(0);
        if matches!(id.as_str(), "ST" | "SE") {
            return;
        }
        let path = segment_path(path, &id);
        // Product ids come as pairs from the sixth element on, in LIN from the second.
        let pairs = if id == "LIN" { 2 } else { 6 };
        let ids = self.reads.has(&format!("{path}.{PRODUCT_ID}"));
        for n in 1..=segment.count() {
            let value = segment.text(n);
            let is_id = ids && n >= pairs;
            if !(value.is_empty() || is_id) {
                self.tell(&format!("{path}.{n:02}"), value);
            }
        }
    }
}
