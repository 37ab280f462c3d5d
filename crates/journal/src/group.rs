//! One group of ops as one statement: data-modifying CTEs over arrays, constant text, one round trip.
//!
//! Every part hangs on `me`, the process's own writer row locked for share: when another process has taken over,
//! `me` is empty, nothing is written, and the count says so.

use crate::error::JournalError;
use crate::events::{Event, partner};
use crate::pack::pack;
use sea_orm::{ConnectionTrait, DbBackend, Statement, Value};
use std::collections::{BTreeMap, HashMap};
use wirewatch_core::document::Form;
use wirewatch_core::machine::{LogEntry, Logged, Origin, State};
use wirewatch_core::{Id, Timestamp};
use wirewatch_engine::{Change, Op, OpResult};

/// Who writes.
#[derive(Debug, Clone, Copy)]
pub struct Me {
    pub writer: i16,
    pub epoch: i64,
}

/// What is stored of a message beside its columns.
#[derive(serde::Serialize, serde::Deserialize)]
pub struct HeadColumn {
    pub form: Form,
    pub meta: serde_json::Map<String, serde_json::Value>,
}

/// Writes `ops` under `number`; whole or not at all.
pub async fn write(
    db: &impl ConnectionTrait,
    me: Me,
    number: i64,
    ops: &[Op],
    now: Timestamp,
    mint: &mut (dyn FnMut() -> Id + Send),
) -> Result<(), JournalError> {
    let mut rows = Rows::default();
    for op in ops {
        rows.op(op, mint)?;
    }
    let mut sql = Sql::new(me);
    rows.write(&mut sql, number, now, ops)?;
    let row = db.query_one_raw(sql.statement()).await?;
    match row.and_then(|row| row.try_get_by_index::<i64>(0).ok()) {
        Some(1) => Ok(()),
        _ => Err(JournalError::Fenced),
    }
}

/// Whether a group was committed before, though its answer was lost.
pub async fn was_written(db: &impl ConnectionTrait, me: Me, number: i64) -> Result<bool, JournalError> {
    let text = "select 1 from feed where writer = $1 and group_no = $2";
    let statement = Statement::from_sql_and_values(DbBackend::Postgres, text, [me.writer.into(), number.into()]);
    Ok(db.query_one_raw(statement).await?.is_some())
}

/// A statement that grows CTE by CTE.
pub struct Sql {
    text: String,
    values: Vec<Value>,
}

impl Sql {
    /// Begins with the writer row.
    pub fn new(me: Me) -> Self {
        let text = "with me as materialized (select id from writer where id = $1 and epoch = $2 for share)".to_owned();
        Self { text, values: vec![me.writer.into(), me.epoch.into()] }
    }

    fn arg(&mut self, value: impl Into<Value>, kind: &str) -> String {
        self.values.push(value.into());
        format!("${}::{kind}", self.values.len())
    }

    /// Adds a CTE that selects from arrays as `u(columns)`: `before` + select + `after`.
    fn over(&mut self, name: &str, columns: Vec<(&str, &str, Value)>, before: &str, select: &str, after: &str) {
        let names: Vec<&str> = columns.iter().map(|(name, ..)| *name).collect();
        let arrays: Vec<String> = columns.into_iter().map(|(_, kind, value)| self.arg(value, kind)).collect();
        let select = if select.is_empty() {
            names.iter().map(|name| format!("u.{name}")).collect::<Vec<_>>().join(", ")
        } else {
            select.to_owned()
        };
        let before = before.replace("(*)", &format!("({})", names.join(", ")));
        let arrays = arrays.join(", ");
        let from = format!("from unnest({arrays}) as u({}), me", names.join(", "));
        self.text.push_str(&match before.starts_with("insert") {
            true => format!(",\n{name} as ({before} select {select} {from} {after} returning 1)"),
            false => format!(",\n{name} as ({} returning 1)", before.replace("<from>", &from) + " " + after),
        });
    }

    fn statement(mut self) -> Statement {
        self.text.push_str("\nselect count(*) from me");
        Statement::from_sql_and_values(DbBackend::Postgres, self.text, self.values)
    }
}

const BIG: &str = "bigint[]";
const INT: &str = "int[]";
const TEXT: &str = "text[]";
const BYTES: &str = "bytea[]";
const BOOL: &str = "bool[]";

/// Columns that `live` and `message` share, filled row by row.
#[derive(Default)]
struct Messages {
    id: Vec<i64>,
    arrival: Vec<i64>,
    body: Vec<i64>,
    slice_from: Vec<i64>,
    slice_to: Vec<i64>,
    flow: Vec<String>,
    release: Vec<i64>,
    partner: Vec<String>,
    head: Vec<Vec<u8>>,
    key: Vec<String>,
    result: Vec<String>,
    order_key: Vec<String>,
    state: Vec<String>,
    step: Vec<String>,
    says: Vec<String>,
    at: Vec<i64>,
    /// Only in `live`.
    tries: Vec<i32>,
    due: Vec<i64>,
    waits_for: Vec<String>,
    reason: Vec<i64>,
}

impl Messages {
    fn push(
        &mut self,
        origin: &Origin,
        key: &str,
        result: &str,
        order_key: &str,
        state: State,
        at: Timestamp,
    ) -> Result<(), JournalError> {
        self.id.push(origin.id.0);
        self.arrival.push(origin.arrival.0);
        self.body.push(origin.body.0);
        self.slice_from.push(origin.slice.start as i64);
        self.slice_to.push(origin.slice.end as i64);
        self.flow.push(origin.flow.clone());
        self.release.push(origin.release);
        self.partner.push(partner(&origin.meta));
        self.head.push(serde_json::to_vec(&HeadColumn { form: origin.form.clone(), meta: origin.meta.clone() })?);
        self.key.push(clean(key));
        self.result.push(clean(result));
        self.order_key.push(clean(order_key));
        self.state.push(state.as_str().to_owned());
        self.at.push(at.0);
        Ok(())
    }

    fn push_change(&mut self, change: &Change) -> Result<(), JournalError> {
        self.push(&change.origin, &change.key, &change.result, &change.order_key, change.state, change.at)?;
        self.step.push(change.step.clone());
        self.says.push(clean(&change.says));
        self.tries.push(i32::from(change.tries));
        self.due.push(change.due.map_or(0, |due| due.0));
        self.waits_for.push(change.waits_for.clone());
        self.reason.push(change.reason.as_ref().map_or(0, wirewatch_core::reason::Reason::id));
        Ok(())
    }

    fn shared(self) -> (Vec<(&'static str, &'static str, Value)>, [(&'static str, &'static str, Value); 4]) {
        let shared = vec![
            ("id", BIG, self.id.into()),
            ("arrival", BIG, self.arrival.into()),
            ("body", BIG, self.body.into()),
            ("slice_from", BIG, self.slice_from.into()),
            ("slice_to", BIG, self.slice_to.into()),
            ("flow", TEXT, self.flow.into()),
            ("release", BIG, self.release.into()),
            ("partner", TEXT, self.partner.into()),
            ("head", BYTES, self.head.into()),
            ("key", TEXT, self.key.into()),
            ("result", TEXT, self.result.into()),
            ("order_key", TEXT, self.order_key.into()),
            ("state", TEXT, self.state.into()),
            ("step", TEXT, self.step.into()),
            ("says", TEXT, self.says.into()),
            ("at", BIG, self.at.into()),
        ];
        let live = [
            ("tries", INT, self.tries.into()),
            ("due", BIG, self.due.into()),
            ("waits_for", TEXT, self.waits_for.into()),
            ("reason", BIG, self.reason.into()),
        ];
        (shared, live)
    }
}

/// Every row of a group, by table.
#[derive(Default)]
struct Rows {
    born: Messages,
    moved: Messages,
    ended: Messages,
    gone_from_live: Vec<i64>,
    gone_from_history: Vec<i64>,
    log: (Vec<i64>, Vec<i32>, Vec<i64>, Vec<bool>, Vec<Vec<u8>>),
    facts: Facts,
    reasons: BTreeMap<i64, [String; 5]>,
    tallies: HashMap<(i64, String, String, &'static str), (i64, i64)>,
    audit: (Vec<i64>, Vec<i64>, Vec<String>, Vec<String>, Vec<i64>, Vec<String>),
    cursors: (Vec<i64>, Vec<i32>, Vec<i32>),
    unfolded: (Vec<i64>, Vec<i32>),
    held: (Vec<String>, Vec<String>, Vec<i64>),
    freed: Vec<String>,
}

#[derive(Default)]
struct Facts {
    id: Vec<i64>,
    course: Vec<String>,
    partner: Vec<String>,
    key: Vec<String>,
    milestone: Vec<String>,
    mark: Vec<String>,
    message: Vec<i64>,
    arrival: Vec<i64>,
    at: Vec<i64>,
}

impl Rows {
    fn op(&mut self, op: &Op, mint: &mut (dyn FnMut() -> Id + Send)) -> Result<(), JournalError> {
        match op {
            Op::Change(change) => self.change(change, mint),
            Op::Unfold(unfold) => {
                for message in &unfold.messages {
                    self.born.push(&message.origin, &message.key, "", &message.order_key, State::Moving, unfold.at)?;
                    self.born.step.push(String::new());
                    self.born.says.push(String::new());
                    self.born.tries.push(0);
                    self.born.due.push(0);
                    self.born.waits_for.push(String::new());
                    self.born.reason.push(0);
                    self.facts(&message.facts, mint);
                }
                match unfold.last {
                    true => {
                        self.unfolded.0.push(unfold.arrival.0);
                        self.unfolded.1.push(unfold.to as i32);
                    }
                    false => {
                        self.cursors.0.push(unfold.arrival.0);
                        self.cursors.1.push(unfold.from as i32);
                        self.cursors.2.push(unfold.to as i32);
                    }
                }
                Ok(())
            }
            Op::Hold { connection, says, at } => {
                match says {
                    Some(says) => {
                        self.held.0.push(connection.clone());
                        self.held.1.push(clean(says));
                        self.held.2.push(at.0);
                    }
                    None => self.freed.push(connection.clone()),
                }
                Ok(())
            }
        }
    }

    fn change(&mut self, change: &Change, mint: &mut (dyn FnMut() -> Id + Send)) -> Result<(), JournalError> {
        let id = change.origin.id;
        match (change.state.is_final(), change.reopened) {
            (true, reopened) => {
                self.ended.push_change(change)?;
                if !reopened {
                    self.gone_from_live.push(id.0);
                }
            }
            (false, true) => {
                self.born.push_change(change)?;
                self.gone_from_history.push(id.0);
            }
            (false, false) => self.moved.push_change(change)?,
        }
        if let Some((seq, entry)) = &change.entry {
            self.entry(id, *seq, entry, mint)?;
        }
        if let Some(reason) = &change.reason {
            let words = [&reason.flow, &reason.step, &reason.connection, &reason.code, &reason.says].map(|text| clean(text));
            self.reasons.insert(reason.id(), words);
        }
        for passed in &change.passed {
            let hour = change.at.0 / 3_600_000_000;
            let cell =
                self.tallies.entry((hour, change.origin.flow.clone(), passed.step.clone(), passed.how.as_str())).or_default();
            cell.0 += 1;
            cell.1 += change.took as i64;
        }
        self.facts(&change.facts, mint);
        Ok(())
    }

    fn entry(&mut self, id: Id, seq: u32, entry: &LogEntry, mint: &mut (dyn FnMut() -> Id + Send)) -> Result<(), JournalError> {
        let (packed, bytes) = pack(&serde_json::to_vec(entry)?);
        self.log.0.push(id.0);
        self.log.1.push(seq as i32);
        self.log.2.push(entry.at.0);
        self.log.3.push(packed);
        self.log.4.push(bytes);
        if let Logged::Act { act, by, why } = &entry.what {
            self.audit.0.push(mint().0);
            self.audit.1.push(entry.at.0);
            self.audit.2.push(clean(by));
            self.audit.3.push(act.past().to_owned());
            self.audit.4.push(id.0);
            self.audit.5.push(clean(why));
        }
        Ok(())
    }

    fn facts(&mut self, facts: &[wirewatch_core::course::Fact], mint: &mut (dyn FnMut() -> Id + Send)) {
        for fact in facts {
            let rows = &mut self.facts;
            rows.id.push(mint().0);
            rows.course.push(fact.course.clone());
            rows.partner.push(fact.partner.clone());
            rows.key.push(clean(&fact.key));
            rows.milestone.push(fact.milestone.clone());
            rows.mark.push(serde_json::to_string(&fact.mark).unwrap_or_default().trim_matches('"').to_owned());
            rows.message.push(fact.message.0);
            rows.arrival.push(fact.arrival.0);
            rows.at.push(fact.at.0);
        }
    }

    fn write(self, sql: &mut Sql, number: i64, now: Timestamp, ops: &[Op]) -> Result<(), JournalError> {
        let events: Vec<Event> = ops.iter().flat_map(Event::of).collect();
        let (packed, events) = pack(&serde_json::to_vec(&events)?);
        let (number, at) = (sql.arg(number, "bigint"), sql.arg(now.0, "bigint"));
        let (packed, events) = (sql.arg(packed, "bool"), sql.arg(events, "bytea"));
        sql.text.push_str(&format!(
            ",\nfed as (insert into feed select me.id, {number}, {at}, {packed}, {events} from me returning 1)"
        ));
        let (mut columns, live) = self.born.shared();
        columns.extend(live);
        let select: Vec<String> = columns.iter().map(|(name, ..)| format!("u.{name}")).collect();
        let names: Vec<&str> = columns.iter().map(|(name, ..)| *name).collect();
        let before = format!("insert into live ({}, shard)", names.join(", "));
        sql.over("born", columns, &before, &format!("{}, (u.id & 63)::smallint", select.join(", ")), "");

        let moved = self.moved;
        let columns = vec![
            ("id", BIG, moved.id.into()),
            ("state", TEXT, moved.state.into()),
            ("step", TEXT, moved.step.into()),
            ("tries", INT, moved.tries.into()),
            ("due", BIG, moved.due.into()),
            ("waits_for", TEXT, moved.waits_for.into()),
            ("reason", BIG, moved.reason.into()),
            ("says", TEXT, moved.says.into()),
            ("result", TEXT, moved.result.into()),
            ("at", BIG, moved.at.into()),
        ];
        let update = "update live set state = u.state, step = u.step, tries = u.tries, due = u.due, waits_for = u.waits_for, \
                      reason = u.reason, says = u.says, result = u.result, at = u.at <from> where live.id = u.id";
        sql.over("moved", columns, update, "", "");

        sql.over(
            "left_live",
            vec![("id", BIG, self.gone_from_live.into())],
            "delete from live using (select u.id <from>) as u where live.id = u.id",
            "",
            "",
        );
        sql.over(
            "left_history",
            vec![("id", BIG, self.gone_from_history.into())],
            "delete from message using (select u.id <from>) as u where message.id = u.id",
            "",
            "",
        );
        let (columns, _) = self.ended.shared();
        let replace = "on conflict (id) do update set key = excluded.key, result = excluded.result, state = excluded.state, \
                       step = excluded.step, says = excluded.says, at = excluded.at";
        sql.over("ended", columns, "insert into message (*)", "", replace);

        let (message, seq, at, packed, entry) = self.log;
        let columns = vec![
            ("message", BIG, message.into()),
            ("seq", INT, seq.into()),
            ("at", BIG, at.into()),
            ("packed", BOOL, packed.into()),
            ("entry", BYTES, entry.into()),
        ];
        sql.over("logged", columns, "insert into log (*)", "", "");

        let facts = self.facts;
        let columns = vec![
            ("id", BIG, facts.id.into()),
            ("course", TEXT, facts.course.into()),
            ("partner", TEXT, facts.partner.into()),
            ("key", TEXT, facts.key.into()),
            ("milestone", TEXT, facts.milestone.into()),
            ("mark", TEXT, facts.mark.into()),
            ("message", BIG, facts.message.into()),
            ("arrival", BIG, facts.arrival.into()),
            ("at", BIG, facts.at.into()),
        ];
        sql.over("met", columns, "insert into fact (*)", "", "");

        let (ids, words): (Vec<i64>, Vec<[String; 5]>) = self.reasons.into_iter().unzip();
        let column = |n: usize| Value::from(words.iter().map(|words| words[n].clone()).collect::<Vec<_>>());
        let columns = vec![
            ("id", BIG, ids.into()),
            ("flow", TEXT, column(0)),
            ("step", TEXT, column(1)),
            ("connection", TEXT, column(2)),
            ("code", TEXT, column(3)),
            ("says", TEXT, column(4)),
        ];
        sql.over("reasoned", columns, "insert into reason (*)", "", "on conflict (id) do nothing");

        let mut tallies: Vec<_> = self.tallies.into_iter().collect();
        tallies.sort();
        let (keys, sums): (Vec<_>, Vec<_>) = tallies.into_iter().unzip();
        let columns = vec![
            ("hour", BIG, keys.iter().map(|key| key.0).collect::<Vec<_>>().into()),
            ("flow", TEXT, keys.iter().map(|key| key.1.clone()).collect::<Vec<_>>().into()),
            ("step", TEXT, keys.iter().map(|key| key.2.clone()).collect::<Vec<_>>().into()),
            ("outcome", TEXT, keys.iter().map(|key| key.3.to_owned()).collect::<Vec<_>>().into()),
            ("n", BIG, sums.iter().map(|sum| sum.0).collect::<Vec<_>>().into()),
            ("took", BIG, sums.iter().map(|sum| sum.1).collect::<Vec<_>>().into()),
        ];
        let before = "insert into tally (hour, flow, step, outcome, n, took, writer)";
        let add = "on conflict (hour, flow, step, outcome, writer) do update set n = tally.n + excluded.n, took = tally.took + excluded.took";
        sql.over("tallied", columns, before, "u.hour, u.flow, u.step, u.outcome, u.n, u.took, me.id", add);

        let (id, at, by, act, subject, why) = self.audit;
        let columns = vec![
            ("id", BIG, id.into()),
            ("at", BIG, at.into()),
            ("by_whom", TEXT, by.into()),
            ("act", TEXT, act.into()),
            ("subject", BIG, subject.into()),
            ("why", TEXT, why.into()),
        ];
        sql.over("audited", columns, "insert into audit (*)", "", "");

        let (arrival, from, to) = self.cursors;
        let columns = vec![("arrival", BIG, arrival.into()), ("before", INT, from.into()), ("after", INT, to.into())];
        let update = "update unfolding set cursor = u.after <from> where unfolding.arrival = u.arrival and cursor = u.before";
        sql.over("unfolding_on", columns, update, "", "");
        let (arrival, messages) = self.unfolded;
        let columns = vec![("id", BIG, arrival.clone().into()), ("messages", INT, messages.into())];
        let update = "update arrival set messages = u.messages, \
                      verdict = case arrival.verdict when 'unfolding' then 'taken' else arrival.verdict end <from> where arrival.id = u.id";
        sql.over("unfolded", columns, update, "", "");
        let columns = vec![("arrival", BIG, arrival.into())];
        sql.over(
            "unfolding_done",
            columns,
            "delete from unfolding using (select u.arrival <from>) as u where unfolding.arrival = u.arrival",
            "",
            "",
        );

        let (connection, says, since) = self.held;
        let columns = vec![("connection", TEXT, connection.into()), ("says", TEXT, says.into()), ("since", BIG, since.into())];
        sql.over("held", columns, "insert into hold (*)", "", "on conflict (connection) do update set says = excluded.says");
        let columns = vec![("connection", TEXT, self.freed.into())];
        sql.over(
            "freed",
            columns,
            "delete from hold using (select u.connection <from>) as u where hold.connection = u.connection",
            "",
            "",
        );
        Ok(())
    }
}

/// Text that PostgreSQL takes: without NUL.
pub fn clean(text: &str) -> String {
    if text.contains('\0') { text.replace('\0', "\u{FFFD}") } else { text.to_owned() }
}

/// The number under which a range of group `no` is written: unique for every range of every group, and the same when
/// the group is given again.
pub fn number(no: u64, range: &std::ops::Range<usize>) -> i64 {
    (no as i64) * 1_000_000 + (range.start as i64) * 1000 + range.len() as i64
}

/// Writes ops one half at a time until the refused ones stand alone.
pub async fn write_halving(
    db: &impl ConnectionTrait,
    me: Me,
    no: u64,
    ops: &[Op],
    in_doubt: bool,
    now: Timestamp,
    mint: &mut (dyn FnMut() -> Id + Send),
) -> Result<Vec<OpResult>, JournalError> {
    let mut results = vec![OpResult::Committed; ops.len()];
    let mut ranges = vec![0..ops.len()];
    while let Some(range) = ranges.pop() {
        let number = number(no, &range);
        if in_doubt && was_written(db, me, number).await? {
            continue;
        }
        match write(db, me, number, &ops[range.clone()], now, mint).await {
            Ok(()) => {}
            Err(JournalError::Refused(says)) if range.len() == 1 => results[range.start] = OpResult::Refused(says),
            Err(JournalError::Refused(_)) => {
                let middle = range.start + range.len() / 2;
                ranges.push(middle..range.end);
                ranges.push(range.start..middle);
            }
            Err(other) => return Err(other),
        }
    }
    Ok(results)
}
