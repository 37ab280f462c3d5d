//! Finds the place of each segment in a set's table, for checking and for building trees.

use crate::definitions::{NodeId, SegmentKey, SetDefinition};

/// Follows one set through its table, segment by segment.
///
/// The set's definition is given to each call, and must be the same at each.
#[derive(Debug)]
pub(crate) struct Walker {
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

/// Place of a segment.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Placed {
    /// Loops that ended before it.
    pub closed: usize,
    /// The loop that begins with it.
    pub opened: Option<NodeId>,
    /// The segment's own place.
    pub node: NodeId,
    pub over: Over,
    /// A mandatory entry was skipped; it is appended to the caller's list.
    pub missing: bool,
}

/// True if the place was used as often as the table allows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Over {
    No,
    /// At the segment or loop of this node.
    Segment(NodeId),
    Loop(NodeId),
}

/// Result of a search: frames to close, and the node in the frame then innermost.
type Found = (usize, NodeId, Over);

impl Walker {
    pub fn new() -> Self {
        let mut frames = Vec::with_capacity(8);
        frames.push(Frame { node: 0, at: 1, uses: 0 });
        Self { frames }
    }

    /// The innermost loop that is open, if any.
    pub fn in_loop<'d>(&self, definition: &'d SetDefinition) -> Option<&'d str> {
        self.frames.last().filter(|frame| frame.node != 0).map(|frame| definition.node(frame.node).id.as_str())
    }

    /// Puts the next segment at its place; `None` when it has none from here on. The mandatory entries passed by
    /// are appended to `missing`.
    pub fn place(&mut self, definition: &SetDefinition, key: SegmentKey, missing: &mut Vec<NodeId>) -> Option<Placed> {
        let number = definition.number_of(key)?;
        let (closed, found, over) = self.find(definition, number, false).or_else(|| self.find(definition, number, true))?;
        let before = missing.len();
        for _ in 0..closed {
            let frame = self.frames.pop().expect("find closes fewer frames than there are");
            unmet(definition, frame, definition.step(frame.node).end, missing);
        }
        let frame = *self.frames.last().expect("the set's own frame is never closed");
        unmet(definition, frame, found, missing);
        let frame = self.frames.last_mut().expect("the set's own frame is never closed");
        frame.uses = if frame.at == found { frame.uses + 1 } else { 1 };
        frame.at = found;
        let opened = definition.step(found).is_loop.then_some(found);
        let node = match opened {
            // A loop begins with the segment it is named for.
            Some(inner) => {
                self.frames.push(Frame { node: inner, at: inner + 1, uses: 1 });
                inner + 1
            }
            None => found,
        };
        Some(Placed { closed, opened, node, over, missing: missing.len() > before })
    }

    /// Appends the missing mandatory entries, once the set has ended.
    pub fn end(mut self, definition: &SetDefinition, missing: &mut Vec<NodeId>) {
        while let Some(frame) = self.frames.pop() {
            unmet(definition, frame, definition.step(frame.node).end, missing);
        }
    }

    fn find(&self, definition: &SetDefinition, number: usize, beyond_max: bool) -> Option<Found> {
        for (closed, frame) in self.frames.iter().rev().enumerate() {
            // There is no place after the last one of a level.
            let Some(mut at) = definition.next_at(frame.at, number) else { continue };
            let step = definition.step(at);
            if at == frame.at && frame.uses >= step.max {
                // The segment that opens a loop occurs once in it: a second one opens the loop again.
                let opens = frame.node != 0 && at == frame.node + 1;
                if beyond_max && !opens {
                    return Some((closed, at, if step.is_loop { Over::Loop(at) } else { Over::Segment(at) }));
                }
                // Full: a later place may take it.
                let end = definition.step(frame.node).end;
                match (step.end < end).then(|| definition.next_at(step.end, number)).flatten() {
                    Some(further) => at = further,
                    None => continue,
                }
            }
            return Some((closed, at, Over::No));
        }
        None
    }
}

/// Appends the mandatory entries of a frame after its current one and before `until`, or the current one if it is unused.
fn unmet(definition: &SetDefinition, frame: Frame, until: NodeId, missing: &mut Vec<NodeId>) {
    let end = definition.step(frame.node).end.min(until);
    let mut at = if frame.uses == 0 { frame.at } else { definition.step(frame.at).end };
    while at < end && definition.step(at).needs_behind {
        if definition.node(at).mandatory {
            missing.push(at);
        }
        at = definition.step(at).end;
    }
}
