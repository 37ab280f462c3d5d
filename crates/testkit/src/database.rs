//! A database per test, in one private cluster per run.

use std::path::PathBuf;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Mutex, OnceLock};
use wirewatch_loopback::{Cluster, Options};

/// Variable by which `with-servers` passes its cluster to the tests.
pub const ADMIN_URL: &str = "WIREWATCH_TEST_POSTGRES";

/// A database of the test's own. Dropped with its cluster at the end of the run.
#[derive(Debug, Clone)]
pub struct Database {
    pub url: String,
}

/// The cluster of this process, when no run gave one.
static OWN: OnceLock<Mutex<(Cluster, tempfile::TempDir)>> = OnceLock::new();
static NEXT: AtomicU32 = AtomicU32::new(1);

/// Starts a private cluster, for tests that stop the server.
///
/// # Panics
/// When PostgreSQL cannot be started.
#[must_use]
pub fn private_cluster(durable: bool) -> (Cluster, tempfile::TempDir) {
    let folder = tempfile::Builder::new().prefix("wirewatch-pg-").tempdir_in(shared_tmp()).expect("a folder");
    std::fs::set_permissions(folder.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755)).expect("permissions");
    let options = Options { folder: folder.path().join("cluster"), port: None, durable };
    let cluster = Cluster::start(options).unwrap_or_else(|error| panic!("{error}"));
    (cluster, folder)
}

fn own_url() -> String {
    let own = OWN.get_or_init(|| Mutex::new(private_cluster(false)));
    own.lock().expect("no holder panics").0.url("postgres")
}

fn shared_tmp() -> PathBuf {
    std::env::temp_dir()
}

impl Database {
    /// A new, empty database.
    ///
    /// # Panics
    /// When the server cannot be reached.
    #[must_use]
    pub fn new() -> Self {
        let name = format!("t{}_{}", std::process::id(), NEXT.fetch_add(1, Ordering::Relaxed));
        let admin = std::env::var(ADMIN_URL).unwrap_or_else(|_| own_url());
        let (server, _) = admin.rsplit_once('/').expect("a URL with a database");
        let url = format!("{server}/{name}");
        // On a thread of its own: a test may be inside a runtime already.
        let created = std::thread::spawn(move || {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
            runtime.block_on(async {
                use sea_orm::ConnectionTrait;
                let db = sea_orm::Database::connect(&admin).await?;
                db.execute_unprepared(&format!("create database {name}")).await?;
                db.close().await
            })
        });
        created.join().expect("no panic").unwrap_or_else(|error| panic!("{error}"));
        Self { url }
    }
}

impl Database {
    /// Returns the number that a query gives.
    ///
    /// # Panics
    /// When the query fails.
    pub async fn number(&self, query: &str) -> i64 {
        use sea_orm::{ConnectionTrait, DbBackend, Statement};
        let db = sea_orm::Database::connect(&self.url).await.expect("a connection");
        let row = db.query_one_raw(Statement::from_string(DbBackend::Postgres, query)).await.expect("an answer").expect("a row");
        row.try_get_by_index(0).expect("a number")
    }

    /// Returns the rows written so far, as the server counts them: `counted` adds up columns of `pg_stat_user_tables`. Waits
    /// until no one else is connected, since a server process reports its counts when it ends.
    ///
    /// # Panics
    /// When another connection stays open.
    pub async fn rows_written(&self, counted: &str) -> i64 {
        let others = "select count(*) from pg_stat_activity where datname = current_database() and pid <> pg_backend_pid()
            and backend_type = 'client backend'";
        crate::eventually("nobody else is connected", || async { (self.number(others).await == 0).then_some(()) }).await;
        self.number(&format!("select coalesce(sum({counted}), 0)::bigint from pg_stat_user_tables")).await
    }

    /// Runs a statement in a transaction that stays open, with its locks, until it is dropped.
    ///
    /// # Panics
    /// When it fails.
    pub async fn begin(&self, statement: &str) -> sea_orm::DatabaseTransaction {
        use sea_orm::{ConnectionTrait, TransactionTrait};
        let db = sea_orm::Database::connect(&self.url).await.expect("a connection");
        let transaction = db.begin().await.expect("begun");
        transaction.execute_unprepared(statement).await.expect("done");
        transaction
    }

    /// Runs a statement.
    ///
    /// # Panics
    /// When it fails.
    pub async fn run(&self, statement: &str) {
        use sea_orm::ConnectionTrait;
        let db = sea_orm::Database::connect(&self.url).await.expect("a connection");
        db.execute_unprepared(statement).await.expect("done");
    }
}

impl Default for Database {
    fn default() -> Self {
        Self::new()
    }
}
