//! What is known of a message while it is unfinished.

use super::Entered;
use crate::journal::Part;
use crate::lane::LaneKey;
use crate::shard::shard_of;
use std::sync::Arc;
use wirewatch_core::Timestamp;
use wirewatch_core::flow::Flow;
use wirewatch_core::machine::{Machine, Passed};
use wirewatch_core::plan::Point;

/// Bytes of a document that take one memory place.
pub const PLACE: u64 = 128 << 10;

/// Returns the memory places of a document of this size.
pub(super) fn places(bytes: u64) -> usize {
    usize::try_from(bytes.div_ceil(PLACE)).unwrap_or(usize::MAX).max(1)
}

/// The shard of a message, and its lane where its flow has an order.
pub(super) fn place_of(machine: &Machine) -> (u16, Option<LaneKey>) {
    let (origin, key) = (machine.origin(), machine.order_key());
    let shard = shard_of(origin.id, &origin.flow, key.as_deref().unwrap_or_default());
    (shard, key.map(|key| (origin.flow.clone(), key)))
}

/// A message in the books.
#[derive(Debug)]
pub(super) struct Slot {
    pub(super) shard: u16,
    /// Flow, if that has `in_flight`.
    pub(super) counted: Option<Arc<Flow>>,
    /// Memory places that it takes.
    pub(super) places: usize,
    pub(super) lane: Option<LaneKey>,
    pub(super) in_lane: bool,
    /// In memory although another message of its lane is before it.
    pub(super) behind: bool,
    /// Found unfinished and not loaded yet: how often it was picked up before without a commit. `None` once it is loaded.
    pub(super) picked_up: Option<u16>,
    /// True if this process has picked it up and has committed nothing of it since.
    pub(super) uncleared: bool,
    pub(super) at: At,
}

/// Where the message is.
#[derive(Debug)]
pub(super) enum At {
    /// Only in the journal.
    Away,
    Loading(Wake),
    Here(Box<Running>),
}

/// Action once the message is loaded.
#[derive(Debug, Clone)]
pub(super) enum Wake {
    Run,
    /// The gate has let it pass: it holds a place of that connection.
    Pass(String),
}

/// A message in memory.
#[derive(Debug)]
pub(super) struct Running {
    pub(super) machine: Machine,
    pub(super) logged: u32,
    pub(super) phase: Phase,
    /// From pure steps, until something is committed.
    pub(super) passed: Vec<Passed>,
    pub(super) points: Vec<Point>,
    /// Messages that are made of it, to be committed, and as they run once they are.
    pub(super) born: Vec<Part>,
    pub(super) parts: Vec<Entered>,
}

/// Cause of the wait.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Phase {
    Parked,
    AtGate(String),
    /// The intent is being committed; the effect follows.
    Announcing,
    Performing {
        connection: String,
        since: Timestamp,
    },
    Committing,
    /// The act that brings it back after its end is being committed.
    Reopening,
    Due(Timestamp),
}
