//! A private message broker: Debian's `rabbitmq-server` as a node on loopback, with its own folder, password and port mapper, so
//! that it finds no other node of this machine.

use crate::process::{OwnedProcess, free_port};
use crate::secret::password;
use rustix::process::Signal;
use std::fs;
use std::io::{self, Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Options of a broker.
#[derive(Debug, Clone)]
pub struct BrokerOptions {
    /// Holds its data, settings, password and log; made when missing.
    pub folder: PathBuf,
    /// A free one when `None`.
    pub port: Option<u16>,
}

/// A running broker. Dropped, it is ended.
#[derive(Debug)]
pub struct LoopbackBroker {
    server: OwnedProcess,
    /// Tells the node's own programs where it is; nothing of the node works without one.
    _mapper: OwnedProcess,
    options: BrokerOptions,
    ports: Ports,
    password: String,
}

/// Why a broker cannot be started.
#[derive(Debug, thiserror::Error)]
pub enum BrokerError {
    #[error("RabbitMQ is not installed: no {SERVER}. Install the Debian package `rabbitmq-server`")]
    NotInstalled,
    #[error("{path}: {source}")]
    File { path: PathBuf, source: io::Error },
    #[error("the broker ended while starting: {0}")]
    Ended(String),
    #[error("the broker did not answer within {} s; its log is {log}", .waited.as_secs())]
    Silent { waited: Duration, log: PathBuf },
}

#[derive(Debug, Clone, Copy)]
struct Ports {
    amqp: u16,
    /// Port for other nodes; there are none, but the program requires one.
    nodes: u16,
    mapper: u16,
}

const SERVER: &str = "/usr/lib/rabbitmq/bin/rabbitmq-server";
/// Steers a node that runs.
const CONTROL: &str = "/usr/lib/rabbitmq/bin/rabbitmqctl";
/// The user it is made with.
const USER: &str = "wirewatch";
/// A cold start on a busy machine.
const LONGEST: Duration = Duration::from_secs(90);

impl LoopbackBroker {
    /// Starts the broker in `options.folder`.
    ///
    /// # Errors
    /// [`BrokerError`], with what to do.
    pub fn start(options: BrokerOptions) -> Result<Self, BrokerError> {
        if !Path::new(SERVER).exists() {
            return Err(BrokerError::NotInstalled);
        }
        let file = |path: &Path| {
            let path = path.to_owned();
            move |source| BrokerError::File { path, source }
        };
        fs::create_dir_all(&options.folder).map_err(file(&options.folder))?;
        let folder = options.folder.canonicalize().map_err(file(&options.folder))?;
        let options = BrokerOptions { folder, ..options };
        let free = || free_port().map_err(file(&options.folder));
        let ports = Ports { amqp: options.port.map_or_else(free, Ok)?, nodes: free()?, mapper: free()? };
        let password = password(&options.folder).map_err(file(&options.folder))?;
        settings(&options.folder, ports, &password).map_err(file(&options.folder))?;
        let mapper = mapper(ports.mapper).map_err(file(Path::new("epmd")))?;
        let server = launch(&options.folder, ports).map_err(file(Path::new(SERVER)))?;
        let mut broker = Self { server, _mapper: mapper, options, ports, password };
        broker.await_answer()?;
        Ok(broker)
    }

    /// Returns its address, without credentials.
    #[must_use]
    pub fn address(&self) -> String {
        format!("amqp://127.0.0.1:{}", self.ports.amqp)
    }

    /// The user and the password that may do everything.
    #[must_use]
    pub fn user(&self) -> (&str, &str) {
        (USER, &self.password)
    }

    /// Ends it at once, as a stopped machine would; [`start_again`](Self::start_again) brings it back.
    pub fn stop(&mut self) {
        self.server.end(Signal::KILL, LONGEST);
    }

    /// Starts it again at the same port, with what it had.
    ///
    /// # Errors
    /// [`BrokerError`], with what to do.
    pub fn start_again(&mut self) -> Result<(), BrokerError> {
        let server = launch(&self.options.folder, self.ports);
        self.server = server.map_err(|source| BrokerError::File { path: SERVER.into(), source })?;
        self.await_answer()
    }

    /// Blocks publishing as when the broker is short of memory, or unblocks it.
    ///
    /// # Errors
    /// [`BrokerError`] when the broker's own program fails.
    pub fn block(&self, blocked: bool) -> Result<(), BrokerError> {
        let most = if blocked { "1" } else { "512MiB" };
        let mut command = Command::new(CONTROL);
        environment(&mut command, &self.options.folder, self.ports);
        command.args(["--quiet", "set_vm_memory_high_watermark", "absolute", most]).current_dir(&self.options.folder);
        let output = command.output().map_err(|source| BrokerError::File { path: CONTROL.into(), source })?;
        match output.status.success() {
            true => Ok(()),
            false => Err(BrokerError::Ended(String::from_utf8_lossy(&output.stderr).into_owned())),
        }
    }

    fn await_answer(&mut self) -> Result<(), BrokerError> {
        let begun = Instant::now();
        while begun.elapsed() < LONGEST {
            if speaks(self.ports.amqp) {
                return Ok(());
            }
            if self.server.wait(Duration::from_millis(50)).is_some() {
                return Err(BrokerError::Ended(last_words(&self.options.folder.join("log"))));
            }
        }
        Err(BrokerError::Silent { waited: LONGEST, log: self.options.folder.join("log") })
    }
}

impl Drop for LoopbackBroker {
    fn drop(&mut self) {
        // Confirmed messages are on disk, so there is nothing to wait for.
        self.server.end(Signal::KILL, Duration::from_secs(5));
    }
}

/// Returns whether a broker answers the protocol header with its first method (AMQP 0-9-1, 4.2.2).
fn speaks(port: u16) -> bool {
    let ask = || -> io::Result<u8> {
        let mut stream = TcpStream::connect_timeout(&SocketAddr::from(([127, 0, 0, 1], port)), Duration::from_secs(1))?;
        stream.set_read_timeout(Some(Duration::from_secs(2)))?;
        stream.write_all(b"AMQP\x00\x00\x09\x01")?;
        let mut first = [0];
        stream.read_exact(&mut first)?;
        Ok(first[0])
    };
    const METHOD: u8 = 1;
    ask().is_ok_and(|first| first == METHOD)
}

fn settings(folder: &Path, ports: Ports, password: &str) -> io::Result<()> {
    let text = format!(
        "listeners.tcp.1 = 127.0.0.1:{}\n\
         default_user = {USER}\n\
         default_pass = {password}\n\
         loopback_users = none\n\
         vm_memory_high_watermark.absolute = 512MiB\n\
         disk_free_limit.absolute = 50MB\n\
         log.console = true\n\
         log.file = false\n",
        ports.amqp
    );
    let path = folder.join("rabbitmq.conf");
    fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path)?.write_all(text.as_bytes())?;
    fs::write(folder.join("plugins"), "[].\n")
}

fn mapper(port: u16) -> io::Result<OwnedProcess> {
    let arguments = ["-port".to_owned(), port.to_string(), "-address".to_owned(), "127.0.0.1".to_owned()];
    OwnedProcess::spawn("KILL", "epmd", &arguments, |command| {
        command.stdout(Stdio::null()).stderr(Stdio::null());
    })
}

fn launch(folder: &Path, ports: Ports) -> io::Result<OwnedProcess> {
    let log = fs::OpenOptions::new().create(true).append(true).open(folder.join("log"))?;
    let folder = folder.to_owned();
    OwnedProcess::spawn("KILL", SERVER, &[], move |command| {
        environment(command, &folder, ports);
        match log.try_clone() {
            Ok(other) => command.stdout(other).stderr(log),
            Err(_) => command.stdout(Stdio::null()).stderr(Stdio::null()),
        };
        command.current_dir(&folder);
    })
}

/// Sets the places of all its files, which would otherwise be those of the package.
fn environment(command: &mut Command, folder: &Path, ports: Ports) {
    let at = |name: &str| folder.join(name);
    command
        .env("HOME", folder)
        // With it the script becomes the server instead of waiting for it, so the server is our child and ends with us.
        .env("NOTIFY_SOCKET", at("nobody"))
        .env("RABBITMQ_CONF_ENV_FILE", "/dev/null")
        .env("RABBITMQ_NODENAME", "wirewatch@localhost")
        .env("RABBITMQ_BASE", folder)
        .env("RABBITMQ_MNESIA_BASE", at("data"))
        .env("RABBITMQ_LOG_BASE", folder)
        .env("RABBITMQ_LOGS", "-")
        .env("RABBITMQ_CONFIG_FILE", at("rabbitmq.conf"))
        .env("RABBITMQ_ENABLED_PLUGINS_FILE", at("plugins"))
        .env("RABBITMQ_FEATURE_FLAGS_FILE", at("flags"))
        .env("RABBITMQ_DIST_PORT", ports.nodes.to_string())
        .env("ERL_EPMD_PORT", ports.mapper.to_string())
        .env("ERL_EPMD_ADDRESS", "127.0.0.1")
        // Its threads sleep when there is nothing to do, instead of polling for a while.
        .env(
            "ERL_AFLAGS",
            "-start_epmd false +sbwt none +sbwtdcpu none +sbwtdio none -kernel inet_dist_use_interface {127,0,0,1}",
        );
}

fn last_words(log: &Path) -> String {
    let text = fs::read_to_string(log).unwrap_or_default();
    let lines: Vec<&str> = text.lines().filter(|line| !line.trim().is_empty()).rev().take(3).collect();
    lines.into_iter().rev().collect::<Vec<_>>().join(" | ")
}
