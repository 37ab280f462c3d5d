//! Acts of people on messages.

use crate::document::Form;
use serde::{Deserialize, Serialize};

/// An act on one message. The log entry also has who, when and why.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Act {
    /// Run again from the document it has.
    Resend {
        answers: Answers,
        /// Number of the release to run. As asked for: `None` lets the machine choose, see
        /// [`Machine::act`](crate::machine::Machine::act). In the log: `None` stands for the release that the message ran before.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        release: Option<i64>,
    },
    /// Run again from this document.
    Amend {
        form: Form,
        document: String,
        answers: Answers,
        /// As in `Resend`.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        release: Option<i64>,
    },
    /// Stop for good.
    Discard,
}

/// Rule of a resend for answers that outside systems gave before.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Answers {
    /// An effect that was done with the same request is skipped; where the request differs, the act is refused so that a person
    /// decides.
    #[default]
    Ask,
    /// An effect that was done is not done again, even where its request would differ now.
    Keep,
    /// Everything is done again.
    Again,
}

impl Act {
    /// Returns the number of the release to run, if the act names one.
    #[must_use]
    pub fn release(&self) -> Option<i64> {
        match self {
            Self::Resend { release, .. } | Self::Amend { release, .. } => *release,
            Self::Discard => None,
        }
    }

    /// Returns the same act with this release.
    #[must_use]
    pub fn under(mut self, no: i64) -> Self {
        if let Self::Resend { release, .. } | Self::Amend { release, .. } = &mut self {
            *release = Some(no);
        }
        self
    }

    /// Returns the act as one word in the past tense.
    #[must_use]
    pub fn past(&self) -> &'static str {
        match self {
            Self::Resend { .. } => "resent",
            Self::Amend { .. } => "amended",
            Self::Discard => "discarded",
        }
    }
}
