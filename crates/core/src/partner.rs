//! Trading partners: who sends, who we are to them, and what they are answered with.

use crate::x12::ack::AckStyle;
use crate::x12::{Definitions, Delimiters, Party, Style, Terms, Tolerance};
use std::sync::Arc;

/// A trading partner.
#[derive(Debug, Clone)]
pub struct Partner {
    pub name: String,
    pub title: String,
    pub them: Party,
    pub us: Party,
    /// `None` when the partner wants no acknowledgments.
    pub acknowledge: Option<Acknowledge>,
    /// Errors that are reported to the partner but accepted.
    pub tolerated: Arc<[Tolerance]>,
    /// The sets as its guides have them.
    pub definitions: Arc<Definitions>,
    /// How documents are written to it.
    pub sending: Sending,
}

/// How documents are written to a partner.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Sending {
    pub delimiters: Delimiters,
    pub style: Style,
    pub envelopes: Envelopes,
}

/// How sets are grouped into interchanges.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Envelopes {
    /// All in one interchange, sets of a kind in one group.
    #[default]
    One,
    /// An interchange for each group.
    PerGroup,
    /// An interchange for each set.
    PerSet,
}

/// How a partner's interchanges are acknowledged.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Acknowledge {
    /// The connection that acknowledgments go to.
    pub to: String,
    pub style: AckStyle,
}

impl Partner {
    /// Returns the definitions and tolerances by which its interchanges are read.
    #[must_use]
    pub fn terms(&self) -> Terms {
        Terms { definitions: self.definitions.clone(), tolerated: self.tolerated.clone() }
    }

    /// The connection that acknowledgments go to.
    #[must_use]
    pub fn acknowledges_to(&self) -> Option<&str> {
        self.acknowledge.as_ref().map(|acknowledge| acknowledge.to.as_str())
    }
}
