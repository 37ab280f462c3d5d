//! Forwards what other processes commit to the clients of this one.

use super::at_work;
use crate::error::JournalError;
use crate::query::FeedRow;
use crate::writer::{PgJournal, sql};
use sea_orm::ConnectionTrait;
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::Duration;

/// Interval at which commits of other processes are read.
const OVERHEAR: Duration = Duration::from_millis(200);

impl PgJournal {
    /// Forwards what other processes commit. Never ends.
    pub async fn overhear(&self) {
        // How far each process was read: groups count up, arrivals count down.
        let mut heard: HashMap<i16, (i64, i64)> = HashMap::new();
        loop {
            tokio::time::sleep(OVERHEAR).await;
            if !self.is_together() {
                heard.clear();
                continue;
            }
            if let Err(error) = self.overhear_once(&mut heard).await {
                tracing::debug!(%error, "the other processes cannot be followed");
            }
        }
    }

    async fn overhear_once(&self, heard: &mut HashMap<i16, (i64, i64)>) -> Result<(), JournalError> {
        let me = self.me().writer;
        let others: Vec<i16> = at_work(&self.db).await?.into_iter().filter(|writer| *writer != me).collect();
        let mut fresh: BTreeMap<(i64, i16, i64), Arc<FeedRow>> = BTreeMap::new();
        for writer in others {
            let Some((up, down)) = heard.get_mut(&writer) else {
                let text = "select coalesce(max(group_no), 0), coalesce(min(group_no), 0) from feed where writer = $1";
                let row = self.db.query_one_raw(sql(text, [writer.into()])).await?;
                let ends = row.map(|row| Ok::<_, JournalError>((row.try_get_by_index(0)?, row.try_get_by_index(1)?)));
                heard.insert(writer, ends.transpose()?.unwrap_or_default());
                continue;
            };
            for row in crate::query::feed_of(&self.db, writer, *up, *down).await? {
                (*up, *down) = ((*up).max(row.group_no), (*down).min(row.group_no));
                fresh.insert((row.at, row.writer, row.group_no), Arc::new(row));
            }
        }
        if !fresh.is_empty() {
            self.committed().notify_waiters();
        }
        for row in fresh.into_values() {
            self.retell(row);
        }
        Ok(())
    }
}
