//! A transaction set as a tree: loops inside loops, segments in them, elements borrowed from the set's bytes.

use crate::definitions::{NodeId, SegmentDefinition, SegmentKey, SetDefinition};
use crate::segment::Tokens;
use crate::walker::Walker;
use crate::{Delimiters, Segment};
use std::sync::Arc;

/// A loop of a [`SetTree`]; the set itself is [`SetTree::ROOT`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct LoopId(u32);

/// A transaction set from ST to SE with its segments nested by loop.
///
/// Owns the set's bytes once; every element is a slice of them. A loop is a contiguous range of segments, and its inner loops are
/// ranges within it.
#[derive(Debug, Clone)]
pub struct SetTree {
    definition: Arc<SetDefinition>,
    tokens: Tokens<Arc<[u8]>>,
    /// The place in the table of each segment; 0 where it has none.
    places: Vec<NodeId>,
    /// The id of each segment.
    keys: Vec<SegmentKey>,
    loops: Vec<Loop>,
}

#[derive(Debug, Clone, Copy)]
struct Loop {
    node: NodeId,
    /// Segments, those of inner loops included.
    from: u32,
    to: u32,
    /// The first loop in it, and the next on its own level; 0 for none, since the set itself is neither.
    first: u32,
    next: u32,
}

/// Why bytes are not a set of this definition.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum TreeError {
    /// The bytes do not start with ST.
    #[error("a transaction set starts with ST")]
    NoHeader,
    /// More bytes than a tree may have.
    #[error("the set has {size} bytes; at most {limit} can be mapped")]
    TooLarge { size: usize, limit: usize },
}

/// A loop that is open while the tree is built, and the last loop that ended in it.
struct Open {
    id: u32,
    last: u32,
}

impl SetTree {
    /// The set itself, as the outermost loop.
    pub const ROOT: LoopId = LoopId(0);
    /// Largest set that is made a tree, in bytes.
    pub const LIMIT: usize = 64 << 20;

    /// Nests the segments of one set.
    ///
    /// A segment without a place in the definition belongs to the loop that was open before it, so nothing of the document is
    /// lost; the checker reports it.
    ///
    /// # Errors
    /// [`TreeError`] when the bytes do not begin with ST or are larger than [`Self::LIMIT`].
    pub fn new(definition: Arc<SetDefinition>, bytes: impl Into<Arc<[u8]>>, delimiters: Delimiters) -> Result<Self, TreeError> {
        let bytes: Arc<[u8]> = bytes.into();
        if bytes.len() > Self::LIMIT {
            return Err(TreeError::TooLarge { size: bytes.len(), limit: Self::LIMIT });
        }
        if !bytes.starts_with(b"ST") {
            return Err(TreeError::NoHeader);
        }
        let tokens = Tokens::new(bytes, delimiters);
        let mut places = Vec::with_capacity(tokens.len());
        let mut keys = Vec::with_capacity(tokens.len());
        let mut loops = vec![Loop { node: 0, from: 0, to: tokens.len() as u32, first: 0, next: 0 }];
        let mut open = vec![Open { id: 0, last: 0 }];
        let mut walker = Walker::new();
        let mut missing = Vec::new();
        for n in 0..tokens.len() as u32 {
            let key = SegmentKey::of(tokens.segment(n as usize).id());
            keys.push(key);
            let placed = walker.place(&definition, key, &mut missing);
            missing.clear();
            places.push(placed.map_or(0, |placed| placed.node));
            let Some(placed) = placed else { continue };
            for _ in 0..placed.closed {
                let ended = open.pop().expect("no more loops close than are open");
                loops[ended.id as usize].to = n;
            }
            if let Some(node) = placed.opened {
                let new = loops.len() as u32;
                loops.push(Loop { node, from: n, to: tokens.len() as u32, first: 0, next: 0 });
                let around = open.last_mut().expect("the set itself never closes");
                match around.last {
                    0 => loops[around.id as usize].first = new,
                    last => loops[last as usize].next = new,
                }
                around.last = new;
                open.push(Open { id: new, last: 0 });
            }
        }
        Ok(Self { definition, tokens, places, keys, loops })
    }

    /// The definition the tree was built by.
    #[must_use]
    pub fn definition(&self) -> &Arc<SetDefinition> {
        &self.definition
    }

    /// The set's bytes, ST to SE.
    #[must_use]
    pub fn bytes(&self) -> &[u8] {
        self.tokens.bytes()
    }

    /// Returns the separators of the set's interchange.
    #[must_use]
    pub fn delimiters(&self) -> Delimiters {
        self.tokens.delimiters()
    }

    /// The set itself.
    #[must_use]
    pub fn root(&self) -> LoopRef<'_> {
        self.at(Self::ROOT)
    }

    /// A loop by its id.
    #[must_use]
    pub fn at(&self, id: LoopId) -> LoopRef<'_> {
        LoopRef { tree: self, id }
    }

    /// Returns the table's entry for the segment with this [`Segment::number`], from 1; the dictionary's for a segment without a
    /// place.
    #[must_use]
    pub fn described(&self, segment: &Segment<'_>) -> Option<&SegmentDefinition> {
        match self.places.get((segment.number as usize).checked_sub(1)?) {
            None | Some(0) => self.definition.segment(std::str::from_utf8(segment.id()).ok()?),
            Some(node) => Some(&self.definition.nodes[usize::from(*node)].segment),
        }
    }

    fn get(&self, id: LoopId) -> Loop {
        self.loops[id.0 as usize]
    }
}

/// A loop of a tree, borrowed.
#[derive(Debug, Clone, Copy)]
pub struct LoopRef<'t> {
    tree: &'t SetTree,
    id: LoopId,
}

/// An entry directly in a loop.
#[derive(Debug, Clone, Copy)]
pub enum Child<'t> {
    Segment(Segment<'t>),
    Loop(LoopRef<'t>),
}

impl<'t> LoopRef<'t> {
    /// Returns the id for finding this loop again with [`SetTree::at`].
    #[must_use]
    pub fn id(&self) -> LoopId {
        self.id
    }

    /// The tree it is part of.
    #[must_use]
    pub fn tree(&self) -> &'t SetTree {
        self.tree
    }

    /// The id of the segment that opens the loop; the set's number for the set itself.
    #[must_use]
    pub fn name(&self) -> &'t str {
        &self.tree.definition.nodes[usize::from(self.tree.get(self.id).node)].id
    }

    /// Segments and loops directly in this one, in the order of the document.
    pub fn children(self) -> impl Iterator<Item = Child<'t>> {
        self.places().map(move |(at, inner)| self.child(at, inner))
    }

    /// Returns the entries with that id: segments, and loops that such a segment opens.
    pub fn named(self, id: &str) -> impl Iterator<Item = Child<'t>> {
        let key = SegmentKey::of(id.as_bytes());
        let is_named = move |at: u32| self.tree.keys[at as usize] == key;
        // An id of an unknown segment matches nothing.
        self.places()
            .filter(move |(at, _)| key != SegmentKey::NONE && is_named(*at))
            .map(move |(at, inner)| self.child(at, inner))
    }

    fn child(self, at: u32, inner: u32) -> Child<'t> {
        match inner {
            0 => Child::Segment(self.tree.tokens.segment(at as usize)),
            id => Child::Loop(LoopRef { tree: self.tree, id: LoopId(id) }),
        }
    }

    /// The first segment of each child, and its loop where it is one.
    fn places(self) -> impl Iterator<Item = (u32, u32)> {
        let loops = &self.tree.loops;
        let own = self.tree.get(self.id);
        let (mut at, mut inner) = (own.from, own.first);
        std::iter::from_fn(move || {
            let here = at;
            if here >= own.to {
                return None;
            }
            if inner != 0 && loops[inner as usize].from == here {
                let id = inner;
                (at, inner) = (loops[id as usize].to, loops[id as usize].next);
                return Some((here, id));
            }
            at += 1;
            Some((here, 0))
        })
    }

    /// Returns the segments directly in this loop, in order.
    pub fn segments(self) -> impl Iterator<Item = Segment<'t>> {
        self.children().filter_map(|child| match child {
            Child::Segment(segment) => Some(segment),
            Child::Loop(_) => None,
        })
    }

    /// The loops directly in this one that are opened by segment `id`, in order.
    pub fn loops(self, id: &str) -> impl Iterator<Item = LoopRef<'t>> {
        self.all_loops().filter(move |inner| inner.name() == id)
    }

    /// Every loop directly in this one, in order.
    pub fn all_loops(self) -> impl Iterator<Item = LoopRef<'t>> {
        let tree = self.tree;
        let first = tree.get(self.id).first;
        let ids = std::iter::successors((first != 0).then_some(first), move |id| {
            Some(tree.loops[*id as usize].next).filter(|next| *next != 0)
        });
        ids.map(move |id| LoopRef { tree, id: LoopId(id) })
    }

    /// The first segment named `id`: directly here, or opening a loop directly here.
    #[must_use]
    pub fn segment(self, id: &str) -> Option<Segment<'t>> {
        self.segments().find(|segment| segment.id() == id.as_bytes()).or_else(|| self.loops(id).next()?.segments().next())
    }
}
