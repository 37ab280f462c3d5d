//! The segment table of a set: as it is written, and flattened so that a segment is put into its place quickly.

use super::dictionary::{Dictionary, SegmentDefinition};
use super::files::{DefinitionError, error};
use super::guide::Condition;
use std::collections::BTreeSet;
use std::sync::Arc;

/// The segment table of one transaction set in one version, with the dictionary it uses.
#[derive(Debug, Clone)]
pub struct SetDefinition {
    /// Transaction set identifier, e.g. `850`.
    pub set: String,
    /// English name.
    pub name: String,
    /// Functional identifier code (GS01) of its groups.
    pub functional_id: String,
    /// Version and release as in GS08, e.g. `004010`.
    pub version: String,
    /// The table: the set's own level of entries.
    pub table: Vec<Entry>,
    /// A partner's requirements beyond the tables.
    pub conditions: Vec<Condition>,
    /// The name of the guide it was narrowed by; empty for the standard itself.
    pub guide: String,
    pub(crate) dictionary: Arc<Dictionary>,
    /// The table in the order it is written, loops before what is in them; the set itself is the first.
    pub(crate) nodes: Vec<Node>,
    /// The same nodes, with only the data for finding places.
    pub(crate) steps: Vec<Step>,
    /// For each node and each segment of the table, the next node on the same level with that segment.
    next: Vec<NodeId>,
    keys: Keys,
}

/// The segments of a table, numbered.
#[derive(Debug, Clone, Default)]
struct Keys {
    count: usize,
    /// A power of two of slots; free ones have no key.
    slots: Vec<(SegmentKey, u16)>,
}

impl Keys {
    fn new(all: &BTreeSet<SegmentKey>) -> Self {
        let mut slots = vec![(SegmentKey::NONE, 0); (all.len() * 4).next_power_of_two()];
        for (n, key) in all.iter().enumerate() {
            let mut at = Self::place(*key, slots.len());
            while slots[at].0 != SegmentKey::NONE {
                at = (at + 1) & (slots.len() - 1);
            }
            slots[at] = (*key, n as u16);
        }
        Self { count: all.len(), slots }
    }

    fn place(key: SegmentKey, size: usize) -> usize {
        (key.0.wrapping_mul(0x9E37_79B1) >> 16) as usize & (size - 1)
    }

    fn number(&self, key: SegmentKey) -> Option<usize> {
        let mut at = Self::place(key, self.slots.len());
        loop {
            match self.slots[at] {
                (SegmentKey::NONE, _) => return None,
                (found, number) if found == key => return Some(usize::from(number)),
                _ => at = (at + 1) & (self.slots.len() - 1),
            }
        }
    }
}

/// Data of a node for finding places.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Step {
    pub end: NodeId,
    pub is_loop: bool,
    pub needs_behind: bool,
    pub max: u32,
}

/// A place of a segment table.
#[derive(Debug, Clone)]
pub enum Entry {
    Segment { id: String, mandatory: bool, max: u32, assumed: bool },
    Loop { id: String, mandatory: bool, max: u32, assumed: bool, of: Vec<Entry> },
}

/// Which of a set's [`Node`]s.
pub(crate) type NodeId = u16;

/// A segment id as a number; ids of more than three bytes, or of none, have none.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct SegmentKey(u32);

impl SegmentKey {
    /// Stands for no segment.
    pub const NONE: Self = Self(0);

    pub fn of(id: &[u8]) -> Self {
        match *id {
            [a, b] => Self(u32::from_be_bytes([0, 0, a, b])),
            [a, b, c] => Self(u32::from_be_bytes([0, a, b, c])),
            _ => Self::NONE,
        }
    }
}

/// A place of a table, flattened.
#[derive(Debug, Clone)]
pub(crate) struct Node {
    pub key: SegmentKey,
    pub id: String,
    pub is_loop: bool,
    pub mandatory: bool,
    pub assumed: bool,
    pub max: u32,
    /// Index after the last node within it, which is the next sibling.
    pub end: NodeId,
    /// True if the node or a later one on the same level is mandatory.
    pub needs_behind: bool,
    pub segment: Arc<SegmentDefinition>,
    /// A guide forbids it.
    pub forbidden: bool,
    pub narrowed_max: bool,
    pub narrowed_need: bool,
}

impl Entry {
    /// Returns the segment of this place; for a loop, the one that opens it.
    #[must_use]
    pub fn id(&self) -> &str {
        match self {
            Self::Segment { id, .. } | Self::Loop { id, .. } => id,
        }
    }

    /// Returns whether it is mandatory.
    #[must_use]
    pub fn mandatory(&self) -> bool {
        match self {
            Self::Segment { mandatory, .. } | Self::Loop { mandatory, .. } => *mandatory,
        }
    }

    /// Returns whether it may be repeated.
    #[must_use]
    pub fn repeats(&self) -> bool {
        self.max() > 1
    }

    /// The most repetitions; `u32::MAX` without limit.
    #[must_use]
    pub fn max(&self) -> u32 {
        match self {
            Self::Segment { max, .. } | Self::Loop { max, .. } => *max,
        }
    }

    fn assumed(&self) -> bool {
        match self {
            Self::Segment { assumed, .. } | Self::Loop { assumed, .. } => *assumed,
        }
    }
}

impl SetDefinition {
    /// Builds a set whose segments are all in the dictionary.
    pub(super) fn new(
        set: String,
        name: String,
        functional_id: String,
        table: Vec<Entry>,
        dictionary: Arc<Dictionary>,
    ) -> Result<Self, DefinitionError> {
        let version = dictionary.version.clone();
        let mut definition = Self {
            set,
            name,
            functional_id,
            version,
            table: Vec::new(),
            conditions: Vec::new(),
            guide: String::new(),
            dictionary,
            nodes: Vec::new(),
            steps: Vec::new(),
            next: Vec::new(),
            keys: Keys::default(),
        };
        definition.lay_out(table)?;
        Ok(definition)
    }

    /// Takes `table` and flattens it.
    pub(super) fn lay_out(&mut self, table: Vec<Entry>) -> Result<(), DefinitionError> {
        let mut nodes = Vec::new();
        let none = SegmentDefinition {
            id: String::new(),
            name: self.name.clone(),
            assumed: false,
            open: true,
            elements: Vec::new(),
            rules: Vec::new(),
            needed: 0,
            quick: Vec::new(),
            pairs: 0,
            other_rules: Vec::new(),
        };
        nodes.push(Node {
            key: SegmentKey::NONE,
            id: self.set.clone(),
            is_loop: true,
            mandatory: true,
            assumed: false,
            max: 1,
            end: 0,
            needs_behind: false,
            segment: Arc::new(none),
            forbidden: false,
            narrowed_max: false,
            narrowed_need: false,
        });
        self.flatten(&table, &mut nodes)?;
        nodes[0].end = nodes.len() as NodeId;
        self.nodes = nodes;
        self.table = table;
        self.renew_steps();
        Ok(())
    }

    fn flatten(&self, entries: &[Entry], nodes: &mut Vec<Node>) -> Result<(), DefinitionError> {
        for entry in entries {
            let id = entry.id();
            let segment = self.dictionary.segment(id).ok_or_else(|| {
                error(format!("{} {} uses segment {id}, which is not in the dictionary", self.version, self.set))
            })?;
            let at = nodes.len();
            if at > usize::from(NodeId::MAX) - 1 {
                return Err(error(format!("{} {} has more than {} places", self.version, self.set, NodeId::MAX)));
            }
            nodes.push(Node {
                key: SegmentKey::of(id.as_bytes()),
                id: id.to_owned(),
                is_loop: matches!(entry, Entry::Loop { .. }),
                mandatory: entry.mandatory(),
                assumed: entry.assumed(),
                max: entry.max(),
                end: 0,
                needs_behind: false,
                segment: segment.clone(),
                forbidden: false,
                narrowed_max: false,
                narrowed_need: false,
            });
            if let Entry::Loop { of, .. } = entry {
                self.flatten(of, nodes)?;
            }
            nodes[at].end = nodes.len() as NodeId;
        }
        Ok(())
    }

    /// Recomputes which nodes are followed by mandatory ones, and the steps.
    pub(super) fn renew_steps(&mut self) {
        fn level(nodes: &mut [Node], from: usize, to: usize) {
            let mut places = Vec::new();
            let mut at = from;
            while at < to {
                places.push(at);
                let end = usize::from(nodes[at].end);
                level(nodes, at + 1, end);
                at = end;
            }
            let mut needed = false;
            for at in places.into_iter().rev() {
                needed |= nodes[at].mandatory;
                nodes[at].needs_behind = needed;
            }
        }
        let end = self.nodes.len();
        level(&mut self.nodes, 1, end);
        let step = |node: &Node| Step { end: node.end, is_loop: node.is_loop, needs_behind: node.needs_behind, max: node.max };
        self.steps = self.nodes.iter().map(step).collect();
        self.keys = Keys::new(&self.nodes[1..].iter().map(|node| node.key).filter(|key| *key != SegmentKey::NONE).collect());
        self.next = vec![NodeId::MAX; self.nodes.len() * self.keys.count];
        self.lay_ways(1, end);
    }

    /// Fills in the next node of each segment, for the nodes of one level from last to first.
    fn lay_ways(&mut self, from: usize, to: usize) {
        let mut level = Vec::new();
        let mut at = from;
        while at < to {
            level.push(at);
            let end = usize::from(self.nodes[at].end);
            self.lay_ways(at + 1, end);
            at = end;
        }
        let count = self.keys.count;
        let mut after = vec![NodeId::MAX; count];
        for at in level.into_iter().rev() {
            if let Some(number) = self.keys.number(self.nodes[at].key) {
                after[number] = at as NodeId;
            }
            self.next[at * count..(at + 1) * count].copy_from_slice(&after);
        }
    }

    #[inline]
    pub(crate) fn node(&self, id: NodeId) -> &Node {
        &self.nodes[usize::from(id)]
    }

    #[inline]
    pub(crate) fn step(&self, id: NodeId) -> Step {
        self.steps[usize::from(id)]
    }

    /// Returns the number of a segment in the table; `None` if it does not occur in it.
    #[inline]
    pub(crate) fn number_of(&self, key: SegmentKey) -> Option<usize> {
        self.keys.number(key)
    }

    /// Returns the first node from `at` on, on its level, with the segment of that number.
    #[inline]
    pub(crate) fn next_at(&self, at: NodeId, number: usize) -> Option<NodeId> {
        Some(self.next[usize::from(at) * self.keys.count + number]).filter(|node| *node != NodeId::MAX)
    }

    /// The definition of a segment, if the dictionary has it.
    #[must_use]
    pub fn segment(&self, id: &str) -> Option<&SegmentDefinition> {
        self.dictionary.segment(id).map(Arc::as_ref)
    }

    /// Returns whether the segment occurs in the table.
    #[must_use]
    pub fn uses(&self, id: &str) -> bool {
        self.keys.number(SegmentKey::of(id.as_bytes())).is_some()
    }

    /// The entries of the loop reached by opening `path` (loop ids from the outside in); the whole table for an empty path.
    #[must_use]
    pub fn entries(&self, path: &[&str]) -> Option<&[Entry]> {
        let mut at = self.table.as_slice();
        for step in path {
            at = at.iter().find_map(|entry| match entry {
                Entry::Loop { id, of, .. } if id == step => Some(of.as_slice()),
                _ => None,
            })?;
        }
        Some(at)
    }

    /// Every segment id of the table, once, ascending.
    #[must_use]
    pub fn segment_ids(&self) -> Vec<&str> {
        let mut ids: Vec<&str> = self.nodes[1..].iter().map(|node| node.id.as_str()).collect();
        ids.sort_unstable();
        ids.dedup();
        ids
    }
}
