//! The business keys of messages that arrivals became: what is in a file.

use super::Store;
use crate::days::DAY_US;
use crate::error::JournalError;
use crate::writer::sql;
use sea_orm::ConnectionTrait;
use std::collections::BTreeMap;
use wirewatch_core::flow::ACKNOWLEDGMENTS;
use wirewatch_core::{Id, Timestamp};

/// Keys of one arrival, at most.
const KEYS: i64 = 4;
/// Finished messages of one arrival that are read for them, at most.
const READ: i64 = 40;

impl Store {
    /// Returns the first different keys of the messages of each arrival, at most four, by arrival; an arrival without any is left out. Its
    /// acknowledgments are not counted.
    ///
    /// Finished messages are looked for on the arrival's day and the next, so that the partitions of other days are not read.
    pub async fn arrival_keys(&self, arrivals: &[i64]) -> Result<BTreeMap<i64, Vec<String>>, JournalError> {
        let day = Id(0).made();
        let days = Id::first_of(Timestamp(day.0 + 2 * DAY_US)).0 - Id::first_of(day).0;
        // Branches of a message have its key.
        let text = "select arrival, key from (
              select arrival, key, row_number() over (partition by arrival order by min(id)) as n from (
                select arrival, id, key from live where arrival = any($1) and key <> '' and flow <> $4
                union all
                select a.id, m.id, m.key from unnest($1) a (id), lateral (
                  select id, key from message
                  where arrival = a.id and id >= a.id and id < a.id + $2 and key <> '' and flow <> $4 order by id limit $5
                ) m
              ) of_all group by arrival, key
            ) numbered where n <= $3 order by arrival, n";
        let mut keys: BTreeMap<i64, Vec<String>> = BTreeMap::new();
        for row in self
            .db
            .query_all_raw(sql(text, [arrivals.to_vec().into(), days.into(), KEYS.into(), ACKNOWLEDGMENTS.into(), READ.into()]))
            .await?
        {
            keys.entry(row.try_get("", "arrival")?).or_default().push(row.try_get("", "key")?);
        }
        Ok(keys)
    }
}
