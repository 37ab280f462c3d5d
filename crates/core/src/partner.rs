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
    /// Errors that are told to the partner, but let its documents pass.
    pub tolerated: Arc<[Tolerance]>,
    /// The sets as its guides have them.
    pub definitions: Arc<Definitions>,
    /// How it wants to be written to.
    pub sending: Sending,
}

/// How a partner wants to be written to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Sending {
    pub delimiters: Delimiters,
    pub style: Style,
    pub envelopes: Envelopes,
}

/// How sets are put into interchanges.
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

/// How a partner is told what became of its interchanges.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Acknowledge {
    /// The connection that acknowledgments go to.
    pub to: String,
    pub style: AckStyle,
}

impl Partner {
    /// What its interchanges are read by.
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
