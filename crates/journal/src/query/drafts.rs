//! Drafts of workspace files made in the console, until a person takes them into the folder.

use super::Store;
use crate::error::JournalError;
use crate::writer::sql;
use sea_orm::{ConnectionTrait, FromQueryResult};
use wirewatch_core::Timestamp;

/// A proposed file.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct DraftRow {
    /// Path in the workspace.
    pub file: String,
    pub text: String,
    pub by_whom: String,
    pub at: i64,
}

impl Store {
    /// Every draft, by file.
    pub async fn drafts(&self) -> Result<Vec<DraftRow>, JournalError> {
        Ok(DraftRow::find_by_statement(sql("select file, text, by_whom, at from draft order by file", [])).all(&self.db).await?)
    }

    /// Keeps a draft in place of the one there was.
    pub async fn keep_draft(&self, file: &str, text: &str, by: &str, now: Timestamp) -> Result<(), JournalError> {
        let keep = "insert into draft (file, text, by_whom, at) values ($1, $2, $3, $4)
            on conflict (file) do update set text = excluded.text, by_whom = excluded.by_whom, at = excluded.at";
        self.db.execute_raw(sql(keep, [file.into(), text.into(), by.into(), now.0.into()])).await?;
        Ok(())
    }

    /// Deletes a draft, if there is one.
    pub async fn drop_draft(&self, file: &str) -> Result<(), JournalError> {
        self.db.execute_raw(sql("delete from draft where file = $1", [file.into()])).await?;
        Ok(())
    }
}
