//! Why a message failed: a stable code, the place, and one sentence.

use crate::Digest;
use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::fmt;
use std::str::FromStr;

/// Stable name of a reason why a message fails. A closed set: people filter by it, and [`advice`](Self::advice) knows each.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum ReasonCode {
    /// The other side refused the request: `refused-422` with the HTTP status, `refused` (0 here) where the protocol has none.
    Refused(u16),
    /// The outcome of the request is not known, and the connection is not idempotent.
    InDoubt,
    /// Every retry failed.
    GaveUp,
    /// A completed step would make another request now: a person decides whether its answer is still valid.
    OtherRequest,
    /// The release has no map of that name.
    MapMissing,
    MapFailed,
    CheckFailed,
    FilterFailed,
    ValueFailed,
    PathFailed,
    BodyFailed,
    FileNameFailed,
    RoutingFailed,
    ChoiceFailed,
    /// No condition of a `choose` holds.
    NoWay,
    PauseFailed,
    NoticeFailed,
    KeyFailed,
    OrderFailed,
    /// A step panicked in our own code.
    Broken,
    /// A stored record of the message cannot be read.
    Damaged,
    /// The message cannot be rebuilt from its log and its release.
    Diverged,
    /// An effect was performed and its outcome could not be stored.
    NotStored,
    /// The process ended more than once while it worked on this message.
    Suspect,
}

/// The act that usually helps a failed message.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Help {
    Amend,
    Resend,
    Discard,
}

impl ReasonCode {
    /// Returns the act that usually helps: a resend alone does not help where the document is refused.
    #[must_use]
    pub const fn help(self) -> Help {
        match self {
            Self::Refused(401 | 403 | 413) | Self::InDoubt | Self::GaveUp | Self::OtherRequest | Self::MapMissing => Help::Resend,
            Self::Broken | Self::NotStored | Self::Suspect => Help::Resend,
            Self::Refused(409) | Self::Damaged | Self::Diverged => Help::Discard,
            Self::Refused(_) | Self::MapFailed | Self::CheckFailed | Self::FilterFailed | Self::ValueFailed => Help::Amend,
            Self::PathFailed | Self::BodyFailed | Self::FileNameFailed | Self::RoutingFailed | Self::ChoiceFailed => Help::Amend,
            Self::PauseFailed | Self::NoticeFailed | Self::NoWay | Self::KeyFailed | Self::OrderFailed => Help::Amend,
        }
    }

    /// Every code; `Refused` once, without a status.
    pub const ALL: [Self; 24] = [
        Self::Refused(0),
        Self::InDoubt,
        Self::GaveUp,
        Self::OtherRequest,
        Self::MapMissing,
        Self::MapFailed,
        Self::CheckFailed,
        Self::FilterFailed,
        Self::ValueFailed,
        Self::PathFailed,
        Self::BodyFailed,
        Self::FileNameFailed,
        Self::RoutingFailed,
        Self::ChoiceFailed,
        Self::NoWay,
        Self::PauseFailed,
        Self::NoticeFailed,
        Self::KeyFailed,
        Self::OrderFailed,
        Self::Broken,
        Self::Damaged,
        Self::Diverged,
        Self::NotStored,
        Self::Suspect,
    ];

    /// The code's name without the status of a refusal.
    #[must_use]
    pub const fn name(self) -> &'static str {
        match self {
            Self::Refused(_) => "refused",
            Self::InDoubt => "in-doubt",
            Self::GaveUp => "gave-up",
            Self::OtherRequest => "other-request",
            Self::MapMissing => "map-missing",
            Self::MapFailed => "map-failed",
            Self::CheckFailed => "check-failed",
            Self::FilterFailed => "filter-failed",
            Self::ValueFailed => "value-failed",
            Self::PathFailed => "path-failed",
            Self::BodyFailed => "body-failed",
            Self::FileNameFailed => "file-name-failed",
            Self::RoutingFailed => "routing-failed",
            Self::ChoiceFailed => "choice-failed",
            Self::NoWay => "no-way",
            Self::PauseFailed => "pause-failed",
            Self::NoticeFailed => "notice-failed",
            Self::KeyFailed => "key-failed",
            Self::OrderFailed => "order-failed",
            Self::Broken => "broken",
            Self::Damaged => "damaged",
            Self::Diverged => "diverged",
            Self::NotStored => "not-stored",
            Self::Suspect => "suspect",
        }
    }

    /// Returns the next action of a person, in one or two sentences.
    #[must_use]
    pub const fn advice(self) -> &'static str {
        match self {
            Self::Refused(401 | 403) => {
                "The other side denies us access. Correct the credentials of the connection, then resend."
            }
            Self::Refused(404) => {
                "The other side does not find what was asked for. Check the path in the flow's step, or the number in the \
                 document, then resend."
            }
            Self::Refused(409) => {
                "The other side reports a conflict with a record that it has. Look at that record first; discard the message if \
                 the work is done already."
            }
            Self::Refused(413) => {
                "The request is too large for the other side. Have its limit raised, or send less, then resend."
            }
            Self::Refused(_) => {
                "The other side read the request and refused it. Amend the document and resend, or have it corrected there and \
                 resend it unchanged."
            }
            Self::InDoubt => {
                "It is not known whether the last request took effect. Look in the target system, then resend or discard."
            }
            Self::GaveUp => {
                "Every retry failed. Once the other side works again, resend: all messages with this reason can be resent at once."
            }
            Self::OtherRequest => {
                "A completed step would now send a different request. Resend and choose: keep the earlier answer, or send again."
            }
            Self::MapMissing => "The release has no such map. Add the map or correct the flow, deploy, then resend.",
            Self::MapFailed => {
                "A map could not work on this document. Amend the document; or correct the map and deploy it, then \
                 resend."
            }
            Self::CheckFailed => {
                "The document does not pass a check of the flow. Amend the document; or correct the check and deploy it, \
                 then resend."
            }
            Self::FilterFailed
            | Self::ValueFailed
            | Self::PathFailed
            | Self::BodyFailed
            | Self::FileNameFailed
            | Self::RoutingFailed
            | Self::ChoiceFailed
            | Self::PauseFailed
            | Self::NoticeFailed => {
                "An expression of this step could not be evaluated for this document. Amend the document; or correct \
                 the expression and deploy it, then resend."
            }
            Self::NoWay => {
                "No condition of the `choose` step holds for this document. Amend the document; or add a branch \
                 without a condition and deploy, then resend."
            }
            Self::KeyFailed | Self::OrderFailed => {
                "The flow's key or order could not be read from this document. Amend the document; or correct the flow \
                 and deploy it, then resend."
            }
            Self::Broken => {
                "A fault in Wire Watch itself stopped this step. Resend it once; if it fails again, report it with the service's \
                 log."
            }
            Self::Damaged => {
                "A record of this message in the database is damaged. Discard it, have the sender send it again, and find out what \
                 else happened to the database."
            }
            Self::Diverged => {
                "The message cannot be rebuilt: its document, its log or its release cannot be read. Discard it and have the \
                 sender send it again."
            }
            Self::NotStored => {
                "The outcome of the last request could not be stored. Look in the target system whether it was done, then resend \
                 or discard."
            }
            Self::Suspect => {
                "This message may be the reason why the service ended. Look at its document; resend it alone and watch, or discard \
                 it."
            }
        }
    }
}

impl fmt::Display for ReasonCode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Refused(status) if *status != 0 => write!(f, "refused-{status}"),
            code => f.write_str(code.name()),
        }
    }
}

/// A text that is not the name of a reason's code.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not the code of a reason")]
pub struct NoReasonCode(String);

impl FromStr for ReasonCode {
    type Err = NoReasonCode;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let status = text.strip_prefix("refused-").and_then(|status| status.parse().ok());
        let named = || Self::ALL.into_iter().find(|code| code.name() == text);
        status.map(Self::Refused).or_else(named).ok_or_else(|| NoReasonCode(text.to_owned()))
    }
}

impl Serialize for ReasonCode {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for ReasonCode {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        std::borrow::Cow::<'_, str>::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
    }
}

/// Why a message failed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reason {
    pub flow: String,
    pub step: String,
    /// The connection involved; empty for steps that use none.
    pub connection: String,
    pub code: ReasonCode,
    /// One sentence.
    pub says: String,
}

impl Reason {
    /// Id shared by all messages that failed for the same cause: connection, step, code and the first words of the sentence
    /// without digits and quoted values.
    #[must_use]
    pub fn id(&self) -> i64 {
        let words = normalised(&self.says);
        Digest::of(&[
            self.flow.as_bytes(),
            self.step.as_bytes(),
            self.connection.as_bytes(),
            self.code.to_string().as_bytes(),
            words.as_bytes(),
        ])
        .short()
    }
}

/// Returns the first eight words; words with a digit or a quote become `#`, since they differ between like messages.
fn normalised(says: &str) -> String {
    let plain = |word: &str| !word.contains(|c: char| c.is_ascii_digit() || matches!(c, '`' | '\'' | '"'));
    let words = says.split_whitespace().map(|word| if plain(word) { word.to_lowercase() } else { "#".to_owned() });
    words.take(8).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn like_causes_share_an_id_and_unlike_ones_do_not() {
        let reason = |says: &str, step: &str| Reason {
            flow: "orders".into(),
            step: step.into(),
            connection: "erp".into(),
            code: ReasonCode::Refused(422),
            says: says.into(),
        };
        let a = reason("unknown item `QH-1` on line 3 of order", "book").id();
        assert_eq!(a, reason("unknown item `QH-77` on line 12 of order", "book").id());
        assert_ne!(a, reason("unknown unit `QH-1` on line 3 of order", "book").id());
        assert_ne!(a, reason("unknown item `QH-1` on line 3 of order", "price").id());
    }

    #[test]
    fn every_code_is_read_back_and_has_advice() {
        let written: Vec<String> = ReasonCode::ALL.iter().map(ToString::to_string).collect();
        let unique: std::collections::BTreeSet<&String> = written.iter().collect();
        assert_eq!(unique.len(), ReasonCode::ALL.len(), "{written:?}");
        for code in ReasonCode::ALL.into_iter().chain([ReasonCode::Refused(422)]) {
            assert_eq!(code.to_string().parse(), Ok(code));
            assert!(code.advice().ends_with('.'), "{code}");
            let named = match code.help() {
                Help::Amend => code.advice().contains("mend"),
                Help::Resend => code.advice().contains("esend"),
                Help::Discard => code.advice().contains("iscard"),
            };
            assert!(named, "{code}: the advice names the act that helps");
        }
        assert_eq!(ReasonCode::Refused(422).to_string(), "refused-422");
        for unknown in ["", "refused-", "refused-x", "refused-99999", "Damaged"] {
            assert!(unknown.parse::<ReasonCode>().is_err(), "{unknown}");
        }
    }
}
