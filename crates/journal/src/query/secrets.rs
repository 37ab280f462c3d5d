//! Secrets as stored: encrypted, so that a reader of the database learns nothing.

use super::Store;
use crate::error::JournalError;
use crate::writer::sql;
use sea_orm::{ConnectionTrait, FromQueryResult};
use wirewatch_core::Timestamp;

/// A secret, sealed.
#[derive(Debug, Clone, FromQueryResult)]
pub struct SecretRow {
    pub name: String,
    pub value: Vec<u8>,
    /// The previous value, valid until `until`; empty when there is none.
    pub before: Vec<u8>,
    pub until: i64,
    pub at: i64,
    pub by_whom: String,
}

impl Store {
    /// Every secret, by name.
    pub async fn secrets(&self) -> Result<Vec<SecretRow>, JournalError> {
        let text = "select name, value, before, until, at, by_whom from secret order by name";
        Ok(SecretRow::find_by_statement(sql(text, [])).all(&self.db).await?)
    }

    /// Sets a secret; the value it had is as good until `until`.
    pub async fn set_secret(
        &self,
        name: &str,
        value: &[u8],
        until: Timestamp,
        at: Timestamp,
        by: &str,
    ) -> Result<(), JournalError> {
        let text = "insert into secret (name, value, before, until, at, by_whom) values ($1, $2, '', 0, $4, $5)
            on conflict (name) do update set value = excluded.value, before = secret.value, until = $3, at = excluded.at, by_whom = excluded.by_whom";
        let values = [name.into(), value.into(), until.0.into(), at.0.into(), by.into()];
        self.db.execute_raw(sql(text, values)).await?;
        Ok(())
    }

    /// Removes a secret, where there is one.
    pub async fn remove_secret(&self, name: &str) -> Result<(), JournalError> {
        self.db.execute_raw(sql("delete from secret where name = $1", [name.into()])).await?;
        Ok(())
    }
}
