//! From a configuration to a running service, and its end.

use crate::access::{Sessions, Token};
use crate::api;
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
use crate::together;
use crate::trays::Trays;
use std::future::Future;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicI64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{Finding, Timestamp};
use wirewatch_engine::{Clock, Engine, Releases, Settings, SystemClock};
use wirewatch_journal::{PgJournal, Store};
use wirewatch_links::Outside;
use wirewatch_links::amqp::Queues;

/// The engine as the service runs it.
pub type Running = Engine<PgJournal, Outside, SystemClock>;

/// How to run.
#[derive(Debug, Clone)]
pub struct Config {
    /// PostgreSQL, as a URL.
    pub database: String,
    pub listen: SocketAddr,
    /// A folder to release at the start, when it differs from the newest release.
    pub workspace: Option<PathBuf>,
    /// Where it runs: `env/NAME.toml` of the workspace.
    pub environment: Option<String>,
    /// Token and other small files of the service's own.
    pub state: PathBuf,
    /// Where relative folder paths of connections start.
    pub files: PathBuf,
    /// Host names besides those of loopback.
    pub hosts: Vec<String>,
    /// Where senders reach this service from outside, e.g. `https://edge.example`; its own address when left out.
    pub public: Option<String>,
    /// Run though the database may lose what it has confirmed.
    pub unsafe_database: bool,
    /// Run though the database is older than what went out.
    pub accept_restore: bool,
    /// How many days history is kept.
    pub keep_days: u32,
    /// How long what is under way may take to come to its end when the service is asked to end.
    pub drain: Duration,
}

/// What every request can reach.
#[derive(Debug)]
pub struct App {
    pub engine: Running,
    pub journal: Arc<PgJournal>,
    pub store: Store,
    pub outside: Outside,
    pub token: Token,
    pub sessions: Sessions,
    pub meter: Meters,
    pub hosts: Vec<String>,
    /// Where senders reach this service, without a slash at the end.
    pub public: String,
    pub secrets: Arc<Secrets>,
    pub doors: Doors,
    pub trays: Trays,
    /// The newest release that cannot be read here; told once.
    pub passed_over: AtomicI64,
    /// The service is to end: it takes nothing more.
    pub draining: AtomicBool,
    /// How much is recorded of flows, where a person has switched that.
    pub recordings: Recordings,
    /// How the queues of brokers stand.
    pub queues: Queues,
    pub started: Timestamp,
    /// The environment it was told to run in.
    pub environment: Option<String>,
    /// The folder it was started with.
    pub folder: Option<Folder>,
    pub(crate) intakes: Mutex<Intakes>,
    /// One release at a time.
    pub(crate) releasing: tokio::sync::Mutex<()>,
}

/// What is told once the service is ready.
#[derive(Debug, Clone)]
pub struct Ready {
    pub address: SocketAddr,
    pub release: i64,
    pub environment: Option<String>,
    /// Findings of the workspace given at the start; with errors among them, the newest release runs instead.
    pub findings: Vec<Finding>,
    pub kept_running: bool,
}

/// Runs until `stop` ends. `ready` is called once, when requests are answered.
///
/// # Errors
/// [`ServeError`] when it cannot start, or when another process takes its work over.
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
    let listener = listener.map_err(|source| ServeError::Listen { listen: config.listen.to_string(), source })?;
    let address = listener.local_addr().map_err(|source| ServeError::Listen { listen: config.listen.to_string(), source })?;
    let process = format!("process {} at {address}", std::process::id());
    let journal = Arc::new(PgJournal::open(&config.database, &process).await?);
    let settings = journal.unsafe_settings().await?;
    if !settings.is_empty() && !config.unsafe_database {
        return Err(ServeError::UnsafeDatabase(settings));
    }
    sealed::guard(&journal, &config.state, config.accept_restore).await?;
    let store = journal.store();
    let start = first_release(&config, &store).await?;
    let secrets = Arc::new(Secrets::open(&config.state, &store).await?);
    let outside = Outside::new(config.files.clone(), secrets.clone());
    make_folders(&outside, &start.workspace);
    let releases = Releases::new(start.release, start.workspace.clone());
    let engine = Engine::start(journal.clone(), Arc::new(outside.clone()), SystemClock, releases, Settings::default()).await?;
    let token = Token::read_or_make(&config.state, &address.to_string()).map_err(|source| file(&config.state, source))?;
    let running = engine.clone();
    let meter = Meters::default();
    let counting = tokio::spawn(meter.clone().follow(journal.live()));
    let queues = Queues::default();
    let app = Arc::new(App {
        engine,
        journal: journal.clone(),
        store,
        outside,
        sessions: Sessions::new(&token.token, address.port()),
        meter,
        token,
        hosts: config.hosts.clone(),
        public: config.public.clone().unwrap_or_else(|| format!("http://{address}")).trim_end_matches('/').to_owned(),
        secrets,
        doors: Doors::default(),
        trays: Trays::default(),
        passed_over: AtomicI64::new(0),
        draining: AtomicBool::new(false),
        recordings: Recordings::default(),
        queues: queues.clone(),
        started: SystemClock.now(),
        environment: config.environment.clone(),
        folder: config.workspace.clone().map(Folder::new),
        intakes: Mutex::new(Intakes::new(queues)),
        releasing: tokio::sync::Mutex::default(),
    });
    app.follow_intakes(&start.workspace);
    app.follow_recordings().await?;
    let following = [
        tokio::spawn(together::follow(app.clone())),
        tokio::spawn(incidents::tell(app.clone())),
        tokio::spawn(incidents::listen(app.clone())),
        {
            let journal = journal.clone();
            tokio::spawn(async move { journal.overhear().await })
        },
    ];
    let folder = {
        let journal = journal.clone();
        tokio::spawn(async move { journal.fold_trails().await })
    };
    ready(Ready {
        address,
        release: start.release,
        environment: start.workspace.environment.as_ref().map(|environment| environment.title.clone()),
        findings: start.findings,
        kept_running: start.kept_running,
    });
    let ended = tokio::select! {
        served = listen::serve(listener, api::router(app.clone())) => served.map_err(|source| ServeError::Listen { listen: config.listen.to_string(), source }),
        error = journal.keep(config.keep_days) => Err(error.into()),
        () = running.ended() => Err(ServeError::Broken),
        () = async { stop.await; drain(&app, config.drain).await } => Ok(()),
    };
    following.iter().for_each(tokio::task::JoinHandle::abort);
    folder.abort();
    counting.abort();
    ended
}

/// Takes nothing more, and waits for what is under way: a planned end leaves nothing in doubt.
async fn drain(app: &App, at_most: Duration) {
    tracing::info!("ending: nothing more is taken, and what is under way comes to its end");
    app.draining.store(true, Ordering::Relaxed);
    app.intakes.lock().expect("no holder panics").follow(&app.engine, &app.outside, &Workspace::default());
    match tokio::time::timeout(at_most, app.engine.drain()).await {
        Ok(()) => tracing::info!("nothing is under way any more"),
        Err(_) => tracing::warn!(
            seconds = at_most.as_secs(),
            "something is still under way; it is taken up again at the next start, in doubt where it must not be repeated"
        ),
    }
}

/// Makes the folders that connections name below the service's own; others are somebody else's to make.
fn make_folders(outside: &Outside, workspace: &Workspace) {
    for connection in workspace.connections.values() {
        if let wirewatch_core::connection::ConnectionKind::Folder { path, .. } = &connection.kind
            && !path.starts_with('/')
            && let Err(error) = std::fs::create_dir_all(outside.folder(path))
        {
            tracing::warn!(connection = connection.name, %error, "the folder cannot be made");
        }
    }
}
