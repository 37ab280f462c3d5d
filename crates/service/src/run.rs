//! From a configuration to a running service, and its end.

use crate::access::{Sessions, Token};
use crate::api::{self, figures::Counted};
use crate::bulk::{self, BulkActs};
use crate::captures::{Captures, tapped};
use crate::error::ServeError;
use crate::hooks::Doors;
use crate::incidents;
use crate::intakes::Intakes;
use crate::listen;
use crate::meters::Meters;
use crate::recordings::Recordings;
use crate::releasing::{Folder, first_release};
use crate::sealed;
use crate::secrets::Secrets;
use crate::supervised::restarted;
use crate::together;
use std::future::Future;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::sync::broadcast::Receiver;
use tokio::task::JoinSet;
use wirewatch_core::connection::ConnectionKind;
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{Finding, Timestamp};
use wirewatch_engine::{Clock, Engine, Releases, Settings, SystemClock};
use wirewatch_journal::{FeedRow, JournalError, PgJournal, Store};
use wirewatch_links::Outside;
use wirewatch_links::amqp::Queues;
use wirewatch_links::folder::{Faults, Roots};

/// From one try to reach the database at the start to the next.
const AWAY: Duration = Duration::from_secs(1);

/// The engine as the service runs it.
pub type Running = Engine<PgJournal, Outside, SystemClock>;

/// Options of the service.
#[derive(Debug, Clone)]
pub struct Config {
    /// PostgreSQL, as a URL.
    pub database: String,
    pub listen: SocketAddr,
    /// A folder to release at the start, when it differs from the newest release.
    pub workspace: Option<PathBuf>,
    /// The environment: `env/NAME.toml` of the workspace.
    pub environment: Option<String>,
    /// Token and other small files of the service's own.
    pub state: PathBuf,
    /// Base of relative folder paths of connections.
    pub files: PathBuf,
    /// Further folders below which connections may have theirs.
    pub allow_folders: Vec<PathBuf>,
    /// Host names besides those of loopback.
    pub hosts: Vec<String>,
    /// Base address at which senders reach this service, e.g. `https://edge.example`; its own address when left out.
    pub public: Option<String>,
    /// Run though the database may lose what it has confirmed.
    pub unsafe_database: bool,
    /// Run though the database is older than what went out.
    pub accept_restore: bool,
    /// Days that history is stored.
    pub keep_days: u32,
    /// Connections of clients at a time; half of the files that the process may open when left out.
    pub max_connections: Option<usize>,
    /// Longest time for finishing work in progress when the service is asked to stop.
    pub drain: Duration,
}

impl Config {
    /// Returns the folders below which connections may have theirs.
    #[must_use]
    pub fn folders(&self) -> Roots {
        Roots::new(self.files.clone(), self.allow_folders.clone())
    }
}

/// State shared by all requests.
#[derive(Debug)]
pub struct App {
    pub engine: Running,
    pub journal: Arc<PgJournal>,
    pub store: Store,
    pub outside: Outside,
    pub token: Token,
    pub sessions: Sessions,
    pub meter: Meters,
    /// Figures of orders, counted a moment ago.
    pub counted: Counted,
    pub hosts: Vec<String>,
    /// Base address at which senders reach this service, without a slash at the end.
    pub public: String,
    pub secrets: Arc<Secrets>,
    pub doors: Doors,
    pub captures: Captures,
    pub bulk_acts: BulkActs,
    /// The newest release that cannot be read here; reported once.
    pub passed_over: AtomicI64,
    /// The service is stopping and accepts nothing more.
    pub draining: AtomicBool,
    /// Recording depths that a person has changed.
    pub recordings: Recordings,
    /// States of the queues of brokers.
    pub queues: Queues,
    /// Files that cannot be read or archived, by connection.
    pub faults: Faults,
    pub started: Timestamp,
    /// The folders that it writes to itself.
    pub own_folders: [PathBuf; 2],
    /// Name of the environment.
    pub environment: Option<String>,
    /// The folder it was started with.
    pub folder: Option<Folder>,
    pub(crate) intakes: Mutex<Intakes>,
    /// Lock that allows one release at a time.
    pub(crate) releasing: tokio::sync::Mutex<()>,
}

/// Report on a service that is ready.
#[derive(Debug, Clone)]
pub struct Ready {
    pub address: SocketAddr,
    pub release: i64,
    pub environment: Option<String>,
    /// Findings of the workspace given at the start; with errors among them, the newest release runs instead.
    pub findings: Vec<Finding>,
    pub continued: bool,
}

/// Runs until `stop` resolves. `ready` is called once, when requests are answered.
///
/// # Errors
/// [`ServeError`] when it cannot start, or when another process takes over its work.
pub async fn serve(
    config: Config,
    ready: impl FnOnce(Ready),
    stop: impl Future<Output = ()> + Send + 'static,
) -> Result<(), ServeError> {
    let file = |path: &PathBuf, source| ServeError::File { path: path.clone(), source };
    for folder in [&config.state, &config.files] {
        std::fs::create_dir_all(folder).map_err(|source| file(folder, source))?;
    }
    let listener = tokio::net::TcpListener::bind(config.listen).await;
    let listener = listener.map_err(|source| listening(&config, source))?;
    let address = listener.local_addr().map_err(|source| listening(&config, source))?;
    let most = config.max_connections.unwrap_or_else(listen::most_connections);
    let mut stop = Box::pin(stop);
    let process = format!("process {} at {address}", std::process::id());
    let journal = tokio::select! {
        journal = open(&config.database, &process) => Arc::new(journal?),
        ended = listen::serve(&listener, api::waiting(), most) => return ended.map_err(|source| listening(&config, source)),
        () = &mut stop => return Ok(()),
    };
    let settings = journal.unsafe_settings().await?;
    if !settings.is_empty() && !config.unsafe_database {
        return Err(ServeError::UnsafeDatabase(settings));
    }
    sealed::guard(&journal, &config.state, config.accept_restore).await?;
    let store = journal.store();
    let start = first_release(&config, &store).await?;
    let secrets = Arc::new(Secrets::open(&config.state, &store).await?);
    let outside = Outside::new(config.folders(), secrets.clone());
    make_folders(&outside, &start.workspace);
    let releases = Releases::new(start.release, start.workspace.clone());
    // From before anything moves, so that nothing is missed.
    let live = [journal.live(), journal.live()];
    let engine = Engine::start(journal.clone(), Arc::new(outside.clone()), SystemClock, releases, Settings::default()).await?;
    let token = Token::read_or_make(&config.state, &address.to_string()).map_err(|source| file(&config.state, source))?;
    let sessions =
        Sessions::open_in(&config.state, &token.token, address.port()).map_err(|source| file(&config.state, source))?;
    let running = engine.clone();
    let meter = Meters::default();
    let (queues, faults) = (Queues::default(), Faults::default());
    let app = Arc::new(App {
        engine,
        journal: journal.clone(),
        store,
        outside,
        sessions,
        meter,
        counted: Counted::default(),
        token,
        hosts: config.hosts.clone(),
        public: config.public.clone().unwrap_or_else(|| format!("http://{address}")).trim_end_matches('/').to_owned(),
        secrets,
        doors: Doors::default(),
        captures: Captures::default(),
        bulk_acts: BulkActs::default(),
        passed_over: AtomicI64::new(0),
        draining: AtomicBool::new(false),
        recordings: Recordings::default(),
        queues: queues.clone(),
        faults: faults.clone(),
        started: SystemClock.now(),
        own_folders: [config.state.clone(), config.files.clone()],
        environment: config.environment.clone(),
        folder: config.workspace.clone().map(Folder::new),
        intakes: Mutex::new(Intakes::new(queues, faults)),
        releasing: tokio::sync::Mutex::default(),
    });
    app.follow_intakes(&start.workspace);
    app.follow_recordings().await?;
    tapped::reopen(&app).await?;
    let _tasks = follow(&app, live);
    ready(Ready {
        address,
        release: start.release,
        environment: start.workspace.environment.as_ref().map(|environment| environment.title.clone()),
        findings: start.findings,
        continued: start.continued,
    });
    tokio::select! {
        served = listen::serve(&listener, api::router(app.clone()), most) => served.map_err(|source| listening(&config, source)),
        error = journal.keep(config.keep_days) => Err(error.into()),
        () = running.ended() => Err(ServeError::Broken),
        () = async { stop.await; drain(&app, config.drain).await } => Ok(()),
    }
}

fn listening(config: &Config, source: std::io::Error) -> ServeError {
    ServeError::Listen { listen: config.listen.to_string(), source }
}

/// Opens the journal, and waits for a database that is away.
///
/// # Errors
/// Where waiting does not help: a wrong address, password or name, or a database of a newer version.
async fn open(database: &str, process: &str) -> Result<PgJournal, JournalError> {
    loop {
        match PgJournal::open(database, process).await {
            Err(JournalError::Away(says)) => {
                tracing::warn!(says, "the database cannot be reached; the service starts as soon as it can");
                tokio::time::sleep(AWAY).await;
            }
            opened => return opened,
        }
    }
}

/// Starts the background tasks of the service. Dropping the result stops them.
fn follow(app: &Arc<App>, [counted, watched]: [Receiver<Arc<FeedRow>>; 2]) -> JoinSet<()> {
    let mut tasks = JoinSet::new();
    let (mut counted, mut watched) = (Some(counted), Some(watched));
    macro_rules! restart {
        ($task:literal, |$app:ident| $run:expr) => {
            let app = app.clone();
            tasks.spawn(async move {
                restarted($task, || {
                    let $app = app.clone();
                    $run
                })
                .await;
            });
        };
    }
    restart!("figures of the last minute", |app| {
        app.meter.clone().follow(counted.take().unwrap_or_else(|| app.journal.live()))
    });
    restart!("reporting incidents", |app| {
        let live = watched.take().unwrap_or_else(|| app.journal.live());
        incidents::tell(app, live)
    });
    restart!("releases of other processes", |app| together::follow(app));
    restart!("acts on many messages", |app| bulk::follow(app));
    restart!("silent intakes", |app| incidents::listen(app));
    restart!("events of other processes", |app| async move { app.journal.overhear().await });
    restart!("orders along their milestones", |app| async move { app.journal.fold_timelines().await });
    tasks
}

/// Takes nothing more, and waits for what is under way: a planned end leaves nothing in doubt.
async fn drain(app: &App, at_most: Duration) {
    tracing::info!("stopping: nothing more is received, unfinished effects are completed");
    app.draining.store(true, Ordering::Relaxed);
    app.intakes.lock().expect("no holder panics").follow(&app.engine, &app.outside, &Workspace::default());
    match tokio::time::timeout(at_most, app.engine.drain()).await {
        Ok(()) => tracing::info!("all effects are complete"),
        Err(_) => tracing::warn!(
            seconds = at_most.as_secs(),
            "some effects are not complete; they continue at the next start, in doubt where they must not be repeated"
        ),
    }
}

/// Makes the folders that connections name below the service's own; others are somebody else's to make.
fn make_folders(outside: &Outside, workspace: &Workspace) {
    for connection in workspace.connections.values() {
        let ConnectionKind::Folder { path, .. } = &connection.kind else { continue };
        let made = outside.folder(path).and_then(|folder| match path.starts_with('/') {
            true => Ok(()),
            false => std::fs::create_dir_all(&folder).map_err(|error| format!("{}: {error}", folder.display())),
        });
        if let Err(says) = made {
            tracing::warn!(connection = connection.name, says, "the folder of a connection cannot be used");
        }
    }
}
