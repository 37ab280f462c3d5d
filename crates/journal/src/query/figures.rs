//! Figures of orders: how many began, and how long they took from the first milestone to the last.

use super::Store;
use crate::error::JournalError;
use crate::writer::sql;
use sea_orm::FromQueryResult;
use std::time::Duration;
use wirewatch_core::Timestamp;

/// Figures of the orders that began in one span of time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, FromQueryResult)]
pub struct OrderFigures {
    /// Number of the span: 0 begins at the moment that was asked for.
    pub slot: i64,
    pub orders: i64,
    /// Orders that are not done; of these, orders in trouble.
    pub open: i64,
    pub trouble: i64,
    /// Duration of those that are done, in microseconds; `None` when there are none.
    pub median_us: Option<i64>,
    pub p95_us: Option<i64>,
}

impl Store {
    /// Returns the figures of orders that began at `from` or later, in spans of length `slot`; spans without orders are left out.
    pub async fn order_figures(&self, from: Timestamp, slot: Duration) -> Result<Vec<OrderFigures>, JournalError> {
        let text = "select (begun - $1) / $2 as slot, count(*) as orders, count(*) filter (where state <> 'done') as open,
              count(*) filter (where state = 'trouble') as trouble,
              percentile_disc(0.5) within group (order by last - begun) filter (where state = 'done') as median_us,
              percentile_disc(0.95) within group (order by last - begun) filter (where state = 'done') as p95_us
            from timeline where begun >= $1 group by 1 order by 1";
        let values = [from.0.into(), (slot.as_micros() as i64).max(1).into()];
        Ok(OrderFigures::find_by_statement(sql(text, values)).all(&self.db).await?)
    }
}
