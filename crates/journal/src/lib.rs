//! All records in PostgreSQL, through SeaORM.
//!
//! [`PgJournal`] implements the engine's `Journal`: groups are written by [`group`](mod@group) in one statement, arrivals by
//! [`take`](mod@take) in one transaction; [`membership`](mod@membership) handles several processes. [`Store`] answers queries.

mod days;
mod error;
mod events;
mod group;
mod load;
mod membership;
mod pack;
mod query;
mod schema;
mod spool;
mod take;
mod timelines;
mod writer;

pub use error::JournalError;
pub use events::Event;
pub use membership::ProcessRow;
pub use query::{
    ArrivalFilter, ArrivalRow, AssignmentRow, AuditRow, BulkActRow, CaptureRow, CapturedRow, DraftRow, FeedRow, FlowSpan,
    HeardRow, LedgerRow, MessageFilter, MessageRow, NewBulkAct, OrderFigures, Progress, ReasonCount, RecordingRow, ReleaseRow,
    SecretRow, Standing, Store, TallyRow, TimelineFilter, TimelineRow,
};
pub use writer::{Counters, PgJournal, Unsafe};
