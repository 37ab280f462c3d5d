//! Connections and how they stand.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A connection that is on hold.
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
    /// `folder`, `http`, `webhook` or `amqp`.
    pub kind: String,
    pub place: String,
    /// What repeating a request does there: `key`, `safe` or `never`.
    pub repeat: String,
    /// Requests at a time, at most.
    pub in_flight: u32,
    /// Requests in a minute, at most; absent where there is no limit.
    pub per_minute: Option<u32>,
    /// The other side's own page, where its people look.
    pub page: Option<String>,
    /// Whose it is and what must be set up there, in words; empty when nothing is said.
    pub notes: String,
    /// How we sign in there, in words; empty when we do not.
    pub auth: String,
    /// Flows that use it.
    pub used_by: Vec<String>,
    /// Flows take from it.
    pub takes: bool,
    /// Flows or acknowledgments send to it.
    pub sends: bool,
    pub held: Option<HeldConnection>,
    /// Of a broker: its queues that the workspace names.
    pub queues: Vec<QueueView>,
    /// Of a folder: its files that cannot be taken in or archived.
    pub files: Vec<FileFault>,
    /// Of a webhook: what its sender needs, and what came of it.
    pub webhook: Option<WebhookView>,
}

/// A file that cannot be taken in or archived.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct FileFault {
    /// Its name; empty for the folder itself.
    pub file: String,
    pub since: String,
    /// What is in the way.
    pub says: String,
}

/// A queue at a broker.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct QueueView {
    pub name: String,
    /// Whether we take from it: `yes`, `no` (no flow does), or `stopped` (a flow would).
    pub listening: String,
    /// Why it is stopped, or cannot be looked at; empty when all is well.
    pub says: String,
    /// Messages that wait in it, those on their way to consumers left out; absent while the broker has not said.
    pub messages: Option<u32>,
    /// Who takes from it, here and elsewhere.
    pub consumers: Option<u32>,
    /// When the broker said so.
    pub at: Option<String>,
    /// Flows that take from it.
    pub flows: Vec<String>,
    /// The queue to which the broker moves what expires or is rejected.
    pub dead_letters: Option<String>,
    /// Where the name of the event and the id of the delivery are read, in words; empty when nowhere.
    pub event_from: String,
    pub delivery_from: String,
}

/// A webhook: what is set up at its sender, and what the sender tells of.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct WebhookView {
    /// Where the sender calls, whole.
    pub address: String,
    /// Earlier addresses that answer still.
    pub old_paths: Vec<String>,
    /// The address can be reached from this machine alone.
    pub local_only: bool,
    /// How calls are signed, in words; empty when they are not.
    pub signed: String,
    /// Name of the secret; empty when calls are not signed.
    pub secret: String,
    pub secret_is_set: bool,
    /// Where the name of the event and the id of the delivery are read, in words; empty when nowhere.
    pub event_from: String,
    pub delivery_from: String,
    /// Events that came or that flows ask for.
    pub events: Vec<HeardView>,
    /// When somebody last looked whether the address is there.
    pub checked: Option<String>,
    pub turned_away: Option<TurnedView>,
}

/// An event by the sender's own name.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct HeardView {
    pub event: String,
    /// Calls that told of it, ever.
    pub calls: i64,
    pub last: Option<String>,
    /// The newest arrival of it: a sample.
    pub arrival: Option<String>,
    /// Flows that take it.
    pub flows: Vec<String>,
}

/// Calls that were not taken since the service started.
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
    /// `GET`, `POST` …
    pub method: String,
    /// Behind the connection's address.
    pub path: String,
    /// Its content; none where it is absent.
    pub body: Option<String>,
    /// Hexadecimal digits of the idempotency key.
    pub key: String,
}

/// What came of it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Asked {
    /// HTTP status; 0 where there was no answer.
    pub status: u16,
    pub body: String,
    /// What went wrong; empty where nothing did.
    pub says: String,
}
