//! Processes that share the database: which are running, which shards they own, and what one leaves to another.
//!
//! A process is a row of `writer` with a lease and a session lock. A process that finds another ended changes that one's `epoch`,
//! which every group checks, and only then takes over its shards, splittings and leases. Giving shards away changes the giver's
//! `turn`, which its groups check too: what it commits afterwards for such a shard is handed over.

mod overhear;
mod remote_acts;

use crate::error::JournalError;
use crate::group::Me;
use crate::load::{FOUND, recovered};
use crate::writer::{LEASE, LOCK, PgJournal, sql};
use sea_orm::{ConnectionTrait, DatabaseConnection, DatabaseTransaction, TransactionTrait};
use std::collections::BTreeSet;
use std::sync::Mutex;
use std::time::{Duration, Instant};
use wirewatch_core::{Id, MessageId};
use wirewatch_engine::{Others, SHARDS, Shards, home_of};

/// Advisory lock for changing the list of processes.
const ROLL_LOCK: i64 = 0x5749_524F;
/// The database's clock in microseconds: leases of several machines are compared by it alone.
pub(crate) const NOW: &str = "(extract(epoch from clock_timestamp()) * 1000000)::bigint";
/// Interval at which ended processes are looked for.
const ROLL_CALL: Duration = Duration::from_secs(1);

/// A process that shares the work.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProcessRow {
    pub writer: i16,
    /// Name of the process, in words.
    pub process: String,
    /// Shards that are its.
    pub shards: i64,
}

/// Registers this process and takes over the work of those that have ended.
pub(crate) async fn claim(db: &DatabaseConnection, lock: &DatabaseConnection, process: &str) -> Result<Me, JournalError> {
    let roll = roll(db).await?;
    fence(&roll, lock, None).await?;
    // A fresh writer number each time keeps ids distinct even when the clock went back; 1,023 numbers are enough to reuse them in
    // turn.
    let text =
        "select w % 1023 + 1 from (select coalesce((select id from writer order by started desc, id desc limit 1), 0) as w) last";
    let row = roll.query_one_raw(sql(text, [])).await?;
    let mut writer: i32 = row.map(|row| row.try_get_by_index(0)).transpose()?.unwrap_or(1);
    while at_work(&roll).await?.contains(&i16::try_from(writer).unwrap_or(0)) {
        writer = writer % 1023 + 1;
    }
    // Locked before others can see the row.
    lock.query_one_raw(sql("select pg_try_advisory_lock($1)", [lock_of(writer as i16).into()])).await?;
    let text = format!(
        "insert into writer (id, epoch, turn, lease_until, process, started) values ($1, 1, 0, {NOW} + $2, $3, {NOW})
        on conflict (id) do update set epoch = writer.epoch + 1, turn = 0, lease_until = excluded.lease_until,
        process = excluded.process, started = excluded.started returning id, epoch, turn"
    );
    let row = roll.query_one_raw(sql(&text, [(writer as i16).into(), lease().into(), process.into()])).await?;
    let row = row.ok_or_else(|| JournalError::Away("the database returned no writer row".to_owned()))?;
    let mut me = Me {
        writer: row.try_get_by_index(0)?,
        epoch: row.try_get_by_index(1)?,
        turn: row.try_get_by_index(2)?,
        shards: Shards::NONE,
    };
    adopt(&roll, me.writer).await?;
    heal(&roll).await?;
    me.shards = shards_of(&roll, me.writer).await?;
    roll.commit().await?;
    Ok(me)
}

fn lease() -> i64 {
    LEASE.as_micros() as i64
}

pub(crate) fn lock_of(writer: i16) -> i64 {
    LOCK << 16 | i64::from(writer)
}

async fn roll(db: &DatabaseConnection) -> Result<DatabaseTransaction, JournalError> {
    let transaction = db.begin().await?;
    transaction.execute_raw(sql("select pg_advisory_xact_lock($1)", [ROLL_LOCK.into()])).await?;
    Ok(transaction)
}

/// Fences off processes that have ended. A process has ended when its lease is over and the server has been up for at least a
/// lease: while the server was away, nobody could renew. It has also ended when its lock is free, since its connection is gone
/// then, unless the server has restarted and the process had no time to lock again.
async fn fence(roll: &DatabaseTransaction, lock: &DatabaseConnection, me: Option<i16>) -> Result<bool, JournalError> {
    let text = format!(
        "select id, lease_until < {NOW} and {NOW} - $1 > start, lease_until - $1 > start
        from writer, (select (extract(epoch from pg_postmaster_start_time()) * 1000000)::bigint as start) server
        where lease_until > 0 order by id"
    );
    let mut struck = false;
    for row in roll.query_all_raw(sql(&text, [lease().into()])).await? {
        let (id, over, since_start): (i16, bool, bool) =
            (row.try_get_by_index(0)?, row.try_get_by_index(1)?, row.try_get_by_index(2)?);
        if me == Some(id) {
            continue;
        }
        if over || (since_start && is_free(lock, id).await?) {
            let text = "update writer set epoch = epoch + 1, lease_until = 0 where id = $1";
            roll.execute_raw(sql(text, [id.into()])).await?;
            struck = true;
        }
    }
    Ok(struck)
}

async fn is_free(lock: &DatabaseConnection, writer: i16) -> Result<bool, JournalError> {
    let key = lock_of(writer);
    let row = lock.query_one_raw(sql("select pg_try_advisory_lock($1)", [key.into()])).await?;
    let free: bool = row.map(|row| row.try_get_by_index(0)).transpose()?.unwrap_or(false);
    if free {
        lock.execute_raw(sql("select pg_advisory_unlock($1)", [key.into()])).await?;
    }
    Ok(free)
}

/// Renews the lease of a process; returns whether it was over. `None` when another process has taken over.
pub(crate) async fn renew_lease(db: &impl ConnectionTrait, me: Me) -> Result<Option<bool>, JournalError> {
    let text = format!(
        "with before as (select lease_until < {NOW} as over from writer where id = $1 and epoch = $2 for update)
        update writer set lease_until = {NOW} + $3 from before where id = $1 returning before.over"
    );
    let row = db.query_one_raw(sql(&text, [me.writer.into(), me.epoch.into(), lease().into()])).await?;
    Ok(row.map(|row| row.try_get_by_index(0)).transpose()?)
}

/// Takes over what belongs to nobody at work.
async fn adopt(roll: &DatabaseTransaction, me: i16) -> Result<bool, JournalError> {
    let orphaned = "not in (select id from writer where lease_until > 0)";
    let mut adopted = false;
    for text in [
        format!("update shard set writer = $1 where writer {orphaned}"),
        format!("update splitting set writer = $1 where writer {orphaned}"),
        format!("update spool set writer = $1 where writer {orphaned}"),
    ] {
        adopted |= roll.execute_raw(sql(&text, [me.into()])).await?.rows_affected() > 0;
    }
    Ok(adopted)
}

/// Puts messages stored before shards existed into their shards.
async fn heal(roll: &DatabaseTransaction) -> Result<(), JournalError> {
    let rows = roll.query_all_raw(sql("select id, flow, order_key from live where shard < 0", [])).await?;
    let (mut ids, mut shards) = (Vec::with_capacity(rows.len()), Vec::with_capacity(rows.len()));
    for row in rows {
        let (id, flow, order_key): (i64, String, String) =
            (row.try_get_by_index(0)?, row.try_get_by_index(1)?, row.try_get_by_index(2)?);
        ids.push(id);
        shards.push(i32::from(wirewatch_engine::shard_of(Id(id), &flow, &order_key)));
    }
    if !ids.is_empty() {
        let text =
            "update live set shard = u.shard::smallint from unnest($1::bigint[], $2::int[]) as u(id, shard) where live.id = u.id";
        roll.execute_raw(sql(text, [ids.into(), shards.into()])).await?;
    }
    Ok(())
}

async fn at_work(db: &impl ConnectionTrait) -> Result<Vec<i16>, JournalError> {
    let rows = db.query_all_raw(sql("select id from writer where lease_until > 0 order by id", [])).await?;
    rows.iter().map(|row| Ok(row.try_get_by_index(0)?)).collect()
}

async fn shards_of(db: &impl ConnectionTrait, writer: i16) -> Result<Shards, JournalError> {
    let rows = db.query_all_raw(sql("select no from shard where writer = $1", [writer.into()])).await?;
    let numbers = rows.iter().map(|row| row.try_get_by_index::<i16>(0)).collect::<Result<Vec<_>, _>>()?;
    Ok(numbers.into_iter().filter_map(|no| u16::try_from(no).ok()).collect())
}

/// The processes at work, as one of them sees them.
struct Members {
    writers: Vec<i16>,
    /// Own shards.
    shards: Shards,
    /// Some shards belong to a process that has ended.
    left_behind: bool,
    /// The own lease is over: the process was away, and nobody has taken over yet.
    lease_over: bool,
}

impl Members {
    /// Returns whether it is the only process and owns everything.
    fn is_complete(&self, me: i16) -> bool {
        !self.left_behind && self.writers.iter().all(|writer| *writer == me)
    }
}

impl PgJournal {
    /// Reads the state of the other processes, and takes over from those that have ended.
    pub(crate) async fn look_at_others(&self) -> Result<Others, JournalError> {
        let me = self.me();
        let mut members = self.members(me.writer).await?;
        let mut took_over = false;
        let roll_due = self.roll_called.lock().expect("no holder panics").is_none_or(|at: Instant| at.elapsed() >= ROLL_CALL);
        if roll_due && !members.is_complete(me.writer) {
            if members.lease_over {
                self.renew().await?;
            }
            took_over = self.call_roll(me.writer).await?;
            *self.roll_called.lock().expect("no holder panics") = Some(Instant::now());
            members = self.members(me.writer).await?;
        }
        let Members { writers, shards, .. } = members;
        let any = writers.iter().any(|writer| *writer != me.writer);
        let mut others = Others { any, shards, ..Others::default() };
        self.together.store(any, std::sync::atomic::Ordering::Relaxed);
        // Messages created for shards that are not loaded yet are handed over, also by a single process; the last of them after
        // the look that loads the shards.
        let apart = shards != self.me().shards;
        let was_apart = self.apart.swap(apart, std::sync::atomic::Ordering::Relaxed);
        if any || took_over || apart || was_apart {
            let (adopted, spools) = (self.adopted("arrival", "splitting").await?, self.adopted("id", "spool").await?);
            let handed = self.handed(shards).await?;
            others.due = due(me, &writers);
            others.holds = Some(crate::load::holds(&self.db).await?);
            others.remote_acts = self.remote_acts(shards).await?;
            // Nothing fails after this point: what is marked as reported is reported.
            others.splittings = adopted.into_iter().filter(|arrival| newly_reported(&self.reported, *arrival)).collect();
            others.spools = spools.into_iter().filter(|id| newly_reported(&self.reported, *id)).collect();
            let fresh = handed.into_iter().filter(|(seq, _)| newly_reported(&self.reported_handed, *seq));
            others.handed = fresh.map(|(_, found)| found).collect();
        }
        Ok(others)
    }

    /// Reads the list of processes in one query: it runs every second, also in a single process.
    async fn members(&self, me: i16) -> Result<Members, JournalError> {
        let text = format!(
            "select array(select id from writer where lease_until > 0 order by id),
            array(select no from shard where writer = $1),
            exists (select 1 from shard where writer not in (select id from writer where lease_until > 0)),
            exists (select 1 from writer where id = $1 and lease_until < {NOW})"
        );
        let row = self.db.query_one_raw(sql(&text, [me.into()])).await?;
        let row = row.ok_or_else(|| JournalError::Away("the database returned no row".to_owned()))?;
        let shards: Vec<i16> = row.try_get_by_index(1)?;
        Ok(Members {
            writers: row.try_get_by_index(0)?,
            shards: shards.into_iter().filter_map(|no| u16::try_from(no).ok()).collect(),
            left_behind: row.try_get_by_index(2)?,
            lease_over: row.try_get_by_index(3)?,
        })
    }

    /// Looks for processes that have ended; `true` when something was taken over.
    async fn call_roll(&self, me: i16) -> Result<bool, JournalError> {
        let roll = roll(&self.db).await?;
        // A process that was away itself, for example without a network, cannot tell whether others have ended: they first get
        // the time of a lease to renew theirs.
        if !self.was_lately_away() && fence(&roll, &self.lock, Some(me)).await? {
            tracing::warn!("another process has stopped");
        }
        let adopted = adopt(&roll, me).await?;
        roll.commit().await?;
        Ok(adopted)
    }

    fn was_lately_away(&self) -> bool {
        self.back_since.lock().expect("no holder panics").is_some_and(|since| since.elapsed() < LEASE)
    }

    /// Splittings or spooled calls, by their ids, that are this process's and were another's before.
    async fn adopted(&self, id: &str, table: &str) -> Result<Vec<Id>, JournalError> {
        let me = self.me().writer;
        // Ids contain the number of their writer.
        let text = format!("select {id} from {table} where writer = $1 and ({id} >> 12) & 1023 <> $1::bigint order by {id}");
        let rows = self.db.query_all_raw(sql(&text, [me.into()])).await?;
        rows.iter().map(|row| Ok(Id(row.try_get_by_index(0)?))).collect()
    }

    /// Marks ids that were reported at the start.
    pub(crate) fn mark_reported(&self, ids: impl IntoIterator<Item = Id>) {
        self.reported.lock().expect("no holder panics").extend(ids);
    }

    /// Reads what others have created for these shards, with its hand-over number. A row is deleted only after it was reported by
    /// an earlier look: an answer lost with its connection loses nothing. A process that takes over a shard finds the messages in
    /// `live` all the same.
    async fn handed(&self, shards: Shards) -> Result<Vec<(i64, wirewatch_engine::Recovered)>, JournalError> {
        let numbers: Vec<i32> = shards.iter().map(i32::from).collect();
        let done: Vec<i64> = self.reported_handed.lock().expect("no holder panics").iter().copied().collect();
        let text = "delete from handed where seq = any($1::bigint[])
            or shard = any($2::int[]) and not exists (select 1 from live where id = handed.message)";
        self.db.execute_raw(sql(text, [done.clone().into(), numbers.clone().into()])).await?;
        // Looks follow one another, so nothing was reported meanwhile.
        self.reported_handed.lock().expect("no holder panics").clear();
        let text = format!(
            "select {FOUND}, handed.seq from handed join live on live.id = handed.message
            where handed.shard = any($1::int[]) order by handed.seq"
        );
        let rows = self.db.query_all_raw(sql(&text, [numbers.into()])).await?;
        rows.iter().map(|row| Ok((row.try_get_by_index(8)?, recovered(row)?))).collect()
    }

    /// Loads shards that this process owns. Groups and arrivals under way, which may hand over what they create for these shards,
    /// are waited for; later ones see the new owner.
    pub(crate) async fn take_shards(&self, shards: Shards) -> Result<(), JournalError> {
        self.set_me(|me| me.shards = me.shards.with(shards));
        let me = self.me();
        let text = "update writer set turn = turn + 1 where id = $1 and epoch = $2";
        self.db.execute_raw(sql(text, [me.writer.into(), me.epoch.into()])).await?;
        match self.still_mine().await? {
            true => Ok(()),
            false => Err(JournalError::Fenced),
        }
    }

    /// Gives shards to another process that is at work. Groups and arrivals under way are waited for, later ones see it.
    pub(crate) async fn give_shards(&self, shards: Shards, to: i16) -> Result<(), JournalError> {
        // No message of them runs here any more. If the other process has ended, they stay this process's and are loaded again;
        // what was created for them meanwhile was handed over.
        self.set_me(|me| me.shards = me.shards.without(shards));
        let me = self.me();
        let numbers: Vec<i32> = shards.iter().map(i32::from).collect();
        // Their pick-ups are reset: messages given away have not ended this process.
        let text = "with me as (update writer set turn = turn + 1 where id = $1 and epoch = $2 returning id),
            calmed as (update live set picked_up = 0 where picked_up > 0 and shard = any($4::int[]) and exists (select 1 from me))
            update shard set writer = $3 from me
            where shard.no = any($4::int[]) and shard.writer = me.id and exists (select 1 from writer where id = $3 and lease_until > 0)";
        self.db.execute_raw(sql(text, [me.writer.into(), me.epoch.into(), to.into(), numbers.into()])).await?;
        match self.still_mine().await? {
            true => Ok(()),
            false => Err(JournalError::Fenced),
        }
    }

    /// Reads the state of this process again after a group was not written; `false` when another has taken over.
    pub(crate) async fn still_mine(&self) -> Result<bool, JournalError> {
        let me = self.me();
        let text = "select turn from writer where id = $1 and epoch = $2";
        let Some(row) = self.db.query_one_raw(sql(text, [me.writer.into(), me.epoch.into()])).await? else { return Ok(false) };
        let turn = row.try_get_by_index(0)?;
        let owned = shards_of(&self.db, me.writer).await?;
        // Gained shards count only once they are loaded.
        self.set_me(|me| (me.turn, me.shards) = (turn, owned.without(Shards::ALL.without(me.shards))));
        Ok(true)
    }

    pub(crate) async fn take_lease(&self, name: &str) -> Result<bool, JournalError> {
        let text = "insert into lease as held (name, writer) values ($1, $2)
            on conflict (name) do update set writer = case
              when held.writer in (select id from writer where lease_until > 0) then held.writer else excluded.writer end
            returning writer";
        let me = self.me().writer;
        let row = self.db.query_one_raw(sql(text, [name.into(), me.into()])).await?;
        Ok(row.map(|row| row.try_get_by_index::<i16>(0)).transpose()? == Some(me))
    }

    /// Returns whether other processes were running at the last look.
    #[must_use]
    pub fn is_together(&self) -> bool {
        self.together.load(std::sync::atomic::Ordering::Relaxed)
    }

    /// The processes at work, this one among them.
    pub async fn processes(&self) -> Result<Vec<ProcessRow>, JournalError> {
        let text = "select w.id, w.process, (select count(*) from shard s where s.writer = w.id) from writer w where lease_until > 0 order by w.id";
        let rows = self.db.query_all_raw(sql(text, [])).await?;
        let process = |row: &sea_orm::QueryResult| {
            Ok(ProcessRow {
                writer: row.try_get_by_index(0)?,
                process: row.try_get_by_index(1)?,
                shards: row.try_get_by_index(2)?,
            })
        };
        rows.iter().map(process).collect()
    }
}

/// Marks something as reported; `false` when it was before.
fn newly_reported<T: Ord>(marks: &Mutex<BTreeSet<T>>, one: T) -> bool {
    marks.lock().expect("no holder panics").insert(one)
}

/// The shards that another process at work should have, and which it is; those of one at a time.
fn due(me: Me, writers: &[i16]) -> Option<(Shards, i16)> {
    let away = me.shards.iter().filter_map(|shard| Some((shard, home_of(shard, writers).filter(|home| *home != me.writer)?)));
    let away: Vec<(u16, i16)> = away.collect();
    let (_, to) = away.first().copied()?;
    Some((away.into_iter().filter(|(_, home)| *home == to).map(|(shard, _)| shard).collect(), to))
}

/// Chooses the shard of a new message: each of the shards in turn, so that all have work.
pub(crate) fn next_shard(last: MessageId, shards: Shards) -> Option<u16> {
    let after = (last.0 & i64::from(SHARDS - 1)) as u16;
    (1..=SHARDS).map(|step| (after + step) % SHARDS).find(|shard| shards.has(*shard))
}
