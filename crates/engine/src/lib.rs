//! Drives the message machines.
//!
//! The [`Dispatcher`] decides, without I/O or clock, which message may run, what is committed, what is performed
//! and who waits for what. The [`Engine`] feeds it from the outside through three traits: [`Journal`] keeps,
//! [`Links`] performs, [`Clock`] tells the time. `tests/simulation` drives the same dispatcher with simulated ones.

mod beside;
mod blame;
mod clock;
mod custody;
mod dispatcher;
mod engine;
mod enter;
mod gate;
mod journal;
mod lane;
mod links;
mod loader;
mod neighbours;
mod releases;
mod shard;
mod shared;
mod split;
mod spool;
mod take;
mod turning;
mod writer;

pub use beside::beside;
pub use clock::{Clock, SystemClock};
pub use dispatcher::{Acting, Dispatcher, Entered, Mint, Out, PLACE, Settings, Unacted};
pub use engine::{ActError, Engine, Held};
pub use enter::{Broken, logics};
pub use gate::HoldInfo;
pub use journal::{
    Arriving, Born, Change, Damaged, Decide, Down, Hold, Incoming, IncomingBody, Journal, NewMessage, NotActed, Op, OpResult,
    Others, Part, Piece, Recovered, RemoteAct, Resolve, Split, SplitRow, Splits, Stored, Taken,
};
pub use links::Links;
pub use releases::Releases;
pub use shard::{SHARDS, Shards, home_of, shard_of};
pub use shared::Why;
pub use spool::{Call, Received, Spooled, SpooledCall};
pub use take::{Ready, Row, Source, TakenReport, Taking};
