//! Checks one transaction set, segment by segment, against its definition.

mod value;

pub use value::is_date;
pub(crate) use value::{Problem, is_time};

use crate::definitions::{CompositeDefinition, Content, ElementDefinition, NodeId, Place, Rule, RuleKind, SegmentDefinition};
use crate::definitions::{SegmentKey, SetDefinition};
use crate::fault::{Fault, Level, Source, Weight, printable};
use crate::segment::Segment;
use crate::walker::{Over, Placed, Walker};
use std::sync::Arc;
use wide::u8x16;

/// Faults kept of one set; the verdict counts all, the list stops here.
const KEPT: usize = 1000;

/// Checks the segments of a set in the order they come. Holds no segment.
#[derive(Debug)]
pub struct Checker {
    definition: Arc<SetDefinition>,
    tolerated: Arc<[Tolerance]>,
    state: State,
}

/// How far a set has been checked.
#[derive(Debug)]
struct State {
    walker: Walker,
    position: u32,
    faults: Vec<Fault>,
    /// Mandatory places that a segment passed by.
    missing: Vec<NodeId>,
    /// What was noted already: each thing is noted once a set.
    noted: Vec<(u16, u64)>,
    rejected: bool,
}

/// The state with what it is checked by.
struct Run<'c> {
    definition: &'c SetDefinition,
    tolerated: &'c [Tolerance],
    state: &'c mut State,
}

/// An error that a partner's profile lets pass: the set is accepted, and the error told.
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
}

/// One value and where it stands in its segment.
#[derive(Debug, Clone, Copy)]
struct At<'s> {
    segment: &'s Segment<'s>,
    element: usize,
    component: Option<usize>,
    repetition: Option<usize>,
    /// In the input.
    offset: u64,
    value: &'s [u8],
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

    /// Ends the set, whose bytes end at `offset`: the faults found, first come first.
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
        // Within a segment the order of its elements, whatever was looked at first.
        faults.sort_by_key(|fault| (fault.position, fault.element, fault.component));
        faults
    }
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

    /// What is told of a segment's place: what was passed by, what is too often, what a guide forbids.
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
            let says = format!("{what} {id} stands here more often than {}", times(node.max));
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
            ("7", format!("{id} does not belong at this place"))
        } else if known.is_some() {
            ("6", format!("{id} is no segment of the {}", definition.set))
        } else {
            ("1", format!("{id} is no segment that {} knows", definition.version))
        };
        self.at_segment(Fault::at(Level::Segment, code, &id, 0, says), segment);
        if let Some(known) = known {
            self.elements(known, segment);
        }
    }

    fn elements(&mut self, definition: &SegmentDefinition, segment: &Segment<'_>) {
        if definition.open {
            return;
        }
        let plain = is_plain(segment);
        let count = segment.count();
        let mut given = 0u64;
        for (n, (quick, value)) in definition.quick.iter().zip(segment.elements().skip(1)).enumerate() {
            if value.is_empty() {
                continue;
            }
            given |= 1 << (n & 63);
            if !(plain && quick.simple && value::check_plain(quick, value).is_ok()) {
                self.element(&definition.elements[n], segment, n + 1);
            }
        }
        if definition.needed & !given != 0 {
            self.absent(definition, segment, given);
        }
        if count > definition.len() || (count > 0 && segment.element(count).is_empty()) {
            self.beyond(definition, segment);
        }
        if !definition.keeps(given) {
            for rule in definition.rules.iter().filter(|rule| !rule.kept(given)) {
                self.broken(rule, definition, segment, given);
            }
        }
        let conditions = self.definition.conditions.as_slice();
        for condition in conditions.iter().filter(|condition| condition.within.as_bytes() == segment.id()) {
            for (at, missing) in condition.broken_by(segment) {
                let code = if missing { "2" } else { "10" };
                let fault = Fault { source: Source::Guide, ..Fault::at(Level::Element, code, "", 0, condition.says.clone()) };
                self.at_element(fault, definition.place(at), segment, at);
            }
        }
    }

    #[cold]
    fn absent(&mut self, definition: &SegmentDefinition, segment: &Segment<'_>, given: u64) {
        for (n, place) in definition.elements.iter().enumerate() {
            if given & (1 << n.min(63)) == 0 && place.is_needed() {
                let guide = place.use_ != crate::definitions::Use::Mandatory;
                let (source, by) =
                    if guide { (Source::Guide, "asked for by the partner's guide") } else { (Source::Standard, "mandatory") };
                let says = match place.guide().and_then(|narrowed| narrowed.says.clone()) {
                    Some(says) => says,
                    None => format!("{}{:02} ({}) is {by} and empty", definition.id, n + 1, place.content.name()),
                };
                self.at_element(Fault { source, ..Fault::at(Level::Element, "1", "", 0, says) }, Some(place), segment, n + 1);
            }
        }
    }

    #[cold]
    fn beyond(&mut self, definition: &SegmentDefinition, segment: &Segment<'_>) {
        let (count, most, id) = (segment.count(), definition.len(), &definition.id);
        if (most + 1..=count).any(|n| !segment.element(n).is_empty()) {
            let weight = if definition.assumed { Weight::Note } else { Weight::Error };
            let says = format!("{id} has {count} elements, {most} at most");
            self.at_element(Fault { weight, ..Fault::at(Level::Element, "3", "", 0, says) }, None, segment, most + 1);
        } else {
            let says = format!("{id} ends with empty elements");
            self.note(0, u64::from(self.state.position), says, segment, count);
        }
    }

    #[cold]
    fn broken(&mut self, rule: &Rule, definition: &SegmentDefinition, segment: &Segment<'_>, given: u64) {
        let has = |at: usize| given & (1 << (at - 1).min(63)) != 0;
        let (code, at, says) = told(rule, &definition.id, has);
        let weight = if definition.assumed { Weight::Note } else { Weight::Error };
        self.at_element(Fault { weight, ..Fault::at(Level::Element, code, "", 0, says) }, definition.place(at), segment, at);
    }

    /// One position that holds something: its repetitions, its components, what a guide says of it.
    #[cold]
    fn element(&mut self, place: &Place, segment: &Segment<'_>, element: usize) {
        let value = segment.element(element);
        let offset = segment.span(element).start;
        if place.is_forbidden() {
            let says = place.guide().and_then(|narrowed| narrowed.says.clone()).unwrap_or_else(|| {
                format!("{}{element:02} ({}) is not used by the partner's guide", printable(segment.id()), place.content.name())
            });
            let fault = Fault { source: Source::Guide, ..Fault::at(Level::Element, "10", "", 0, says) };
            return self.at_element(fault, Some(place), segment, element);
        }
        // Before 00402 there is no repetition, and the byte is one like others.
        let repeated = segment.delimiters.repetition.filter(|by| value.contains(by));
        let mut at = At { segment, element, component: None, repetition: None, offset, value };
        let Some(by) = repeated else { return self.once(place, at) };
        let mut count = 0;
        for part in value.split(|byte| *byte == by) {
            count += 1;
            (at.value, at.repetition) = (part, Some(count));
            if !part.is_empty() {
                self.once(place, at);
            }
            at.offset += part.len() as u64 + 1;
        }
        if count > usize::from(place.repeats) {
            let says = format!(
                "{}{element:02} ({}) is repeated {count} times, {} at most",
                printable(segment.id()),
                place.content.name(),
                place.repeats
            );
            let code = self.since_00402("12");
            self.at_element(Fault::at(Level::Element, code, "", 0, says), Some(place), segment, element);
        }
    }

    /// The code in versions that have it; before, what is too much is too many elements.
    fn since_00402(&self, code: &'static str) -> &'static str {
        if self.definition.version.as_str() > "00402" { code } else { "3" }
    }

    fn once(&mut self, place: &Place, at: At<'_>) {
        match &place.content {
            Content::Element(element) => self.simple(element, Some(place), at),
            Content::Composite(composite) => self.composite(composite, at),
        }
    }

    fn simple(&mut self, element: &ElementDefinition, place: Option<&Place>, at: At<'_>) {
        let narrowed = place.and_then(Place::guide);
        let component = at.segment.delimiters.component;
        let checked = match at.value.contains(&component) {
            true if self.definition.version.as_str() > "00402" => Err(Problem::Components),
            true => Err(Problem::Character),
            false => value::check(element, at.value),
        };
        let allowed = narrowed.is_some_and(|narrowed| narrowed.more_codes.iter().any(|code| code.as_bytes() == at.value));
        match checked {
            Err(Problem::NotListed | Problem::UnknownCode) if allowed => {}
            Err(Problem::NotListed) => {
                let says = format!(
                    "{} has the code {}, which our list, not known to be complete, does not have",
                    title(&at, &element.name),
                    printable(at.value)
                );
                let once = crate::definitions::pack(at.value).unwrap_or(u64::from(self.state.position));
                self.note(element.number, once, says, at.segment, at.element);
            }
            Err(problem) => {
                let (code, rest) = problem.told(element, at.value);
                let says = format!("{} {rest}", title(&at, &element.name));
                self.at_value(Fault::at(Level::Element, code, "", 0, says), Some(element), at);
                return;
            }
            Ok(()) => {}
        }
        let Some(narrowed) = narrowed else { return };
        let length = String::from_utf8_lossy(at.value).chars().count();
        let broken = if !narrowed.codes.is_empty() && narrowed.codes.iter().all(|code| code.as_bytes() != at.value) {
            Some(("7", format!("is {}, the partner's guide allows {}", printable(at.value), narrowed.codes.join(", "))))
        } else if narrowed.shortest.is_some_and(|shortest| length < shortest) {
            Some(("4", "is shorter than the partner's guide allows".to_owned()))
        } else if narrowed.longest.is_some_and(|longest| length > longest) {
            Some(("5", "is longer than the partner's guide allows".to_owned()))
        } else {
            None
        };
        if let Some((code, rest)) = broken {
            let says = narrowed.says.clone().unwrap_or_else(|| format!("{} {rest}", title(&at, &element.name)));
            self.at_value(Fault { source: Source::Guide, ..Fault::at(Level::Element, code, "", 0, says) }, Some(element), at);
        }
    }

    fn composite(&mut self, composite: &CompositeDefinition, mut at: At<'_>) {
        let (whole, end) = (at.value, at.offset + at.value.len() as u64);
        let mut given = 0u64;
        let mut count = 0;
        for part in whole.split(|byte| *byte == at.segment.delimiters.component) {
            count += 1;
            (at.value, at.component) = (part, Some(count));
            if !part.is_empty() {
                given |= 1 << (count - 1).min(63);
                if let Some(Content::Element(element)) = composite.parts.get(count - 1).map(|place| &place.content) {
                    self.simple(element, None, at);
                }
            }
            at.offset += part.len() as u64 + 1;
        }
        (at.value, at.offset) = (whole, end - whole.len() as u64);
        if count > composite.parts.len() {
            let says = format!("{} has {count} components, {} at most", title(&at, &composite.name), composite.parts.len());
            let code = self.since_00402("13");
            at.component = Some(composite.parts.len() + 1);
            self.at_value(Fault::at(Level::Element, code, "", 0, says), None, at);
        }
        for (n, place) in composite.parts.iter().enumerate() {
            if place.is_needed() && given & (1 << n) == 0 {
                at.component = Some(n + 1);
                let says = format!("{} is mandatory and empty", title(&at, place.content.name()));
                self.at_value(
                    Fault::at(Level::Element, "1", "", 0, says),
                    place.content.element().map(AsRef::as_ref),
                    At { value: &[], offset: end, ..at },
                );
            }
        }
        for rule in composite.rules.iter().filter(|rule| !rule.kept(given)) {
            let id = format!("{}{:02}-", printable(at.segment.id()), at.element);
            let (code, component, says) = told(rule, &id, |n| given & (1 << (n - 1)) != 0);
            at.component = Some(component);
            let element = composite.parts.get(component - 1).and_then(|place| place.content.element());
            self.at_value(
                Fault::at(Level::Element, code, "", 0, says),
                element.map(AsRef::as_ref),
                At { value: &[], offset: end, ..at },
            );
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

    /// Notes something once: the same thing again is not worth another line.
    fn note(&mut self, what: u16, which: u64, says: String, segment: &Segment<'_>, element: usize) {
        if self.state.noted.contains(&(what, which)) {
            return;
        }
        self.state.noted.push((what, which));
        let fault = Fault { weight: Weight::Note, ..Fault::at(Level::Element, "", "", 0, says) };
        self.at_element(fault, None, segment, element);
    }

    fn push(&mut self, mut fault: Fault) {
        if fault.weight == Weight::Error && self.tolerated.iter().any(|tolerated| tolerated.covers(&fault)) {
            fault.weight = Weight::Tolerated;
        }
        // Whatever else is wrong, once the list is full it says that the set is rejected.
        if self.state.faults.len() < KEPT || (fault.rejects() && !self.state.rejected) {
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

/// A value's place and name as a sentence begins with them: `PO103 (Unit or Basis for Measurement Code)`.
fn title(at: &At<'_>, name: &str) -> String {
    let id = printable(at.segment.id());
    match at.component {
        Some(component) => format!("{id}{:02}-{component} ({name})", at.element),
        None => format!("{id}{:02} ({name})", at.element),
    }
}

/// Whether every byte is printable ASCII and none separates components or repetitions: nothing needs a closer look.
fn is_plain(segment: &Segment<'_>) -> bool {
    const LANES: usize = 16;
    let component = segment.delimiters.component;
    let repetition = segment.delimiters.repetition.unwrap_or(component);
    let (low, high) = (u8x16::splat(0x20), u8x16::splat(0x7e));
    let (components, repetitions) = (u8x16::splat(component), u8x16::splat(repetition));
    let odd = |lane: [u8; LANES]| {
        let lane = u8x16::new(lane);
        let printable = lane.max(low).min(high).simd_eq(lane);
        !printable | lane.simd_eq(components) | lane.simd_eq(repetitions)
    };
    let (lanes, rest) = segment.bytes.as_chunks::<LANES>();
    let mut found = lanes.iter().fold(u8x16::splat(0), |found, lane| found | odd(*lane));
    if !rest.is_empty() {
        // Some bytes are looked at twice, which is quicker than one at a time.
        let last = segment.bytes.last_chunk::<LANES>().copied().unwrap_or_else(|| {
            let mut last = [b' '; LANES];
            last[..rest.len()].copy_from_slice(rest);
            last
        });
        found |= odd(last);
    }
    found.to_bitmask() == 0
}

/// Data element 723 code, position and sentence of a broken relational condition.
fn told(rule: &Rule, id: &str, has: impl Fn(usize) -> bool) -> (&'static str, usize, String) {
    let names = |positions: &[usize]| positions.iter().map(|at| format!("{id}{at:02}")).collect::<Vec<_>>().join(", ");
    let all = rule.positions.as_slice();
    let (first, rest) = all.split_first().expect("a rule relates positions");
    let absent = |positions: &[usize]| positions.iter().copied().find(|at| !has(*at)).unwrap_or(*first);
    match rule.kind {
        RuleKind::Paired => ("2", absent(all), format!("{} come together or not at all", names(all))),
        RuleKind::Required => ("2", *first, format!("one of {} is needed", names(all))),
        RuleKind::Exclusion => {
            // The one that came last is one too many, whatever order the rule names them in.
            let second = all.iter().copied().filter(|at| has(*at)).max().unwrap_or(*first);
            ("10", second, format!("only one of {} may be given", names(all)))
        }
        RuleKind::Conditional => ("2", absent(rest), format!("with {id}{first:02}, {} is needed", names(rest))),
        RuleKind::ListConditional => ("2", rest[0], format!("with {id}{first:02}, one of {} is needed", names(rest))),
    }
}
