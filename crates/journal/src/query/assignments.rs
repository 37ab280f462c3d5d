//! Who works on what needs attention.

use super::Store;
use crate::error::JournalError;
use crate::writer::sql;
use sea_orm::{ConnectionTrait, FromQueryResult};
use std::time::Duration;

/// How long an assignment is stored; its problem is over by then, or somebody takes it again.
const STORED_FOR: Duration = Duration::from_secs(30 * 24 * 3600);

/// A problem with the person who works on it.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct AssignmentRow {
    /// Kind of the problem; its name is unique in the kind.
    pub kind: String,
    pub name: String,
    pub to_whom: String,
    pub note: String,
    /// The person who assigned it.
    pub by_whom: String,
    pub at: i64,
}

impl Store {
    /// Returns every stored assignment, also those whose problem is over.
    pub async fn assignments(&self) -> Result<Vec<AssignmentRow>, JournalError> {
        let text = "select kind, name, to_whom, note, by_whom, at from assignment order by kind, name";
        Ok(AssignmentRow::find_by_statement(sql(text, [])).all(&self.db).await?)
    }

    /// Stores an assignment in place of the one there was, and deletes old ones.
    pub async fn assign(&self, row: &AssignmentRow) -> Result<(), JournalError> {
        let old = "delete from assignment where at < $1";
        self.db.execute_raw(sql(old, [(row.at - STORED_FOR.as_micros() as i64).into()])).await?;
        let text = "insert into assignment (kind, name, to_whom, note, by_whom, at) values ($1, $2, $3, $4, $5, $6)
            on conflict (kind, name) do update
            set to_whom = excluded.to_whom, note = excluded.note, by_whom = excluded.by_whom, at = excluded.at";
        let AssignmentRow { kind, name, to_whom, note, by_whom, at } = row;
        let texts = [kind, name, to_whom, note, by_whom].map(|text| text.as_str().into());
        self.db.execute_raw(sql(text, texts.into_iter().chain([(*at).into()]))).await?;
        Ok(())
    }

    /// Deletes an assignment; false when there was none.
    pub async fn unassign(&self, kind: &str, name: &str) -> Result<bool, JournalError> {
        let text = "delete from assignment where kind = $1 and name = $2";
        Ok(self.db.execute_raw(sql(text, [kind.into(), name.into()])).await?.rows_affected() > 0)
    }
}
