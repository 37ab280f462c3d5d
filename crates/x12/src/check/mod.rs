//! Checks one transaction set, segment by segment, against its definition.

mod elements;
mod value;

pub use value::is_date;
pub(crate) use value::is_time;

use crate::definitions::{Content, ElementDefinition, NodeId, Place, SegmentKey, SetDefinition};
use crate::fault::{Fault, Level, Source, Weight, printable};
use crate::segment::Segment;
use crate::walker::{Over, Placed, Walker};
use std::sync::Arc;

/// Most faults listed per set; the verdict counts all of them.
const MAX_FAULTS: usize = 1000;
/// Most distinct notes listed per set.
const NOTED: usize = 100;

/// Checks the segments of a set in the order they come. Holds no segment.
#[derive(Debug)]
pub struct Checker {
    definition: Arc<SetDefinition>,
    tolerated: Arc<[Tolerance]>,
    state: State,
}

/// State of checking a set.
#[derive(Debug)]
struct State {
    walker: Walker,
    position: u32,
    faults: Vec<Fault>,
    /// Mandatory places that a segment passed by.
    missing: Vec<NodeId>,
    /// Notes so far: each is made once a set.
    noted: Vec<(u16, u64)>,
    rejected: bool,
}

/// The state with what it is checked by.
struct Run<'c> {
    definition: &'c SetDefinition,
    tolerated: &'c [Tolerance],
    state: &'c mut State,
}

/// An error that a partner's profile tolerates: the set is accepted, and the error is reported.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tolerance {
    pub level: Level,
    /// The code of that level; every one where it is empty.
    pub code: String,
    /// A designator such as `N104`, or a segment id; everywhere where it is empty.
    pub at: String,
}

impl Tolerance {
    fn covers(&self, fault: &Fault) -> bool {
        self.level == fault.level
            && (self.code.is_empty() || self.code == fault.code)
            && (self.at.is_empty() || self.at == fault.segment || self.at == fault.designator())
    }

    /// Lets an error pass where one of `all` covers it.
    pub(crate) fn weigh(all: &[Self], fault: &mut Fault) {
        if fault.weight == Weight::Error && all.iter().any(|tolerated| tolerated.covers(fault)) {
            fault.weight = Weight::Tolerated;
        }
    }
}

impl Checker {
    /// A checker at the start of a set.
    #[must_use]
    pub fn new(definition: Arc<SetDefinition>) -> Self {
        Self::tolerating(definition, [].into())
    }

    /// The same, with errors that a partner's profile lets pass.
    #[must_use]
    pub fn tolerating(definition: Arc<SetDefinition>, tolerated: Arc<[Tolerance]>) -> Self {
        let (faults, missing, noted) = (Vec::new(), Vec::new(), Vec::new());
        let state = State { walker: Walker::new(), position: 0, faults, missing, noted, rejected: false };
        Self { definition, tolerated, state }
    }

    /// Takes the next segment, ST and SE included.
    pub fn segment(&mut self, segment: &Segment<'_>) {
        Run { definition: &self.definition, tolerated: &self.tolerated, state: &mut self.state }.segment(segment);
    }

    /// Ends the set, whose bytes end at `offset`, and returns its faults in order.
    #[must_use]
    pub fn end(self, offset: u64) -> Vec<Fault> {
        let Self { definition, state, .. } = self;
        let State { walker, position, mut faults, mut missing, .. } = state;
        missing.clear();
        walker.end(&definition, &mut missing);
        for node in missing {
            let id = &definition.node(node).id;
            let says = format!("the mandatory segment {id} is missing at the end of the set");
            faults.push(Fault { position, ..Fault::at(Level::Segment, "3", id, offset, says) });
        }
        // Within a segment in the order of its elements, whatever was checked first.
        faults.sort_by_key(|fault| (fault.position, fault.element, fault.component));
        faults
    }
}

/// A value with its place in the segment.
#[derive(Debug, Clone, Copy)]
struct At<'s> {
    segment: &'s Segment<'s>,
    element: usize,
    component: Option<usize>,
    repetition: Option<usize>,
    /// Offset in the input.
    offset: u64,
    value: &'s [u8],
}

impl Run<'_> {
    fn segment(&mut self, segment: &Segment<'_>) {
        let definition = self.definition;
        self.state.position += 1;
        match self.state.walker.place(definition, SegmentKey::of(segment.id()), &mut self.state.missing) {
            Some(placed) => {
                let node = definition.node(placed.node);
                let opened = placed.opened.is_some_and(|opened| definition.node(opened).forbidden);
                if placed.missing || placed.over != Over::No || node.forbidden || opened {
                    self.placed(placed, segment);
                }
                self.elements(&node.segment, segment);
            }
            None => self.nowhere(segment),
        }
    }

    /// Reports faults of a segment's place: skipped mandatory segments, too many repetitions, a guide's prohibition.
    #[cold]
    fn placed(&mut self, placed: Placed, segment: &Segment<'_>) {
        let id = printable(segment.id());
        for absent in std::mem::take(&mut self.state.missing) {
            let node = self.definition.node(absent);
            let (source, by) = match node.narrowed_need {
                true => (Source::Guide, ", which the partner's guide asks for,"),
                false => (Source::Standard, ""),
            };
            let says = format!("the mandatory segment {}{by} is missing before {id}", node.id);
            self.at_segment(Fault { segment: node.id.clone(), source, ..Fault::at(Level::Segment, "3", &id, 0, says) }, segment);
        }
        let (code, over, what) = match placed.over {
            Over::No => ("", None, ""),
            Over::Segment(node) => ("5", Some(node), "the segment"),
            Over::Loop(node) => ("4", Some(node), "the loop"),
        };
        if let Some(node) = over.map(|node| self.definition.node(node)) {
            let weight = if node.assumed && !node.narrowed_max { Weight::Note } else { Weight::Error };
            let source = if node.narrowed_max { Source::Guide } else { Source::Standard };
            let says = format!("{what} {id} is here more often than {}", times(node.max));
            self.at_segment(Fault { weight, source, ..Fault::at(Level::Segment, code, &id, 0, says) }, segment);
        }
        let forbidden = |node: NodeId| self.definition.node(node).forbidden;
        if forbidden(placed.node) || placed.opened.is_some_and(forbidden) {
            let says = format!("the partner's guide does not use {id} here");
            self.at_segment(Fault { source: Source::Guide, ..Fault::at(Level::Segment, "2", &id, 0, says) }, segment);
        }
    }

    #[cold]
    fn nowhere(&mut self, segment: &Segment<'_>) {
        let id = printable(segment.id());
        let definition = self.definition;
        let known = definition.segment(&id);
        let (code, says) = if definition.uses(&id) {
            ("7", format!("{id} is not allowed at this place"))
        } else if known.is_some() {
            ("6", format!("{id} is not a segment of the {}", definition.set))
        } else {
            ("1", format!("{id} is not a segment of {}", definition.version))
        };
        self.at_segment(Fault::at(Level::Segment, code, &id, 0, says), segment);
        if let Some(known) = known {
            self.elements(known, segment);
        }
    }

    fn at_segment(&mut self, fault: Fault, segment: &Segment<'_>) {
        let in_loop = self.state.walker.in_loop(self.definition).map(str::to_owned);
        self.push(Fault { position: self.state.position, in_loop, ..fault.shown_by(segment) });
    }

    fn at_element(&mut self, fault: Fault, place: Option<&Place>, segment: &Segment<'_>, element: usize) {
        let offset = segment.span(element).start;
        let at = At { segment, element, component: None, repetition: None, offset, value: segment.element(element) };
        let element = place.and_then(|place| match &place.content {
            Content::Element(element) => Some(element.as_ref()),
            Content::Composite(_) => None,
        });
        self.at_value(fault, element, at);
    }

    fn at_value(&mut self, fault: Fault, element: Option<&ElementDefinition>, at: At<'_>) {
        self.push(Fault {
            segment: printable(at.segment.id()),
            position: self.state.position,
            in_loop: self.state.walker.in_loop(self.definition).map(str::to_owned),
            element: u8::try_from(at.element).ok(),
            component: at.component.and_then(|n| u8::try_from(n).ok()),
            repetition: at.repetition.and_then(|n| u16::try_from(n).ok()),
            reference: element.map(|element| element.number),
            value: Some(printable(at.value)).filter(|value| !value.is_empty()),
            at: at.offset..at.offset + at.value.len() as u64,
            ..fault.shown_by(at.segment)
        });
    }

    /// Adds a note once per set.
    fn note(&mut self, what: u16, which: u64, says: String, segment: &Segment<'_>, element: usize) {
        if self.state.noted.len() >= NOTED || self.state.noted.contains(&(what, which)) {
            return;
        }
        self.state.noted.push((what, which));
        let fault = Fault { weight: Weight::Note, ..Fault::at(Level::Element, "", "", 0, says) };
        self.at_element(fault, None, segment, element);
    }

    fn push(&mut self, mut fault: Fault) {
        Tolerance::weigh(self.tolerated, &mut fault);
        // Even a full list must show that the set is rejected.
        if self.state.faults.len() < MAX_FAULTS || (fault.rejects() && !self.state.rejected) {
            self.state.rejected |= fault.rejects();
            self.state.faults.push(fault);
        }
    }
}

fn times(max: u32) -> String {
    match max {
        1 => "once".to_owned(),
        more => format!("{more} times"),
    }
}
