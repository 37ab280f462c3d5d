//! Folds milestone facts into timelines, after a cursor: one process changes timeline rows, messages only append facts.

use crate::error::JournalError;
use crate::pack::pack;
use crate::writer::{PgJournal, sql};
use sea_orm::{ConnectionTrait, DbErr, QueryResult, TransactionTrait};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::time::{Duration, Instant};
use wirewatch_core::plan::{Fact, Mark, fold};
use wirewatch_core::{ArrivalId, Id, Timestamp};

/// Advisory lock of the one who changes timeline rows.
const TIMELINE_LOCK: i64 = 0x0054_5241_494C;
/// Facts folded at a time.
const BATCH: i64 = 2000;
/// Shortest and longest time that facts are gathered.
const SOONEST: Duration = Duration::from_millis(50);
const LATEST: Duration = Duration::from_secs(1);
/// Interval at which facts of other processes are looked for: while there are other processes, and otherwise.
const SOON: Duration = Duration::from_secs(1);
const ALONE: Duration = Duration::from_secs(15);

/// The columns that [`fact`] reads.
const FACT: &str = "plan, partner, key, milestone, mark, message, arrival, at";

fn fact(row: &QueryResult) -> Result<Fact, DbErr> {
    let mark: String = row.try_get_by_index(4)?;
    Ok(Fact {
        plan: row.try_get_by_index(0)?,
        partner: row.try_get_by_index(1)?,
        key: row.try_get_by_index(2)?,
        milestone: row.try_get_by_index(3)?,
        mark: Mark::ALL.into_iter().find(|known| known.as_str() == mark).unwrap_or_default(),
        message: Id(row.try_get_by_index(5)?),
        arrival: Id(row.try_get_by_index(6)?),
        at: Timestamp(row.try_get_by_index(7)?),
    })
}

/// Identity of a timeline: plan, partner, key.
type TimelineKey = (String, String, String);

fn timeline_key(row: &QueryResult) -> Result<TimelineKey, DbErr> {
    Ok((row.try_get_by_index(0)?, row.try_get_by_index(1)?, row.try_get_by_index(2)?))
}

impl PgJournal {
    /// Folds what comes, as it comes. Never ends.
    pub async fn fold_timelines(&self) {
        let wake = self.committed();
        let mut done: BTreeSet<i16> = BTreeSet::new();
        loop {
            let woken = wake.notified();
            let begun = Instant::now();
            let folded = self.fold_all(&mut done).await;
            if let Err(error) = &folded {
                tracing::warn!(%error, "timelines are behind");
            }
            if let Ok(true) = folded {
                continue;
            }
            let took = begun.elapsed();
            // Woken by the next commit of this process; commits of others are looked for, and a failed fold is tried again.
            let rest = if self.is_together() || folded.is_err() { SOON } else { ALONE };
            let _ = tokio::time::timeout(rest, woken).await;
            // A burst of commits becomes one fold, and folding never takes more than a fifth of the time.
            tokio::time::sleep((took * 4).clamp(SOONEST, LATEST)).await;
        }
    }

    /// Folds what every writer has left; `true` when there is more. `done` collects writers that have ended and have
    /// nothing left.
    async fn fold_all(&self, done: &mut BTreeSet<i16>) -> Result<bool, JournalError> {
        let mut more = false;
        for row in self.db.query_all_raw(sql("select id, lease_until = 0 from writer order by id", [])).await? {
            let (writer, ended): (i16, bool) = (row.try_get_by_index(0)?, row.try_get_by_index(1)?);
            if done.contains(&writer) {
                continue;
            }
            let full = self.fold_some(writer).await?;
            more |= full;
            if ended && !full {
                done.insert(writer);
            }
        }
        Ok(more)
    }

    /// Folds the next facts of one writer; `true` when there is more.
    async fn fold_some(&self, writer: i16) -> Result<bool, JournalError> {
        let transaction = self.db.begin().await?;
        // One process at a time changes timeline rows.
        transaction.execute_raw(sql("select pg_advisory_xact_lock($1)", [TIMELINE_LOCK.into()])).await?;
        let text = "select plan, partner, key, arrival, id from fact where ((id >> 12) & 1023) = $1::bigint
            and id > coalesce((select fact from timeline_cursor where writer = $1::smallint), 0) order by id limit $2";
        let fresh = transaction.query_all_raw(sql(text, [writer.into(), BATCH.into()])).await?;
        let Some(last) = fresh.last() else {
            transaction.rollback().await?;
            return Ok(false);
        };
        let newest: i64 = last.try_get_by_index(4)?;
        let mut touched: BTreeSet<TimelineKey> = BTreeSet::new();
        let mut whole: Vec<i64> = Vec::new();
        for row in &fresh {
            let key = timeline_key(row)?;
            match key.2.is_empty() {
                true => whole.push(row.try_get_by_index(3)?),
                false => drop(touched.insert(key)),
            }
        }
        if !whole.is_empty() {
            let text = "select plan, partner, key from timeline where arrival = any($1::bigint[])";
            for row in transaction.query_all_raw(sql(text, [whole.into()])).await? {
                touched.insert(timeline_key(&row)?);
            }
        }
        self.fold_keys(&transaction, touched).await?;
        let text = "insert into timeline_cursor values ($1, $2) on conflict (writer) do update set fact = excluded.fact";
        transaction.execute_raw(sql(text, [writer.into(), newest.into()])).await?;
        transaction.commit().await?;
        Ok(fresh.len() as i64 == BATCH)
    }

    async fn fold_keys(&self, db: &impl ConnectionTrait, touched: BTreeSet<TimelineKey>) -> Result<(), JournalError> {
        let column = |pick: fn(&TimelineKey) -> &String| touched.iter().map(pick).cloned().collect::<Vec<String>>();
        let (plans, partners, keys) = (column(|t| &t.0), column(|t| &t.1), column(|t| &t.2));
        // `offset 0` forces an index lookup per key: without statistics of a young table the server would read all of it.
        let text = format!(
            "select {FACT} from unnest($1::text[], $2::text[], $3::text[]) as u(c, p, k)
            cross join lateral (select * from fact where key = u.k and partner = u.p and plan = u.c offset 0) as f"
        );
        let mut by_timeline: BTreeMap<TimelineKey, Vec<Fact>> = BTreeMap::new();
        for row in db.query_all_raw(sql(&text, [plans.into(), partners.into(), keys.into()])).await? {
            by_timeline.entry(timeline_key(&row)?).or_default().push(fact(&row)?);
        }
        let arrivals: BTreeSet<i64> = by_timeline.values().flatten().map(|fact| fact.arrival.0).collect();
        let arrivals: Vec<i64> = arrivals.into_iter().collect();
        let text = format!("select {FACT} from fact where key = '' and arrival = any($1::bigint[])");
        let mut of_arrival: HashMap<ArrivalId, Vec<Fact>> = HashMap::new();
        for row in db.query_all_raw(sql(&text, [arrivals.into()])).await? {
            let fact = fact(&row)?;
            of_arrival.entry(fact.arrival).or_default().push(fact);
        }
        let mut rows = Rows::default();
        for ((plan, partner, key), mut facts) in by_timeline {
            let of: BTreeSet<ArrivalId> = facts.iter().map(|fact| fact.arrival).collect();
            let shared = of.iter().filter_map(|arrival| of_arrival.get(arrival)).flatten();
            facts.extend(shared.filter(|fact| fact.plan == plan).cloned());
            let (reached, state) = fold(&facts);
            let (Some(first), Some(last)) = (reached.first(), reached.iter().map(|one| one.last).max()) else { continue };
            rows.arrival.push(of.first().map_or(0, |arrival| arrival.0));
            rows.begun.push(first.first.0);
            rows.last.push(last.0);
            rows.state.push(state.as_str().to_owned());
            rows.milestones.push(pack_milestones(&reached)?);
            rows.plan.push(plan);
            rows.partner.push(partner);
            rows.key.push(key);
        }
        let text = "insert into timeline (plan, partner, key, arrival, state, begun, last, milestones)
            select * from unnest($1::text[], $2::text[], $3::text[], $4::bigint[], $5::text[], $6::bigint[], $7::bigint[], $8::bytea[])
            on conflict (plan, partner, key) do update set state = excluded.state, begun = excluded.begun, last = excluded.last,
            milestones = excluded.milestones, arrival = excluded.arrival";
        let values = [
            rows.plan.into(),
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
    plan: Vec<String>,
    partner: Vec<String>,
    key: Vec<String>,
    arrival: Vec<i64>,
    state: Vec<String>,
    begun: Vec<i64>,
    last: Vec<i64>,
    milestones: Vec<Vec<u8>>,
}

fn pack_milestones(reached: &[wirewatch_core::plan::Reached]) -> Result<Vec<u8>, JournalError> {
    let bytes = serde_json::to_vec(reached)?;
    // The first byte says whether the rest is compressed.
    let (packed, stored) = pack(&bytes);
    Ok([&[u8::from(packed)][..], &stored].concat())
}
