//! What is wrong with a document, in the standard's own codes.

use serde::{Deserialize, Serialize};

/// The level a fault is reported at; it decides which code list [`Fault::code`] is from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Level {
    /// TA105, data element I18.
    Interchange,
    /// AK905 to AK909, data element 716.
    Group,
    /// AK502 to AK506, data element 718.
    Set,
    /// AK304, data element 720.
    Segment,
    /// AK403, data element 723.
    Element,
}

/// One thing wrong, with its place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fault {
    pub level: Level,
    /// The X12 code of that level.
    pub code: String,
    /// Segment id, e.g. `PO1`.
    pub segment: String,
    /// Position of the segment in its set, ST being 1; 0 outside a set.
    pub position: u32,
    /// The loop the segment stands in, named by its first segment.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub in_loop: Option<String>,
    /// Position of the element in its segment, from 1.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub element: Option<u8>,
    /// Data element reference number, e.g. 355 for a unit of measure.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub reference: Option<u16>,
    /// A copy of the bad value, at most 99 characters (AK404).
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub value: Option<String>,
    /// Offset of the segment in the input.
    pub offset: u64,
    /// One plain sentence.
    pub says: String,
}

impl Fault {
    /// A fault of a whole envelope or set, at the segment that shows it.
    pub(crate) fn at(level: Level, code: &str, segment: &str, offset: u64, says: impl Into<String>) -> Self {
        Self {
            level,
            code: code.to_owned(),
            segment: segment.to_owned(),
            position: 0,
            in_loop: None,
            element: None,
            reference: None,
            value: None,
            offset,
            says: says.into(),
        }
    }

    /// The place as the trade writes it: `PO103`, `PO1` or `GS`.
    #[must_use]
    pub fn designator(&self) -> String {
        match self.element {
            Some(element) => format!("{}{element:02}", self.segment),
            None => self.segment.clone(),
        }
    }
}
