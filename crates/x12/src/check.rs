//! Checks one transaction set, segment by segment, against its definition.

use crate::definitions::{ElementDefinition, Kind, Rule, RuleKind, SegmentDefinition, SetDefinition};
use crate::fault::{Fault, Level};
use crate::segment::Segment;
use crate::walker::{Over, Placed, Walker};

/// Faults kept of one set; the verdict counts all, the list stops here.
const KEPT: usize = 100;

/// Checks the segments of a set in the order they come. Holds no segment.
#[derive(Debug)]
pub struct Checker<'d> {
    walker: Walker<'d>,
    position: u32,
    faults: Vec<Fault>,
    last: (String, u64),
}

impl<'d> Checker<'d> {
    /// A checker at the start of a set.
    #[must_use]
    pub fn new(definition: &'d SetDefinition) -> Self {
        Self { walker: Walker::new(definition), position: 0, faults: Vec::new(), last: (String::new(), 0) }
    }

    /// Takes the next segment, ST and SE included.
    pub fn segment(&mut self, segment: &Segment<'_>) {
        self.position += 1;
        let id = String::from_utf8_lossy(segment.id());
        self.last.0.clear();
        self.last.0.push_str(&id);
        self.last.1 = segment.offset;
        match self.walker.place(&id) {
            Placed::Here { missing, over, .. } => {
                for absent in missing {
                    self.at_segment(
                        "3",
                        absent,
                        segment.offset,
                        format!("the mandatory segment {absent} is missing before {id}"),
                    );
                }
                match over {
                    Over::No => {}
                    Over::Segment => {
                        self.at_segment("5", &id, segment.offset, format!("{id} stands here more often than allowed"))
                    }
                    Over::Loop => {
                        self.at_segment("4", &id, segment.offset, format!("the loop {id} is repeated more often than allowed"))
                    }
                }
            }
            Placed::Nowhere => {
                let definition = self.walker.definition();
                let (code, says) = if definition.uses(&id) {
                    ("7", format!("{id} does not belong at this place"))
                } else if definition.segment(&id).is_some() {
                    ("6", format!("{id} is no segment of the {}", definition.set))
                } else {
                    ("1", format!("{} is no segment that {} knows", printable(segment.id()), definition.version))
                };
                self.at_segment(code, &id, segment.offset, says);
            }
        }
        if let Some(definition) = self.walker.definition().segment(&id) {
            self.elements(&id, definition, segment);
        }
    }

    /// Ends the set: the faults found, first come first.
    #[must_use]
    pub fn end(self) -> Vec<Fault> {
        let Self { walker, position, mut faults, last: (last, offset) } = self;
        for absent in walker.end() {
            let says = format!("the mandatory segment {absent} is missing after {last}");
            let fault = Fault { position, ..Fault::at(Level::Segment, "3", absent, offset, says) };
            if faults.len() < KEPT {
                faults.push(fault);
            }
        }
        faults
    }

    fn elements(&mut self, id: &str, definition: &SegmentDefinition, segment: &Segment<'_>) {
        let given: Vec<&[u8]> = segment.elements().skip(1).collect();
        if given.len() > definition.len() {
            let says = format!("{id} has {} elements, {} at most", given.len(), definition.len());
            self.at_element("3", id, segment, definition.len() + 1, None, None, says);
        }
        for (index, place) in definition.elements.iter().enumerate() {
            let value = given.get(index).copied().unwrap_or_default();
            let element = place.element.as_deref();
            if value.is_empty() {
                if place.mandatory {
                    let says = format!("{id}{:02} ({}) is mandatory and empty", index + 1, name(element));
                    self.at_element("1", id, segment, index + 1, element, None, says);
                }
                continue;
            }
            let Some(element) = element else { continue };
            if let Err((code, problem)) = value_fault(element, value) {
                let says = format!("{id}{:02} ({}) {problem}", index + 1, element.name);
                self.at_element(code, id, segment, index + 1, Some(element), Some(value), says);
            }
        }
        for rule in &definition.rules {
            if let Some((code, at, says)) = broken(rule, id, &given) {
                self.at_element(code, id, segment, at, definition.element(at), None, says);
            }
        }
    }

    fn at_segment(&mut self, code: &str, id: &str, offset: u64, says: String) {
        let in_loop = self.walker.in_loop().map(str::to_owned);
        self.push(Fault { position: self.position, in_loop, ..Fault::at(Level::Segment, code, id, offset, says) });
    }

    #[allow(clippy::too_many_arguments)] // one call site shape; a struct would only repeat the names
    fn at_element(
        &mut self,
        code: &str,
        id: &str,
        segment: &Segment<'_>,
        at: usize,
        element: Option<&ElementDefinition>,
        value: Option<&[u8]>,
        says: String,
    ) {
        self.push(Fault {
            position: self.position,
            in_loop: self.walker.in_loop().map(str::to_owned),
            element: u8::try_from(at).ok(),
            reference: element.map(|element| element.number),
            value: value.map(printable),
            ..Fault::at(Level::Element, code, id, segment.offset, says)
        });
    }

    fn push(&mut self, fault: Fault) {
        if self.faults.len() < KEPT {
            self.faults.push(fault);
        }
    }
}

fn name(element: Option<&ElementDefinition>) -> &str {
    element.map_or("composite", |element| &element.name)
}

/// A value as it may be shown and sent back in AK404: at most 99 characters, nothing unprintable.
fn printable(value: &[u8]) -> String {
    String::from_utf8_lossy(value).chars().map(|c| if c.is_control() { '.' } else { c }).take(99).collect()
}

/// Data element 723 code and the rest of a sentence that starts with the element's name.
fn value_fault(element: &ElementDefinition, value: &[u8]) -> Result<(), (&'static str, String)> {
    let shown = || printable(value);
    let Ok(text) = std::str::from_utf8(value) else {
        return Err(("6", format!("holds bytes that are no text: {}", shown())));
    };
    if text.chars().any(char::is_control) {
        return Err(("6", format!("holds a control character: {}", shown())));
    }
    // Sign and decimal point do not count towards the length (X12.6, 3.5.1.1 and 3.5.1.2).
    let length = match element.kind {
        Kind::Numeric | Kind::Decimal => text.chars().filter(char::is_ascii_digit).count(),
        Kind::Text | Kind::Code | Kind::Date | Kind::Time | Kind::Binary => text.chars().count(),
    };
    let well_formed = match element.kind {
        Kind::Numeric => number(text, false),
        Kind::Decimal => number(text, true),
        Kind::Date => text.bytes().all(|byte| byte.is_ascii_digit()),
        Kind::Time => text.bytes().all(|byte| byte.is_ascii_digit()),
        Kind::Text | Kind::Code | Kind::Binary => true,
    };
    match element.kind {
        Kind::Date if !is_date(text) => return Err(("8", format!("is no date: {}", shown()))),
        Kind::Time if !time(text) => return Err(("9", format!("is no time: {}", shown()))),
        _ if !well_formed => return Err(("6", format!("is no number: {}", shown()))),
        _ => {}
    }
    if length < element.min {
        return Err(("4", format!("is too short: {} has {length} characters, {} at least", shown(), element.min)));
    }
    if length > element.max {
        return Err(("5", format!("is too long: {} has {length} characters, {} at most", shown(), element.max)));
    }
    if element.complete && !element.codes.contains_key(text) {
        return Err(("7", format!("has the unknown code {}", shown())));
    }
    Ok(())
}

fn number(text: &str, point: bool) -> bool {
    let digits = text.strip_prefix('-').unwrap_or(text);
    let points = digits.bytes().filter(|&byte| byte == b'.').count();
    digits.bytes().any(|byte| byte.is_ascii_digit())
        && digits.bytes().all(|byte| byte.is_ascii_digit() || byte == b'.')
        && points <= usize::from(point)
}

/// Whether `text` is `CCYYMMDD` or `YYMMDD` and a day that exists (X12.6, data type DT).
#[must_use]
pub fn is_date(text: &str) -> bool {
    if !text.bytes().all(|byte| byte.is_ascii_digit()) || !matches!(text.len(), 6 | 8) {
        return false;
    }
    let part = |range: std::ops::Range<usize>| text[range].parse::<u32>().unwrap_or(0);
    let (year, rest) = if text.len() == 8 { (part(0..4), 4) } else { (2000 + part(0..2), 2) };
    let (month, day) = (part(rest..rest + 2), part(rest + 2..rest + 4));
    let leap = (year.is_multiple_of(4) && !year.is_multiple_of(100)) || year.is_multiple_of(400);
    let days = match month {
        2 => 28 + u32::from(leap),
        4 | 6 | 9 | 11 => 30,
        1 | 3 | 5 | 7 | 8 | 10 | 12 => 31,
        _ => return false,
    };
    (1..=days).contains(&day)
}

/// `HHMM`, `HHMMSS`, `HHMMSSD` or `HHMMSSDD`.
fn time(text: &str) -> bool {
    let two = |at: usize| text.get(at..at + 2).and_then(|two| two.parse::<u32>().ok());
    matches!(text.len(), 4 | 6 | 7 | 8)
        && text.bytes().all(|byte| byte.is_ascii_digit())
        && two(0).is_some_and(|hour| hour < 24)
        && two(2).is_some_and(|minute| minute < 60)
        && (text.len() == 4 || two(4).is_some_and(|second| second < 60))
}

/// Data element 723 code, element position and sentence of a broken relational condition.
fn broken(rule: &Rule, id: &str, given: &[&[u8]]) -> Option<(&'static str, usize, String)> {
    let has = |at: usize| given.get(at - 1).is_some_and(|value| !value.is_empty());
    let names = |positions: &[usize]| positions.iter().map(|at| format!("{id}{at:02}")).collect::<Vec<_>>().join(", ");
    let all = &rule.positions;
    let (first, rest) = all.split_first()?;
    match rule.kind {
        RuleKind::Paired => {
            let absent = all.iter().copied().find(|&at| !has(at))?;
            all.iter().any(|&at| has(at)).then(|| ("2", absent, format!("{} come together or not at all", names(all))))
        }
        RuleKind::Required => (!all.iter().any(|&at| has(at))).then(|| ("2", *first, format!("one of {} is needed", names(all)))),
        RuleKind::Exclusion => {
            let second = all.iter().copied().filter(|&at| has(at)).nth(1)?;
            Some(("10", second, format!("only one of {} may be given", names(all))))
        }
        RuleKind::Conditional => {
            let absent = rest.iter().copied().find(|&at| !has(at))?;
            has(*first).then(|| ("2", absent, format!("with {id}{first:02}, {} is needed", names(rest))))
        }
        RuleKind::ListConditional => (has(*first) && !rest.iter().any(|&at| has(at)))
            .then(|| ("2", rest[0], format!("with {id}{first:02}, one of {} is needed", names(rest)))),
    }
}
