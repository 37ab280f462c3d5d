//! Events of the live stream: plain data, written with the group that caused them.

use serde::{Deserialize, Serialize};
use wirewatch_core::intake::Verdict;
use wirewatch_core::machine::{Logged, Pass};
use wirewatch_core::{Id, Timestamp};
use wirewatch_engine::{Change, Hold, NewMessage, Op};

/// An event. Readers accept fields that they do not know; empty fields are left out.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", default)]
pub struct Event {
    pub at: Timestamp,
    /// `message`, `arrival`, `hold` or `release`.
    pub kind: String,
    /// The message, arrival or nothing.
    pub id: Id,
    #[serde(skip_serializing_if = "String::is_empty")]
    pub flow: String,
    #[serde(skip_serializing_if = "String::is_empty")]
    pub partner: String,
    /// The step of a message; the connection of an arrival or a hold.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub step: String,
    /// State of a message, verdict of an arrival, `on-hold` or `in-use`.
    pub state: String,
    #[serde(skip_serializing_if = "String::is_empty")]
    pub key: String,
    #[serde(skip_serializing_if = "String::is_empty")]
    pub result: String,
    /// A few words for people.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub says: String,
    #[serde(skip_serializing_if = "is_default")]
    pub tries: u16,
    /// When a retry is due; 0 for none.
    #[serde(skip_serializing_if = "is_default")]
    pub due: Timestamp,
    /// Duration of the effect, in microseconds.
    #[serde(skip_serializing_if = "is_default")]
    pub took: u64,
    /// The step whose effect that was; empty when there was none.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub tried: String,
    /// Steps that the message passed by this.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub passed: Vec<String>,
}

impl Event {
    /// Returns whether the event is the creation of a message.
    #[must_use]
    pub fn began(&self) -> bool {
        self.kind == "message" && self.state == "running" && self.step.is_empty() && self.passed.is_empty()
    }

    pub(crate) fn blank(kind: &str, id: Id, at: Timestamp) -> Self {
        Self { at, kind: kind.to_owned(), id, ..Self::default() }
    }

    /// Returns the events of a message's creation, and of its end if it ended at once.
    pub(crate) fn born(message: &NewMessage, at: Timestamp) -> impl Iterator<Item = Self> {
        let begun = Self {
            flow: message.origin.flow.clone(),
            partner: partner(&message.origin.meta),
            state: "running".to_owned(),
            key: message.key.clone(),
            says: "began".to_owned(),
            ..Self::blank("message", message.origin.id, at)
        };
        std::iter::once(begun).chain(message.ended.as_deref().map(Self::changed))
    }

    /// Returns the event of a changed message.
    fn changed(change: &Change) -> Self {
        let act = change.entry.as_ref().and_then(|(_, entry)| match &entry.what {
            Logged::Act { act, by, .. } => Some(format!("{} by {by}", act.past())),
            Logged::Attempt { outcome, .. } => Some(outcome.says().to_owned()),
            Logged::Intent { .. } | Logged::Stopped { .. } | Logged::Woken { .. } | Logged::Parted { .. } => None,
        });
        let says = match &change.reason {
            Some(reason) => reason.says.clone(),
            None if !change.says.is_empty() => change.says.clone(),
            None => act.unwrap_or_default(),
        };
        Self {
            flow: change.origin.flow.clone(),
            partner: partner(&change.origin.meta),
            step: change.step.clone(),
            state: change.state.as_str().to_owned(),
            key: change.key.clone(),
            result: change.result.clone(),
            says,
            tries: change.tries,
            due: change.due.unwrap_or_default(),
            took: change.took,
            tried: change.tried().unwrap_or_default().to_owned(),
            passed: change.passed.iter().filter(|one| one.how == Pass::Done).map(|one| one.step.clone()).collect(),
            ..Self::blank("message", change.origin.id, change.at)
        }
    }

    /// Returns the events of an op.
    pub(crate) fn of(op: &Op) -> Vec<Self> {
        match op {
            Op::Change(change) => {
                let parts = change.parts.iter().flat_map(|part| Self::born(&part.message, change.at));
                std::iter::once(Self::changed(change)).chain(parts).collect()
            }
            Op::Split(split) => split.messages.iter().flat_map(|message| Self::born(message, split.at)).collect(),
            Op::Hold(Hold { connection, since, says, by }) => vec![Self {
                step: connection.clone(),
                state: "on-hold".to_owned(),
                says: if by.is_empty() { says.clone() } else { format!("held by {by}: {says}") },
                ..Self::blank("hold", Id(0), *since)
            }],
            Op::Resolve(settle) => vec![Self {
                partner: settle.partner.clone(),
                step: settle.connection.clone(),
                state: Verdict::Resolved.as_str().to_owned(),
                key: settle.name.clone(),
                says: settle.says.clone(),
                ..Self::blank("arrival", settle.arrival, settle.at)
            }],
            Op::Resume { connection, at, .. } => {
                vec![Self { step: connection.clone(), state: "in-use".to_owned(), ..Self::blank("hold", Id(0), *at) }]
            }
        }
    }
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

pub(crate) fn partner(meta: &serde_json::Map<String, serde_json::Value>) -> String {
    meta.get("partner").and_then(serde_json::Value::as_str).unwrap_or_default().to_owned()
}
