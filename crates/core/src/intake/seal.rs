//! Acknowledgments that follow from an arrival, before they have their numbers.

use super::LedgerKey;
use crate::x12::ack::{AckForm, AckStyle, Stamp, functional_ack, interchange_ack};
use crate::x12::{Group, Header, Interchange};

/// An acknowledgment to be numbered and written.
#[derive(Debug, Clone, PartialEq)]
pub struct Seal {
    pub partner: String,
    /// The connection to send it to.
    pub to: String,
    pub header: Header,
    pub answers: Answers,
}

/// Subject of an acknowledgment.
#[derive(Debug, Clone, PartialEq)]
pub enum Answers {
    /// A functional group, with a 997 or 999.
    Group(Group, AckStyle),
    /// The interchange itself, with a TA1.
    Interchange(Box<Interchange>),
}

impl Seal {
    /// The counters that number it, per pair of identifiers: interchange, and group where it has one.
    #[must_use]
    pub fn counters(&self) -> Vec<String> {
        let key = LedgerKey::of(&self.header);
        let levels: &[&str] = match self.answers {
            Answers::Group(..) => &["interchange", "group"],
            Answers::Interchange(_) => &["interchange"],
        };
        levels.iter().map(|what| format!("x12 {} to {} {what}", key.receiver, key.sender)).collect()
    }

    /// Returns its bytes with the given control numbers.
    #[must_use]
    pub fn render(&self, stamp: &Stamp) -> Vec<u8> {
        match &self.answers {
            Answers::Group(group, style) => functional_ack(&self.header, group, *style, stamp),
            Answers::Interchange(interchange) => interchange_ack(interchange, stamp),
        }
    }

    /// The transaction set, or the segment that an interchange is acknowledged with.
    #[must_use]
    pub fn set(&self) -> &'static str {
        match &self.answers {
            Answers::Group(_, AckStyle { form: AckForm::Functional, .. }) => "997",
            Answers::Group(_, AckStyle { form: AckForm::Implementation, .. }) => "999",
            Answers::Interchange(_) => "TA1",
        }
    }

    /// Which group it answers; empty for an interchange.
    #[must_use]
    pub fn group(&self) -> &str {
        match &self.answers {
            Answers::Group(group, _) => &group.control,
            Answers::Interchange(_) => "",
        }
    }
}
