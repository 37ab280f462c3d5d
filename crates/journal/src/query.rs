//! Queries of people: lists by keyset, single records, counts. Reads only, except for releases and audit records.

mod arrival_keys;
mod assignments;
mod bulk_acts;
mod captures;
mod drafts;
mod figures;
mod flow_figures;
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

    /// Messages, newest first.
    pub async fn messages(&self, filter: &MessageFilter) -> Result<Vec<MessageRow>, JournalError> {
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
        if let Some(arrival) = filter.arrival {
            wheres.compare("arrival", "=", arrival.0);
        }
        if let Some(flows) = &filter.flows {
            let n = wheres.arg(flows.clone());
            wheres.text.push(format!("flow = any({n})"));
        }
        wheres.window(filter.since, filter.until, filter.before);
        let live_only = filter.reason.is_some();
        let (mut history, mut live) = (wheres.sql(), wheres.sql());
        if !filter.connection.is_empty() {
            let n = wheres.arg(filter.connection.clone());
            let by_intake =
                |table: &str| format!("exists (select 1 from arrival a where a.id = {table}.arrival and a.connection = {n})");
            history.push_str(&format!(" and {}", by_intake("message")));
            live.push_str(&format!(" and (waits_for = {n} or {})", by_intake("live")));
        }
        if let Some(reason) = filter.reason {
            let n = wheres.arg(reason);
            live.push_str(&format!(" and reason = {n}"));
        }
        if live_only {
            history.push_str(" and false");
        }
        let limit = wheres.arg(i64::from(filter.limit));
        let shared = "id, arrival, flow, release, partner, key, result, state, step";
        let text = format!(
            "select m.id, m.arrival, m.flow, m.release, m.partner, m.key, m.result, m.state, m.step, m.tries, m.due, m.waits_for, m.reason, coalesce(r.code, '') as code,
                case when m.says <> '' then m.says else coalesce(r.says, '') end as says, m.at
             from (
               (select {shared}, tries, due, waits_for, reason, says, at from live where {live} order by id desc limit {limit})
               union all
               (select {shared}, 0, 0::bigint, '', 0::bigint, says, at from message where {history} order by id desc limit {limit})
             ) m left join reason r on r.id = m.reason
             order by m.id desc limit {limit}"
        );
        Ok(MessageRow::find_by_statement(sql(&text, wheres.values)).all(&self.db).await?)
    }

    /// Returns one message as in lists.
    pub async fn message(&self, id: MessageId) -> Result<Option<MessageRow>, JournalError> {
        let filter = MessageFilter { before: Some(Id(id.0 + 1)), limit: 1, ..MessageFilter::default() };
        Ok(self.messages(&filter).await?.into_iter().next().filter(|row| row.id == id.0))
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
        let text = format!(
            "select id, connection, partner, name, verdict, says, size, messages, received, by_whom, event, properties from arrival
             where {clause} order by id desc limit {limit}"
        );
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

    /// Ledger entries that belong to an arrival, in and out.
    pub async fn ledger_of(&self, arrival: ArrivalId) -> Result<Vec<LedgerRow>, JournalError> {
        let text = "select id, direction, sender, receiver, usage, control, arrival, message, answers, at from ledger where arrival = $1 order by id";
        Ok(LedgerRow::find_by_statement(sql(text, [arrival.0.into()])).all(&self.db).await?)
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

    /// Returns why the newest failed message of each key failed, and since when; a key without one is left out.
    pub async fn failures_of(&self, keys: &[String]) -> Result<BTreeMap<String, (String, i64)>, JournalError> {
        let text =
            "select distinct on (key) key, says, at from live where key = any($1) and state = 'failed' order by key, id desc";
        let rows = self.db.query_all_raw(sql(text, [keys.to_vec().into()])).await?;
        let failure =
            |row: &sea_orm::QueryResult| Ok((row.try_get_by_index(0)?, (row.try_get_by_index(1)?, row.try_get_by_index(2)?)));
        rows.iter().map(failure).collect()
    }

    /// Counts by hour, flow, step and outcome since an hour (number of hours since 1970).
    pub async fn tallies(&self, since_hour: i64) -> Result<Vec<TallyRow>, JournalError> {
        let text = "select hour, flow, step, outcome, sum(n)::bigint as n, sum(took)::bigint as took from tally
            where hour >= $1 group by hour, flow, step, outcome order by hour, flow, step, outcome";
        Ok(TallyRow::find_by_statement(sql(text, [since_hour.into()])).all(&self.db).await?)
    }

    /// Acts on one message or arrival, oldest first.
    pub async fn audit_of(&self, subject: Id) -> Result<Vec<AuditRow>, JournalError> {
        let text = "select id, at, by_whom, act, subject, why from audit where subject = $1 order by id";
        Ok(AuditRow::find_by_statement(sql(text, [subject.0.into()])).all(&self.db).await?)
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
