//! A set as a person reads it: every segment and element with its name, every code with its meaning.

use crate::Segment;
use crate::definitions::{Kind, SegmentDefinition};
use crate::plain::with_point;
use crate::tree::{Child, LoopRef, SetTree};
use std::borrow::Cow;

/// A segment with its names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Described<'t> {
    /// Byte offset in the set.
    pub offset: u64,
    pub id: String,
    /// English name; empty where the dictionary has no such segment.
    pub name: &'t str,
    /// Number of loops it is in; 0 on the set's own level.
    pub depth: usize,
    /// Elements with a value, in order.
    pub elements: Vec<DescribedElement<'t>>,
}

/// An element with its name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DescribedElement<'t> {
    /// Position in the segment, from 1.
    pub position: usize,
    /// English name; empty where the dictionary does not describe it.
    pub name: &'t str,
    /// The value as written; invalid UTF-8 is replaced.
    pub value: String,
    /// Meaning of a code, or a number with its implied decimal point written; empty for any other value, or a code that the
    /// dictionary does not have.
    pub meaning: Cow<'t, str>,
    /// Index of the first character in the segment's text, and of the one after the last.
    pub from: usize,
    pub to: usize,
}

/// Every segment of a set, in the order of its bytes.
#[must_use]
pub fn describe(tree: &SetTree) -> Vec<Described<'_>> {
    let mut all = Vec::new();
    gather(tree, tree.root(), 0, &mut all);
    all
}

fn gather<'t>(tree: &'t SetTree, within: LoopRef<'t>, depth: usize, all: &mut Vec<Described<'t>>) {
    for child in within.children() {
        match child {
            Child::Segment(segment) => all.push(described(tree, segment, depth)),
            Child::Loop(inner) => gather(tree, inner, depth + 1, all),
        }
    }
}

fn described<'t>(tree: &'t SetTree, segment: Segment<'t>, depth: usize) -> Described<'t> {
    let id = String::from_utf8_lossy(segment.id()).into_owned();
    let definition = tree.described(&segment);
    let mut at = 0;
    let mut elements = Vec::new();
    for (position, bytes) in segment.elements().enumerate() {
        let value = String::from_utf8_lossy(bytes).into_owned();
        let (from, to) = (at, at + value.chars().count());
        at = to + 1;
        if position > 0 && !value.is_empty() {
            elements.push(element(definition, position, value, from, to));
        }
    }
    Described { offset: segment.offset, name: definition.map_or("", |known| known.name.as_str()), id, depth, elements }
}

fn element(
    definition: Option<&SegmentDefinition>,
    position: usize,
    value: String,
    from: usize,
    to: usize,
) -> DescribedElement<'_> {
    let place = definition.and_then(|known| known.place(position));
    let known = definition.and_then(|known| known.element(position));
    let name = place.map_or("", |place| place.content.name());
    let meaning = match known.map(|known| (known, known.kind)) {
        // The number with its decimal point written.
        Some((_, Kind::Numeric(places))) if places > 0 => with_point(value.trim(), places).map(Cow::Owned).unwrap_or_default(),
        Some((known, _)) => Cow::Borrowed(known.meaning(value.trim()).unwrap_or_default()),
        None => Cow::default(),
    };
    DescribedElement { position, name, value, meaning, from, to }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Definitions, Delimiters};

    const SET: &[u8] =
        b"ST*850*0001~BEG*00*SA*MF-1**20261123~N1*ST*Store 12~N3*4 Clover Lane~PO1*1*12*EA*64.50**VP*QH-1~XX*1~CTT*1~SE*8*0001~";

    fn tree() -> SetTree {
        let delimiters = Delimiters { element: b'*', component: b'>', segment: b'~', repetition: None };
        let definition = Definitions::standard().find("004010", "850").unwrap().clone();
        SetTree::new(definition, SET, delimiters).unwrap()
    }

    #[test]
    fn segments_come_in_order_with_names_and_loops() {
        let tree = tree();
        let lines: Vec<String> = describe(&tree).iter().map(|one| format!("{} {} {}", one.depth, one.id, one.name)).collect();
        let expected = [
            "0 ST Transaction Set Header",
            "0 BEG Beginning Segment for Purchase Order",
            "1 N1 Name",
            "1 N3 Address Information",
            "1 PO1 Baseline Item Data",
            "1 XX ",
            "1 CTT Transaction Totals",
            "0 SE Transaction Set Trailer",
        ];
        assert_eq!(lines, expected);
    }

    #[test]
    fn elements_have_names_meanings_and_the_columns_they_stand_in() {
        let tree = tree();
        let all = describe(&tree);
        let lines: Vec<String> = all[1]
            .elements
            .iter()
            .map(|one| format!("{:02} {}..{} {} = {} ({})", one.position, one.from, one.to, one.name, one.value, one.meaning))
            .collect();
        let expected = [
            "01 4..6 Transaction Set Purpose Code = 00 (Original)",
            "02 7..9 Purchase Order Type Code = SA (Stand-alone Order)",
            "03 10..14 Purchase Order Number = MF-1 ()",
            "05 16..24 Date = 20261123 ()",
        ];
        assert_eq!(lines, expected);
        let text = "BEG*00*SA*MF-1**20261123";
        assert!(all[1].elements.iter().all(|one| text[one.from..one.to] == one.value), "columns point at values");
        assert_eq!(all[5].elements[0].name, "", "a segment that is not known is shown all the same");
    }
}
