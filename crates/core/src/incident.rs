//! Incidents: events of the service that people are notified of. A flow takes them from a connection of the kind `incidents`.

use crate::Timestamp;
use serde_json::{Value, json};

/// Name of the schema that every workspace has for them, unless it defines one of that name.
pub const NAME: &str = "incident";

/// The schema (JSON Schema 2020-12).
pub const SCHEMA: &str = r#"{
  "title": "Incident",
  "type": "object",
  "required": ["what", "says", "at"],
  "properties": {
    "what": { "type": "string", "enum": ["on-hold", "resumed", "failed", "unread", "silent"] },
    "connection": { "type": "string" },
    "flow": { "type": "string" },
    "step": { "type": "string" },
    "partner": { "type": "string" },
    "key": { "type": "string" },
    "id": { "type": "string" },
    "says": { "type": "string" },
    "at": { "type": "string", "format": "date-time" }
  }
}"#;

/// Kind of an incident.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum What {
    /// A connection is on hold, because it did not respond or by a person.
    OnHold,
    /// In use again.
    Resumed,
    /// A message failed.
    Failed,
    /// An arrival failed.
    Unread,
    /// An intake has received nothing for longer than usual.
    Silent,
}

impl What {
    /// Every one.
    pub const ALL: [Self; 5] = [Self::OnHold, Self::Resumed, Self::Failed, Self::Unread, Self::Silent];

    /// Returns the word, which is also the event's name.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::OnHold => "on-hold",
            Self::Resumed => "resumed",
            Self::Failed => "failed",
            Self::Unread => "unread",
            Self::Silent => "silent",
        }
    }
}

/// An incident. Fields that do not apply are empty.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Incident {
    pub what: What,
    pub connection: String,
    pub flow: String,
    pub step: String,
    pub partner: String,
    pub key: String,
    /// The message or arrival.
    pub id: String,
    pub says: String,
    pub at: Timestamp,
    /// Identity of the incident: two reports with the same one are duplicates.
    pub same: String,
}

impl Incident {
    /// Returns the document for flows.
    #[must_use]
    pub fn document(&self) -> Value {
        let Self { what, connection, flow, step, partner, key, id, says, at, same: _ } = self;
        let all = [
            ("what", what.as_str()),
            ("connection", connection),
            ("flow", flow),
            ("step", step),
            ("partner", partner),
            ("key", key),
            ("id", id),
            ("says", says),
        ];
        let mut document = json!({});
        for (name, value) in all.into_iter().filter(|(_, value)| !value.is_empty()) {
            document[name] = value.into();
        }
        document["at"] = at.to_string().into();
        document
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_does_not_apply_is_left_out() {
        let incident = Incident {
            what: What::Silent,
            connection: "marrowfield-drop".into(),
            flow: "partner-orders".into(),
            step: String::new(),
            partner: String::new(),
            key: String::new(),
            id: String::new(),
            says: "nothing for 2 h".into(),
            at: Timestamp(1_800_000_000_000_000),
            same: "silent".into(),
        };
        let document = incident.document();
        assert_eq!(
            document,
            json!({ "what": "silent", "connection": "marrowfield-drop", "flow": "partner-orders", "says": "nothing for 2 h",
                "at": "2027-01-15T08:00:00Z" })
        );
    }
}
