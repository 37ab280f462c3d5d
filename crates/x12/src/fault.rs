//! Faults in a document, with the standard's own codes.

use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::ops::Range;

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

impl Level {
    /// Returns the word for it.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Interchange => "interchange",
            Self::Group => "group",
            Self::Set => "set",
            Self::Segment => "segment",
            Self::Element => "element",
        }
    }
}

/// Weight of a finding.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Weight {
    /// The part that contains it is rejected.
    #[default]
    Error,
    /// A partner's profile tolerates it: accepted, with the error reported (AK501 `E`).
    Tolerated,
    /// Worth a look; it changes no verdict and is not reported to the partner.
    Note,
}

/// Source of the broken rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Source {
    #[default]
    Standard,
    /// A partner's implementation guide; a 999 has codes of its own for these.
    Guide,
}

/// A fault with its place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fault {
    pub level: Level,
    /// The X12 code of that level.
    pub code: Cow<'static, str>,
    #[serde(default, skip_serializing_if = "is_default")]
    pub weight: Weight,
    #[serde(default, skip_serializing_if = "is_default")]
    pub source: Source,
    /// Segment id, e.g. `PO1`.
    pub segment: String,
    /// Position of the segment in its set, ST being 1; 0 outside a set.
    pub position: u32,
    /// The loop of the segment, named by its first segment.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub in_loop: Option<String>,
    /// Position of the element in its segment, from 1.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub element: Option<u8>,
    /// Position of the component in its composite, from 1.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub component: Option<u8>,
    /// Which repetition of the element, from 1.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub repetition: Option<u16>,
    /// Data element reference number, e.g. 355 for a unit of measure.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub reference: Option<u16>,
    /// A copy of the bad value, at most 99 characters (AK404).
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub value: Option<String>,
    /// Offset of the segment in the input.
    pub offset: u64,
    /// Span of the faulty bytes in the input; the whole segment if all of it is at fault.
    #[serde(default)]
    pub at: Range<u64>,
    /// Number of the segment in the input, from 1; 0 where unknown.
    #[serde(default)]
    pub number: u64,
    /// One sentence.
    pub says: String,
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

impl Fault {
    /// A fault of a whole envelope or set, at the segment that shows it.
    pub(crate) fn at(level: Level, code: &'static str, segment: &str, offset: u64, says: impl Into<String>) -> Self {
        Self {
            level,
            code: Cow::Borrowed(code),
            weight: Weight::Error,
            source: Source::Standard,
            segment: segment.to_owned(),
            position: 0,
            in_loop: None,
            element: None,
            component: None,
            repetition: None,
            reference: None,
            value: None,
            offset,
            at: offset..offset,
            number: 0,
            says: says.into(),
        }
    }

    /// Returns the fault at element `n` of the segment, with its value.
    pub(crate) fn of_element(mut self, segment: &crate::Segment<'_>, n: usize) -> Self {
        self = self.shown_by(segment);
        self.element = u8::try_from(n).ok();
        self.at = segment.span(n);
        self.value = Some(printable(segment.element(n))).filter(|value| !value.is_empty());
        self
    }

    /// The same with the place of a segment.
    pub(crate) fn shown_by(mut self, segment: &crate::Segment<'_>) -> Self {
        self.offset = segment.offset;
        self.at = segment.offset..segment.offset + segment.bytes.len() as u64;
        self.number = segment.number;
        self
    }

    /// Returns whether the part that contains it is rejected.
    #[must_use]
    pub fn rejects(&self) -> bool {
        self.weight == Weight::Error
    }

    /// Returns whether it is reported to the partner.
    #[must_use]
    pub fn is_reported(&self) -> bool {
        self.weight != Weight::Note
    }

    /// The place as the trade writes it: `PO103`, `REF04-2`, `PO1` or `GS`.
    #[must_use]
    pub fn designator(&self) -> String {
        match (self.element, self.component) {
            (Some(element), Some(component)) => format!("{}{element:02}-{component}", self.segment),
            (Some(element), None) => format!("{}{element:02}", self.segment),
            (None, _) => self.segment.clone(),
        }
    }
}

/// A value as it may be shown and sent back in AK404: at most 99 characters, nothing unprintable.
pub(crate) fn printable(value: &[u8]) -> String {
    String::from_utf8_lossy(value).chars().map(|c| if c.is_control() { '.' } else { c }).take(99).collect()
}
