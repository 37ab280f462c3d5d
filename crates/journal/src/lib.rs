//! Every record in PostgreSQL, through SeaORM.
//!
//! [`PgJournal`] implements the engine's `Journal`: what is committed goes through [`group`](mod@group) in one
//! statement, arrivals through [`take`](mod@take) in one transaction; [`company`](mod@company) is about several processes. [`Store`] answers what people ask.

mod company;
mod days;
mod error;
mod events;
mod group;
mod load;
mod pack;
mod query;
mod schema;
mod spool;
mod take;
mod trails;
mod writer;

pub use company::ProcessRow;
pub use error::JournalError;
pub use events::Event;
pub use query::{
    ArrivalFilter, ArrivalRow, AuditRow, BulkActRow, CaptureRow, CapturedRow, DraftRow, FeedRow, HeardRow, LedgerRow,
    MessageFilter, MessageRow, NewBulkAct, Progress, ReasonCount, RecordingRow, ReleaseRow, SecretRow, Standing, Store, TallyRow,
    TrailFilter, TrailRow,
};
pub use writer::{Counters, PgJournal, Unsafe};
