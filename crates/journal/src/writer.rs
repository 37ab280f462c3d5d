//! The process's place in the database: its writer row, its lease, its lock, and the journal it writes.

use crate::error::JournalError;
use crate::group::{Me, number, write_halving};
use crate::membership::{claim, lock_of, next_shard, renew_lease};
use crate::query::{FeedRow, Store};
use crate::schema;
use crate::{days, events::Event};
use sea_orm::{ConnectOptions, ConnectionTrait, Database, DatabaseConnection, DbBackend, Statement, Value};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::sync::{Arc, Mutex, OnceLock, RwLock};
use std::time::{Duration, Instant};
use tokio::sync::{Notify, broadcast};
use wirewatch_core::{Id, IdMint, MessageId, Timestamp};
use wirewatch_engine::{Clock, Op, OpResult, SHARDS, SystemClock};

/// Lifetime of a lease, and the interval at which it is renewed.
pub(crate) const LEASE: Duration = Duration::from_secs(10);
const RENEW: Duration = Duration::from_secs(3);
/// Interval while renewing fails, so that it succeeds soon after the database is back.
const RENEW_AGAIN: Duration = Duration::from_millis(500);
/// Interval at which partitions are made and dropped, and the lifetime of feed rows.
const TIDY: Duration = Duration::from_secs(3600);
const FEED: Duration = Duration::from_secs(3600);
/// Planner settings of connections that write groups: all their rows are found by key. Left to choose, the server plans to read
/// `live` whole while it is small, and keeps that plan when the table has filled with dead rows.
const BY_KEY: [(&str, &str); 3] = [("enable_seqscan", "off"), ("enable_hashjoin", "off"), ("enable_mergejoin", "off")];
/// Advisory locks of writers: this and the writer's id.
pub(crate) const LOCK: i64 = 0x5749_5245;

/// The journal in PostgreSQL.
#[derive(Debug)]
pub struct PgJournal {
    pub(crate) db: DatabaseConnection,
    /// Separate connections for groups, arrivals and spooled calls: a server process reuses what it has planned and read, which
    /// it could not when the kinds of statements alternate.
    groups: DatabaseConnection,
    pub(crate) takings: DatabaseConnection,
    pub(crate) spools: DatabaseConnection,
    /// Connection that holds the process's lock for as long as the process lives.
    pub(crate) lock: DatabaseConnection,
    me: RwLock<Me>,
    mint: Mutex<IdMint>,
    /// The newest id of a message: the next one is in the next shard.
    newest: Mutex<MessageId>,
    /// Numbers of arrival commits, counting down; those of groups count up.
    takes: AtomicI64,
    /// When ended processes were last looked for.
    pub(crate) roll_called: Mutex<Option<Instant>>,
    /// When the own lease was renewed after it had been over; `None` if it never was.
    pub(crate) back_since: Mutex<Option<Instant>>,
    pub(crate) together: AtomicBool,
    /// At the last look, some of its shards were not loaded.
    pub(crate) apart: AtomicBool,
    /// Splittings and spooled calls of ended processes that were reported to the engine.
    pub(crate) reported: Mutex<BTreeSet<Id>>,
    /// Hand-over numbers that were reported, until their rows are deleted.
    pub(crate) reported_handed: Mutex<BTreeSet<i64>>,
    fenced: AtomicBool,
    committed: Arc<Notify>,
    live: broadcast::Sender<Arc<FeedRow>>,
    pub(crate) sealed: OnceLock<OnSealed>,
}

/// Counters of control numbers by scope: the last number given out.
pub type Counters = BTreeMap<String, i64>;

/// Receiver of numbers that were given out.
pub(crate) struct OnSealed(pub Box<dyn Fn(&Counters) + Send + Sync>);

impl std::fmt::Debug for OnSealed {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("OnSealed")
    }
}

/// A setting of the server that makes custody unsafe.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unsafe {
    pub setting: String,
    pub value: String,
}

pub(crate) fn sql(text: &str, values: impl IntoIterator<Item = Value>) -> Statement {
    Statement::from_sql_and_values(DbBackend::Postgres, text, values)
}

impl PgJournal {
    /// Connects, migrates the tables, and joins the running processes; takes over the work of those that have ended.
    ///
    /// # Errors
    /// [`JournalError::Away`] without a server; [`JournalError::Refused`] where waiting does not help.
    pub async fn open(url: &str, process: &str) -> Result<Self, JournalError> {
        let options = |most: u32, settings: &'static [(&str, &str)]| {
            let mut options = ConnectOptions::new(url);
            // A process that hangs inside a transaction must not keep another from taking over.
            let patience = format!("{}ms", LEASE.as_millis());
            options.map_sqlx_postgres_opts(move |options| {
                let options = options.options([("idle_in_transaction_session_timeout", &patience)]);
                options.options(settings.iter().copied())
            });
            // A statement that waits longer for a connection than this fails, so that the caller can try again.
            options.max_connections(most).min_connections(1).acquire_timeout(Duration::from_secs(5)).sqlx_logging(false);
            // A connection that was just used is there; asking it before each statement would double the round trips.
            options.test_before_acquire_if_idle_for(Duration::from_secs(1));
            options
        };
        let mut single = options(1, &BY_KEY);
        single.idle_timeout(None::<Duration>).max_lifetime(None::<Duration>);
        let groups = Database::connect(single.clone()).await.map_err(JournalError::at_start)?;
        let takings = Database::connect(single.clone()).await?;
        let spools = Database::connect(single.clone()).await?;
        let lock = Database::connect(single.test_before_acquire(false).clone()).await?;
        let db = Database::connect(options(8, &[])).await?;
        schema::prepare(&db).await?;
        days::make(&db, SystemClock.now()).await?;
        let me = claim(&db, &lock, process).await?;
        let mint = Mutex::new(IdMint::new(u16::try_from(me.writer).unwrap_or(0)));
        Ok(Self {
            db,
            groups,
            takings,
            spools,
            lock,
            me: RwLock::new(me),
            mint,
            newest: Mutex::default(),
            takes: AtomicI64::new(0),
            roll_called: Mutex::default(),
            back_since: Mutex::default(),
            together: AtomicBool::new(false),
            apart: AtomicBool::new(false),
            reported: Mutex::default(),
            reported_handed: Mutex::default(),
            fenced: AtomicBool::new(false),
            committed: Arc::new(Notify::new()),
            live: broadcast::channel(1024).0,
            sealed: OnceLock::new(),
        })
    }

    /// Settings of the server under which a commit may be lost.
    pub async fn unsafe_settings(&self) -> Result<Vec<Unsafe>, JournalError> {
        let mut found = Vec::new();
        for setting in ["fsync", "full_page_writes", "synchronous_commit"] {
            let row = self.db.query_one_raw(sql(&format!("show {setting}"), [])).await?;
            let value: String = row.map(|row| row.try_get_by_index(0)).transpose()?.unwrap_or_default();
            if value == "off" {
                found.push(Unsafe { setting: setting.to_owned(), value });
            }
        }
        Ok(found)
    }

    /// Returns the queries of this journal.
    #[must_use]
    pub fn store(&self) -> Store {
        Store::new(self.db.clone())
    }

    /// Woken after each commit.
    #[must_use]
    pub fn committed(&self) -> Arc<Notify> {
        self.committed.clone()
    }

    /// The writer this process is.
    #[must_use]
    pub fn writer(&self) -> i16 {
        self.me().writer
    }

    pub(crate) fn me(&self) -> Me {
        *self.me.read().expect("no holder panics")
    }

    pub(crate) fn set_me(&self, change: impl FnOnce(&mut Me)) {
        change(&mut self.me.write().expect("no holder panics"));
    }

    /// Renews the lease, creates coming partitions and drops those that ended more than `keep_days` ago, until another process
    /// has taken over.
    pub async fn keep(&self, keep_days: u32) -> JournalError {
        // Old partitions are dropped soon after the start.
        let (mut tidied, mut rest) = (Timestamp(0), RENEW);
        loop {
            tokio::time::sleep(rest).await;
            rest = match self.renew().await {
                Err(JournalError::Fenced) => return JournalError::Fenced,
                Err(error) => {
                    tracing::warn!(%error, "the lease could not be renewed");
                    RENEW_AGAIN
                }
                Ok(()) => RENEW,
            };
            let now = SystemClock.now();
            if now.since(tidied) > TIDY {
                match self.tidy(keep_days, now).await {
                    Ok(()) => tidied = now,
                    Err(error) => tracing::warn!(%error, "days of history could not be made or dropped"),
                }
            }
        }
    }

    /// Makes days ahead, cuts the feed, and drops days that ended more than `keep_days` before `now`.
    ///
    /// # Errors
    /// [`JournalError`]; what was not done is done the next time.
    pub async fn tidy(&self, keep_days: u32, now: Timestamp) -> Result<(), JournalError> {
        days::make(&self.db, now).await?;
        let feed_until = now.0 - FEED.as_micros() as i64;
        self.db.execute_raw(sql("delete from feed where at < $1", [feed_until.into()])).await?;
        let left = Id::first_of(Timestamp(feed_until));
        self.db.execute_raw(sql("delete from remote_act where id < $1", [left.0.into()])).await?;
        let dropped = days::drop_old(&self.db, keep_days, now).await?;
        if !dropped.is_empty() {
            tracing::info!(keep_days, tables = dropped.join(" "), "days of history dropped");
        }
        Ok(())
    }

    /// Returns the present counters of control numbers.
    pub async fn counters(&self) -> Result<Counters, JournalError> {
        let rows = self.db.query_all_raw(sql("select scope, value from counter", [])).await?;
        rows.iter().map(|row| Ok((row.try_get_by_index(0)?, row.try_get_by_index(1)?))).collect()
    }

    /// Sets counters on.
    pub async fn set_counters(&self, counters: &Counters) -> Result<(), JournalError> {
        let scopes: Vec<String> = counters.keys().cloned().collect();
        let values: Vec<i64> = counters.values().copied().collect();
        let text = "insert into counter select * from unnest($1::text[], $2::bigint[])
            on conflict (scope) do update set value = excluded.value";
        self.db.execute_raw(sql(text, [scopes.into(), values.into()])).await?;
        Ok(())
    }

    /// Calls `callback` with the counters after each commit that sealed something, before anything of it goes out.
    pub fn on_sealed(&self, callback: impl Fn(&Counters) + Send + Sync + 'static) {
        let _ = self.sealed.set(OnSealed(Box::new(callback)));
    }

    pub(crate) async fn renew(&self) -> Result<(), JournalError> {
        let me = self.me();
        // The lock goes with its connection: after a restart of the server it has to be taken again. It is held before the
        // lease says so, since whoever finds it free takes over.
        self.lock.query_one_raw(sql("select pg_try_advisory_lock($1)", [lock_of(me.writer).into()])).await?;
        if let Some(over) = renew_lease(&self.db, me).await? {
            if over {
                *self.back_since.lock().expect("no holder panics") = Some(Instant::now());
            }
            return Ok(());
        }
        self.fenced.store(true, Ordering::SeqCst);
        Err(JournalError::Fenced)
    }

    pub(crate) fn next_id(&self, now: Timestamp) -> Id {
        self.mint.lock().expect("no holder panics").next(now)
    }

    /// The next id of a message: in a shard of ours, if there is one, and in another than the one before.
    pub(crate) fn next_message(&self, now: Timestamp) -> MessageId {
        let mut newest = self.newest.lock().expect("no holder panics");
        let mut mint = self.mint.lock().expect("no holder panics");
        *newest = match next_shard(*newest, self.me().shards) {
            Some(shard) => mint.next_in(now, SHARDS, shard),
            None => mint.next(now),
        };
        *newest
    }

    /// The number of the next arrivals that are taken together.
    pub(crate) fn next_take(&self) -> i64 {
        self.takes.fetch_sub(1, Ordering::Relaxed) - 1
    }

    /// Subscribes to the commits of this process from now on, in their order.
    #[must_use]
    pub fn live(&self) -> broadcast::Receiver<Arc<FeedRow>> {
        self.live.subscribe()
    }

    /// Tells whoever follows what was just committed.
    pub(crate) fn tell(&self, group_no: i64, at: Timestamp, events: impl FnOnce() -> Vec<Event>) {
        self.committed.notify_waiters();
        if self.live.receiver_count() > 0 {
            self.retell(Arc::new(FeedRow { writer: self.writer(), group_no, at: at.0, events: events() }));
        }
    }

    pub(crate) fn retell(&self, row: Arc<FeedRow>) {
        // An error only says that nobody listens any more.
        let _ = self.live.send(row);
    }

    pub(crate) async fn commit_group(&self, no: u64, ops: &[Op]) -> Result<Vec<OpResult>, JournalError> {
        if self.fenced.load(Ordering::SeqCst) {
            return Err(JournalError::Fenced);
        }
        let now = SystemClock.now();
        let mut mint = || self.next_id(now);
        let events: Vec<Vec<Event>> = ops.iter().map(Event::of).collect();
        let done = loop {
            match write_halving(&self.groups, self.me(), no, ops, &events, now, &mut mint).await {
                // Shards were given away meanwhile: once more, with those that are left.
                Err(JournalError::Fenced) if self.still_mine().await? => {}
                Err(JournalError::Fenced) => {
                    self.fenced.store(true, Ordering::SeqCst);
                    break Err(JournalError::Fenced);
                }
                done => break done,
            }
        };
        if let Ok(results) = &done {
            let committed = events.into_iter().zip(results).filter(|(_, result)| **result == OpResult::Committed);
            self.tell(number(no, &(0..ops.len())), now, || committed.flat_map(|(events, _)| events).collect());
        }
        done
    }
}
