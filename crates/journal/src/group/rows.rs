//! The rows that ops mean, table by table.

use super::columns;
use super::sql::{Rows, Sql};
use super::{clean, head};
use crate::error::JournalError;
use crate::events::{Event, partner};
use crate::pack::{pack, pieces};
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use wirewatch_core::machine::{LogEntry, Logged, Origin};
use wirewatch_core::plan::Fact;
use wirewatch_core::reason::Reason;
use wirewatch_core::{Id, Timestamp};
use wirewatch_engine::{Change, Hold, NewMessage, Op, Piece, Shards, Split, shard_of};

/// A reason that was not seen for this time, a day, is a new one when it is seen again.
const AWAY_US: i64 = 24 * 3600 * 1_000_000;

/// Every row of a group.
#[derive(Debug)]
pub struct GroupRows {
    /// The shards of the process that writes.
    own: Shards,
    /// Messages in shards of others.
    handed: Rows,
    bodies: Rows,
    born: Rows,
    moved: Rows,
    ended: Rows,
    /// Messages that had ended before and ended again at once.
    ended_again: Rows,
    left_live: Rows,
    left_history: Rows,
    log: Rows,
    facts: Rows,
    /// With the first and the last time of each.
    reasons: BTreeMap<i64, (Reason, Timestamp, Timestamp)>,
    tallies: HashMap<(i64, String, String, &'static str), (i64, i64)>,
    audit: Rows,
    cursors: Rows,
    split: Rows,
    closed: Rows,
    held: Rows,
    freed: Rows,
}

impl GroupRows {
    /// No rows yet, by a process with these shards.
    pub fn new(own: Shards) -> Self {
        Self {
            own,
            handed: Rows::of(columns::HANDED),
            bodies: Rows::of(columns::BODY),
            born: Rows::of(columns::LIVE),
            moved: Rows::of(columns::MOVED),
            ended: Rows::of(columns::ENDED),
            ended_again: Rows::of(columns::ENDED),
            left_live: Rows::of(columns::ID),
            left_history: Rows::of(columns::ID),
            log: Rows::of(columns::LOG),
            facts: Rows::of(columns::FACT),
            reasons: BTreeMap::new(),
            tallies: HashMap::new(),
            audit: Rows::of(columns::AUDIT),
            cursors: Rows::of(columns::CURSOR),
            split: Rows::of(columns::SPLIT),
            closed: Rows::of(columns::ID),
            held: Rows::of(columns::HOLD),
            freed: Rows::of(columns::FREED),
        }
    }

    /// Adds the rows of an op.
    pub fn op(&mut self, op: &Op, mint: &mut (dyn FnMut() -> Id + Send)) -> Result<(), JournalError> {
        match op {
            Op::Change(change) => self.change(change, mint),
            Op::Split(split) => self.split(split, mint),
            Op::Hold(Hold { connection, since, says, by }) => {
                self.held.push([connection.clone().into(), clean(says).into(), since.0.into(), clean(by).into()]);
                Ok(())
            }
            Op::Resolve(settle) => {
                self.closed.push([settle.arrival.0.into()]);
                Ok(())
            }
            Op::Resume { connection, by_person, .. } => {
                self.freed.push([connection.clone().into(), (*by_person).into()]);
                Ok(())
            }
        }
    }

    /// A body in pieces.
    pub fn body(&mut self, id: Id, pieces: impl IntoIterator<Item = Piece>) {
        for (n, Piece { packed, bytes }) in pieces.into_iter().enumerate() {
            self.bodies.push([id.0.into(), (n as i32).into(), packed.into(), bytes.into()]);
        }
    }

    /// Adds the rows of a message that is created.
    pub fn born(
        &mut self,
        origin: &Arc<Origin>,
        key: &str,
        result: &str,
        order_key: &str,
        at: Timestamp,
    ) -> Result<(), JournalError> {
        let change = Change {
            key: key.to_owned(),
            result: result.to_owned(),
            order_key: order_key.to_owned(),
            ..Change::blank(origin.clone(), at)
        };
        self.add_live(&change)
    }

    fn add_live(&mut self, change: &Change) -> Result<(), JournalError> {
        let shard = shard_of(change.origin.id, &change.origin.flow, &change.order_key);
        if !self.own.has(shard) {
            self.handed.push([i32::from(shard).into(), change.origin.id.0.into()]);
        }
        self.born.push(
            origin_cells(change)?.into_iter().chain(state_cells(change)).chain([change.at.0.into(), i32::from(shard).into()]),
        );
        Ok(())
    }

    fn add_history(&mut self, change: &Change) -> Result<(), JournalError> {
        let more = [change.state.as_str().into(), change.step.clone().into(), clean(&change.says).into(), change.at.0.into()];
        let ended = if change.reopened { &mut self.ended_again } else { &mut self.ended };
        ended.push(origin_cells(change)?.into_iter().chain(more));
        Ok(())
    }

    fn move_live(&mut self, change: &Change) {
        let more = [change.at.0.into(), clean(&change.result).into()];
        self.moved.push([change.origin.id.0.into()].into_iter().chain(state_cells(change)).chain(more));
    }

    /// Adds a created message with its milestone facts; one that has ended goes into history at once.
    pub fn new_message(
        &mut self,
        message: &NewMessage,
        at: Timestamp,
        mint: &mut (dyn FnMut() -> Id + Send),
    ) -> Result<(), JournalError> {
        self.facts(&message.facts, mint);
        match &message.ended {
            None => self.born(&message.origin, &message.key, "", &message.order_key, at),
            Some(ended) => {
                self.add_history(ended)?;
                self.outcome_of(ended, mint)
            }
        }
    }

    fn split(&mut self, split: &Split, mint: &mut (dyn FnMut() -> Id + Send)) -> Result<(), JournalError> {
        for message in &split.messages {
            self.new_message(message, split.at, mint)?;
        }
        let (from, to) = (split.from as i32, split.to as i32);
        match split.last {
            true => self.split.push([split.arrival.0.into(), to.into()]),
            false => self.cursors.push([split.arrival.0.into(), from.into(), to.into()]),
        }
        Ok(())
    }

    fn change(&mut self, change: &Change, mint: &mut (dyn FnMut() -> Id + Send)) -> Result<(), JournalError> {
        let id = change.origin.id;
        match (change.state.is_final(), change.reopened) {
            (true, false) => {
                self.add_history(change)?;
                self.left_live.push([id.0.into()]);
            }
            (true, true) => self.add_history(change)?,
            (false, true) => {
                self.add_live(change)?;
                self.left_history.push([id.0.into()]);
            }
            (false, false) => self.move_live(change),
        }
        self.outcome_of(change, mint)
    }

    /// Adds the rows of a change besides the state of the message.
    fn outcome_of(&mut self, change: &Change, mint: &mut (dyn FnMut() -> Id + Send)) -> Result<(), JournalError> {
        if let Some((seq, entry)) = &change.entry {
            self.entry(change.origin.id, *seq, entry, mint)?;
        }
        if let Some(reason) = &change.reason {
            let (_, first, last) = self.reasons.entry(reason.id()).or_insert_with(|| (reason.clone(), change.at, change.at));
            (*first, *last) = (change.at.min(*first), change.at.max(*last));
        }
        for passed in &change.passed {
            let hour = change.at.0 / 3_600_000_000;
            let cell = (hour, change.origin.flow.clone(), passed.step.clone(), passed.how.as_str());
            let (n, took) = self.tallies.entry(cell).or_default();
            *n += 1;
            // Steps that only compute are counted with the effect before or after them; the duration is the effect's alone.
            if change.tried() == Some(passed.step.as_str()) {
                *took += change.took as i64;
            }
        }
        self.facts(&change.facts, mint);
        for part in &change.parts {
            self.body(part.message.origin.id, pieces(&part.document));
            self.new_message(&part.message, change.at, mint)?;
        }
        Ok(())
    }

    fn entry(&mut self, id: Id, seq: u32, entry: &LogEntry, mint: &mut (dyn FnMut() -> Id + Send)) -> Result<(), JournalError> {
        let (packed, bytes) = pack(&serde_json::to_vec(entry)?);
        self.log.push([id.0.into(), (seq as i32).into(), entry.at.0.into(), packed.into(), bytes.into()]);
        if let Logged::Act { act, by, why } = &entry.what {
            let (act, by, why) = (act.past().into(), clean(by).into(), clean(why).into());
            self.audit.push([mint().0.into(), entry.at.0.into(), by, act, id.0.into(), why]);
        }
        Ok(())
    }

    fn facts(&mut self, facts: &[Fact], mint: &mut (dyn FnMut() -> Id + Send)) {
        for fact in facts {
            self.facts.push([
                mint().0.into(),
                fact.plan.clone().into(),
                fact.partner.clone().into(),
                clean(&fact.key).into(),
                fact.milestone.clone().into(),
                fact.mark.as_str().into(),
                fact.message.0.into(),
                fact.arrival.0.into(),
                fact.at.0.into(),
            ]);
        }
    }

    /// Writes every table's rows, and the events, into the statement.
    pub fn write(self, sql: &mut Sql, number: i64, now: Timestamp, events: &[&Event]) -> Result<(), JournalError> {
        let (packed, events) = pack(&serde_json::to_vec(events)?);
        let (number, at) = (sql.arg(number, "bigint"), sql.arg(now.0, "bigint"));
        let (packed, events) = (sql.arg(packed, "bool"), sql.arg(events, "bytea"));
        sql.part("fed", &format!("insert into feed select me.id, {number}, {at}, {packed}, {events} from me"));
        let (reasons, tallies) = (self.reason_rows(), self.tally_rows());
        sql.insert("body", self.bodies, &[], "");
        sql.insert("live", self.born, &[], "");
        sql.insert("handed", self.handed, &[], "");
        sql.over(
            "moved",
            self.moved,
            "update live set state = u.state, step = u.step, tries = u.tries, due = u.due, waits_for = u.waits_for, \
             reason = u.reason, says = u.says, result = u.result, at = u.at, picked_up = 0 <from> where live.id = u.id",
        );
        sql.over("left_live", self.left_live, "delete from live using (select u.id <from>) as u where live.id = u.id");
        sql.over(
            "left_history",
            self.left_history,
            "delete from message using (select u.id <from>) as u where message.id = u.id",
        );
        sql.insert("message", self.ended, &[], "");
        sql.over(
            "ended_again",
            self.ended_again,
            "update message set key = u.key, result = u.result, state = u.state, step = u.step, says = u.says, at = u.at <from> \
             where message.id = u.id",
        );
        sql.insert("log", self.log, &[], "");
        sql.insert("fact", self.facts, &[], "");
        sql.insert(
            "reason",
            reasons,
            &[],
            &format!(
                "on conflict (id) do update set last = greatest(reason.last, excluded.last), \
                 first = case when reason.last < excluded.first - {AWAY_US} then excluded.first else reason.first end"
            ),
        );
        sql.insert(
            "tally",
            tallies,
            &[("writer", "me.id")],
            "on conflict (hour, flow, step, outcome, writer) do update set n = tally.n + excluded.n, took = tally.took + excluded.took",
        );
        sql.insert("audit", self.audit, &[], "");
        sql.over(
            "splitting_on",
            self.cursors,
            "update splitting set cursor = u.after <from> where splitting.arrival = u.arrival and cursor = u.before",
        );
        let done = "delete from splitting using (select u.id <from>) as u where splitting.arrival = u.id";
        sql.over("splitting_done", self.split.clone(), done);
        sql.over(
            "split",
            self.split,
            "update arrival set messages = u.messages, \
             verdict = case arrival.verdict when 'splitting' then 'received' else arrival.verdict end <from> where arrival.id = u.id",
        );
        sql.over(
            "resolved",
            self.closed,
            "update arrival set verdict = 'resolved' <from> where arrival.id = u.id and verdict = 'failed'",
        );
        sql.insert(
            "hold",
            self.held,
            &[],
            "on conflict (connection) do update set says = excluded.says, by_whom = excluded.by_whom \
             where hold.by_whom = '' or excluded.by_whom <> ''",
        );
        sql.over(
            "freed",
            self.freed,
            "delete from hold using (select u.connection, u.by_person <from>) as u \
             where hold.connection = u.connection and (u.by_person or hold.by_whom = '')",
        );
        Ok(())
    }

    fn reason_rows(&self) -> Rows {
        let mut rows = Rows::of(columns::REASON);
        for (id, (reason, first, last)) in &self.reasons {
            let Reason { flow, step, connection, code, says } = reason;
            rows.push([
                (*id).into(),
                clean(flow).into(),
                clean(step).into(),
                clean(connection).into(),
                code.to_string().into(),
                clean(says).into(),
                first.0.into(),
                last.0.into(),
            ]);
        }
        rows
    }

    /// Rows in a fixed order, so that two processes never wait for each other's row locks.
    fn tally_rows(&self) -> Rows {
        let mut tallies: Vec<_> = self.tallies.iter().collect();
        tallies.sort();
        let mut rows = Rows::of(columns::TALLY);
        for ((hour, flow, step, how), (n, took)) in tallies {
            rows.push([(*hour).into(), flow.clone().into(), step.clone().into(), (*how).into(), (*n).into(), (*took).into()]);
        }
        rows
    }
}

/// Returns the cells of [`columns`] for the state of an unfinished message.
fn state_cells(change: &Change) -> [sea_orm::Value; 7] {
    [
        change.state.as_str().into(),
        change.step.clone().into(),
        i32::from(change.tries).into(),
        change.due.map_or(0, |due| due.0).into(),
        change.waits_for.clone().into(),
        change.reason.as_ref().map_or(0, Reason::id).into(),
        clean(&change.says).into(),
    ]
}

/// Returns the first cells of `live` and `message`: origin and keys of a message.
fn origin_cells(change: &Change) -> Result<[sea_orm::Value; 12], JournalError> {
    let origin = &change.origin;
    Ok([
        origin.id.0.into(),
        origin.arrival.0.into(),
        origin.body.0.into(),
        (origin.slice.start as i64).into(),
        (origin.slice.end as i64).into(),
        origin.flow.clone().into(),
        origin.release.into(),
        partner(&origin.meta).into(),
        head(origin)?.into(),
        clean(&change.key).into(),
        clean(&change.result).into(),
        clean(&change.order_key).into(),
    ])
}
