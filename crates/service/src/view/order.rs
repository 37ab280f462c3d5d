//! Orders along their plans.

use super::Message;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// An order along its plan.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Order {
    pub plan: String,
    pub partner: String,
    pub key: String,
    /// `open`, `trouble` or `ended`.
    pub state: String,
    pub milestones: Vec<MilestoneView>,
    pub begun: String,
    pub changed: String,
}

/// A milestone of an order.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct MilestoneView {
    pub name: String,
    /// `begins`, `passes`, `trouble` or `ends`.
    pub mark: String,
    /// When it was first reached; absent when it is still ahead.
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
    pub next: Option<String>,
}

/// One order with its messages.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct OrderStory {
    pub orders: Vec<Order>,
    pub messages: Vec<Message>,
}

/// Which orders.
#[derive(Debug, Clone, Default, Deserialize, IntoParams)]
#[serde(default)]
#[into_params(parameter_in = Query)]
pub struct OrderQuery {
    pub plan: String,
    pub partner: String,
    pub state: String,
    /// The exact number the order came with.
    pub key: String,
    pub before: String,
    pub limit: Option<u32>,
}
