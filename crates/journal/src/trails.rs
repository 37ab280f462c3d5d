//! Folds facts into trails, behind a cursor: one owner changes trail rows, messages only append facts.

use crate::error::JournalError;
use crate::pack::pack;
use crate::writer::{PgJournal, sql};
use sea_orm::{ConnectionTrait, FromQueryResult, TransactionTrait};
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;
use wirewatch_core::course::{Fact, Mark, fold};
use wirewatch_core::{Id, Timestamp};

/// Advisory lock of the one who changes trail rows.
const TRAIL_LOCK: i64 = 0x0054_5241_494C;
/// Facts taken up at a time.
const BATCH: i64 = 2000;

#[derive(Debug, FromQueryResult)]
struct FactRow {
    id: i64,
    course: String,
    partner: String,
    key: String,
    milestone: String,
    mark: String,
    message: i64,
    arrival: i64,
    at: i64,
}

impl FactRow {
    fn fact(&self) -> Fact {
        Fact {
            course: self.course.clone(),
            partner: self.partner.clone(),
            key: self.key.clone(),
            milestone: self.milestone.clone(),
            mark: Mark::ALL.into_iter().find(|mark| mark.as_str() == self.mark).unwrap_or_default(),
            message: Id(self.message),
            arrival: Id(self.arrival),
            at: Timestamp(self.at),
        }
    }
}

impl PgJournal {
    /// Folds what comes, as it comes. Never ends.
    pub async fn fold_trails(&self) {
        let wake = self.committed();
        let mut done: BTreeSet<i16> = BTreeSet::new();
        loop {
            let woken = wake.notified();
            match self.fold_all(&mut done).await {
                Ok(true) => continue,
                Ok(false) => {}
                Err(error) => tracing::warn!(%error, "trails are behind"),
            }
            // Woken by the next commit; the second is for commits of other processes.
            let _ = tokio::time::timeout(Duration::from_secs(1), woken).await;
            // A burst of commits becomes one fold.
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Folds what every writer has left; `true` when there may be more. `done` collects writers that have ended
    /// and have nothing left.
    async fn fold_all(&self, done: &mut BTreeSet<i16>) -> Result<bool, JournalError> {
        let mut more = false;
        for row in self.db.query_all_raw(sql("select id, lease_until = 0 from writer order by id", [])).await? {
            let (writer, ended): (i16, bool) = (row.try_get_by_index(0)?, row.try_get_by_index(1)?);
            if done.contains(&writer) {
                continue;
            }
            let some = self.fold_some(writer).await?;
            more |= some;
            if ended && !some {
                done.insert(writer);
            }
        }
        Ok(more)
    }

    /// Folds the next facts of one writer; `true` when there was something.
    async fn fold_some(&self, writer: i16) -> Result<bool, JournalError> {
        let transaction = self.db.begin().await?;
        // One folder at a time changes trail rows.
        transaction.execute_raw(sql("select pg_advisory_xact_lock($1)", [TRAIL_LOCK.into()])).await?;
        let text = "select * from fact where ((id >> 12) & 1023) = $1::bigint
            and id > coalesce((select fact from trail_cursor where writer = $1::smallint), 0) order by id limit $2";
        let fresh = FactRow::find_by_statement(sql(text, [writer.into(), BATCH.into()])).all(&transaction).await?;
        if fresh.is_empty() {
            transaction.rollback().await?;
            return Ok(false);
        }
        let mut touched: BTreeSet<(String, String, String)> = BTreeSet::new();
        let mut whole: Vec<i64> = Vec::new();
        for fact in &fresh {
            match fact.key.is_empty() {
                true => whole.push(fact.arrival),
                false => drop(touched.insert((fact.course.clone(), fact.partner.clone(), fact.key.clone()))),
            }
        }
        if !whole.is_empty() {
            let text = "select course, partner, key from trail where arrival = any($1::bigint[])";
            for row in transaction.query_all_raw(sql(text, [whole.into()])).await? {
                touched.insert((row.try_get_by_index(0)?, row.try_get_by_index(1)?, row.try_get_by_index(2)?));
            }
        }
        self.fold_keys(&transaction, touched).await?;
        let newest = fresh.last().map_or(0, |fact| fact.id);
        let text = "insert into trail_cursor values ($1, $2) on conflict (writer) do update set fact = excluded.fact";
        transaction.execute_raw(sql(text, [writer.into(), newest.into()])).await?;
        transaction.commit().await?;
        Ok(true)
    }

    async fn fold_keys(
        &self,
        db: &impl ConnectionTrait,
        touched: BTreeSet<(String, String, String)>,
    ) -> Result<(), JournalError> {
        let column = |pick: fn(&(String, String, String)) -> &String| touched.iter().map(pick).cloned().collect::<Vec<String>>();
        let (courses, partners, keys) = (column(|t| &t.0), column(|t| &t.1), column(|t| &t.2));
        let text = "select f.* from unnest($1::text[], $2::text[], $3::text[]) as u(course, partner, key)
            join fact f on f.course = u.course and f.partner = u.partner and f.key = u.key and f.key <> ''";
        let own = FactRow::find_by_statement(sql(text, [courses.into(), partners.into(), keys.into()])).all(db).await?;
        let arrivals: BTreeSet<i64> = own.iter().map(|fact| fact.arrival).collect();
        let arrivals: Vec<i64> = arrivals.into_iter().collect();
        let text = "select * from fact where key = '' and arrival = any($1::bigint[])";
        let shared = FactRow::find_by_statement(sql(text, [arrivals.into()])).all(db).await?;
        let mut by_trail: BTreeMap<(String, String, String), Vec<Fact>> = BTreeMap::new();
        for fact in &own {
            by_trail.entry((fact.course.clone(), fact.partner.clone(), fact.key.clone())).or_default().push(fact.fact());
        }
        let mut rows = Rows::default();
        for ((course, partner, key), mut facts) in by_trail {
            let of: BTreeSet<i64> = facts.iter().map(|fact| fact.arrival.0).collect();
            facts.extend(shared.iter().filter(|fact| of.contains(&fact.arrival) && fact.course == course).map(FactRow::fact));
            let (reached, state) = fold(&facts);
            let (Some(first), Some(last)) = (reached.first(), reached.iter().map(|one| one.last).max()) else { continue };
            rows.arrival.push(of.first().copied().unwrap_or(0));
            rows.begun.push(first.first.0);
            rows.last.push(last.0);
            rows.state.push(state.as_str().to_owned());
            rows.milestones.push(pack_milestones(&reached)?);
            rows.course.push(course);
            rows.partner.push(partner);
            rows.key.push(key);
        }
        let text = "insert into trail (course, partner, key, arrival, state, begun, last, milestones)
            select * from unnest($1::text[], $2::text[], $3::text[], $4::bigint[], $5::text[], $6::bigint[], $7::bigint[], $8::bytea[])
            on conflict (course, partner, key) do update set state = excluded.state, begun = excluded.begun, last = excluded.last,
            milestones = excluded.milestones, arrival = excluded.arrival";
        let values = [
            rows.course.into(),
            rows.partner.into(),
            rows.key.into(),
            rows.arrival.into(),
            rows.state.into(),
            rows.begun.into(),
            rows.last.into(),
            rows.milestones.into(),
        ];
        db.execute_raw(sql(text, values)).await?;
        Ok(())
    }
}

#[derive(Default)]
struct Rows {
    course: Vec<String>,
    partner: Vec<String>,
    key: Vec<String>,
    arrival: Vec<i64>,
    state: Vec<String>,
    begun: Vec<i64>,
    last: Vec<i64>,
    milestones: Vec<Vec<u8>>,
}

fn pack_milestones(reached: &[wirewatch_core::course::Reached]) -> Result<Vec<u8>, JournalError> {
    let bytes = serde_json::to_vec(reached)?;
    // The first byte says whether the rest is compressed.
    let (packed, stored) = pack(&bytes);
    Ok([&[u8::from(packed)][..], &stored].concat())
}
