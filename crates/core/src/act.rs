//! What a person does to a message.

use crate::document::Form;
use serde::{Deserialize, Serialize};

/// An act on one message. Who, when and why stand beside it in the log.
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

/// What a resend does with answers that outside systems gave before.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Answers {
    /// An effect that was done with the same request is not done again; where the request differs, a person is asked.
    #[default]
    Ask,
    /// An effect that was done is not done again, even where its request would differ now.
    Keep,
    /// Everything is done again.
    Again,
}

impl Act {
    /// The act as one word in the past tense.
    #[must_use]
    pub fn past(&self) -> &'static str {
        match self {
            Self::Resend { .. } => "resent",
            Self::Amend { .. } => "amended",
            Self::Discard => "discarded",
        }
    }
}
