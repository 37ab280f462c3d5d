//! The columns of each table that statements write, in the order in which rows give them.

use super::sql::Kind::{self, Big, Bool, Bytes, Int, Text};

pub type Columns = &'static [Column];
type Column = (&'static str, Kind);

/// Columns for the origin of a message, unfinished or ended.
const ORIGIN: [Column; 12] = [
    ("id", Big),
    ("arrival", Big),
    ("body", Big),
    ("slice_from", Big),
    ("slice_to", Big),
    ("flow", Text),
    ("release", Big),
    ("partner", Text),
    ("head", Bytes),
    ("key", Text),
    ("result", Text),
    ("order_key", Text),
];
/// Columns for the state of an unfinished message.
const STANDS: [Column; 7] =
    [("state", Text), ("step", Text), ("tries", Int), ("due", Big), ("waits_for", Text), ("reason", Big), ("says", Text)];

/// A message among the unfinished.
pub const LIVE: Columns = &joined::<21>(&[&ORIGIN, &STANDS, &[("at", Big), ("shard", Int)]]);
/// Columns for a change of an unfinished message.
pub const MOVED: Columns = &joined::<10>(&[&[("id", Big)], &STANDS, &[("at", Big), ("result", Text)]]);
/// A message in history.
pub const ENDED: Columns = &joined::<16>(&[&ORIGIN, &[("state", Text), ("step", Text), ("says", Text), ("at", Big)]]);

/// Concatenates column lists.
const fn joined<const N: usize>(parts: &[&[Column]]) -> [Column; N] {
    let mut all = [("", Big); N];
    let (mut n, mut part) = (0, 0);
    while part < parts.len() {
        let mut at = 0;
        while at < parts[part].len() {
            all[n] = parts[part][at];
            (n, at) = (n + 1, at + 1);
        }
        part += 1;
    }
    assert!(n == N, "as many columns as are declared");
    all
}

pub const BODY: Columns = &[("id", Big), ("piece", Int), ("packed", Bool), ("bytes", Bytes)];
pub const ID: Columns = &[("id", Big)];
pub const LOG: Columns = &[("message", Big), ("seq", Int), ("at", Big), ("packed", Bool), ("entry", Bytes)];
pub const FACT: Columns = &[
    ("id", Big),
    ("plan", Text),
    ("partner", Text),
    ("key", Text),
    ("milestone", Text),
    ("mark", Text),
    ("message", Big),
    ("arrival", Big),
    ("at", Big),
];
pub const REASON: Columns = &[
    ("id", Big),
    ("flow", Text),
    ("step", Text),
    ("connection", Text),
    ("code", Text),
    ("says", Text),
    ("first", Big),
    ("last", Big),
];
pub const TALLY: Columns = &[("hour", Big), ("flow", Text), ("step", Text), ("outcome", Text), ("n", Big), ("took", Big)];
pub const AUDIT: Columns = &[("id", Big), ("at", Big), ("by_whom", Text), ("act", Text), ("subject", Big), ("why", Text)];
pub const CURSOR: Columns = &[("arrival", Big), ("before", Int), ("after", Int)];
pub const SPLIT: Columns = &[("id", Big), ("messages", Int)];
pub const HOLD: Columns = &[("connection", Text), ("says", Text), ("since", Big), ("by_whom", Text)];
pub const HANDED: Columns = &[("shard", Int), ("message", Big)];
pub const FREED: Columns = &[("connection", Text), ("by_person", Bool)];

pub const ARRIVAL: Columns = &[
    ("id", Big),
    ("connection", Text),
    ("partner", Text),
    ("name", Text),
    ("verdict", Text),
    ("says", Text),
    ("size", Big),
    ("digest", Text),
    ("messages", Int),
    ("received", Big),
    ("by_whom", Text),
    ("event", Text),
    ("properties", Text),
];
pub const HEARD: Columns = &[("connection", Text), ("event", Text), ("n", Big), ("last", Big), ("arrival", Big)];
pub const LEDGER: Columns = &[
    ("id", Big),
    ("direction", Text),
    ("sender", Text),
    ("receiver", Text),
    ("usage", Text),
    ("control", Text),
    ("digest", Text),
    ("arrival", Big),
    ("message", Big),
    ("answers", Text),
    ("at", Big),
];
pub const SPLITTING: Columns = &[("arrival", Big), ("release", Big), ("cursor", Int), ("parts", Bytes)];
pub const SPOOL: Columns = &[("id", Big), ("packed", Bool), ("calls", Bytes)];
pub const COUNTER: Columns = &[("scope", Text), ("value", Big)];

pub const SEEN: Columns = &[("scope", Text), ("key", Text), ("arrival", Big), ("at", Big), ("digest", Text)];
