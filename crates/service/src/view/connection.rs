//! Connections and how they stand.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A connection that is held.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct HeldConnection {
    pub connection: String,
    pub since: String,
    pub says: String,
    /// The person who holds it; empty when the connection itself is of no use.
    pub by: String,
    /// When the next message looks whether it is of use again; absent while a person holds it.
    pub next_look: Option<String>,
    pub waiting: usize,
}

/// A connection.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ConnectionView {
    pub name: String,
    pub title: String,
    /// `folder` or `http`.
    pub kind: String,
    pub place: String,
    /// What repeating a request does there: `key`, `safe` or `never`.
    pub repeat: String,
    /// Requests at a time, at most.
    pub in_flight: u32,
    /// The other side's own page, where its people look.
    pub page: Option<String>,
    /// Flows that use it.
    pub used_by: Vec<String>,
    /// Flows take from it.
    pub takes: bool,
    /// Flows or acknowledgments send to it.
    pub sends: bool,
    pub held: Option<HeldConnection>,
}
