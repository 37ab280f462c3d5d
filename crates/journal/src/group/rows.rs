//! The rows that the ops of a group mean, table by table, as columns.

use super::sql::{BIG, BOOL, BYTES, Column, INT, Sql, TEXT};
use super::{clean, head};
use crate::error::JournalError;
use crate::events::{Event, partner};
use crate::pack::pack;
use sea_orm::Value;
use std::collections::{BTreeMap, HashMap};
use wirewatch_core::machine::{LogEntry, Logged, Origin, State};
use wirewatch_core::{Id, Timestamp};
use wirewatch_engine::{Change, Op};

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
        self.head.push(head(origin)?);
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

    fn shared(self) -> (Vec<Column>, [Column; 4]) {
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

/// What a move of an unfinished message changes in `live`.
#[derive(Default)]
struct Moves {
    id: Vec<i64>,
    state: Vec<String>,
    step: Vec<String>,
    tries: Vec<i32>,
    due: Vec<i64>,
    waits_for: Vec<String>,
    reason: Vec<i64>,
    says: Vec<String>,
    result: Vec<String>,
    at: Vec<i64>,
}

impl Moves {
    fn push(&mut self, change: &Change) {
        self.id.push(change.origin.id.0);
        self.state.push(change.state.as_str().to_owned());
        self.step.push(change.step.clone());
        self.tries.push(i32::from(change.tries));
        self.due.push(change.due.map_or(0, |due| due.0));
        self.waits_for.push(change.waits_for.clone());
        self.reason.push(change.reason.as_ref().map_or(0, wirewatch_core::reason::Reason::id));
        self.says.push(clean(&change.says));
        self.result.push(clean(&change.result));
        self.at.push(change.at.0);
    }
}

/// Every row of a group, by table.
#[derive(Default)]
pub struct Rows {
    born: Messages,
    moved: Moves,
    ended: Messages,
    gone_from_live: Vec<i64>,
    gone_from_history: Vec<i64>,
    log: Log,
    facts: Facts,
    reasons: BTreeMap<i64, [String; 5]>,
    tallies: HashMap<(i64, String, String, &'static str), (i64, i64)>,
    audit: Audit,
    cursors: (Vec<i64>, Vec<i32>, Vec<i32>),
    unfolded: (Vec<i64>, Vec<i32>),
    held: (Vec<String>, Vec<String>, Vec<i64>),
    freed: Vec<String>,
}

#[derive(Default)]
struct Log {
    message: Vec<i64>,
    seq: Vec<i32>,
    at: Vec<i64>,
    packed: Vec<bool>,
    entry: Vec<Vec<u8>>,
}

#[derive(Default)]
struct Audit {
    id: Vec<i64>,
    at: Vec<i64>,
    by_whom: Vec<String>,
    act: Vec<String>,
    subject: Vec<i64>,
    why: Vec<String>,
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
    /// Adds the rows that an op means.
    pub fn op(&mut self, op: &Op, mint: &mut (dyn FnMut() -> Id + Send)) -> Result<(), JournalError> {
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
            (false, false) => self.moved.push(change),
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
        self.log.message.push(id.0);
        self.log.seq.push(seq as i32);
        self.log.at.push(entry.at.0);
        self.log.packed.push(packed);
        self.log.entry.push(bytes);
        if let Logged::Act { act, by, why } = &entry.what {
            self.audit.id.push(mint().0);
            self.audit.at.push(entry.at.0);
            self.audit.by_whom.push(clean(by));
            self.audit.act.push(act.past().to_owned());
            self.audit.subject.push(id.0);
            self.audit.why.push(clean(why));
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

    /// Writes every table's rows into the statement.
    pub fn write(self, sql: &mut Sql, number: i64, now: Timestamp, ops: &[Op]) -> Result<(), JournalError> {
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

        let log = self.log;
        let columns = vec![
            ("message", BIG, log.message.into()),
            ("seq", INT, log.seq.into()),
            ("at", BIG, log.at.into()),
            ("packed", BOOL, log.packed.into()),
            ("entry", BYTES, log.entry.into()),
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

        let audit = self.audit;
        let columns = vec![
            ("id", BIG, audit.id.into()),
            ("at", BIG, audit.at.into()),
            ("by_whom", TEXT, audit.by_whom.into()),
            ("act", TEXT, audit.act.into()),
            ("subject", BIG, audit.subject.into()),
            ("why", TEXT, audit.why.into()),
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
