//! Two documents compared by what they mean: separators, padding, line ends and the numbering of envelopes do not count.

use crate::x12::SetTree;
use crate::x12::plain::{Element, Node};
use serde::Serialize;

/// A difference between two sets.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Difference {
    /// The path through the loops, e.g. `PO1[2]/PO102`.
    pub at: String,
    /// Name of the element or segment.
    pub name: String,
    /// Value in the first document; `None` where only the second has it.
    pub before: Option<String>,
    pub after: Option<String>,
}

/// Returns the differences of two sets, in the order of the first.
#[must_use]
pub fn differences(before: &SetTree, after: &SetTree) -> Vec<Difference> {
    let mut all = Vec::new();
    compare(before, &before.plain(), &after.plain(), "", &mut all);
    all
}

/// Returns what distinguishes a loop or segment from others with its id: the id with its qualifier, so that a party inserted
/// before others is seen as added.
fn identity(node: &Node) -> String {
    let first = |elements: &[Element]| match elements.first() {
        Some(Element::Text(text)) => text.clone(),
        _ => String::new(),
    };
    match node {
        Node::Segment { id, elements } if matches!(id.as_str(), "REF" | "DTM" | "PER" | "N9" | "AMT") => {
            format!("{id} {}", first(elements))
        }
        Node::Segment { id, .. } => id.clone(),
        Node::Loop { id, of } => match of.first() {
            Some(Node::Segment { elements, .. }) if matches!(id.as_str(), "N1" | "PO1" | "N9" | "SLN") => {
                format!("{id} {}", first(elements))
            }
            _ => id.clone(),
        },
    }
}

fn compare(tree: &SetTree, before: &[Node], after: &[Node], path: &str, all: &mut Vec<Difference>) {
    let (old, new): (Vec<String>, Vec<String>) = (before.iter().map(identity).collect(), after.iter().map(identity).collect());
    for change in similar::capture_diff_slices(similar::Algorithm::Myers, &old, &new) {
        match change {
            similar::DiffOp::Equal { old_index, new_index, len } => {
                for n in 0..len {
                    pair(tree, &before[old_index + n], &after[new_index + n], &at(path, before, old_index + n), all);
                }
            }
            similar::DiffOp::Delete { old_index, old_len, .. } => gone(tree, before, old_index, old_len, path, true, all),
            similar::DiffOp::Insert { new_index, new_len, .. } => gone(tree, after, new_index, new_len, path, false, all),
            similar::DiffOp::Replace { old_index, old_len, new_index, new_len } => {
                gone(tree, before, old_index, old_len, path, true, all);
                gone(tree, after, new_index, new_len, path, false, all);
            }
        }
    }
}

/// The path of a node: its id, numbered from 1 where there are several.
fn at(path: &str, nodes: &[Node], n: usize) -> String {
    let id = |node: &Node| match node {
        Node::Segment { id, .. } | Node::Loop { id, .. } => id.clone(),
    };
    let own = id(&nodes[n]);
    let same = nodes.iter().filter(|node| id(node) == own).count();
    let number = nodes[..=n].iter().filter(|node| id(node) == own).count();
    let own = if same > 1 { format!("{own}[{number}]") } else { own };
    if path.is_empty() { own } else { format!("{path}/{own}") }
}

fn gone(tree: &SetTree, nodes: &[Node], from: usize, count: usize, path: &str, was: bool, all: &mut Vec<Difference>) {
    for n in from..from + count {
        let says = Some(shown(&nodes[n]));
        let (before, after) = if was { (says, None) } else { (None, says) };
        let (Node::Segment { id, .. } | Node::Loop { id, .. }) = &nodes[n];
        let name = tree.definition().segment(id).map_or_else(String::new, |known| known.name.clone());
        all.push(Difference { at: at(path, nodes, n), name, before, after });
    }
}

/// A node as text: its segments as a person would type them, with `*` between elements.
fn shown(node: &Node) -> String {
    match node {
        Node::Segment { id, elements } => {
            let parts = std::iter::once(id.clone()).chain(elements.iter().map(text));
            parts.collect::<Vec<_>>().join("*")
        }
        Node::Loop { of, .. } => of.iter().map(shown).collect::<Vec<_>>().join(" "),
    }
}

fn text(element: &Element) -> String {
    match element {
        Element::Empty => String::new(),
        Element::Text(text) | Element::Number(text) => text.clone(),
        Element::Components(parts) => parts.join(">"),
        Element::Repeats(all) => all.iter().map(text).collect::<Vec<_>>().join("^"),
    }
}

fn pair(tree: &SetTree, before: &Node, after: &Node, path: &str, all: &mut Vec<Difference>) {
    match (before, after) {
        (Node::Loop { of: before, .. }, Node::Loop { of: after, .. }) => compare(tree, before, after, path, all),
        // Count and control number of the envelope are not content.
        (Node::Segment { id, .. }, Node::Segment { .. }) if id == "SE" || id == "ST" => {}
        (Node::Segment { id, elements: before }, Node::Segment { elements: after, .. }) => {
            let described = tree.definition().segment(id);
            for n in 0..before.len().max(after.len()) {
                let one = |elements: &[Element]| {
                    elements.get(n).map(|element| text(element).trim_end().to_owned()).filter(|text| !text.is_empty())
                };
                let (before, after) = (one(before), one(after));
                if before != after {
                    let name = described
                        .and_then(|known| known.place(n + 1))
                        .map_or_else(String::new, |place| place.content.name().to_owned());
                    all.push(Difference { at: format!("{path}{:02}", n + 1), name, before, after });
                }
            }
        }
        (Node::Loop { .. }, Node::Segment { .. }) | (Node::Segment { .. }, Node::Loop { .. }) => {
            let (before, after) = (Some(shown(before)), Some(shown(after)));
            all.push(Difference { at: path.to_owned(), name: String::new(), before, after });
        }
    }
}
