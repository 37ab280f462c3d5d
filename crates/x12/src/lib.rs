//! The X12 standard: reading, checking, writing and acknowledging interchanges.
//!
//! Everything here is a pure function of bytes: no I/O, no clock, no global state.
//!
//! ```text
//! bytes ──▶ Scanner ──▶ segments ──▶ Reader ──▶ Reading (interchanges, groups, verdict of each set)
//!                                      │
//!                                      └─ Checker, one a set, driven by the tables of a SetDefinition
//! bytes of one set ──▶ SetTree (segments nested by loops) ──▶ paths such as `BEG03` or `N1[01 = 'ST'].02`
//! Group ──▶ ack::functional_ack ──▶ Writer ──▶ bytes of a 997
//! ```
//!
//! A caller feeds bytes as they come and takes the [`Reading`] at the end; no more than one
//! segment is held, whatever the size of the interchange.

pub mod ack;
mod check;
mod controls;
mod cuts;
pub mod definitions;
mod delimiters;
pub mod describe;
mod envelope;
mod fault;
pub mod plain;
mod reader;
mod reading;
mod scanner;
mod segment;
mod tree;
mod walker;
mod writer;

pub use check::{Checker, Tolerance, is_date};
pub use definitions::{Definitions, Guide, SetDefinition};
pub use delimiters::Delimiters;
pub use envelope::{Header, ISA_NAMES, NOTES, Party, TA1_NAMES};
pub use fault::{Fault, Level, Source, Weight};
pub use reader::{Reader, Terms, check_set};
pub use reading::{Group, Interchange, Reading, SetAck, SetReading, Unread};
pub use scanner::{Item, Limits, Scanner, UnreadWhy};
pub use segment::{Segment, Tokens};
pub use tree::{Child, LoopId, LoopRef, SetTree, TreeError};
pub use writer::{Envelope, GroupHead, OnSeparator, SeparatorInside, Style, Writer};
