//! The computations of Wire Watch: documents, expressions, maps, flows, the message machine, milestone plans, partners.
//!
//! No I/O, no clock, no threads. Time, bytes and outcomes are arguments; records and actions are results. Start reading at
//! [`machine`].

pub mod act;
pub mod amend;
pub mod before;
pub mod broker;
pub mod compare;
pub mod connection;
pub mod correction;
pub mod digest;
pub mod document;
pub mod duration;
pub mod edi;
pub mod expr;
pub mod finding;
pub mod flow;
pub mod guard;
pub mod id;
pub mod incident;
pub mod intake;
pub mod json;
pub mod key;
pub mod machine;
pub mod map;
pub mod meter;
pub mod nearest;
pub mod number;
pub mod partner;
pub mod place;
pub mod plan;
pub mod propose;
pub mod reason;
pub mod request_path;
pub mod schema;
pub mod table;
pub mod time;
pub mod trial;
pub mod webhook;
pub mod workspace;

pub use digest::Digest;
pub use document::Document;
pub use finding::{Finding, Severity};
pub use id::{ArrivalId, Id, IdMint, MessageId};
pub use time::Timestamp;
pub use wirewatch_x12 as x12;
