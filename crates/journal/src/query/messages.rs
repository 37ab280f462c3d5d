//! Lists and counts of messages, unfinished and finished ones together.

use super::{MessageFilter, MessageRow, Store, Wheres};
use crate::error::JournalError;
use crate::writer::sql;
use sea_orm::{ConnectionTrait, FromQueryResult};
use wirewatch_core::{Id, MessageId};

/// Columns that both tables have.
const SHARED: &str = "id, arrival, flow, release, partner, key, result, state, step";

/// Conditions for the two tables of messages, with shared arguments.
struct Conditions {
    wheres: Wheres,
    live: String,
    finished: String,
}

impl Conditions {
    fn of(filter: &MessageFilter) -> Self {
        let mut wheres = Wheres::default();
        wheres.text("flow", &filter.flow);
        wheres.text("partner", &filter.partner);
        wheres.text("step", &filter.step);
        if !filter.states.is_empty() {
            let n = wheres.arg(filter.states.clone());
            wheres.text.push(format!("state = any({n})"));
        }
        if !filter.key.is_empty() {
            let n = wheres.arg(filter.key.clone());
            wheres.text.push(format!("(key = {n} or result = {n})"));
        }
        if !filter.key_prefix.is_empty() {
            let n = wheres.arg(filter.key_prefix.clone());
            wheres.text.push(format!("(key ^@ {n} or result ^@ {n})"));
        }
        if let Some(arrival) = filter.arrival {
            wheres.compare("arrival", "=", arrival.0);
        }
        if let Some(flows) = &filter.flows {
            let n = wheres.arg(flows.clone());
            wheres.text.push(format!("flow = any({n})"));
        }
        wheres.window(filter.since, filter.until, filter.before.filter(|_| !filter.oldest_first));
        if let Some(before) = filter.before.filter(|_| filter.oldest_first) {
            wheres.compare("id", ">", before.0);
        }
        let (mut finished, mut live) = (wheres.sql(), wheres.sql());
        if !filter.connection.is_empty() {
            let n = wheres.arg(filter.connection.clone());
            let by_intake =
                |table: &str| format!("exists (select 1 from arrival a where a.id = {table}.arrival and a.connection = {n})");
            finished.push_str(&format!(" and {}", by_intake("message")));
            live.push_str(&format!(" and (waits_for = {n} or {})", by_intake("live")));
        }
        if let Some(reason) = filter.reason {
            let n = wheres.arg(reason);
            live.push_str(&format!(" and reason = {n}"));
            // A finished message has no reason.
            finished.push_str(" and false");
        }
        Self { wheres, live, finished }
    }
}

impl Store {
    /// Returns messages, newest first unless the filter says otherwise.
    pub async fn messages(&self, filter: &MessageFilter) -> Result<Vec<MessageRow>, JournalError> {
        let Conditions { mut wheres, live, finished } = Conditions::of(filter);
        let limit = wheres.arg(i64::from(filter.limit));
        let order = if filter.oldest_first { "asc" } else { "desc" };
        let text = format!(
            "select m.id, m.arrival, m.flow, m.release, m.partner, m.key, m.result, m.state, m.step, m.tries, m.due, m.waits_for, m.reason, coalesce(r.code, '') as code,
                case when m.says <> '' then m.says else coalesce(r.says, '') end as says, m.at
             from (
               (select {SHARED}, tries, due, waits_for, reason, says, at from live where {live} order by id {order} limit {limit})
               union all
               (select {SHARED}, 0, 0::bigint, '', 0::bigint, says, at from message where {finished} order by id {order} limit {limit})
             ) m left join reason r on r.id = m.reason
             order by m.id {order} limit {limit}"
        );
        Ok(MessageRow::find_by_statement(sql(&text, wheres.values)).all(&self.db).await?)
    }

    /// Counts the messages of a filter, whatever its page; at most `most` of them.
    pub async fn messages_count(&self, filter: &MessageFilter, most: u32) -> Result<i64, JournalError> {
        let filter = MessageFilter { before: None, ..filter.clone() };
        let Conditions { mut wheres, live, finished } = Conditions::of(&filter);
        let most = wheres.arg(i64::from(most));
        let text = format!(
            "select count(*) from ((select 1 from live where {live} limit {most}) union all
               (select 1 from message where {finished} limit {most}) limit {most}) counted"
        );
        let row = self.db.query_one_raw(sql(&text, wheres.values)).await?;
        Ok(row.map(|row| row.try_get_by_index(0)).transpose()?.unwrap_or_default())
    }

    /// Returns one message as in lists.
    pub async fn message(&self, id: MessageId) -> Result<Option<MessageRow>, JournalError> {
        let filter = MessageFilter { before: Some(Id(id.0 + 1)), limit: 1, ..MessageFilter::default() };
        Ok(self.messages(&filter).await?.into_iter().next().filter(|row| row.id == id.0))
    }
}
