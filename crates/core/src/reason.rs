//! Why a message stopped, in a form that tells like from unlike.

use crate::Digest;
use serde::{Deserialize, Serialize};

/// Why a message fails.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reason {
    pub flow: String,
    pub step: String,
    /// The connection involved; empty for steps of our own.
    pub connection: String,
    /// Short stable name: `refused-422`, `map-failed`, `gave-up`, `in-doubt`, …
    pub code: String,
    /// One sentence.
    pub says: String,
}

impl Reason {
    /// The same for all messages that stopped for the same cause: connection, step, code and the first
    /// words with digits and quoted values taken out.
    #[must_use]
    pub fn id(&self) -> i64 {
        let words = normalised(&self.says);
        Digest::of(&[
            self.flow.as_bytes(),
            self.step.as_bytes(),
            self.connection.as_bytes(),
            self.code.as_bytes(),
            words.as_bytes(),
        ])
        .short()
    }
}

/// The first eight words with what differs between like messages taken out: anything with a digit, anything quoted.
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
            code: "refused-422".into(),
            says: says.into(),
        };
        let a = reason("unknown item `QH-1` on line 3 of order", "book").id();
        assert_eq!(a, reason("unknown item `QH-77` on line 12 of order", "book").id());
        assert_ne!(a, reason("unknown unit `QH-1` on line 3 of order", "book").id());
        assert_ne!(a, reason("unknown item `QH-1` on line 3 of order", "price").id());
    }
}
