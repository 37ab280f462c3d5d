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

/// Bytes of a document that take one place in memory.
pub const PLACE: u64 = 128 << 10;

/// Places that a document of so many bytes takes.
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
    /// Its flow, where that says how many may be under way.
    pub(super) counted: Option<Arc<Flow>>,
    /// Places it takes in memory.
    pub(super) places: usize,
    pub(super) lane: Option<LaneKey>,
    pub(super) in_lane: bool,
    /// In memory though it stands behind another in its lane.
    pub(super) behind: bool,
    /// Found unfinished and not loaded yet: so often it was taken up before, with nothing committed of it.
    pub(super) picked_up: Option<u16>,
    pub(super) at: At,
}

/// Where it is.
#[derive(Debug)]
pub(super) enum At {
    /// In no memory but the journal's.
    Away,
    Loading(Wake),
    Here(Box<Running>),
}

/// What it does once it is loaded.
#[derive(Debug, Clone)]
pub(super) enum Wake {
    Run,
    /// The gate let it pass: its place there is taken.
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

/// What it waits for.
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
