//! Releases: which there were, and their files.

use super::Store;
use crate::error::JournalError;
use crate::pack::unpack;
use crate::writer::sql;
use sea_orm::{ConnectionTrait, QueryResult};
use wirewatch_core::Timestamp;
use wirewatch_core::workspace::Files;

/// A release with its files.
#[derive(Debug, Clone)]
pub struct ReleaseRow {
    pub no: i64,
    pub digest: String,
    pub at: Timestamp,
    pub by: String,
    /// Description of the release; may be empty.
    pub says: String,
    /// None where the record of them is damaged.
    pub files: Option<Files>,
}

/// Decompresses the stored files.
///
/// # Errors
/// [`JournalError::Damaged`].
pub(crate) fn unpacked(bytes: Vec<u8>) -> Result<Files, JournalError> {
    Ok(serde_json::from_slice(&unpack(true, bytes)?)?)
}

fn packed(files: &Files) -> Result<Vec<u8>, JournalError> {
    Ok(zstd::bulk::compress(&serde_json::to_vec(files)?, 3)?)
}

impl ReleaseRow {
    fn read(row: &QueryResult) -> Result<Self, JournalError> {
        Ok(Self {
            no: row.try_get_by_index(0)?,
            digest: row.try_get_by_index(1)?,
            files: unpacked(row.try_get_by_index(2)?).ok(),
            at: Timestamp(row.try_get_by_index(3)?),
            by: row.try_get_by_index(4)?,
            says: row.try_get_by_index(5)?,
        })
    }
}

impl Store {
    /// Returns the number of the newest release; 0 when there is none.
    pub async fn newest_release(&self) -> Result<i64, JournalError> {
        let row = self.db.query_one_raw(sql("select coalesce(max(no), 0) from release", [])).await?;
        Ok(row.map(|row| row.try_get_by_index(0)).transpose()?.unwrap_or(0))
    }

    /// The newest `limit` releases up to number `until`, oldest first.
    pub async fn releases(&self, until: i64, limit: u32) -> Result<Vec<ReleaseRow>, JournalError> {
        let text = "select no, digest, files, at, by_whom, says from release where no <= $1 order by no desc limit $2";
        let rows = self.db.query_all_raw(sql(text, [until.into(), i64::from(limit).into()])).await?;
        rows.iter().rev().map(ReleaseRow::read).collect()
    }

    /// Adds a release; gives its number.
    pub async fn add_release(
        &self,
        digest: &str,
        files: &Files,
        by: &str,
        says: &str,
        at: Timestamp,
    ) -> Result<i64, JournalError> {
        let text = "insert into release (no, digest, files, at, by_whom, says)
            values ((select coalesce(max(no), 0) + 1 from release), $1, $2, $3, $4, $5) returning no";
        let values = [digest.into(), packed(files)?.into(), at.0.into(), by.into(), crate::group::clean(says).into()];
        let row = self.db.query_one_raw(sql(text, values)).await?;
        row.ok_or_else(|| JournalError::Away("the database returned no release".to_owned()))?
            .try_get_by_index(0)
            .map_err(Into::into)
    }
}
