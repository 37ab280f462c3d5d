//! Orders along their plans.

use super::Message;
use super::words::{MilestoneMark, OrderEventKind, OrderState};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// An order along its plan.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Order {
    pub plan: String,
    pub partner: Option<String>,
    pub key: String,
    pub state: OrderState,
    pub milestones: Vec<MilestoneView>,
    pub begun: String,
    pub changed: String,
    /// Why its newest failed message failed; empty where none is failed.
    pub says: String,
    /// Since when that message is failed.
    pub failed_since: Option<String>,
}

/// A milestone of an order.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MilestoneView {
    pub name: String,
    pub mark: MilestoneMark,
    /// When it was first reached; `null` while it is not.
    pub at: Option<String>,
    /// Since the milestone reached before it.
    pub after_ms: Option<u64>,
    pub times: u32,
    pub message: Option<String>,
}

/// A page of orders.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Orders {
    pub orders: Vec<Order>,
    /// Orders that the filters find, on all pages; at most 10,000 are counted.
    pub total: i64,
    pub next: Option<String>,
}

/// An order with its messages.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct OrderStory {
    pub orders: Vec<Order>,
    /// Its newest 100 messages, newest first.
    pub messages: Vec<Message>,
    /// How many messages it has; at most 10,000 are counted.
    pub total: i64,
    /// What happened to it, oldest first: its milestones, and arrivals, acts and acknowledgments of its first 100 messages.
    pub events: Vec<OrderEvent>,
}

/// Something that happened to an order.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct OrderEvent {
    pub at: String,
    pub kind: OrderEventKind,
    /// What, in a few words.
    pub says: String,
    /// Mark of the milestone; `null` for other events.
    pub mark: Option<MilestoneMark>,
    /// The person who did it; `null` where it happened by itself.
    pub by: Option<String>,
    pub message: Option<String>,
    pub arrival: Option<String>,
}

/// Which orders.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct OrderQuery {
    pub plan: String,
    pub partner: String,
    #[param(value_type = Option<OrderState>)]
    pub state: String,
    /// The exact key.
    pub key: String,
    /// Only orders that began then or later, and before then; RFC 3339.
    pub since: String,
    pub until: String,
    pub before: String,
    pub limit: Option<u32>,
}
