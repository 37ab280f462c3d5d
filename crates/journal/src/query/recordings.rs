//! Recording depths of flows that a person has changed for a time.

use super::Store;
use crate::error::JournalError;
use crate::writer::sql;
use sea_orm::{ConnectionTrait, FromQueryResult};
use wirewatch_core::Timestamp;

/// A flow's depth of recording until then.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct RecordingRow {
    pub flow: String,
    /// `calls` or `failures`.
    pub depth: String,
    pub until: i64,
    pub by_whom: String,
}

impl Store {
    /// Returns those in force at `now`, by flow.
    pub async fn recordings(&self, now: Timestamp) -> Result<Vec<RecordingRow>, JournalError> {
        let text = "select flow, depth, until, by_whom from recording where until > $1 order by flow";
        Ok(RecordingRow::find_by_statement(sql(text, [now.0.into()])).all(&self.db).await?)
    }

    /// Changes the recording depth of a flow; one that has expired already ends the change.
    pub async fn record(&self, row: &RecordingRow) -> Result<(), JournalError> {
        let text = "insert into recording (flow, depth, until, by_whom) values ($1, $2, $3, $4)
            on conflict (flow) do update set depth = excluded.depth, until = excluded.until, by_whom = excluded.by_whom";
        let RecordingRow { flow, depth, until, by_whom } = row.clone();
        self.db.execute_raw(sql(text, [flow.into(), depth.into(), until.into(), by_whom.into()])).await?;
        Ok(())
    }
}
