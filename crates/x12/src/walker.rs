//! Finds the place of each segment in a set's table. Checking and tree building both stand on it.

use crate::definitions::{Entry, SetDefinition};

/// Follows one set through its table, segment by segment.
#[derive(Debug)]
pub(crate) struct Walker<'d> {
    definition: &'d SetDefinition,
    frames: Vec<Frame<'d>>,
}

#[derive(Debug)]
struct Frame<'d> {
    /// The loop's id; empty for the set itself.
    id: &'d str,
    entries: &'d [Entry],
    index: usize,
    uses: u32,
}

/// Where a segment stands.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Placed<'d> {
    /// At its place; `closed` loops ended and `opened` one began with it.
    Here { closed: usize, opened: Option<&'d str>, missing: Vec<&'d str>, over: Over },
    /// Nowhere from here on.
    Nowhere,
}

/// Whether the place had been used as often as the table allows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Over {
    No,
    Segment,
    Loop,
}

impl<'d> Walker<'d> {
    pub fn new(definition: &'d SetDefinition) -> Self {
        Self { definition, frames: vec![Frame { id: "", entries: &definition.table, index: 0, uses: 0 }] }
    }

    pub fn definition(&self) -> &'d SetDefinition {
        self.definition
    }

    /// The innermost loop that is open, if any.
    pub fn in_loop(&self) -> Option<&'d str> {
        self.frames.last().map(|frame| frame.id).filter(|id| !id.is_empty())
    }

    /// Puts the next segment at its place.
    pub fn place(&mut self, id: &str) -> Placed<'d> {
        let Some((closed, index, over)) = self.find(id, false).or_else(|| self.find(id, true)) else {
            return Placed::Nowhere;
        };
        let mut missing = Vec::new();
        for _ in 0..closed {
            let frame = self.frames.pop().expect("find closes fewer frames than there are");
            missing.extend(unmet(&frame, frame.entries.len()));
        }
        let frame = self.frames.last_mut().expect("the set's own frame is never closed");
        missing.extend(unmet(frame, index));
        frame.uses = if frame.index == index { frame.uses + 1 } else { 1 };
        frame.index = index;
        let entry = &frame.entries[index];
        let opened = match entry {
            Entry::Segment { .. } => None,
            Entry::Loop { id, of, .. } => {
                self.frames.push(Frame { id, entries: of, index: 0, uses: 1 });
                Some(id.as_str())
            }
        };
        Placed::Here { closed, opened, missing, over }
    }

    /// The mandatory segments that never came, once the set has ended.
    pub fn end(mut self) -> Vec<&'d str> {
        let mut missing = Vec::new();
        while let Some(frame) = self.frames.pop() {
            missing.extend(unmet(&frame, frame.entries.len()));
        }
        missing
    }

    /// Frames to close, the index in the frame then innermost, and whether it is used too often there.
    fn find(&self, id: &str, beyond_max: bool) -> Option<(usize, usize, Over)> {
        for (closed, frame) in self.frames.iter().rev().enumerate() {
            for (index, entry) in frame.entries.iter().enumerate().skip(frame.index) {
                if entry.id() != id {
                    continue;
                }
                let full = index == frame.index && frame.uses >= entry.max();
                match (full, beyond_max, entry) {
                    (false, _, _) => return Some((closed, index, Over::No)),
                    (true, true, Entry::Segment { .. }) => return Some((closed, index, Over::Segment)),
                    (true, true, Entry::Loop { .. }) => return Some((closed, index, Over::Loop)),
                    (true, false, _) => {}
                }
            }
        }
        None
    }
}

/// Mandatory entries of `frame` behind its current one and before `until`, or the current one if unused.
fn unmet<'d>(frame: &Frame<'d>, until: usize) -> Vec<&'d str> {
    let from = if frame.uses == 0 { frame.index } else { frame.index + 1 };
    let passed = frame.entries.get(from..until.max(from)).unwrap_or_default();
    passed.iter().filter(|entry| entry.mandatory()).map(Entry::id).collect()
}
