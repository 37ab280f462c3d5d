//! Segments, composites and data elements of one version, and the relational conditions between elements.

use super::codes::CodeSet;
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

/// Segments of one version.
#[derive(Debug, Clone)]
pub struct Dictionary {
    /// E.g. `004010`.
    pub version: String,
    pub(crate) segments: HashMap<String, Arc<SegmentDefinition>>,
    pub(crate) composites: HashMap<String, Arc<CompositeDefinition>>,
    pub(crate) elements: HashMap<u16, Arc<ElementDefinition>>,
}

impl Dictionary {
    /// The definition of a segment.
    #[must_use]
    pub fn segment(&self, id: &str) -> Option<&Arc<SegmentDefinition>> {
        self.segments.get(id)
    }

    /// Every segment, in no order.
    pub fn segments(&self) -> impl Iterator<Item = &Arc<SegmentDefinition>> {
        self.segments.values()
    }

    /// A data element by its reference number.
    #[must_use]
    pub fn element(&self, number: u16) -> Option<&Arc<ElementDefinition>> {
        self.elements.get(&number)
    }
}

/// The elements of a segment.
#[derive(Debug, Clone)]
pub struct SegmentDefinition {
    /// E.g. `PO1`.
    pub id: String,
    /// English name.
    pub name: String,
    /// Known from practice, not checked against the printed standard.
    pub assumed: bool,
    /// Known by name only: its elements are not checked.
    pub open: bool,
    pub(crate) elements: Vec<Place>,
    pub(crate) rules: Vec<Rule>,
    /// Bit n-1 for a position n that must be filled.
    pub(crate) needed: u64,
    /// One for each of the elements.
    pub(crate) quick: Vec<Quick>,
    /// Bit n-1 is set where n and n+1 must both be present or absent: most conditions are of that kind, and are tested in one
    /// operation.
    pub(crate) pairs: u64,
    /// The other conditions, of `rules`.
    pub(crate) other_rules: Vec<Rule>,
}

/// The parts of a composite.
#[derive(Debug, Clone)]
pub struct CompositeDefinition {
    /// E.g. `C040`.
    pub id: String,
    pub name: String,
    pub(crate) parts: Vec<Place>,
    pub(crate) rules: Vec<Rule>,
}

/// Requirement designator of a position (X12.6).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Use {
    Mandatory,
    Optional,
    /// Depends on other positions, see the rules.
    Relational,
}

/// A position of a segment or composite.
#[derive(Debug, Clone)]
pub struct Place {
    pub use_: Use,
    pub content: Content,
    /// How often the element may be repeated; 1 for nearly all.
    pub repeats: u16,
    pub(crate) narrowed: Option<Box<Narrowed>>,
}

/// Content of a position.
#[derive(Debug, Clone)]
pub enum Content {
    Element(Arc<ElementDefinition>),
    Composite(Arc<CompositeDefinition>),
}

/// A partner's rules for one position, beyond the standard.
#[derive(Debug, Clone, Default)]
pub(crate) struct Narrowed {
    pub forbidden: bool,
    pub needed: bool,
    /// The only codes allowed; all when empty.
    pub codes: Vec<String>,
    /// Codes allowed besides those of the standard.
    pub more_codes: Vec<String>,
    pub shortest: Option<usize>,
    pub longest: Option<usize>,
    pub says: Option<String>,
}

impl Content {
    /// English name of the element or composite.
    #[must_use]
    pub fn name(&self) -> &str {
        match self {
            Self::Element(element) => &element.name,
            Self::Composite(composite) => &composite.name,
        }
    }

    /// The element, or the first of a composite.
    #[must_use]
    pub fn element(&self) -> Option<&Arc<ElementDefinition>> {
        match self {
            Self::Element(element) => Some(element),
            Self::Composite(composite) => composite.parts.first()?.content.element(),
        }
    }
}

/// A data element.
#[derive(Debug, Clone)]
pub struct ElementDefinition {
    /// Data element reference number.
    pub number: u16,
    /// English name.
    pub name: String,
    pub kind: Kind,
    /// Shortest and longest length in characters, counted as X12.6 does for the type.
    pub min: usize,
    pub max: usize,
    pub(crate) codes: BTreeMap<String, String>,
    /// The list is known to be complete: another code is an error, not only noted.
    pub complete: bool,
    /// The same codes for quick lookups.
    pub(crate) packed: Arc<CodeSet>,
}

/// Data for checking a value, close together in memory.
#[derive(Debug, Clone)]
pub(crate) struct Quick {
    /// An element, not a composite, without rules of a guide.
    pub simple: bool,
    pub kind: Kind,
    pub min: u32,
    pub max: u32,
    pub codes: Arc<CodeSet>,
    pub complete: bool,
}

impl Quick {
    fn of(place: &Place) -> Self {
        match &place.content {
            Content::Element(element) => Self { simple: place.narrowed.is_none(), ..element.quick() },
            Content::Composite(_) => {
                Self { simple: false, kind: Kind::Text, min: 0, max: 0, codes: Arc::default(), complete: false }
            }
        }
    }
}

/// Data element types of X12.6.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// `AN`
    Text,
    /// `ID`
    Code,
    /// `Nn` with n implied decimal places.
    Numeric(u8),
    /// `R`
    Decimal,
    /// `DT`
    Date,
    /// `TM`
    Time,
    /// `B`
    Binary,
}

impl std::fmt::Display for Kind {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Text => f.write_str("AN"),
            Self::Code => f.write_str("ID"),
            Self::Numeric(places) => write!(f, "N{places}"),
            Self::Decimal => f.write_str("R"),
            Self::Date => f.write_str("DT"),
            Self::Time => f.write_str("TM"),
            Self::Binary => f.write_str("B"),
        }
    }
}

/// A relational condition (X12.6): `P0304` and its kin.
#[derive(Debug, Clone)]
pub(crate) struct Rule {
    pub kind: RuleKind,
    pub positions: Vec<usize>,
    /// Bit n-1 for position n; the first position alone, and all of them.
    pub first: u64,
    pub all: u64,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum RuleKind {
    Paired,
    Required,
    Exclusion,
    Conditional,
    ListConditional,
}

impl Rule {
    pub fn new(kind: RuleKind, positions: Vec<usize>) -> Self {
        let bit = |at: &usize| 1u64 << (at - 1).min(63);
        let all = positions.iter().map(bit).fold(0, |all, bit| all | bit);
        let first = positions.first().map_or(0, bit);
        Self { kind, positions, first, all }
    }

    /// Returns whether the elements present in `given` (bit n-1 for position n) fulfil the condition.
    #[inline]
    pub fn is_met(&self, given: u64) -> bool {
        let (these, rest) = (given & self.all, given & self.all & !self.first);
        match self.kind {
            RuleKind::Paired => these == 0 || these == self.all,
            RuleKind::Required => these != 0,
            RuleKind::Exclusion => these.count_ones() < 2,
            RuleKind::Conditional => given & self.first == 0 || these == self.all,
            RuleKind::ListConditional => given & self.first == 0 || rest != 0,
        }
    }
}

impl SegmentDefinition {
    /// Returns whether the elements present in `given` fulfil every relational condition.
    #[inline]
    pub(crate) fn keeps(&self, given: u64) -> bool {
        (given ^ (given >> 1)) & self.pairs == 0 && self.other_rules.iter().all(|rule| rule.is_met(given))
    }

    /// Recomputes the data for checking.
    pub(crate) fn renew(&mut self) {
        self.quick = self.elements.iter().map(Quick::of).collect();
        let (pairs, others): (Vec<&Rule>, Vec<&Rule>) = self.rules.iter().partition(|rule| {
            rule.kind == RuleKind::Paired && matches!(rule.positions[..], [first, second] if first + 1 == second)
        });
        self.pairs = pairs.into_iter().fold(0, |all, rule| all | rule.first);
        self.other_rules = others.into_iter().cloned().collect();
        let needed = self.elements.iter().enumerate().filter(|(_, place)| place.is_needed());
        self.needed = needed.fold(0, |all, (n, _)| all | 1 << n.min(63));
    }

    /// Returns the number of elements.
    #[must_use]
    pub fn len(&self) -> usize {
        self.elements.len()
    }

    /// Returns whether the segment has no elements.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.elements.is_empty()
    }

    /// Position `n`, from 1.
    #[must_use]
    pub fn place(&self, n: usize) -> Option<&Place> {
        self.elements.get(n.checked_sub(1)?)
    }

    /// Every position in order.
    pub fn places(&self) -> impl Iterator<Item = &Place> {
        self.elements.iter()
    }

    /// Returns element `n`, from 1; `None` for a composite.
    #[must_use]
    pub fn element(&self, n: usize) -> Option<&ElementDefinition> {
        match &self.place(n)?.content {
            Content::Element(element) => Some(element),
            Content::Composite(_) => None,
        }
    }
}

impl CompositeDefinition {
    /// Every part in order.
    pub fn places(&self) -> impl Iterator<Item = &Place> {
        self.parts.iter()
    }
}

impl Place {
    /// Returns whether a partner's guide forbids it.
    #[must_use]
    pub fn is_forbidden(&self) -> bool {
        self.narrowed.as_ref().is_some_and(|narrowed| narrowed.forbidden)
    }

    /// Returns whether it is mandatory, by the standard or by a guide.
    #[must_use]
    pub fn is_needed(&self) -> bool {
        self.use_ == Use::Mandatory || self.narrowed.as_ref().is_some_and(|narrowed| narrowed.needed)
    }
}

impl ElementDefinition {
    /// The meaning of a code, where the list has it.
    #[must_use]
    pub fn meaning(&self, code: &str) -> Option<&str> {
        self.codes.get(code).map(String::as_str)
    }

    /// The codes known, with their meanings.
    #[must_use]
    pub fn codes(&self) -> &BTreeMap<String, String> {
        &self.codes
    }

    pub(crate) fn quick(&self) -> Quick {
        let (min, max) = (self.min as u32, self.max as u32);
        Quick { simple: true, kind: self.kind, min, max, codes: self.packed.clone(), complete: self.complete }
    }
}
