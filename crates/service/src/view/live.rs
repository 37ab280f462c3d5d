//! What happens, as the two live streams tell it.

use super::{sure_time, time};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wirewatch_journal::Event;

/// One thing that happened, as the live stream tells it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LiveEvent {
    pub at: String,
    /// `message`, `arrival` or `hold`.
    pub kind: String,
    pub id: String,
    pub flow: String,
    pub partner: String,
    /// The step of a message, the connection of an arrival or a hold.
    pub step: String,
    /// State of a message, verdict of an arrival, `held` or `free`.
    pub state: String,
    pub key: String,
    pub result: String,
    pub says: String,
    pub tries: u16,
    pub due: Option<String>,
    /// How long the effect took, in microseconds.
    pub took_us: u64,
    /// The step whose effect that was; empty when there was none.
    pub tried: String,
    /// Steps that the message passed by this.
    pub passed: Vec<String>,
    /// A message that came to be.
    pub began: bool,
}

/// What happened in a fifth of a second, for drawing: each message once, as it stands now.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Pulse {
    pub at: String,
    /// Messages, arrivals and holds, oldest first; of a message the last change, with all steps it passed.
    pub changes: Vec<LiveEvent>,
    /// Changes that were left out because there were too many.
    pub left_out: usize,
    /// How many messages passed, by flow and step; exact, whatever was left out.
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
            kind: event.kind.clone(),
            id: if event.id.0 == 0 { String::new() } else { event.id.to_string() },
            flow: event.flow.clone(),
            partner: event.partner.clone(),
            step: event.step.clone(),
            state: event.state.clone(),
            key: event.key.clone(),
            result: event.result.clone(),
            says: event.says.clone(),
            tries: event.tries,
            due: time(event.due.0),
            took_us: event.took,
            tried: event.tried.clone(),
            passed: event.passed.clone(),
            began: event.began(),
        }
    }
}
