//! Queries of people: lists by keyset, single records, counts. Reads only, except for releases and audit records.

mod arrival_keys;
mod assignments;
mod bulk_acts;
mod captures;
mod drafts;
mod figures;
mod flow_figures;
mod messages;
mod recordings;
mod releases;
mod rows;
mod secrets;

pub use assignments::AssignmentRow;
pub use bulk_acts::{BulkActRow, NewBulkAct, Progress};
pub use captures::{CaptureRow, CapturedRow};
pub use drafts::DraftRow;
pub use figures::OrderFigures;
pub use flow_figures::FlowSpan;
pub use recordings::RecordingRow;
pub use releases::ReleaseRow;
pub(crate) use releases::unpacked;
pub use rows::{
    ArrivalFilter, ArrivalRow, AuditRow, FeedRow, HeardRow, LedgerRow, MessageFilter, MessageRow, ReasonCount, Standing,
    TallyRow, TimelineFilter, TimelineRow,
};
pub use secrets::SecretRow;

use crate::days;
use crate::error::JournalError;
use crate::load;
use crate::pack::unpack;
use crate::writer::sql;
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult, Value};
use std::collections::BTreeMap;
use std::ops::Range;
use wirewatch_core::{ArrivalId, Id, MessageId, Timestamp};
use wirewatch_engine::Stored;

/// The columns of an [`ArrivalRow`].
const ARRIVAL: &str = "id, connection, partner, name, verdict, says, size, messages, received, by_whom, event, properties";

/// Answers queries. Clones share the connections.
#[derive(Debug, Clone)]
pub struct Store {
    db: DatabaseConnection,
}

impl Store {
    pub(crate) fn new(db: DatabaseConnection) -> Self {
        Self { db }
    }

    /// Returns for how many days after today history has partitions; without any, no arrival can be stored.
    pub async fn days_ahead(&self, now: Timestamp) -> Result<i64, JournalError> {
        days::ahead(&self.db, now).await
    }

    /// Returns one message with document and log.
    pub async fn stored(&self, id: MessageId) -> Result<Option<Stored>, JournalError> {
        Ok(load::messages(&self.db, &[id]).await?.pop())
    }

    /// Reasons for which messages failed, most messages first.
    pub async fn reasons(&self, flow: &str) -> Result<Vec<ReasonCount>, JournalError> {
        let text = "select r.id, r.flow, r.step, r.connection, r.code, r.says, r.first, count(*) as messages
            from live l join reason r on r.id = l.reason where l.state = 'failed' and $1 in ('', l.flow)
            group by r.id order by count(*) desc, r.first limit 200";
        Ok(ReasonCount::find_by_statement(sql(text, [flow.into()])).all(&self.db).await?)
    }

    /// Counts unfinished messages by flow, step, state and partner.
    pub async fn standing(&self) -> Result<Vec<Standing>, JournalError> {
        let text = "select flow, step, state, partner, count(*) as messages, min(at) as oldest,
                coalesce(min(due) filter (where due > 0), 0) as due
            from live group by flow, step, state, partner order by flow, step, state, partner";
        Ok(Standing::find_by_statement(sql(text, [])).all(&self.db).await?)
    }

    /// Counts unfinished messages by state.
    pub async fn unfinished_by_state(&self) -> Result<Vec<(String, i64)>, JournalError> {
        let rows = self.db.query_all_raw(sql("select state, count(*) from live group by state order by state", [])).await?;
        rows.iter().map(|row| Ok((row.try_get_by_index(0)?, row.try_get_by_index(1)?))).collect()
    }

    /// Arrivals, newest first.
    pub async fn arrivals(&self, filter: &ArrivalFilter) -> Result<Vec<ArrivalRow>, JournalError> {
        let mut wheres = Wheres::default();
        wheres.text("connection", &filter.connection);
        wheres.text("partner", &filter.partner);
        wheres.text("verdict", &filter.verdict);
        wheres.text("name", &filter.name);
        wheres.window(filter.since, filter.until, filter.before);
        let (clause, limit) = (wheres.sql(), wheres.arg(i64::from(filter.limit)));
        let text = format!("select {ARRIVAL} from arrival where {clause} order by id desc limit {limit}");
        Ok(ArrivalRow::find_by_statement(sql(&text, wheres.values)).all(&self.db).await?)
    }

    /// Returns the events received by each connection.
    pub async fn heard(&self) -> Result<Vec<HeardRow>, JournalError> {
        let text = "select connection, event, n, last, arrival from heard where event <> '' order by connection, event";
        Ok(HeardRow::find_by_statement(sql(text, [])).all(&self.db).await?)
    }

    /// Returns when a place (see [`place_of`](wirewatch_core::flow::place_of)) last received an arrival; `None` if never.
    pub async fn last_at(&self, place: &str) -> Result<Option<Timestamp>, JournalError> {
        let row =
            self.db.query_one_raw(sql("select last from heard where connection = $1 and event = ''", [place.into()])).await?;
        Ok(row.map(|row| row.try_get_by_index(0)).transpose()?.map(Timestamp))
    }

    /// Returns the last arrival at a place, of one event or of any.
    pub async fn newest_at(&self, place: &str, event: &str) -> Result<Option<ArrivalId>, JournalError> {
        let text = "select arrival from heard where connection = $1 and event = $2";
        let row = self.db.query_one_raw(sql(text, [place.into(), event.into()])).await?;
        Ok(row.map(|row| row.try_get_by_index(0)).transpose()?.map(Id))
    }

    /// Returns these arrivals, in no order; one that is no longer stored is left out.
    pub async fn arrivals_of(&self, ids: &[ArrivalId]) -> Result<Vec<ArrivalRow>, JournalError> {
        let text = format!("select {ARRIVAL} from arrival where id = any($1)");
        Ok(ArrivalRow::find_by_statement(sql(&text, [numbers(ids)])).all(&self.db).await?)
    }

    /// Returns since when arrivals have been failing without a pause of `pause_us` or more; `None` if none failed since `since`.
    pub async fn failing_since(&self, since: Timestamp, pause_us: i64) -> Result<Option<Timestamp>, JournalError> {
        let text = "select received from (
                select received, received - lag(received) over (order by received) as pause from arrival
                where id >= $1 and verdict = 'failed'
            ) failed where pause is null or pause >= $2 order by received desc limit 1";
        let row = self.db.query_one_raw(sql(text, [Id::first_of(since).0.into(), pause_us.into()])).await?;
        Ok(row.map(|row| row.try_get_by_index(0)).transpose()?.map(Timestamp))
    }

    /// Returns one arrival.
    pub async fn arrival(&self, id: ArrivalId) -> Result<Option<ArrivalRow>, JournalError> {
        let filter = ArrivalFilter { before: Some(Id(id.0 + 1)), limit: 1, ..ArrivalFilter::default() };
        Ok(self.arrivals(&filter).await?.into_iter().next().filter(|row| row.id == id.0))
    }

    /// The first `limit` bytes of a body.
    pub async fn body(&self, id: Id, limit: u64) -> Result<Vec<u8>, JournalError> {
        self.body_part(id, 0..limit).await
    }

    /// Returns some bytes of a body, so that bodies of any size can be streamed. Bytes beyond its end are left out.
    pub async fn body_part(&self, id: Id, range: Range<u64>) -> Result<Vec<u8>, JournalError> {
        let found = load::body_ranges(&self.db, &[(id, range)]).await?.pop().unwrap_or_else(|| Ok(Vec::new()));
        found.map_err(|damaged| JournalError::Damaged(damaged.says))
    }

    /// Ledger entries that belong to these arrivals, in and out, oldest first.
    pub async fn ledger_of(&self, arrivals: &[ArrivalId]) -> Result<Vec<LedgerRow>, JournalError> {
        let text = "select id, direction, sender, receiver, usage, control, arrival, message, answers, at from ledger
            where arrival = any($1) order by id";
        Ok(LedgerRow::find_by_statement(sql(text, [numbers(arrivals)])).all(&self.db).await?)
    }

    /// Timelines, newest first.
    pub async fn timelines(&self, filter: &TimelineFilter) -> Result<Vec<TimelineRow>, JournalError> {
        let mut wheres = Wheres::of_timelines(filter);
        if let Some((begun, key)) = &filter.before {
            let (begun, key) = (wheres.arg(begun.0), wheres.arg(key.clone()));
            wheres.text.push(format!("(begun, key) < ({begun}, {key})"));
        }
        let (clause, limit) = (wheres.sql(), wheres.arg(i64::from(filter.limit)));
        let text = format!(
            "select plan, partner, key, arrival, state, begun, last, milestones from timeline where {clause} order by begun desc, key desc limit {limit}"
        );
        let rows = self.db.query_all_raw(sql(&text, wheres.values)).await?;
        let timeline = |row: &sea_orm::QueryResult| {
            let mut stored: Vec<u8> = row.try_get_by_index(7)?;
            let packed = !stored.is_empty() && stored.remove(0) == 1;
            Ok(TimelineRow {
                plan: row.try_get_by_index(0)?,
                partner: row.try_get_by_index(1)?,
                key: row.try_get_by_index(2)?,
                arrival: row.try_get_by_index(3)?,
                state: row.try_get_by_index(4)?,
                begun: row.try_get_by_index(5)?,
                last: row.try_get_by_index(6)?,
                milestones: serde_json::from_slice(&unpack(packed, stored)?)?,
            })
        };
        rows.iter().map(timeline).collect()
    }

    /// Counts the timelines of a filter, whatever its page; at most `most` of them.
    pub async fn timelines_count(&self, filter: &TimelineFilter, most: u32) -> Result<i64, JournalError> {
        let mut wheres = Wheres::of_timelines(filter);
        let (clause, most) = (wheres.sql(), wheres.arg(i64::from(most)));
        let text = format!("select count(*) from (select 1 from timeline where {clause} limit {most}) counted");
        let row = self.db.query_one_raw(sql(&text, wheres.values)).await?;
        Ok(row.map(|row| row.try_get_by_index(0)).transpose()?.unwrap_or_default())
    }

    /// Returns why the newest failed message of each key failed, and since when, by key and partner: two partners may use the same
    /// number. A key without a failed message is left out.
    pub async fn failures_of(&self, keys: &[String]) -> Result<BTreeMap<(String, String), (String, i64)>, JournalError> {
        let text = "select distinct on (key, partner) key, partner, says, at from live where key = any($1) and state = 'failed'
            order by key, partner, id desc";
        let rows = self.db.query_all_raw(sql(text, [keys.to_vec().into()])).await?;
        let failure = |row: &sea_orm::QueryResult| {
            Ok(((row.try_get_by_index(0)?, row.try_get_by_index(1)?), (row.try_get_by_index(2)?, row.try_get_by_index(3)?)))
        };
        rows.iter().map(failure).collect()
    }

    /// Counts by hour, flow, step and outcome since an hour (number of hours since 1970).
    pub async fn tallies(&self, since_hour: i64) -> Result<Vec<TallyRow>, JournalError> {
        let text = "select hour, flow, step, outcome, sum(n)::bigint as n, sum(took)::bigint as took from tally
            where hour >= $1 group by hour, flow, step, outcome order by hour, flow, step, outcome";
        Ok(TallyRow::find_by_statement(sql(text, [since_hour.into()])).all(&self.db).await?)
    }

    /// Acts on these messages or arrivals, oldest first.
    pub async fn audit_of(&self, subjects: &[Id]) -> Result<Vec<AuditRow>, JournalError> {
        let text = "select id, at, by_whom, act, subject, why from audit where subject = any($1) order by id";
        Ok(AuditRow::find_by_statement(sql(text, [numbers(subjects)])).all(&self.db).await?)
    }

    /// The newest acts of people since a moment, newest first.
    pub async fn newest_acts(&self, since: Timestamp, limit: u32) -> Result<Vec<AuditRow>, JournalError> {
        let text = "select id, at, by_whom, act, subject, why from audit where id >= $1 order by id desc limit $2";
        let values = [Id::first_of(since).0.into(), i64::from(limit).into()];
        Ok(AuditRow::find_by_statement(sql(text, values)).all(&self.db).await?)
    }

    /// Records an act that does not concern a message.
    pub async fn record_act(
        &self,
        id: Id,
        by: &str,
        act: &str,
        subject: Id,
        why: &str,
        at: Timestamp,
    ) -> Result<(), JournalError> {
        let text = "insert into audit (id, at, by_whom, act, subject, why) values ($1, $2, $3, $4, $5, $6)";
        let values = [id.0.into(), at.0.into(), by.into(), act.into(), subject.0.into(), crate::group::clean(why).into()];
        self.db.execute_raw(sql(text, values)).await?;
        Ok(())
    }

    /// Returns feed rows written after a moment (microseconds since 1970), oldest first, at most `limit`.
    ///
    /// A row's time is taken shortly before its commit, so a client asks from a little before its position and skips what it has
    /// seen: rows may come twice, none is left out.
    pub async fn feed(&self, after_at: i64, limit: u32) -> Result<Vec<FeedRow>, JournalError> {
        let text = "select writer, group_no, at, packed, events from feed where at > $1 order by at, writer, group_no limit $2";
        let rows = self.db.query_all_raw(sql(text, [after_at.into(), i64::from(limit).into()])).await?;
        rows.iter().map(feed_row).collect()
    }
}

fn feed_row(row: &sea_orm::QueryResult) -> Result<FeedRow, JournalError> {
    Ok(FeedRow {
        writer: row.try_get_by_index(0)?,
        group_no: row.try_get_by_index(1)?,
        at: row.try_get_by_index(2)?,
        events: serde_json::from_slice(&unpack(row.try_get_by_index(3)?, row.try_get_by_index(4)?)?)?,
    })
}

/// Feed rows of one writer beyond these numbers: groups count up, arrivals count down.
pub async fn feed_of(db: &impl ConnectionTrait, writer: i16, up: i64, down: i64) -> Result<Vec<FeedRow>, JournalError> {
    let text = "select writer, group_no, at, packed, events from feed where writer = $1 and (group_no > $2 or group_no < $3) order by at limit 2000";
    let rows = db.query_all_raw(sql(text, [writer.into(), up.into(), down.into()])).await?;
    rows.iter().map(feed_row).collect()
}

/// Converts ids to an argument of `any(…)`.
fn numbers(ids: &[Id]) -> Value {
    ids.iter().map(|id| id.0).collect::<Vec<i64>>().into()
}

/// Conditions joined by `and`, with numbered arguments.
#[derive(Default)]
struct Wheres {
    text: Vec<String>,
    values: Vec<Value>,
}

impl Wheres {
    /// The conditions of a filter of timelines, without its page.
    fn of_timelines(filter: &TimelineFilter) -> Self {
        let mut wheres = Self::default();
        wheres.text("plan", &filter.plan);
        wheres.text("partner", &filter.partner);
        wheres.text("key", &filter.key);
        wheres.text("state", &filter.state);
        for (moment, compares) in [(filter.since, ">="), (filter.until, "<")] {
            if let Some(moment) = moment {
                let n = wheres.arg(moment.0);
                wheres.text.push(format!("begun {compares} {n}"));
            }
        }
        wheres
    }

    fn arg(&mut self, value: impl Into<Value>) -> String {
        self.values.push(value.into());
        format!("${}", self.values.len())
    }

    fn text(&mut self, column: &str, value: &str) {
        if !value.is_empty() {
            let n = self.arg(value.to_owned());
            self.text.push(format!("{column} = {n}"));
        }
    }

    fn compare(&mut self, column: &str, operator: &str, value: i64) {
        let n = self.arg(value);
        self.text.push(format!("{column} {operator} {n}"));
    }

    /// Ids of a span of time, and of the next page.
    fn window(&mut self, since: Option<Timestamp>, until: Option<Timestamp>, before: Option<Id>) {
        if let Some(since) = since {
            self.compare("id", ">=", Id::first_of(since).0);
        }
        if let Some(until) = until {
            self.compare("id", "<", Id::first_of(until).0);
        }
        if let Some(before) = before {
            self.compare("id", "<", before.0);
        }
    }

    fn sql(&self) -> String {
        if self.text.is_empty() { "true".to_owned() } else { self.text.join(" and ") }
    }
}
