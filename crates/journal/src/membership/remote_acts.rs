//! Acts of people on messages of another process's: left for it, carried out there, answered.

use crate::error::JournalError;
use crate::writer::{PgJournal, sql};
use sea_orm::ConnectionTrait;
use std::time::{Duration, Instant};
use wirewatch_core::Id;
use wirewatch_engine::{NotActed, RemoteAct, SHARDS, Shards};

/// Longest time until a remote act is taken up, and the interval at which its answer is looked for.
const TIMEOUT: Duration = Duration::from_secs(5);
const ANSWER: Duration = Duration::from_millis(50);

impl PgJournal {
    pub(super) async fn remote_acts(&self, shards: Shards) -> Result<Vec<RemoteAct>, JournalError> {
        let numbers: Vec<i32> = shards.iter().map(i32::from).collect();
        let text = "update remote_act set taken = true where shard = any($1::int[]) and not taken
            returning id, message, shard, act, by_whom, why";
        let rows = self.db.query_all_raw(sql(text, [numbers.into()])).await?;
        let remote_act = |row: &sea_orm::QueryResult| {
            Ok(RemoteAct {
                id: Id(row.try_get_by_index(0)?),
                message: Id(row.try_get_by_index(1)?),
                shard: row.try_get_by_index::<i16>(2)?.unsigned_abs(),
                act: serde_json::from_slice(&row.try_get_by_index::<Vec<u8>>(3)?)?,
                by: row.try_get_by_index(4)?,
                why: row.try_get_by_index(5)?,
            })
        };
        rows.iter().map(remote_act).collect()
    }

    /// Leaves a remote act for the process that owns the shard, and waits for its result. An act that is not taken up in time is
    /// withdrawn.
    pub(crate) async fn send_remote_act(&self, remote_act: &RemoteAct) -> Result<Result<(), NotActed>, JournalError> {
        let text = "insert into remote_act (id, message, shard, act, by_whom, why) values ($1, $2, $3, $4, $5, $6)";
        let act = serde_json::to_vec(&remote_act.act)?;
        let RemoteAct { id, message, shard, by, why, .. } = remote_act;
        let number = i16::try_from(shard % SHARDS).unwrap_or(0);
        let values =
            [id.0.into(), message.0.into(), number.into(), act.into(), by.clone().into(), crate::group::clean(why).into()];
        self.db.execute_raw(sql(text, values)).await?;
        let begun = Instant::now();
        loop {
            tokio::time::sleep(ANSWER).await;
            let text = "delete from remote_act where id = $1 and answer <> '' returning answer";
            if let Some(row) = self.db.query_one_raw(sql(text, [id.0.into()])).await? {
                return Ok(serde_json::from_str(&row.try_get_by_index::<String>(0)?)?);
            }
            if begun.elapsed() > TIMEOUT {
                let text = "delete from remote_act where id = $1 and not taken";
                if self.db.execute_raw(sql(text, [id.0.into()])).await?.rows_affected() == 1 {
                    return Ok(Err(NotActed::Busy));
                }
            }
            // It was taken up by a process that has ended since; that shows by its shard being ours, or by the time. The
            // message's story shows whether it was carried out.
            if begun.elapsed() > TIMEOUT * 4 || self.me().shards.has(*shard) {
                self.db.execute_raw(sql("delete from remote_act where id = $1", [id.0.into()])).await?;
                return Ok(Err(NotActed::Busy));
            }
        }
    }

    pub(crate) async fn tell_remote_act(&self, id: Id, answer: &Result<(), NotActed>) -> Result<(), JournalError> {
        let answer = serde_json::to_string(answer)?;
        self.db.execute_raw(sql("update remote_act set answer = $2 where id = $1", [id.0.into(), answer.into()])).await?;
        Ok(())
    }
}
