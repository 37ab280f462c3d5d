//! Acts on many messages: stored, so that a restart continues them.

use super::Store;
use crate::error::JournalError;
use crate::writer::sql;
use sea_orm::{ConnectionTrait, FromQueryResult, Value};
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;
use wirewatch_core::Timestamp;

/// A process that has not written for this time no longer works on its bulk acts.
const STALE: Duration = Duration::from_secs(10);
/// How long a bulk act stays listed after its end.
const LISTED_FOR: Duration = Duration::from_secs(30 * 24 * 3600);

/// A bulk act to be stored.
#[derive(Debug, Clone)]
pub struct NewBulkAct {
    pub id: i64,
    /// `resend`, `amend` or `discard`.
    pub act: String,
    /// Rule for earlier answers in a resend.
    pub answers: String,
    /// Number of the release to run; 0 when none was named.
    pub release: i64,
    /// The correction of an amendment as JSON; empty for other acts.
    pub correction: String,
    /// The id of the reason for which its messages had failed, and its sentence; empty where they were named.
    pub reason: String,
    pub says: String,
    pub why: String,
    pub by_whom: String,
    /// Ids of messages, in the order of the act.
    pub messages: Vec<i64>,
}

/// A bulk act without its messages.
#[derive(Debug, Clone, PartialEq, Eq, FromQueryResult)]
pub struct BulkActRow {
    pub id: i64,
    pub act: String,
    pub answers: String,
    /// Number of the release to run; 0 when none was named.
    pub release: i64,
    /// The correction of an amendment as JSON; empty for other acts.
    pub correction: String,
    pub reason: String,
    pub says: String,
    pub why: String,
    pub by_whom: String,
    pub total: i64,
    /// Messages acted on: `done` and `refused`.
    pub position: i64,
    pub done: i64,
    pub refused: i64,
    /// The first messages that refused, as JSON.
    pub refusals: String,
    /// `running`, `stopped` or `done`.
    pub state: String,
    pub started: i64,
    /// 0 while it runs.
    pub ended: i64,
}

/// Progress of a bulk act.
#[derive(Debug, Clone, Default)]
pub struct Progress {
    pub position: i64,
    pub done: i64,
    pub refused: i64,
    pub refusals: String,
}

const COLUMNS: &str = "id, act, answers, release, correction, reason, says, why, by_whom, cardinality(messages)::bigint as total, position, done, refused, \
                       refusals, state, started, ended";

impl Store {
    /// The ids of all messages that failed for `reason`, oldest first.
    pub async fn failed_for(&self, reason: i64) -> Result<Vec<i64>, JournalError> {
        let text = "select id from live where reason = $1 and state = 'failed' order by id";
        let rows = self.db.query_all_raw(sql(text, [reason.into()])).await?;
        Ok(rows.iter().map(|row| row.try_get("", "id")).collect::<Result<_, _>>()?)
    }

    /// Returns those of the messages `ids` that are stored, finished ones included.
    pub async fn stored_among(&self, ids: &[i64]) -> Result<BTreeSet<i64>, JournalError> {
        let text = "select id from live where id = any($1) union select id from message where id = any($1)";
        let rows = self.db.query_all_raw(sql(text, [ids.to_vec().into()])).await?;
        Ok(rows.iter().map(|row| row.try_get("", "id")).collect::<Result<_, _>>()?)
    }

    /// Stores a bulk act to be done, and forgets those that ended long ago.
    pub async fn add_bulk_act(&self, new: NewBulkAct, now: Timestamp) -> Result<(), JournalError> {
        let old = "delete from bulk_act where ended between 1 and $1";
        self.db.execute_raw(sql(old, [(now.0 - LISTED_FOR.as_micros() as i64).into()])).await?;
        let text = "insert into bulk_act (id, act, answers, reason, says, why, by_whom, messages, position, done, refused, refusals, \
                    state, owner, started, seen, ended, release, correction) \
                    values ($1, $2, $3, $4, $5, $6, $7, $8, 0, 0, 0, '[]', 'running', 0, $9, 0, 0, $10, $11)";
        let NewBulkAct { id, act, answers, release, correction, reason, says, why, by_whom, messages } = new;
        let texts = [act, answers, reason, says, why, by_whom].map(Value::from);
        let values =
            std::iter::once(id.into()).chain(texts).chain([messages.into(), now.0.into(), release.into(), correction.into()]);
        self.db.execute_raw(sql(text, values)).await?;
        Ok(())
    }

    /// Takes the oldest bulk act that nobody works on; its row and the messages still to be acted on.
    pub async fn claim_bulk_act(&self, owner: i64, now: Timestamp) -> Result<Option<(BulkActRow, Vec<i64>)>, JournalError> {
        let text = format!(
            "update bulk_act set owner = $1, seen = $2 where id = (
               select id from bulk_act where state = 'running' and (owner = 0 or seen < $3) order by id limit 1 for update skip locked)
             returning {COLUMNS}, messages[position + 1:] as ahead"
        );
        let stale = now.0 - STALE.as_micros() as i64;
        let Some(row) = self.db.query_one_raw(sql(&text, [owner.into(), now.0.into(), stale.into()])).await? else {
            return Ok(None);
        };
        Ok(Some((BulkActRow::from_query_result(&row, "")?, row.try_get("", "ahead")?)))
    }

    /// Stores how far its owner has come; false when it was stopped or belongs to another process, and must not be continued.
    pub async fn advance_bulk_act(&self, id: i64, owner: i64, to: &Progress, now: Timestamp) -> Result<bool, JournalError> {
        let text =
            "update bulk_act set position = $3, done = $4, refused = $5, refusals = $6, seen = $7 where id = $1 and owner = $2
             returning state = 'running' as running";
        let Progress { position, done, refused, refusals } = to;
        let numbers = [id, owner, *position, *done, *refused].map(Into::into);
        let values = numbers.into_iter().chain([refusals.as_str().into(), now.0.into()]);
        let row = self.db.query_one_raw(sql(text, values)).await?;
        Ok(row.is_some_and(|row| row.try_get("", "running").unwrap_or(false)))
    }

    /// Gives a bulk act back, so that another process continues it at once.
    pub async fn release_bulk_act(&self, id: i64, owner: i64) -> Result<(), JournalError> {
        self.db.execute_raw(sql("update bulk_act set owner = 0 where id = $1 and owner = $2", [id.into(), owner.into()])).await?;
        Ok(())
    }

    /// Ends a bulk act that still runs as `state`, `done` or `stopped`; false when it had ended before.
    pub async fn end_bulk_act(&self, id: i64, state: &str, now: Timestamp) -> Result<bool, JournalError> {
        let text = "update bulk_act set state = $2, ended = $3 where id = $1 and state = 'running'";
        let result = self.db.execute_raw(sql(text, [id.into(), state.into(), now.0.into()])).await?;
        Ok(result.rows_affected() > 0)
    }

    /// The newest bulk acts, newest first.
    pub async fn bulk_acts(&self, limit: u32) -> Result<Vec<BulkActRow>, JournalError> {
        let text = format!("select {COLUMNS} from bulk_act order by id desc limit $1");
        Ok(BulkActRow::find_by_statement(sql(&text, [i64::from(limit).into()])).all(&self.db).await?)
    }

    /// Returns one bulk act.
    pub async fn bulk_act(&self, id: i64) -> Result<Option<BulkActRow>, JournalError> {
        let text = format!("select {COLUMNS} from bulk_act where id = $1");
        Ok(BulkActRow::find_by_statement(sql(&text, [id.into()])).one(&self.db).await?)
    }

    /// Returns how many messages of a bulk act have failed for `reason` since it started. Those that have not been acted on yet,
    /// or not committed, failed before.
    pub async fn failed_again(&self, id: i64, reason: i64) -> Result<i64, JournalError> {
        let text = "select count(*) from live where reason = $2 and state = 'failed'
              and at > (select started from bulk_act where id = $1)
              and id in (select unnest(messages[:position]) from bulk_act where id = $1)";
        let row = self.db.query_one_raw(sql(text, [id.into(), reason.into()])).await?;
        Ok(row.map(|row| row.try_get_by_index(0)).transpose()?.unwrap_or_default())
    }

    /// The states in which the messages of a bulk act are now that have been acted on, with their numbers.
    pub async fn bulk_act_states(&self, id: i64) -> Result<BTreeMap<String, i64>, JournalError> {
        let text = "with acted as (select unnest(messages[:position]) as id from bulk_act where id = $1)
             select state, count(*) as n from (
               select state from live where id in (select id from acted)
               union all
               select state from message where id in (select id from acted)
             ) of_them group by state";
        let rows = self.db.query_all_raw(sql(text, [id.into()])).await?;
        let counted = rows.iter().map(|row| Ok((row.try_get("", "state")?, row.try_get("", "n")?)));
        Ok(counted.collect::<Result<_, sea_orm::DbErr>>()?)
    }
}
