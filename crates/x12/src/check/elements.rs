//! Checks the elements of a segment: presence, repetitions, components, values, relational conditions, and the rules of a guide.

use super::value::{self, Problem};
use super::{At, Run};
use crate::definitions::{CompositeDefinition, Content, ElementDefinition, Place, Rule, RuleKind, SegmentDefinition, Use, pack};
use crate::fault::{Fault, Level, Source, Weight, printable};
use crate::segment::Segment;
use wide::u8x16;

impl Run<'_> {
    pub(super) fn elements(&mut self, definition: &SegmentDefinition, segment: &Segment<'_>) {
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
            for rule in definition.rules.iter().filter(|rule| !rule.is_met(given)) {
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
                let guide = place.use_ != Use::Mandatory;
                let (source, by) =
                    if guide { (Source::Guide, "asked for by the partner's guide") } else { (Source::Standard, "mandatory") };
                let says = match place.guide().and_then(|narrowed| narrowed.says.clone()) {
                    Some(says) => says,
                    None => format!("{}{:02} ({}) is {by} but empty", definition.id, n + 1, place.content.name()),
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
            let says = format!("{id} has {count} elements; at most {most} are allowed");
            self.at_element(Fault { weight, ..Fault::at(Level::Element, "3", "", 0, says) }, None, segment, most + 1);
        } else {
            let says = format!("{id} ends with empty elements");
            self.note(0, pack(segment.id()).unwrap_or_default(), says, segment, count);
        }
    }

    #[cold]
    fn broken(&mut self, rule: &Rule, definition: &SegmentDefinition, segment: &Segment<'_>, given: u64) {
        let has = |at: usize| given & (1 << (at - 1).min(63)) != 0;
        let (code, at, says) = broken_rule(rule, &definition.id, has);
        let weight = if definition.assumed { Weight::Note } else { Weight::Error };
        self.at_element(Fault { weight, ..Fault::at(Level::Element, code, "", 0, says) }, definition.place(at), segment, at);
    }

    /// Checks one filled position: its repetitions, components, and the rules of a guide.
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
        // Before 00402 there are no repetitions, and the byte is an ordinary one.
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
                "{}{element:02} ({}) is repeated {count} times; at most {} are allowed",
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
                    "{}: the code `{}` is not in our list, which may be incomplete",
                    title(&at, &element.name),
                    printable(at.value)
                );
                let once = pack(at.value).unwrap_or_default();
                self.note(element.number, once, says, at.segment, at.element);
            }
            Err(problem) => {
                let (code, rest) = problem.describe(element, at.value);
                let says = format!("{}: {rest}", title(&at, &element.name));
                self.at_value(Fault::at(Level::Element, code, "", 0, says), Some(element), at);
                return;
            }
            Ok(()) => {}
        }
        let Some(narrowed) = narrowed else { return };
        let length = String::from_utf8_lossy(at.value).chars().count();
        let broken = if !narrowed.codes.is_empty() && narrowed.codes.iter().all(|code| code.as_bytes() != at.value) {
            Some(("7", format!("found `{}`, but the partner's guide allows {}", printable(at.value), narrowed.codes.join(", "))))
        } else if narrowed.shortest.is_some_and(|shortest| length < shortest) {
            Some(("4", "shorter than the partner's guide allows".to_owned()))
        } else if narrowed.longest.is_some_and(|longest| length > longest) {
            Some(("5", "longer than the partner's guide allows".to_owned()))
        } else {
            None
        };
        if let Some((code, rest)) = broken {
            let says = narrowed.says.clone().unwrap_or_else(|| format!("{}: {rest}", title(&at, &element.name)));
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
            let says =
                format!("{} has {count} components; at most {} are allowed", title(&at, &composite.name), composite.parts.len());
            let code = self.since_00402("13");
            at.component = Some(composite.parts.len() + 1);
            self.at_value(Fault::at(Level::Element, code, "", 0, says), None, at);
        }
        for (n, place) in composite.parts.iter().enumerate() {
            if place.is_needed() && given & (1 << n) == 0 {
                at.component = Some(n + 1);
                let says = format!("{} is mandatory but empty", title(&at, place.content.name()));
                self.at_value(
                    Fault::at(Level::Element, "1", "", 0, says),
                    place.content.element().map(AsRef::as_ref),
                    At { value: &[], offset: end, ..at },
                );
            }
        }
        for rule in composite.rules.iter().filter(|rule| !rule.is_met(given)) {
            let id = format!("{}{:02}-", printable(at.segment.id()), at.element);
            let (code, component, says) = broken_rule(rule, &id, |n| given & (1 << (n - 1)) != 0);
            at.component = Some(component);
            let element = composite.parts.get(component - 1).and_then(|place| place.content.element());
            self.at_value(
                Fault::at(Level::Element, code, "", 0, says),
                element.map(AsRef::as_ref),
                At { value: &[], offset: end, ..at },
            );
        }
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

/// Returns whether every byte is printable ASCII and none is a separator of components or repetitions: then no closer check is
/// needed.
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
        // Some bytes are checked twice, which is quicker than one at a time.
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
fn broken_rule(rule: &Rule, id: &str, has: impl Fn(usize) -> bool) -> (&'static str, usize, String) {
    let names = |positions: &[usize]| positions.iter().map(|at| format!("{id}{at:02}")).collect::<Vec<_>>().join(", ");
    let all = rule.positions.as_slice();
    let (first, rest) = all.split_first().expect("a rule relates positions");
    let absent = |positions: &[usize]| positions.iter().copied().find(|at| !has(*at)).unwrap_or(*first);
    match rule.kind {
        RuleKind::Paired => ("2", absent(all), format!("{} must all be present or all be empty", names(all))),
        RuleKind::Required => ("2", *first, format!("one of {} is needed", names(all))),
        RuleKind::Exclusion => {
            // The last of them is the excess one, whatever order the rule names them in.
            let second = all.iter().copied().filter(|at| has(*at)).max().unwrap_or(*first);
            ("10", second, format!("only one of {} may be given", names(all)))
        }
        RuleKind::Conditional => ("2", absent(rest), format!("with {id}{first:02}, {} is needed", names(rest))),
        RuleKind::ListConditional => ("2", rest[0], format!("with {id}{first:02}, one of {} is needed", names(rest))),
    }
}
