//! Figures of a flow: how many messages were done, how long they took, and how many failed.

use super::Store;
use crate::days::DAY_US;
use crate::error::JournalError;
use crate::writer::sql;
use sea_orm::FromQueryResult;
use std::time::Duration;
use wirewatch_core::{Id, Timestamp};

/// Figures of a flow in one span of time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, FromQueryResult)]
pub struct FlowSpan {
    /// Number of the span: 0 begins at the moment that was asked for.
    pub slot: i64,
    /// Messages that were done in it.
    pub done: i64,
    /// Messages that failed in it, and still need attention.
    pub failed: i64,
    /// Duration of those that were done, from their arrival, in microseconds; `None` when there are none.
    pub median_us: Option<i64>,
    pub p95_us: Option<i64>,
}

impl Store {
    /// Returns the figures of a flow from `from` on, in spans of length `slot`; spans without messages are left out. A message that
    /// was done more than a day after the day of its arrival is not counted, so that only the partitions of these days are read.
    pub async fn flow_figures(&self, flow: &str, from: Timestamp, slot: Duration) -> Result<Vec<FlowSpan>, JournalError> {
        // An id holds the millisecond at which it was made: the difference of two ids is that of their times.
        let first = Id::first_of(from);
        let text = "select slot, sum(done)::bigint as done, sum(failed)::bigint as failed, max(median_us) as median_us, max(p95_us) as p95_us
            from (
              select (at - $2) / $3 as slot, count(*) as done, 0 as failed,
                percentile_disc(0.5) within group (order by took) as median_us,
                percentile_disc(0.95) within group (order by took) as p95_us
              from (
                select at, greatest(at - ($4 + (id - $5) / $7 * 1000), 0) as took from message
                where flow = $1 and state = 'done' and at >= $2 and id >= $6
              ) ended group by 1
              union all
              select (at - $2) / $3, 0, count(*), null, null from live where flow = $1 and state = 'failed' and at >= $2 group by 1
            ) both_kinds group by slot order by slot";
        let oldest = Id::first_of(Timestamp(from.0 - DAY_US));
        let millisecond = Id::first_of(Timestamp(first.made().0 + 1000)).0 - first.0;
        let numbers = [from.0, (slot.as_micros() as i64).max(1), first.made().0, first.0, oldest.0, millisecond];
        let values = std::iter::once(flow.into()).chain(numbers.map(Into::into));
        Ok(FlowSpan::find_by_statement(sql(text, values)).all(&self.db).await?)
    }
}
