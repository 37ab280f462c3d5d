//! Captures and what arrived in them, so that they outlive a restart.

use super::Store;
use crate::error::JournalError;
use crate::writer::sql;
use sea_orm::{ConnectionTrait, FromQueryResult, TransactionTrait};
use wirewatch_core::Timestamp;

/// A capture: a temporary address, or a tap on an exchange.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct CaptureRow {
    pub name: String,
    /// For a tap: the broker's connection, exchange and pattern of routing keys. Empty for an address.
    pub connection: String,
    pub exchange: String,
    pub pattern: String,
    /// When it closes, in microseconds.
    pub until: i64,
    pub by_whom: String,
}

/// Something that arrived in a capture.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct CapturedRow {
    pub capture: String,
    /// Counted from 1 in its capture.
    pub n: i64,
    pub at: i64,
    /// The request's first line, or exchange and routing key.
    pub line: String,
    /// Headers, as a JSON object.
    pub properties: String,
    pub body: Vec<u8>,
}

impl Store {
    /// Returns the captures that are open at `now` with their items in order of arrival, and deletes expired ones.
    pub async fn captures(&self, now: Timestamp) -> Result<(Vec<CaptureRow>, Vec<CapturedRow>), JournalError> {
        let over = "delete from captured where capture in (select name from capture where until <= $1)";
        self.db.execute_raw(sql(over, [now.0.into()])).await?;
        self.db.execute_raw(sql("delete from capture where until <= $1", [now.0.into()])).await?;
        let captures = "select name, connection, exchange, pattern, until, by_whom from capture order by name";
        let captured = "select capture, n, at, line, properties, body from captured order by capture, n";
        Ok((
            CaptureRow::find_by_statement(sql(captures, [])).all(&self.db).await?,
            CapturedRow::find_by_statement(sql(captured, [])).all(&self.db).await?,
        ))
    }

    /// Adds a capture.
    pub async fn add_capture(&self, row: &CaptureRow) -> Result<(), JournalError> {
        let text = "insert into capture (name, connection, exchange, pattern, until, by_whom) values ($1, $2, $3, $4, $5, $6)";
        let CaptureRow { name, connection, exchange, pattern, until, by_whom } = row;
        let texts = [name, connection, exchange, pattern].map(|text| text.as_str().into());
        let values = texts.into_iter().chain([(*until).into(), by_whom.as_str().into()]);
        self.db.execute_raw(sql(text, values)).await?;
        Ok(())
    }

    /// Adds what arrived, and removes what arrived before `from` in the same capture. Nothing is added to a capture that is closed.
    pub async fn add_captured(&self, row: &CapturedRow, from: i64) -> Result<(), JournalError> {
        let transaction = self.db.begin().await?;
        let text = "insert into captured (capture, n, at, line, properties, body)
            select name, $2, $3, $4, $5, $6 from capture where name = $1 for share";
        let CapturedRow { capture, n, at, line, properties, body } = row;
        let name = || capture.as_str().into();
        let values = [name(), (*n).into(), (*at).into(), line.as_str().into(), properties.as_str().into(), body.clone().into()];
        transaction.execute_raw(sql(text, values)).await?;
        transaction.execute_raw(sql("delete from captured where capture = $1 and n < $2", [name(), from.into()])).await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Deletes a capture with its items.
    pub async fn remove_capture(&self, name: &str) -> Result<(), JournalError> {
        let transaction = self.db.begin().await?;
        for text in ["delete from capture where name = $1", "delete from captured where capture = $1"] {
            transaction.execute_raw(sql(text, [name.into()])).await?;
        }
        transaction.commit().await?;
        Ok(())
    }
}
