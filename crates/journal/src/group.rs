//! Writes a group of ops as one statement: data-modifying CTEs over arrays, constant text, one round trip.
//!
//! Every part depends on `me`, the process's own writer row locked for share: when another process has taken over, `me` is empty,
//! nothing is written, and the returned count shows it.

pub mod columns;
pub mod custody;
mod rows;
pub mod sql;

use crate::error::JournalError;
use crate::events::Event;
pub use rows::GroupRows;
use sea_orm::{ConnectionTrait, DbBackend, Statement};
use sql::Sql;
use wirewatch_core::document::Form;
use wirewatch_core::machine::Origin;
use wirewatch_core::{Id, Timestamp};
use wirewatch_engine::{Op, OpResult, Shards};

/// Identity of the writing process.
#[derive(Debug, Clone, Copy)]
pub struct Me {
    pub writer: i16,
    /// Another process has taken over when the row has another epoch.
    pub epoch: i64,
    /// Shards were given away when this is not.
    pub turn: i64,
    /// Own shards.
    pub shards: Shards,
}

/// Stored data of a message besides its columns.
#[derive(serde::Deserialize)]
pub struct HeadColumn {
    pub form: Form,
    pub meta: serde_json::Map<String, serde_json::Value>,
}

/// Serializes the data of a message besides its columns, without copying it first.
pub fn head(origin: &Origin) -> Result<Vec<u8>, JournalError> {
    #[derive(serde::Serialize)]
    struct Borrowed<'a> {
        form: &'a Form,
        meta: &'a serde_json::Map<String, serde_json::Value>,
    }
    Ok(serde_json::to_vec(&Borrowed { form: &origin.form, meta: &origin.meta })?)
}

/// Writes `ops`, and the events of each, under `number`; whole or not at all.
pub async fn write(
    db: &impl ConnectionTrait,
    me: Me,
    number: i64,
    ops: &[Op],
    events: &[Vec<Event>],
    now: Timestamp,
    mint: &mut (dyn FnMut() -> Id + Send),
) -> Result<(), JournalError> {
    let mut rows = GroupRows::new(me.shards);
    for op in ops {
        rows.op(op, mint)?;
    }
    let events: Vec<&Event> = events.iter().flatten().collect();
    let mut sql = Sql::new(me);
    rows.write(&mut sql, number, now, &events)?;
    run(db, sql).await
}

/// Runs a statement; fails with [`JournalError::Fenced`] if another process has taken over, and then writes nothing.
pub async fn run(db: &impl ConnectionTrait, sql: Sql) -> Result<(), JournalError> {
    let row = db.query_one_raw(sql.statement()).await?;
    match row.and_then(|row| row.try_get_by_index::<i64>(0).ok()) {
        Some(1) => Ok(()),
        _ => Err(JournalError::Fenced),
    }
}

/// Returns whether a group is committed: its feed row is the proof.
async fn was_written(db: &impl ConnectionTrait, me: Me, number: i64) -> Result<bool, JournalError> {
    let text = "select 1 from feed where writer = $1 and group_no = $2";
    let statement = Statement::from_sql_and_values(DbBackend::Postgres, text, [me.writer.into(), number.into()]);
    Ok(db.query_one_raw(statement).await?.is_some())
}

/// Removes NUL characters, which PostgreSQL does not store.
pub fn clean(text: &str) -> String {
    if text.contains('\0') { text.replace('\0', "\u{FFFD}") } else { text.to_owned() }
}

/// The number under which a range of group `no` is written: unique for every range of every group, and the same when
/// the group is given again.
pub fn number(no: u64, range: &std::ops::Range<usize>) -> i64 {
    (no as i64) * 1_000_000 + (range.start as i64) * 1000 + range.len() as i64
}

/// Writes ops and their events; when some are refused, halves the group until the refused ones are alone.
pub async fn write_halving(
    db: &impl ConnectionTrait,
    me: Me,
    no: u64,
    ops: &[Op],
    events: &[Vec<Event>],
    now: Timestamp,
    mint: &mut (dyn FnMut() -> Id + Send),
) -> Result<Vec<OpResult>, JournalError> {
    let mut results = vec![OpResult::Committed; ops.len()];
    let whole = 0..ops.len();
    let mut ranges = Vec::from([whole]);
    while let Some(range) = ranges.pop() {
        let number = number(no, &range);
        match write(db, me, number, &ops[range.clone()], &events[range.clone()], now, mint).await {
            Ok(()) => {}
            // Its feed row exists: it was committed before, and only the answer was lost.
            Err(JournalError::Refused(_) | JournalError::Unstorable(_)) if was_written(db, me, number).await? => {}
            Err(JournalError::Refused(says) | JournalError::Unstorable(says)) if range.len() == 1 => {
                results[range.start] = OpResult::Refused(says)
            }
            Err(JournalError::Refused(_) | JournalError::Unstorable(_)) => {
                let middle = range.start + range.len() / 2;
                ranges.push(middle..range.end);
                ranges.push(range.start..middle);
            }
            Err(other) => return Err(other),
        }
    }
    Ok(results)
}
