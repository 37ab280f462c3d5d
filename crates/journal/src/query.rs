//! What people ask: lists by keyset, single records, counts. Reads only, but for releases and audit records.

use crate::days;
use crate::error::JournalError;
use crate::events::Event;
use crate::load;
use crate::pack::unpack;
use crate::writer::sql;
use sea_orm::{ConnectionTrait, DatabaseConnection, FromQueryResult, Value};
use wirewatch_core::course::Reached;
use wirewatch_core::machine::LogEntry;
use wirewatch_core::workspace::Files;
use wirewatch_core::{ArrivalId, Id, MessageId, Timestamp};
use wirewatch_engine::Stored;

/// Answers questions about what was kept. Cloning shares the connections.
#[derive(Debug, Clone)]
pub struct Store {
    db: DatabaseConnection,
}

/// Which messages; empty and `None` mean any.
#[derive(Debug, Clone, Default)]
pub struct MessageFilter {
    pub flow: String,
    pub partner: String,
    pub state: String,
    pub key: String,
    pub arrival: Option<ArrivalId>,
    pub reason: Option<i64>,
    pub since: Option<Timestamp>,
    pub until: Option<Timestamp>,
    /// Only messages older than this one: the next page.
    pub before: Option<MessageId>,
    pub limit: u32,
}

/// A message in a list.
#[derive(Debug, Clone, FromQueryResult)]
pub struct MessageRow {
    pub id: i64,
    pub arrival: i64,
    pub flow: String,
    pub release: i64,
    pub partner: String,
    pub key: String,
    pub result: String,
    pub state: String,
    pub step: String,
    pub tries: i32,
    pub due: i64,
    pub waits_for: String,
    pub reason: i64,
    /// Why it stands where it stands.
    pub says: String,
    pub at: i64,
}

/// Which arrivals; empty and `None` mean any.
#[derive(Debug, Clone, Default)]
pub struct ArrivalFilter {
    pub connection: String,
    pub partner: String,
    pub verdict: String,
    pub before: Option<ArrivalId>,
    pub limit: u32,
}

/// An arrival.
#[derive(Debug, Clone, FromQueryResult)]
pub struct ArrivalRow {
    pub id: i64,
    pub connection: String,
    pub partner: String,
    pub name: String,
    pub verdict: String,
    pub says: String,
    pub size: i64,
    pub messages: i32,
    pub received: i64,
    pub by_whom: String,
}

/// A log entry with its number.
#[derive(Debug, Clone)]
pub struct LogRow {
    pub seq: i32,
    pub entry: LogEntry,
}

/// How many stand aside for the same reason.
#[derive(Debug, Clone, FromQueryResult)]
pub struct ReasonCount {
    pub id: i64,
    pub flow: String,
    pub step: String,
    pub connection: String,
    pub code: String,
    pub says: String,
    pub messages: i64,
    pub oldest: i64,
}

/// Which trails; empty and `None` mean any.
#[derive(Debug, Clone, Default)]
pub struct TrailFilter {
    pub course: String,
    pub partner: String,
    pub key: String,
    pub state: String,
    /// Only trails that began before this: the next page.
    pub before: Option<(Timestamp, String)>,
    pub limit: u32,
}

/// A trail.
#[derive(Debug, Clone)]
pub struct TrailRow {
    pub course: String,
    pub partner: String,
    pub key: String,
    pub arrival: i64,
    pub state: String,
    pub begun: i64,
    pub last: i64,
    pub milestones: Vec<Reached>,
}

/// A ledger entry.
#[derive(Debug, Clone, FromQueryResult)]
pub struct LedgerRow {
    pub id: i64,
    pub direction: String,
    pub sender: String,
    pub receiver: String,
    pub usage: String,
    pub control: String,
    pub arrival: i64,
    pub message: i64,
    pub answers: String,
    pub at: i64,
}

/// A connection that is held.
#[derive(Debug, Clone, FromQueryResult)]
pub struct HoldRow {
    pub connection: String,
    pub says: String,
    pub since: i64,
}

/// Counts of an hour.
#[derive(Debug, Clone, FromQueryResult)]
pub struct TallyRow {
    pub hour: i64,
    pub flow: String,
    pub step: String,
    pub outcome: String,
    pub n: i64,
    pub took: i64,
}

/// A person's act.
#[derive(Debug, Clone, FromQueryResult)]
pub struct AuditRow {
    pub id: i64,
    pub at: i64,
    pub by_whom: String,
    pub act: String,
    pub subject: i64,
    pub why: String,
}

/// One group of the live stream.
#[derive(Debug, Clone)]
pub struct FeedRow {
    pub writer: i16,
    pub group_no: i64,
    pub at: i64,
    pub events: Vec<Event>,
}

impl Store {
    pub(crate) fn new(db: DatabaseConnection) -> Self {
        Self { db }
    }

    /// For how many days after today there is room for history; without any, nothing can be taken in.
    pub async fn days_ahead(&self, now: Timestamp) -> Result<i64, JournalError> {
        days::ahead(&self.db, now).await
    }

    /// Messages, newest first.
    pub async fn messages(&self, filter: &MessageFilter) -> Result<Vec<MessageRow>, JournalError> {
        let mut wheres = Wheres::default();
        wheres.text("flow", &filter.flow);
        wheres.text("partner", &filter.partner);
        wheres.text("state", &filter.state);
        if !filter.key.is_empty() {
            let n = wheres.arg(filter.key.clone());
            wheres.text.push(format!("(key = {n} or result = {n})"));
        }
        if let Some(arrival) = filter.arrival {
            wheres.compare("arrival", "=", arrival.0);
        }
        if let Some(since) = filter.since {
            wheres.compare("id", ">=", Id::first_of(since).0);
        }
        if let Some(until) = filter.until {
            wheres.compare("id", "<", Id::first_of(until).0);
        }
        if let Some(before) = filter.before {
            wheres.compare("id", "<", before.0);
        }
        let live_only = filter.reason.is_some();
        let history = format!("{}{}", wheres.sql(), if live_only { " and false" } else { "" });
        if let Some(reason) = filter.reason {
            wheres.compare("reason", "=", reason);
        }
        let live = wheres.sql();
        let limit = wheres.arg(i64::from(filter.limit));
        let shared = "id, arrival, flow, release, partner, key, result, state, step";
        let text = format!(
            "select m.id, m.arrival, m.flow, m.release, m.partner, m.key, m.result, m.state, m.step, m.tries, m.due, m.waits_for, m.reason,
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

    /// One message as a list shows it.
    pub async fn message(&self, id: MessageId) -> Result<Option<MessageRow>, JournalError> {
        let filter = MessageFilter { before: Some(Id(id.0 + 1)), limit: 1, ..MessageFilter::default() };
        Ok(self.messages(&filter).await?.into_iter().next().filter(|row| row.id == id.0))
    }

    /// One message with document and log.
    pub async fn stored(&self, id: MessageId) -> Result<Option<Stored>, JournalError> {
        Ok(load::messages(&self.db, &[id]).await?.pop())
    }

    /// Reasons for which messages stand aside, most messages first.
    pub async fn reasons(&self, flow: &str) -> Result<Vec<ReasonCount>, JournalError> {
        let text = "select r.id, r.flow, r.step, r.connection, r.code, r.says, count(*) as messages, min(l.at) as oldest
            from live l join reason r on r.id = l.reason where l.state = 'aside' and $1 in ('', l.flow)
            group by r.id order by count(*) desc, min(l.at) limit 200";
        Ok(ReasonCount::find_by_statement(sql(text, [flow.into()])).all(&self.db).await?)
    }

    /// How many unfinished messages there are, by state.
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
        if let Some(before) = filter.before {
            wheres.compare("id", "<", before.0);
        }
        let (clause, limit) = (wheres.sql(), wheres.arg(i64::from(filter.limit)));
        let text = format!(
            "select id, connection, partner, name, verdict, says, size, messages, received, by_whom from arrival
             where {clause} order by id desc limit {limit}"
        );
        Ok(ArrivalRow::find_by_statement(sql(&text, wheres.values)).all(&self.db).await?)
    }

    /// One arrival.
    pub async fn arrival(&self, id: ArrivalId) -> Result<Option<ArrivalRow>, JournalError> {
        let filter = ArrivalFilter { before: Some(Id(id.0 + 1)), limit: 1, ..ArrivalFilter::default() };
        Ok(self.arrivals(&filter).await?.into_iter().next().filter(|row| row.id == id.0))
    }

    /// The bytes of an arrival, at most `limit` of them.
    pub async fn body(&self, id: Id, limit: u64) -> Result<Vec<u8>, JournalError> {
        load::body_range(&self.db, id, 0..limit).await
    }

    /// Ledger entries that belong to an arrival, in and out.
    pub async fn ledger_of(&self, arrival: ArrivalId) -> Result<Vec<LedgerRow>, JournalError> {
        let text = "select id, direction, sender, receiver, usage, control, arrival, message, answers, at from ledger where arrival = $1 order by id";
        Ok(LedgerRow::find_by_statement(sql(text, [arrival.0.into()])).all(&self.db).await?)
    }

    /// Trails, newest first.
    pub async fn trails(&self, filter: &TrailFilter) -> Result<Vec<TrailRow>, JournalError> {
        let mut wheres = Wheres::default();
        wheres.text("course", &filter.course);
        wheres.text("partner", &filter.partner);
        wheres.text("key", &filter.key);
        wheres.text("state", &filter.state);
        if let Some((begun, key)) = &filter.before {
            let (begun, key) = (wheres.arg(begun.0), wheres.arg(key.clone()));
            wheres.text.push(format!("(begun, key) < ({begun}, {key})"));
        }
        let (clause, limit) = (wheres.sql(), wheres.arg(i64::from(filter.limit)));
        let text = format!(
            "select course, partner, key, arrival, state, begun, last, milestones from trail where {clause} order by begun desc, key desc limit {limit}"
        );
        let rows = self.db.query_all_raw(sql(&text, wheres.values)).await?;
        let trail = |row: &sea_orm::QueryResult| {
            let mut stored: Vec<u8> = row.try_get_by_index(7)?;
            let packed = !stored.is_empty() && stored.remove(0) == 1;
            Ok(TrailRow {
                course: row.try_get_by_index(0)?,
                partner: row.try_get_by_index(1)?,
                key: row.try_get_by_index(2)?,
                arrival: row.try_get_by_index(3)?,
                state: row.try_get_by_index(4)?,
                begun: row.try_get_by_index(5)?,
                last: row.try_get_by_index(6)?,
                milestones: serde_json::from_slice(&unpack(packed, stored)?)?,
            })
        };
        rows.iter().map(trail).collect()
    }

    /// Connections that are held.
    pub async fn holds(&self) -> Result<Vec<HoldRow>, JournalError> {
        Ok(HoldRow::find_by_statement(sql("select connection, says, since from hold order by connection", []))
            .all(&self.db)
            .await?)
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

    /// Records an act that is no message's.
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

    /// The newest release: number, digest and files.
    pub async fn newest_release(&self) -> Result<Option<(i64, String, Files)>, JournalError> {
        let text = "select no, digest, files from release order by no desc limit 1";
        let Some(row) = self.db.query_one_raw(sql(text, [])).await? else { return Ok(None) };
        let files = serde_json::from_slice(&unpack(true, row.try_get_by_index(2)?)?)?;
        Ok(Some((row.try_get_by_index(0)?, row.try_get_by_index(1)?, files)))
    }

    /// Adds a release; gives its number.
    pub async fn add_release(&self, digest: &str, files: &Files, by: &str, at: Timestamp) -> Result<i64, JournalError> {
        let packed = zstd::bulk::compress(&serde_json::to_vec(files)?, 3)?;
        let text = "insert into release values ((select coalesce(max(no), 0) + 1 from release), $1, $2, $3, $4) returning no";
        let row = self.db.query_one_raw(sql(text, [digest.into(), packed.into(), at.0.into(), by.into()])).await?;
        row.ok_or_else(|| JournalError::Away("no release came back".to_owned()))?.try_get_by_index(0).map_err(Into::into)
    }

    /// Feed rows written after a moment (microseconds since 1970), oldest first, at most `limit`.
    ///
    /// A row's time is taken shortly before its commit, so a follower asks from a little before where it was and
    /// passes over what it has seen: rows may come twice, none is left out.
    pub async fn feed(&self, after_at: i64, limit: u32) -> Result<Vec<FeedRow>, JournalError> {
        let text = "select writer, group_no, at, packed, events from feed where at > $1 order by at, writer, group_no limit $2";
        let rows = self.db.query_all_raw(sql(text, [after_at.into(), i64::from(limit).into()])).await?;
        let row = |row: &sea_orm::QueryResult| {
            Ok(FeedRow {
                writer: row.try_get_by_index(0)?,
                group_no: row.try_get_by_index(1)?,
                at: row.try_get_by_index(2)?,
                events: serde_json::from_slice(&unpack(row.try_get_by_index(3)?, row.try_get_by_index(4)?)?)?,
            })
        };
        rows.iter().map(row).collect()
    }
}

/// Conditions joined by `and`, with numbered arguments.
#[derive(Default)]
struct Wheres {
    text: Vec<String>,
    values: Vec<Value>,
}

impl Wheres {
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

    fn sql(&self) -> String {
        if self.text.is_empty() { "true".to_owned() } else { self.text.join(" and ") }
    }
}
