//! A transaction set as a tree: loops inside loops, segments in them, elements borrowed from the set's bytes.

use crate::definitions::SetDefinition;
use crate::segment::segments;
use crate::walker::{Placed, Walker};
use crate::{Delimiters, Segment};
use std::sync::Arc;

/// A loop of a [`SetTree`]; the set itself is [`SetTree::ROOT`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct LoopId(u32);

/// One transaction set from ST to SE with its segments nested by loop.
///
/// Owns the set's bytes once; every element is a slice of them.
#[derive(Debug, Clone)]
pub struct SetTree {
    definition: Arc<SetDefinition>,
    bytes: Arc<[u8]>,
    delimiters: Delimiters,
    loops: Vec<Loop>,
}

#[derive(Debug, Clone)]
struct Loop {
    id: String,
    children: Vec<Child>,
}

#[derive(Debug, Clone, Copy)]
enum Child {
    Segment { start: u32, end: u32 },
    Loop(LoopId),
}

/// Why bytes are no set of this definition.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum TreeError {
    /// The bytes do not start with ST.
    #[error("a transaction set starts with ST")]
    NoHeader,
    /// More bytes than a tree may have.
    #[error("the set has {size} bytes, {limit} at most can be mapped")]
    TooLarge { size: usize, limit: usize },
}

impl SetTree {
    /// The set itself, as the outermost loop.
    pub const ROOT: LoopId = LoopId(0);
    /// Largest set that is made a tree, in bytes.
    pub const LIMIT: usize = 64 << 20;

    /// Nests the segments of one set.
    ///
    /// A segment that has no place in the definition stands in the loop that was open before it, so
    /// nothing of the document is lost; whether that is a fault is the checker's matter.
    ///
    /// # Errors
    /// [`TreeError`] when the bytes do not begin with ST or are beyond [`Self::LIMIT`].
    pub fn new(definition: Arc<SetDefinition>, bytes: impl Into<Arc<[u8]>>, delimiters: Delimiters) -> Result<Self, TreeError> {
        let bytes: Arc<[u8]> = bytes.into();
        if bytes.len() > Self::LIMIT {
            return Err(TreeError::TooLarge { size: bytes.len(), limit: Self::LIMIT });
        }
        if !bytes.starts_with(b"ST") {
            return Err(TreeError::NoHeader);
        }
        let mut loops = vec![Loop { id: definition.set.clone(), children: Vec::new() }];
        {
            let mut walker = Walker::new(&definition);
            let mut open = vec![Self::ROOT];
            for segment in segments(&bytes, delimiters) {
                if let Placed::Here { closed, opened, .. } = walker.place(&String::from_utf8_lossy(segment.id())) {
                    open.truncate(open.len() - closed);
                    if let Some(id) = opened {
                        let new = LoopId(loops.len() as u32);
                        loops.push(Loop { id: id.to_owned(), children: Vec::new() });
                        loops[open[open.len() - 1].0 as usize].children.push(Child::Loop(new));
                        open.push(new);
                    }
                }
                let start = segment.offset as u32;
                let child = Child::Segment { start, end: start + segment.bytes.len() as u32 };
                loops[open[open.len() - 1].0 as usize].children.push(child);
            }
        }
        Ok(Self { definition, bytes, delimiters, loops })
    }

    /// The definition the tree was built by.
    #[must_use]
    pub fn definition(&self) -> &Arc<SetDefinition> {
        &self.definition
    }

    /// The set's bytes, ST to SE.
    #[must_use]
    pub fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// The separators of the interchange the set came in.
    #[must_use]
    pub fn delimiters(&self) -> Delimiters {
        self.delimiters
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
}

/// A loop of a tree, borrowed.
#[derive(Debug, Clone, Copy)]
pub struct LoopRef<'t> {
    tree: &'t SetTree,
    id: LoopId,
}

impl<'t> LoopRef<'t> {
    /// The id to come back to this loop with [`SetTree::at`].
    #[must_use]
    pub fn id(&self) -> LoopId {
        self.id
    }

    /// The id of the segment that opens the loop; the set's number for the set itself.
    #[must_use]
    pub fn name(&self) -> &'t str {
        &self.tree.loops[self.id.0 as usize].id
    }

    /// The segments that stand directly in this loop, in order.
    pub fn segments(self) -> impl Iterator<Item = Segment<'t>> {
        let tree = self.tree;
        tree.loops[self.id.0 as usize].children.iter().filter_map(move |child| match *child {
            Child::Segment { start, end } => Some(Segment {
                bytes: &tree.bytes[start as usize..end as usize],
                delimiters: tree.delimiters,
                offset: u64::from(start),
                end: u64::from(end) + 1,
            }),
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
        tree.loops[self.id.0 as usize].children.iter().filter_map(move |child| match *child {
            Child::Loop(id) => Some(LoopRef { tree, id }),
            Child::Segment { .. } => None,
        })
    }

    /// The first segment named `id`: directly here, or opening a loop directly here.
    #[must_use]
    pub fn segment(self, id: &str) -> Option<Segment<'t>> {
        self.segments().find(|segment| segment.id() == id.as_bytes()).or_else(|| self.loops(id).next()?.segments().next())
    }
}
