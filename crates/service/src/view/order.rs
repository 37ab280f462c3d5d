//! Orders along their plans.

use super::Message;
use super::words::{MilestoneMark, OrderState};
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
    pub next: Option<String>,
}

/// An order with its messages.
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
    #[param(value_type = Option<OrderState>)]
    pub state: String,
    /// The exact key.
    pub key: String,
    pub before: String,
    pub limit: Option<u32>,
}
