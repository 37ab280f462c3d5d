//! Outputs of a machine: the next action, ends, decisions, log entries.

use super::{Outcome, Work};
use crate::act::Act;
use crate::flow::Way;
use crate::plan::Point;
use crate::reason::Reason;
use crate::{Digest, Timestamp};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// The next action.
#[derive(Debug, Clone, PartialEq)]
pub enum Next {
    /// Perform the effect, then give its outcome.
    Perform(Arc<Work>),
    /// A retry: call [`Machine::woken`] at that moment.
    WaitUntil(Timestamp),
    /// Call [`Machine::woken`] when the connection is in use again.
    WaitFor(String),
    /// A pause of the flow: call [`Machine::woken`] at that moment and commit its result.
    Pause(Timestamp),
    /// Make these messages with [`Machine::part`], and commit them with what [`Machine::parted`] gives.
    Part(Vec<Way>),
    End(End),
}

/// End of a message. A person can undo a failure.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum End {
    Done,
    Skipped(String),
    Failed(Reason),
    Discarded,
}

/// The state of a message as people see it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum State {
    Running,
    Waiting,
    Retrying,
    Failed,
    Done,
    Skipped,
    Discarded,
}

impl State {
    /// Every state.
    pub const ALL: [Self; 7] =
        [Self::Running, Self::Waiting, Self::Retrying, Self::Failed, Self::Done, Self::Skipped, Self::Discarded];

    /// Returns the word as shown and stored.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Running => "running",
            Self::Waiting => "waiting",
            Self::Retrying => "retrying",
            Self::Failed => "failed",
            Self::Done => "done",
            Self::Skipped => "skipped",
            Self::Discarded => "discarded",
        }
    }

    /// The state of that name.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|state| state.as_str() == text)
    }

    /// Returns whether the message does not change by itself and needs no attention.
    #[must_use]
    pub const fn is_final(self) -> bool {
        matches!(self, Self::Done | Self::Skipped | Self::Discarded)
    }
}

impl Next {
    /// The state that a message is in while this is next.
    #[must_use]
    pub fn state(&self) -> State {
        match self {
            Self::Perform(_) | Self::Part(_) => State::Running,
            Self::WaitUntil(_) => State::Retrying,
            Self::WaitFor(_) | Self::Pause(_) => State::Waiting,
            Self::End(End::Done) => State::Done,
            Self::End(End::Skipped(_)) => State::Skipped,
            Self::End(End::Failed(_)) => State::Failed,
            Self::End(End::Discarded) => State::Discarded,
        }
    }
}

/// An entry of a message's log.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LogEntry {
    pub at: Timestamp,
    pub what: Logged,
}

/// Content of a log entry.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Logged {
    /// An effect that must not be repeated blindly is about to be performed.
    Intent { step: String, request: Digest },
    /// An attempt of an effect, and the decision on it.
    Attempt { step: String, generation: u16, tries: u16, request: Digest, outcome: Outcome, then: Then },
    /// A person's act.
    Act { act: Act, by: String, why: String },
    /// The step could not be worked out; nothing was performed.
    Stopped { reason: Reason },
    /// A pause is over.
    Woken { step: String },
    /// The messages of an `also` were made, of the document with that digest.
    Parted { step: String, request: Digest },
}

/// Decision on an outcome.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Then {
    Go,
    RetryAt(Timestamp),
    WaitFor(String),
    Failed(Reason),
}

/// A step that a message passed, for counting.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Passed {
    pub step: String,
    pub how: Pass,
}

/// How a step was passed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Pass {
    Done,
    /// A try that failed; it is repeated.
    Retried,
    Failed,
    Skipped,
}

impl Pass {
    /// Returns the word as shown and stored.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Done => "done",
            Self::Retried => "retried",
            Self::Failed => "failed",
            Self::Skipped => "skipped",
        }
    }
}

impl Turn {
    /// Creates a turn that only has the next action.
    pub(super) fn still(next: Next) -> Self {
        Self { entry: None, passed: Vec::new(), points: Vec::new(), next }
    }

    /// Appends a later turn.
    pub(super) fn then(mut self, later: Self) -> Self {
        self.passed.extend(later.passed);
        self.points.extend(later.points);
        Self { entry: later.entry.or(self.entry), next: later.next, ..self }
    }
}

/// Result of an input: commit `entry`, then follow `next`.
#[derive(Debug, Clone, PartialEq)]
pub struct Turn {
    pub entry: Option<LogEntry>,
    pub passed: Vec<Passed>,
    pub points: Vec<Point>,
    pub next: Next,
}
