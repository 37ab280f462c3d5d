//! A set as plain data, without the bytes it was read from, and its conversion to segments.

use crate::definitions::{Content, ElementDefinition, Kind, SegmentKey, SetDefinition};
use crate::tree::{Child, LoopRef, SetTree};
use crate::walker::Walker;
use crate::{Delimiters, Segment, Writer};

/// A segment or a loop.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Node {
    Segment { id: String, elements: Vec<Element> },
    Loop { id: String, of: Vec<Node> },
}

/// Content of a position.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Element {
    Empty,
    /// Text as written in the document.
    Text(String),
    /// A number such as `774.00`, to be written by the element's type.
    Number(String),
    Components(Vec<String>),
    Repeats(Vec<Element>),
}

/// Why a value cannot be written at its place.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{designator} ({name}): {says}")]
pub struct ComposeError {
    /// E.g. `AMT02`.
    pub designator: String,
    pub name: String,
    pub says: String,
}

impl Element {
    /// Returns whether nothing would be written.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        match self {
            Self::Empty => true,
            Self::Text(text) | Self::Number(text) => text.is_empty(),
            Self::Components(parts) => parts.iter().all(String::is_empty),
            Self::Repeats(all) => all.iter().all(Self::is_empty),
        }
    }
}

impl SetTree {
    /// The set as plain data, ST and SE included.
    #[must_use]
    pub fn plain(&self) -> Vec<Node> {
        nodes(self, self.root())
    }
}

fn nodes(tree: &SetTree, within: LoopRef<'_>) -> Vec<Node> {
    let node = |child| match child {
        Child::Segment(segment) => plain_segment(tree, &segment),
        Child::Loop(inner) => Node::Loop { id: inner.name().to_owned(), of: nodes(tree, inner) },
    };
    within.children().map(node).collect()
}

fn plain_segment(tree: &SetTree, segment: &Segment<'_>) -> Node {
    let described = tree.described(segment);
    let elements = (1..=segment.count()).map(|n| {
        let content = described.and_then(|known| known.place(n)).map(|place| &place.content);
        plain_element(segment.delimiters, segment.element(n), content)
    });
    let mut elements: Vec<Element> = elements.collect();
    elements.truncate(elements.iter().rposition(|element| !element.is_empty()).map_or(0, |last| last + 1));
    Node::Segment { id: String::from_utf8_lossy(segment.id()).into_owned(), elements }
}

fn plain_element(d: Delimiters, value: &[u8], content: Option<&Content>) -> Element {
    let text = |bytes: &[u8], element: Option<&ElementDefinition>| {
        let text = String::from_utf8_lossy(bytes).into_owned();
        match element.map(|element| element.kind) {
            Some(Kind::Numeric(places)) if places > 0 => with_point(&text, places).unwrap_or(text),
            _ => text,
        }
    };
    if value.is_empty() {
        return Element::Empty;
    }
    if let Some(by) = d.repetition.filter(|by| value.contains(by)) {
        let once = Delimiters { repetition: None, ..d };
        return Element::Repeats(value.split(|byte| *byte == by).map(|part| plain_element(once, part, content)).collect());
    }
    let composite = match content {
        Some(Content::Composite(composite)) => Some(composite),
        Some(Content::Element(_)) | None => None,
    };
    if composite.is_some() || value.contains(&d.component) {
        let places = composite.into_iter().flat_map(|composite| composite.places());
        let known = places.map(|place| match &place.content {
            Content::Element(element) => Some(element.as_ref()),
            Content::Composite(_) => None,
        });
        let parts = value.split(|byte| *byte == d.component).zip(known.chain(std::iter::repeat(None)));
        let mut parts: Vec<String> = parts.map(|(part, element)| text(part, element)).collect();
        parts.truncate(parts.iter().rposition(|part| !part.is_empty()).map_or(0, |last| last + 1));
        return Element::Components(parts);
    }
    let element = match content {
        Some(Content::Element(element)) => Some(element.as_ref()),
        Some(Content::Composite(_)) | None => None,
    };
    Element::Text(text(value, element))
}

/// Writes a set into an open group: `nodes` are the segments between ST and SE in order; the writer adds those two.
///
/// # Errors
/// [`ComposeError`] for the first value that its element cannot hold, e.g. a text in place of a number.
pub fn compose(definition: &SetDefinition, nodes: &[Node], writer: &mut Writer) -> Result<(), ComposeError> {
    writer.start_set(&definition.set);
    let mut walker = Walker::new();
    walker.place(definition, SegmentKey::of(b"ST"), &mut Vec::new());
    each(definition, nodes, &mut walker, writer)
}

fn each(definition: &SetDefinition, nodes: &[Node], walker: &mut Walker, writer: &mut Writer) -> Result<(), ComposeError> {
    for node in nodes {
        match node {
            Node::Segment { id, .. } if id == "ST" || id == "SE" => {}
            Node::Segment { id, elements } => {
                let placed = walker.place(definition, SegmentKey::of(id.as_bytes()), &mut Vec::new());
                let described = match placed {
                    Some(placed) => Some(definition.node(placed.node).segment.as_ref()),
                    None => definition.segment(id),
                };
                let mut written = Vec::with_capacity(elements.len());
                for (n, element) in elements.iter().enumerate() {
                    let content = described.and_then(|known| known.place(n + 1)).map(|place| &place.content);
                    let as_written = written_as(content, element).map_err(|says| ComposeError {
                        designator: format!("{id}{:02}", n + 1),
                        name: content.map_or_else(String::new, |content| content.name().to_owned()),
                        says,
                    });
                    written.push(as_written?);
                }
                writer.structured(id, &written);
            }
            Node::Loop { of, .. } => each(definition, of, walker, writer)?,
        }
    }
    Ok(())
}

fn written_as(content: Option<&Content>, element: &Element) -> Result<Element, String> {
    Ok(match (content, element) {
        (_, Element::Empty) => Element::Empty,
        (Some(Content::Element(known)), Element::Text(text)) => Element::Text(format_text(known, text)?),
        (Some(Content::Element(known)), Element::Number(number)) => Element::Text(format_number(known, number)?),
        (_, Element::Number(text)) => Element::Text(text.clone()),
        (Some(Content::Composite(known)), Element::Components(parts)) => {
            let places = known.places().map(|place| place.content.element());
            let written = parts.iter().zip(places.chain(std::iter::repeat(None))).map(|(part, known)| match known {
                Some(known) if !part.is_empty() => format_text(known, part),
                _ => Ok(part.clone()),
            });
            Element::Components(written.collect::<Result<_, _>>()?)
        }
        (_, Element::Repeats(all)) => Element::Repeats(all.iter().map(|one| written_as(content, one)).collect::<Result<_, _>>()?),
        (_, other) => other.clone(),
    })
}

/// A text as its element has it: days and times without their marks, numbers with implied decimal places without their point;
/// everything else as it is.
fn format_text(element: &ElementDefinition, text: &str) -> Result<String, String> {
    match element.kind {
        Kind::Date if is_marked(text, &[4, 2, 2], '-') => {
            let digits: String = text.chars().filter(|c| *c != '-').collect();
            Ok(if element.max == 6 { digits[2..].to_owned() } else { digits })
        }
        Kind::Time if is_marked(text, &[2, 2], ':') || is_marked(text, &[2, 2, 2], ':') => {
            Ok(text.chars().filter(|c| *c != ':').collect())
        }
        // The decimal point is in the value and not in the document.
        Kind::Numeric(places) if places > 0 => format_number(element, text),
        Kind::Text | Kind::Code | Kind::Numeric(_) | Kind::Decimal | Kind::Date | Kind::Time | Kind::Binary => {
            Ok(text.to_owned())
        }
    }
}

/// Returns whether `text` is groups of digits with a mark between them, e.g. `2026-11-26`.
fn is_marked(text: &str, groups: &[usize], mark: char) -> bool {
    let parts: Vec<&str> = text.split(mark).collect();
    let fits = |(part, length): (&&str, &usize)| part.len() == *length && part.bytes().all(|byte| byte.is_ascii_digit());
    parts.len() == groups.len() && parts.iter().zip(groups).all(fits)
}

/// Returns a number with implied decimal places (type `Nn`) with its point written: `77400` in an N2 is `774.00`. `None` for any
/// other value, which is a fault of the document.
#[must_use]
pub fn with_point(text: &str, places: u8) -> Option<String> {
    let places = usize::from(places);
    let (sign, digits) = text.strip_prefix('-').map_or(("", text), |digits| ("-", digits));
    if digits.is_empty() || !digits.bytes().all(|byte| byte.is_ascii_digit()) {
        return None;
    }
    if places == 0 {
        return Some(text.to_owned());
    }
    let digits = format!("{digits:0>width$}", width = places + 1);
    let (whole, behind) = digits.split_at(digits.len() - places);
    Some(format!("{sign}{whole}.{behind}"))
}

/// A number as its element has it: the implied decimal places of an `Nn`, zeros before it up to the shortest length.
fn format_number(element: &ElementDefinition, number: &str) -> Result<String, String> {
    let (sign, digits) = number.strip_prefix('-').map_or(("", number), |digits| ("-", digits));
    let (whole, behind) = digits.split_once('.').unwrap_or((digits, ""));
    let is_number =
        !(whole.is_empty() && behind.is_empty()) && whole.bytes().chain(behind.bytes()).all(|byte| byte.is_ascii_digit());
    if !is_number {
        return Err(format!("expected a number, found `{number}`"));
    }
    Ok(match element.kind {
        Kind::Numeric(places) => {
            let places = usize::from(places);
            let behind = behind.trim_end_matches('0');
            if behind.len() > places {
                return Err(format!("`{number}` has more than {places} decimal places"));
            }
            let all = format!("{whole}{behind:0<places$}");
            let plain = all.trim_start_matches('0');
            let plain = if plain.is_empty() { "0" } else { plain };
            format!("{sign}{plain:0>min$}", min = element.min)
        }
        Kind::Date | Kind::Time | Kind::Text | Kind::Code | Kind::Decimal | Kind::Binary => number.to_owned(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Definitions;

    fn element(number: u16) -> ElementDefinition {
        Definitions::standard().dictionary("004010").unwrap().element(number).unwrap().as_ref().clone()
    }

    #[test]
    fn values_are_written_as_their_type_asks_for() {
        let amount = element(610); // N2
        let number = |text: &str| format_number(&amount, text);
        assert_eq!(number("774.00"), Ok("77400".into()));
        assert_eq!(number("-0.05"), Ok("-5".into()));
        assert_eq!(number("12"), Ok("1200".into()));
        assert_eq!(number("0"), Ok("0".into()));
        assert!(number("1.005").unwrap_err().contains("2 decimal places"));
        assert!(number("twelve").is_err());
        assert_eq!(format_text(&amount, "774"), Ok("77400".into()), "a text means what it says, as a number does");
        assert!(format_text(&amount, "seven").is_err());
        let point = |text: &str| with_point(text, 2);
        assert_eq!(
            [point("77400"), point("5"), point("-1250"), point("0")].map(Option::unwrap),
            ["774.00", "0.05", "-12.50", "0.00"]
        );
        assert_eq!((point("7.5"), point("x"), point(""), point("-")), (None, None, None, None));
        assert_eq!(with_point("0012", 0).as_deref(), Some("0012"));
        assert_eq!(format_text(&element(373), "2026-11-26"), Ok("20261126".into()));
        assert_eq!(format_text(&element(337), "14:30:05"), Ok("143005".into()));
        assert_eq!(format_number(&element(782), "1.50"), Ok("1.50".into()), "a decimal keeps its digits");
    }
}
