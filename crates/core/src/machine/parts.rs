//! Messages of the branches of an `also`.

use super::{Body, LogEntry, Logged, Machine, Origin, Turn};
use crate::flow::{Flow, Way};
use crate::{Digest, Document, MessageId, Timestamp, key};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use std::sync::Arc;

/// Facts that the message of a branch stores at `part` in its metadata.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Part {
    /// The message it is part of.
    pub of: MessageId,
    pub way: String,
    /// First step.
    pub step: String,
    /// Business key of both messages.
    pub key: String,
    /// Key of its lane: messages of one branch keep the order of their parents; empty without an order.
    pub order_key: String,
    /// Variables that steps had set by then.
    pub variables: Map<String, Value>,
}

/// Name in a message's meta.
const PART: &str = "part";

/// Returns the branch that the message belongs to, if any.
pub(super) fn part(origin: &Origin) -> Option<Part> {
    Part::deserialize(origin.meta.get(PART)?).ok()
}

/// Returns the index of a message's first step, and its variables; `None` for the message of a branch that the flow does not have.
pub(super) fn beginning(flow: &Flow, origin: &Origin) -> Option<(usize, Map<String, Value>)> {
    let part = part(origin);
    let at = match &part {
        Some(part) => flow.step(&part.step)?.0,
        None => 0,
    };
    let mut variables = part.map(|part| part.variables).unwrap_or_default();
    let mut meta = origin.meta.clone();
    meta.insert("message".to_owned(), origin.id.to_string().into());
    meta.insert("received".to_owned(), origin.arrival.made().to_string().into());
    variables.insert("meta".to_owned(), Value::Object(meta));
    Some((at, variables))
}

impl Machine {
    /// Builds the message of a branch, with its document as stored.
    #[must_use]
    pub fn part(&self, way: &Way, id: MessageId) -> (Arc<Origin>, Document) {
        let mut variables = self.variables.clone();
        variables.remove("meta");
        let part = Part {
            of: self.origin.id,
            way: way.name.clone(),
            step: self.logic.flow.steps[way.first].name.clone(),
            key: self.keys().0,
            order_key: self.order_key().map_or_else(String::new, |key| key::stored(format!("{key} {}", way.name))),
            variables,
        };
        let mut meta = self.origin.meta.clone();
        meta.insert(PART.to_owned(), serde_json::to_value(part).unwrap_or_default());
        let document = self.current.clone();
        let size = document.to_bytes().len() as u64;
        let form = document.form();
        let release = self.release;
        let origin = Origin { id, body: id, slice: 0..size, release, form, meta, ..(*self.origin).clone() };
        (Arc::new(origin), document)
    }

    /// The messages of an `also` were created: this one continues.
    pub fn parted(&mut self, now: Timestamp) -> Turn {
        let what = Logged::Parted { step: self.step().to_owned(), request: self.parting() };
        self.log(LogEntry { at: now, what })
    }

    /// Stands for what the messages of an `also` are made of.
    pub(super) fn parting(&self) -> Digest {
        Digest::of(&[&Body(self.current.to_bytes()).0])
    }
}
