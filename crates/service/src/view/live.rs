//! Events of the two live streams.

use super::words::{EventKind, EventState};
use super::{some, sure_time, time};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wirewatch_journal::Event;

/// An event of the live stream.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LiveEvent {
    pub at: String,
    pub kind: EventKind,
    /// The message or arrival; `null` for a hold.
    pub id: Option<String>,
    pub flow: String,
    pub partner: Option<String>,
    /// The step of a message; the connection of an arrival or a hold.
    pub step: String,
    #[schema(value_type = EventState)]
    pub state: String,
    pub key: String,
    pub result: Option<String>,
    pub says: String,
    pub tries: u16,
    pub due: Option<String>,
    /// Duration of the request, in microseconds.
    pub took_us: u64,
    /// The step whose request that was; `null` when there was none.
    pub tried: Option<String>,
    /// Steps that the message passed by this.
    pub passed: Vec<String>,
    /// The message was created by this.
    pub began: bool,
}

/// Changes within 200 ms, for drawing: each message once, with its newest state.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Pulse {
    pub at: String,
    /// Messages, arrivals and holds, oldest first; of a message the last change, with all steps it passed.
    pub changes: Vec<LiveEvent>,
    /// Changes that were left out because there were too many.
    pub left_out: usize,
    /// Messages passed, by flow and step; exact, whatever was left out.
    pub passed: Vec<PassedCount>,
}

/// Messages that passed a step.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PassedCount {
    pub flow: String,
    /// Empty for the flow's beginning.
    pub step: String,
    pub messages: u64,
}

impl From<&Event> for LiveEvent {
    fn from(event: &Event) -> Self {
        Self {
            at: sure_time(event.at),
            kind: EventKind::parse(&event.kind).unwrap_or(EventKind::Message),
            id: (event.id.0 != 0).then(|| event.id.to_string()),
            flow: event.flow.clone(),
            partner: some(&event.partner),
            step: event.step.clone(),
            state: event.state.clone(),
            key: event.key.clone(),
            result: some(&event.result),
            says: event.says.clone(),
            tries: event.tries,
            due: time(event.due.0),
            took_us: event.took,
            tried: some(&event.tried),
            passed: event.passed.clone(),
            began: event.began(),
        }
    }
}
