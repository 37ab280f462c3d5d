//! Acts of people on messages.

use crate::document::Form;
use serde::{Deserialize, Serialize};

/// An act on one message. The log entry also has who, when and why.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Act {
    /// Run again from the document it has.
    Resend { answers: Answers },
    /// Run again from this document.
    Amend { form: Form, document: String, answers: Answers },
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
