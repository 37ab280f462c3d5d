//! Filters of queries, and their rows.

use crate::events::Event;
use sea_orm::FromQueryResult;
use wirewatch_core::plan::Reached;
use wirewatch_core::{ArrivalId, MessageId, Timestamp};

/// Which messages; empty and `None` mean any.
#[derive(Debug, Clone, Default)]
pub struct MessageFilter {
    pub flow: String,
    /// Any of these flows.
    pub flows: Option<Vec<String>>,
    /// The connection by which it was received, or for which it waits.
    pub connection: String,
    pub partner: String,
    /// Any of these states; all if empty.
    pub states: Vec<String>,
    /// The step it is at, or ended at.
    pub step: String,
    pub key: String,
    /// How the key, or the key in the target, begins.
    pub key_prefix: String,
    pub arrival: Option<ArrivalId>,
    pub reason: Option<i64>,
    pub since: Option<Timestamp>,
    pub until: Option<Timestamp>,
    /// Only messages after this one in the order of the list: the next page.
    pub before: Option<MessageId>,
    /// Oldest first in place of newest first.
    pub oldest_first: bool,
    pub limit: u32,
}

/// A message in a list.
#[derive(Debug, Clone, FromQueryResult)]
pub struct MessageRow {
    pub id: i64,
    pub arrival: i64,
    pub flow: String,
    pub release: i64,
    pub partner: String,
    pub key: String,
    pub result: String,
    pub state: String,
    pub step: String,
    pub tries: i32,
    pub due: i64,
    pub waits_for: String,
    pub reason: i64,
    /// The reason's short name, when it failed.
    pub code: String,
    /// Reason of its state, in words.
    pub says: String,
    pub at: i64,
}

/// Which arrivals; empty and `None` mean any.
#[derive(Debug, Clone, Default)]
pub struct ArrivalFilter {
    pub connection: String,
    pub partner: String,
    pub verdict: String,
    pub name: String,
    pub since: Option<Timestamp>,
    pub until: Option<Timestamp>,
    pub before: Option<ArrivalId>,
    pub limit: u32,
}

/// An arrival.
#[derive(Debug, Clone, FromQueryResult)]
pub struct ArrivalRow {
    pub id: i64,
    pub connection: String,
    pub partner: String,
    pub name: String,
    pub verdict: String,
    pub says: String,
    pub size: i64,
    pub messages: i32,
    pub received: i64,
    pub by_whom: String,
    pub event: String,
    pub properties: String,
}

impl ArrivalRow {
    /// Returns the headers and properties stored with it.
    #[must_use]
    pub fn properties(&self) -> serde_json::Map<String, serde_json::Value> {
        serde_json::from_str(&self.properties).unwrap_or_default()
    }
}

/// Events received by a connection, by the sender's own name.
#[derive(Debug, Clone, FromQueryResult)]
pub struct HeardRow {
    pub connection: String,
    pub event: String,
    pub n: i64,
    pub last: i64,
    /// The newest of them.
    pub arrival: i64,
}

/// Number of messages that failed for one reason.
#[derive(Debug, Clone, FromQueryResult)]
pub struct ReasonCount {
    pub id: i64,
    pub flow: String,
    pub step: String,
    pub connection: String,
    pub code: String,
    pub says: String,
    /// When it was first seen; resends do not change it, and a day without the reason ends it.
    pub first: i64,
    pub messages: i64,
}

/// Number of unfinished messages with the same flow, step, state and partner.
#[derive(Debug, Clone, FromQueryResult)]
pub struct Standing {
    pub flow: String,
    pub step: String,
    pub state: String,
    pub partner: String,
    pub messages: i64,
    /// Since when the first of them has been in that state, and when the next of them is due; 0 for none.
    pub oldest: i64,
    pub due: i64,
}

/// Which timelines; empty and `None` mean any.
#[derive(Debug, Clone, Default)]
pub struct TimelineFilter {
    pub plan: String,
    pub partner: String,
    pub key: String,
    pub state: String,
    /// Only timelines that began then or later, and before then.
    pub since: Option<Timestamp>,
    pub until: Option<Timestamp>,
    /// Only timelines that began before this: the next page.
    pub before: Option<(Timestamp, String)>,
    pub limit: u32,
}

/// A timeline.
#[derive(Debug, Clone)]
pub struct TimelineRow {
    pub plan: String,
    pub partner: String,
    pub key: String,
    pub arrival: i64,
    pub state: String,
    pub begun: i64,
    pub last: i64,
    pub milestones: Vec<Reached>,
}

/// A ledger entry.
#[derive(Debug, Clone, FromQueryResult)]
pub struct LedgerRow {
    pub id: i64,
    pub direction: String,
    pub sender: String,
    pub receiver: String,
    pub usage: String,
    pub control: String,
    pub arrival: i64,
    pub message: i64,
    pub answers: String,
    pub at: i64,
}

/// Counts of an hour.
#[derive(Debug, Clone, FromQueryResult)]
pub struct TallyRow {
    pub hour: i64,
    pub flow: String,
    pub step: String,
    pub outcome: String,
    pub n: i64,
    pub took: i64,
}

/// A person's act.
#[derive(Debug, Clone, FromQueryResult)]
pub struct AuditRow {
    pub id: i64,
    pub at: i64,
    pub by_whom: String,
    pub act: String,
    pub subject: i64,
    pub why: String,
}

/// A feed row: one group of events of the live stream.
#[derive(Debug, Clone)]
pub struct FeedRow {
    pub writer: i16,
    pub group_no: i64,
    pub at: i64,
    pub events: Vec<Event>,
}
