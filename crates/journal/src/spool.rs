//! Spooled calls: one row for all calls that waited together.
//!
//! A row has one line of JSON for each call, followed by their bodies.

use crate::error::JournalError;
use crate::group::sql::{Rows, Sql};
use crate::group::{columns, run};
use crate::pack::{pack, unpack};
use crate::writer::{PgJournal, sql};
use sea_orm::ConnectionTrait;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use wirewatch_core::intake::Provenance;
use wirewatch_core::{Id, Timestamp};
use wirewatch_engine::{Spooled, SpooledCall};

/// A call's metadata, and how many bytes of the bodies are its own.
#[derive(Serialize, Deserialize)]
struct Head<'a> {
    id: i64,
    received: Timestamp,
    provenance: Cow<'a, Provenance>,
    size: usize,
}

fn write(calls: &[SpooledCall]) -> Result<Vec<u8>, JournalError> {
    let heads = calls.iter().map(|SpooledCall { id, received, provenance, body }| Head {
        id: id.0,
        received: *received,
        provenance: Cow::Borrowed(provenance),
        size: body.len(),
    });
    let mut bytes = serde_json::to_vec(&heads.collect::<Vec<_>>())?;
    bytes.push(b'\n');
    calls.iter().for_each(|call| bytes.extend_from_slice(&call.body));
    Ok(bytes)
}

fn read(bytes: &[u8]) -> Result<Vec<SpooledCall>, JournalError> {
    let damaged = || JournalError::Damaged("spooled calls".to_owned());
    let end = bytes.iter().position(|byte| *byte == b'\n').ok_or_else(damaged)?;
    let heads: Vec<Head<'_>> = serde_json::from_slice(&bytes[..end])?;
    let mut rest = &bytes[end + 1..];
    let mut calls = Vec::with_capacity(heads.len());
    for Head { id, received, provenance, size } in heads {
        let (body, behind) = rest.split_at_checked(size).ok_or_else(damaged)?;
        rest = behind;
        calls.push(SpooledCall { id: Id(id), received, provenance: provenance.into_owned(), body: body.to_vec() });
    }
    Ok(calls)
}

impl PgJournal {
    pub(crate) async fn keep_calls(&self, spooled: &Spooled) -> Result<(), JournalError> {
        let (packed, calls) = pack(&write(&spooled.calls)?);
        let mut row = Rows::of(columns::SPOOL);
        row.push([spooled.id.0.into(), packed.into(), calls.into()]);
        let mut statement = Sql::new(self.me());
        statement.insert("spool", row, &[("writer", "me.id")], "");
        match run(&self.spools, statement).await {
            // Shards were given away meanwhile; spooled calls belong to no shard.
            Err(JournalError::Fenced) if self.still_mine().await? => Box::pin(self.keep_calls(spooled)).await,
            done => done,
        }
    }

    pub(crate) async fn spooled_calls(&self, id: Id) -> Result<Option<Spooled>, JournalError> {
        let text = "select packed, calls from spool where id = $1 and writer = $2";
        let row = self.db.query_one_raw(sql(text, [id.0.into(), self.writer().into()])).await?;
        let Some(row) = row else { return Ok(None) };
        let bytes = unpack(row.try_get_by_index(0)?, row.try_get_by_index(1)?)?;
        Ok(Some(Spooled { id, calls: read(&bytes)? }))
    }

    pub(crate) async fn all_spooled(&self) -> Result<Vec<Id>, JournalError> {
        let rows =
            self.db.query_all_raw(sql("select id from spool where writer = $1 order by id", [self.writer().into()])).await?;
        rows.iter().map(|row| Ok(Id(row.try_get_by_index(0)?))).collect()
    }

    pub(crate) async fn drop_spooled(&self, ids: &[Id]) -> Result<(), JournalError> {
        let ids: Vec<i64> = ids.iter().map(|id| id.0).collect();
        let text = "delete from spool where id = any($1::bigint[]) and writer = $2";
        self.db.execute_raw(sql(text, [ids.into(), self.writer().into()])).await?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn calls_come_back_as_they_were(given in proptest::collection::vec((any::<i64>(), "\\PC*", any::<Vec<u8>>()), 0..20)) {
            let calls: Vec<SpooledCall> = given
                .into_iter()
                .map(|(id, event, body)| {
                    let provenance = Provenance { connection: "shop".into(), name: format!("{event}\n"), event, ..Provenance::default() };
                    SpooledCall { id: Id(id), received: Timestamp(id), provenance, body }
                })
                .collect();
            prop_assert_eq!(read(&write(&calls).unwrap()).unwrap(), calls);
        }

        #[test]
        fn what_is_damaged_is_reported(bytes: Vec<u8>) {
            prop_assert!(read(&bytes).is_err() || bytes.starts_with(b"[]\n"));
        }
    }

    #[test]
    fn bodies_that_are_cut_short_are_reported() {
        let call = SpooledCall { id: Id(1), received: Timestamp(2), provenance: Provenance::default(), body: b"{}".to_vec() };
        let mut bytes = write(&[call]).unwrap();
        bytes.pop();
        assert!(matches!(read(&bytes), Err(JournalError::Damaged(_))));
    }
}
