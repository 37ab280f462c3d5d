//! Connections and their states.

use super::words::{ConnectionType, HttpMethod, QueueListening, RepeatType};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A connection on hold.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ConnectionHold {
    pub connection: String,
    pub since: String,
    pub says: String,
    /// The person who put it on hold; `null` when it did not respond.
    pub by: Option<String>,
    /// When it is tried again; `null` while a person keeps it on hold.
    pub next_try: Option<String>,
    pub waiting: usize,
}

/// A connection.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ConnectionView {
    pub name: String,
    pub title: String,
    pub kind: ConnectionType,
    pub place: String,
    pub repeat: RepeatType,
    /// Requests at a time, at most.
    pub in_flight: u32,
    /// Requests in a minute, at most; `null` where there is no limit.
    pub per_minute: Option<u32>,
    /// The other side's own page, for people.
    pub page: Option<String>,
    /// Owner, and what must be set up there, in words; may be empty.
    pub notes: String,
    /// How we authenticate there, in words; empty when we do not.
    pub auth: String,
    /// Flows that use it.
    pub used_by: Vec<String>,
    /// A flow receives from it.
    pub takes: bool,
    /// Flows or acknowledgments send to it.
    pub sends: bool,
    pub on_hold: Option<ConnectionHold>,
    /// Of a broker: the queues that the workspace names.
    pub queues: Vec<QueueView>,
    /// Of a folder: files that cannot be read or archived.
    pub files: Vec<FileFault>,
    /// Of a webhook: what its sender needs, and the events received.
    pub webhook: Option<WebhookView>,
}

/// A file that cannot be read or archived.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FileFault {
    /// Name; empty for the folder itself.
    pub file: String,
    pub since: String,
    /// The cause.
    pub says: String,
}

/// A queue at a broker.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct QueueView {
    pub name: String,
    pub listening: QueueListening,
    /// Why it is stopped, or its state is unknown; empty otherwise.
    pub says: String,
    /// Messages waiting in it, without those under way to consumers; `null` while the broker has not answered.
    pub messages: Option<u32>,
    /// Consumers, here and elsewhere.
    pub consumers: Option<u32>,
    /// When the broker answered.
    pub at: Option<String>,
    /// Flows that take from it.
    pub flows: Vec<String>,
    /// The queue to which the broker moves what expires or is rejected.
    pub dead_letters: Option<String>,
    /// Where the event name and the delivery id are read, in words; empty when nowhere.
    pub event_from: String,
    pub delivery_from: String,
}

/// A webhook: what to set up at its sender, and the events received.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WebhookView {
    /// The whole address that the sender calls.
    pub address: String,
    /// Earlier addresses that answer still.
    pub old_paths: Vec<String>,
    /// The address can be reached from this machine alone.
    pub local_only: bool,
    /// How calls are signed, in words; empty when they are not.
    pub signed: String,
    /// Name of the secret; `null` when calls are not signed.
    pub secret: Option<String>,
    pub secret_is_set: bool,
    /// Where the event name and the delivery id are read, in words; empty when nowhere.
    pub event_from: String,
    pub delivery_from: String,
    /// Events that were received or that flows ask for.
    pub events: Vec<HeardView>,
    /// When a client last checked that the address exists.
    pub checked: Option<String>,
    pub turned_away: Option<TurnedView>,
}

/// An event by the sender's own name.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct HeardView {
    pub event: String,
    /// Calls with this event, ever.
    pub calls: i64,
    pub last: Option<String>,
    /// The newest arrival of it: a sample.
    pub arrival: Option<String>,
    /// Flows that take it.
    pub flows: Vec<String>,
}

/// Calls refused since the service started.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TurnedView {
    pub calls: u64,
    pub last: String,
    /// Why the last of them was not.
    pub says: String,
}

/// A request to be made for a dry_run.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AskRequest {
    #[schema(value_type = HttpMethod)]
    pub method: String,
    /// Behind the connection's address.
    pub path: String,
    /// Body of the request; none when left out.
    pub body: Option<String>,
    /// Hexadecimal digits of the idempotency key.
    pub key: String,
}

/// Result of the request.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Asked {
    /// HTTP status; `null` where there was no answer.
    pub status: Option<u16>,
    pub body: String,
    /// Error; empty otherwise.
    pub says: String,
}
