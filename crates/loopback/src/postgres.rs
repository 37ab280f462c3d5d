//! A PostgreSQL cluster of our own: made once, started on loopback with a password, run as the package's user when we are root.

use crate::place::settle;
use crate::process::{OwnedProcess, free_port};
use crate::secret::password;
use rustix::process::{Signal, geteuid};
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::time::{Duration, Instant};

/// Options of a cluster.
#[derive(Debug, Clone)]
pub struct Options {
    /// Holds data, password and log; made when missing.
    pub folder: PathBuf,
    /// A free one when `None`.
    pub port: Option<u16>,
    /// Without it nothing is synced to disk: for tests, where only processes are killed, never the machine.
    pub durable: bool,
}

/// A running cluster. Dropped, it is ended.
#[derive(Debug)]
pub struct Cluster {
    server: OwnedProcess,
    bin: PathBuf,
    options: Options,
    port: u16,
    password: String,
}

/// Why a cluster cannot be started.
#[derive(Debug, thiserror::Error)]
pub enum StartError {
    #[error("PostgreSQL is not installed: no /usr/lib/postgresql/*/bin/postgres. Install the Debian package `postgresql`")]
    NotInstalled,
    #[error("{path}: {source}")]
    File { path: PathBuf, source: io::Error },
    #[error("`{command}` failed: {says}")]
    Failed { command: String, says: String },
    #[error(
        "PostgreSQL runs as user `postgres`, which cannot enter {0} or a folder in /var/lib or /var/tmp. Choose a state folder \
                that other users can enter"
    )]
    Unreachable(PathBuf),
    #[error("PostgreSQL ended while starting: {0}")]
    Ended(String),
    #[error("PostgreSQL did not answer within {} s; its log is {log}", .waited.as_secs())]
    Silent { waited: Duration, log: PathBuf },
}

const USER: &str = "wirewatch";
const LONGEST: Duration = Duration::from_secs(60);

impl Cluster {
    /// Starts the cluster in `options.folder`, creating it first if there is none.
    ///
    /// # Errors
    /// [`StartError`], with what to do.
    pub fn start(options: Options) -> Result<Self, StartError> {
        let bin = binaries().ok_or(StartError::NotInstalled)?;
        let file = |path: &Path| {
            let path = path.to_owned();
            move |source| StartError::File { path, source }
        };
        fs::create_dir_all(&options.folder).map_err(file(&options.folder))?;
        let folder = options.folder.canonicalize().map_err(file(&options.folder))?;
        let folder = if geteuid().is_root() { settle(&folder, given_to_user)? } else { folder };
        let options = Options { folder, ..options };
        let password = password(&options.folder).map_err(file(&options.folder))?;
        if geteuid().is_root() {
            run(Command::new("chown").arg("postgres:postgres").arg(options.folder.join("password")))?;
        }
        if !options.folder.join("data/PG_VERSION").exists() {
            make(&bin, &options)?;
        }
        let port = match options.port {
            Some(port) => port,
            None => free_port().map_err(file(&options.folder))?,
        };
        let server = launch(&bin, &options, port).map_err(file(&bin.join("postgres")))?;
        let mut cluster = Self { server, bin, options, port, password };
        cluster.await_answer()?;
        Ok(cluster)
    }

    /// Returns its location: the requested folder, or another one if the server's user cannot enter that.
    #[must_use]
    pub fn folder(&self) -> &Path {
        &self.options.folder
    }

    /// The URL of a database in it.
    #[must_use]
    pub fn url(&self, database: &str) -> String {
        format!("postgres://{USER}:{}@127.0.0.1:{}/{database}", self.password, self.port)
    }

    /// The server's process id.
    #[must_use]
    pub fn id(&self) -> i32 {
        self.server.id()
    }

    /// Creates a database unless it exists.
    ///
    /// # Errors
    /// [`StartError::Failed`] with the server's words.
    pub fn create_database(&self, name: &str) -> Result<(), StartError> {
        let mut command = Command::new(self.bin.join("createdb"));
        command.args(["-h", "127.0.0.1", "-p", &self.port.to_string(), "-U", USER, name]).env("PGPASSWORD", &self.password);
        match run(&mut command) {
            Err(StartError::Failed { says, .. }) if says.contains("already exists") => Ok(()),
            other => other,
        }
    }

    /// Ends the server at once, as a stopped machine would; [`start_again`](Self::start_again) brings it back.
    pub fn stop(&mut self) {
        // SIGQUIT is an immediate shutdown: the next start recovers from the log.
        self.server.end(Signal::QUIT, LONGEST);
    }

    /// Starts it again at the same port.
    ///
    /// # Errors
    /// [`StartError`], with what to do.
    pub fn start_again(&mut self) -> Result<(), StartError> {
        let bin = self.bin.clone();
        self.server = launch(&bin, &self.options, self.port).map_err(|source| StartError::File { path: bin, source })?;
        self.await_answer()
    }

    fn await_answer(&mut self) -> Result<(), StartError> {
        let begun = Instant::now();
        while begun.elapsed() < LONGEST {
            let mut ready = Command::new(self.bin.join("pg_isready"));
            ready.args(["-q", "-h", "127.0.0.1", "-p", &self.port.to_string()]).stdout(Stdio::null()).stderr(Stdio::null());
            if ready.status().is_ok_and(|status| status.success()) {
                return Ok(());
            }
            if self.server.wait(Duration::from_millis(30)).is_some() {
                return Err(StartError::Ended(last_words(&self.options.folder.join("log"))));
            }
        }
        Err(StartError::Silent { waited: LONGEST, log: self.options.folder.join("log") })
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        // SIGINT is a fast shutdown: clients are cut off, data is written.
        let signal = if self.options.durable { Signal::INT } else { Signal::QUIT };
        self.server.end(signal, Duration::from_secs(20));
    }
}

/// The newest installed version's programs.
fn binaries() -> Option<PathBuf> {
    let versions = fs::read_dir("/usr/lib/postgresql").ok()?.filter_map(Result::ok);
    let mut found: Vec<(u32, PathBuf)> = versions
        .filter_map(|entry| Some((entry.file_name().to_str()?.parse().ok()?, entry.path().join("bin"))))
        .filter(|(_, bin)| bin.join("postgres").exists())
        .collect();
    found.sort();
    found.pop().map(|(_, bin)| bin)
}

fn make(bin: &Path, options: &Options) -> Result<(), StartError> {
    let data = text(&options.folder.join("data"));
    let mut arguments = vec!["-D".to_owned(), data, "-U".to_owned(), USER.to_owned(), "-E".to_owned(), "UTF8".to_owned()];
    arguments.extend(["--locale=C.UTF-8", "--auth=scram-sha-256", "--data-checksums"].map(str::to_owned));
    arguments.push(format!("--pwfile={}", text(&options.folder.join("password"))));
    if !options.durable {
        arguments.push("--no-sync".to_owned());
    }
    run(&mut as_user(&text(&bin.join("initdb")), &arguments))
}

fn launch(bin: &Path, options: &Options, port: u16) -> io::Result<OwnedProcess> {
    let mut arguments = user_arguments();
    arguments.extend(["--pdeathsig", "QUIT", "--"].map(str::to_owned));
    arguments.extend([
        text(&bin.join("postgres")),
        "-D".to_owned(),
        text(&options.folder.join("data")),
        "-p".to_owned(),
        port.to_string(),
    ]);
    let mut settings = vec![
        "listen_addresses=127.0.0.1",
        "unix_socket_directories=",
        "max_connections=200",
        "shared_buffers=256MB",
        "wal_compression=lz4",
        "max_wal_size=2GB",
    ];
    if !options.durable {
        settings.extend(["fsync=off", "full_page_writes=off", "synchronous_commit=off"]);
    }
    arguments.extend(settings.into_iter().flat_map(|setting| ["-c".to_owned(), setting.to_owned()]));
    let log = fs::OpenOptions::new().create(true).append(true).open(options.folder.join("log"))?;
    OwnedProcess::spawn_setpriv(arguments, move |command| {
        match log.try_clone() {
            Ok(other) => command.stdout(other).stderr(log),
            Err(_) => command.stdout(Stdio::null()).stderr(Stdio::null()),
        };
        command.current_dir("/");
    })
}

/// The arguments of `setpriv` that make us the package's user, when we are root: PostgreSQL refuses to run as root.
fn user_arguments() -> Vec<String> {
    if geteuid().is_root() {
        ["--reuid=postgres", "--regid=postgres", "--init-groups"].map(str::to_owned).to_vec()
    } else {
        Vec::new()
    }
}

/// Gives a folder to the package's user; whether that can write into it then.
fn given_to_user(folder: &Path) -> bool {
    let given = run(Command::new("chown").args(["postgres:postgres"]).arg(folder));
    let writes = as_user("test", &["-w".to_owned(), text(folder)]).status();
    given.is_ok() && writes.is_ok_and(|status| status.success())
}

fn as_user(program: &str, arguments: &[String]) -> Command {
    let mut command = Command::new("setpriv");
    command.args(user_arguments()).arg("--").arg(program).args(arguments).current_dir("/");
    command
}

fn run(command: &mut Command) -> Result<(), StartError> {
    let line = command_line(command);
    let failed = |says: String| StartError::Failed { command: line, says };
    let output: io::Result<Output> = Command::output(command);
    match output {
        Ok(output) if output.status.success() => Ok(()),
        Ok(output) => Err(failed(String::from_utf8_lossy(&output.stderr).trim().to_owned())),
        Err(error) => Err(failed(error.to_string())),
    }
}

fn command_line(command: &Command) -> String {
    let name = Path::new(command.get_program()).file_name().unwrap_or_default().to_string_lossy().into_owned();
    let first = command
        .get_args()
        .find(|argument| argument.to_string_lossy().starts_with('/'))
        .map(|argument| argument.to_string_lossy().into_owned());
    first.map_or(name.clone(), |first| format!("{name} {first}"))
}

fn last_words(log: &Path) -> String {
    let text = fs::read_to_string(log).unwrap_or_default();
    let lines: Vec<&str> = text.lines().rev().take(3).collect();
    lines.into_iter().rev().collect::<Vec<_>>().join(" | ")
}

fn text(path: &Path) -> String {
    path.to_string_lossy().into_owned()
}
