//! Trading partners: who sends, who we are to them, and what they are answered with.

use crate::x12::Party;

/// A trading partner.
#[derive(Debug, Clone, PartialEq)]
pub struct Partner {
    pub name: String,
    pub title: String,
    pub them: Party,
    pub us: Party,
    /// The connection that 997s go to; `None` when the partner wants none.
    pub acknowledge_to: Option<String>,
}
