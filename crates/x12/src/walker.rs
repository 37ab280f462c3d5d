//! Finds the place of each segment in a set's table. Checking and tree building both stand on it.

use crate::definitions::{Node, NodeId, SegmentKey, SetDefinition, Step};

/// Follows one set through its table, segment by segment.
#[derive(Debug)]
pub(crate) struct Walker<'d> {
    definition: &'d SetDefinition,
    frames: Vec<Frame>,
}

/// A loop that is open; the set itself is the outermost.
#[derive(Debug, Clone, Copy)]
struct Frame {
    /// The loop.
    node: NodeId,
    /// The place within it that was last used, and how often in a row.
    at: NodeId,
    uses: u32,
}

/// Where a segment stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Placed {
    /// Loops that ended before it.
    pub closed: usize,
    /// The loop that begins with it.
    pub opened: Option<NodeId>,
    /// The segment's own place.
    pub node: NodeId,
    pub over: Over,
    /// Whether something mandatory was passed by; appended to what the caller gave.
    pub missing: bool,
}

/// Whether the place had been used as often as the table allows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Over {
    No,
    /// At the segment or loop of this node.
    Segment(NodeId),
    Loop(NodeId),
}

/// Where the search found a segment: frames to close, and the node in the frame then innermost.
type Found = (usize, NodeId, Over);

impl<'d> Walker<'d> {
    pub fn new(definition: &'d SetDefinition) -> Self {
        let mut frames = Vec::with_capacity(8);
        frames.push(Frame { node: 0, at: 1, uses: 0 });
        Self { definition, frames }
    }

    pub fn definition(&self) -> &'d SetDefinition {
        self.definition
    }

    pub fn node(&self, id: NodeId) -> &'d Node {
        &self.definition.nodes[usize::from(id)]
    }

    fn step(&self, id: NodeId) -> Step {
        self.definition.steps[usize::from(id)]
    }

    /// The innermost loop that is open, if any.
    pub fn in_loop(&self) -> Option<&'d str> {
        self.frames.last().filter(|frame| frame.node != 0).map(|frame| self.node(frame.node).id.as_str())
    }

    /// Puts the next segment at its place; `None` when it has none from here on. The mandatory entries passed by
    /// are appended to `missing`.
    pub fn place(&mut self, key: SegmentKey, missing: &mut Vec<NodeId>) -> Option<Placed> {
        let number = self.definition.number_of(key)?;
        let (closed, found, over) = self.find(number, false).or_else(|| self.find(number, true))?;
        let before = missing.len();
        for _ in 0..closed {
            let frame = self.frames.pop().expect("find closes fewer frames than there are");
            let end = self.step(frame.node).end;
            self.unmet(frame, end, missing);
        }
        let frame = *self.frames.last().expect("the set's own frame is never closed");
        self.unmet(frame, found, missing);
        let frame = self.frames.last_mut().expect("the set's own frame is never closed");
        frame.uses = if frame.at == found { frame.uses + 1 } else { 1 };
        frame.at = found;
        let opened = self.step(found).is_loop.then_some(found);
        let node = match opened {
            // A loop is opened by the segment it is named for, which stands first in it.
            Some(inner) => {
                self.frames.push(Frame { node: inner, at: inner + 1, uses: 1 });
                inner + 1
            }
            None => found,
        };
        Some(Placed { closed, opened, node, over, missing: missing.len() > before })
    }

    /// The mandatory entries that never came, once the set has ended.
    pub fn end(mut self, missing: &mut Vec<NodeId>) {
        while let Some(frame) = self.frames.pop() {
            let end = self.step(frame.node).end;
            self.unmet(frame, end, missing);
        }
    }

    fn find(&self, number: usize, beyond_max: bool) -> Option<Found> {
        for (closed, frame) in self.frames.iter().rev().enumerate() {
            // Beyond the last place of a level nothing stands.
            let Some(mut at) = self.definition.next_at(frame.at, number) else { continue };
            let step = self.step(at);
            if at == frame.at && frame.uses >= step.max {
                if beyond_max {
                    return Some((closed, at, if step.is_loop { Over::Loop(at) } else { Over::Segment(at) }));
                }
                // Full: it may stand again further on.
                let end = self.step(frame.node).end;
                match (step.end < end).then(|| self.definition.next_at(step.end, number)).flatten() {
                    Some(further) => at = further,
                    None => continue,
                }
            }
            return Some((closed, at, Over::No));
        }
        None
    }

    /// Mandatory entries of a frame behind its current one and before `until`, or the current one if it is not used.
    fn unmet(&self, frame: Frame, until: NodeId, missing: &mut Vec<NodeId>) {
        let end = self.step(frame.node).end.min(until);
        let mut at = if frame.uses == 0 { frame.at } else { self.step(frame.at).end };
        while at < end && self.step(at).needs_behind {
            if self.node(at).mandatory {
                missing.push(at);
            }
            at = self.step(at).end;
        }
    }
}
