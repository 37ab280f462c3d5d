//! Trading partners: who sends, who we are to them, and what they are answered with.

use crate::x12::ack::AckStyle;
use crate::x12::{Party, Tolerance};

/// A trading partner.
#[derive(Debug, Clone, PartialEq)]
pub struct Partner {
    pub name: String,
    pub title: String,
    pub them: Party,
    pub us: Party,
    /// `None` when the partner wants no acknowledgments.
    pub acknowledge: Option<Acknowledge>,
    /// Errors that are told to the partner, but let its documents pass.
    pub tolerated: Vec<Tolerance>,
}

/// How a partner is told what became of its interchanges.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Acknowledge {
    /// The connection that acknowledgments go to.
    pub to: String,
    pub style: AckStyle,
}

impl Partner {
    /// The connection that acknowledgments go to.
    #[must_use]
    pub fn acknowledges_to(&self) -> Option<&str> {
        self.acknowledge.as_ref().map(|acknowledge| acknowledge.to.as_str())
    }
}
