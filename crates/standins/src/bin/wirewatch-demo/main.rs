//! Starts and stops the whole demo: a private PostgreSQL and broker, the stand-ins, and the service with the demo workspace.

mod stage;
mod traffic;

use anstream::{eprintln, println};
use clap::{Parser, Subcommand};
use rustix::fs::{FlockOperation, flock};
use rustix::process::Signal;
use serde_json::{Value, json};
use stage::Stage;
use std::fs::{self, File, OpenOptions};
use std::io::{Read, Seek, Write};
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::Duration;
use wirewatch_loopback::{BrokerOptions, Cluster, LoopbackBroker, Options, OwnedProcess, http_client, moved};
use wirewatch_standins::chat::Chat;
use wirewatch_standins::order_system::{Faults, OrderSystem, Summary};
use wirewatch_standins::warehouse::{self, Bus};

const SERVICE: u16 = 7811;
const ORDER_SYSTEM: u16 = 7812;
const DATABASE: u16 = 7813;
const BROKER: u16 = 7814;
const CHAT: u16 = 7815;
/// Path of the shop's webhook, as in `connections/shop.toml`.
const SHOP: &str = "shop-7d2f";

/// The Wire Watch demo: Quillhaven Bee Supply, its web shop, order system and warehouse, and its partner Marrowfield.
#[derive(Parser)]
struct Args {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Run the demo until Ctrl-C; its data stays
    Run {
        /// Folder for all data
        #[arg(long, default_value = "state")]
        state: PathBuf,
        /// The demo workspace
        #[arg(long, default_value = "demo/workspace")]
        workspace: PathBuf,
        /// The `wirewatch` program
        #[arg(long, default_value = "bin/wirewatch")]
        program: PathBuf,
        /// Seconds between two files of Marrowfield
        #[arg(long, default_value_t = 5)]
        every: u64,
    },
    /// Stop the order system answering, or let it answer again
    Outage { state: Switch },
    /// Delete the demo's data
    Reset {
        #[arg(long, default_value = "state")]
        state: PathBuf,
    },
}

#[derive(Clone, Copy, clap::ValueEnum)]
enum Switch {
    On,
    Off,
}

fn main() -> ExitCode {
    let done = match Args::parse().command {
        Command::Run { state, workspace, program, every } => run(&state, &workspace, &program, every),
        Command::Outage { state } => outage(state),
        Command::Reset { state } => reset(&state),
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(says) => {
            eprintln!("{says}");
            ExitCode::FAILURE
        }
    }
}

fn run(state: &Path, workspace: &Path, program: &Path, every: u64) -> Result<(), String> {
    fs::create_dir_all(state).map_err(|error| format!("{}: {error}", state.display()))?;
    let state = state.canonicalize().map_err(|error| format!("{}: {error}", state.display()))?;
    let _lock = lock(&state)?;
    if !program.exists() {
        return Err(format!("{} is not built yet: run `make demo`, which builds it first", program.display()));
    }
    let needed = [
        (SERVICE, "the service"),
        (ORDER_SYSTEM, "the order system"),
        (DATABASE, "the database"),
        (BROKER, "the broker"),
        (CHAT, "the chat"),
    ];
    for (port, what) in needed {
        TcpListener::bind(("127.0.0.1", port)).map_err(|error| {
            format!(
                "port {port}, which {what} needs, is in use ({error}). Stop the program there; find it with `ss -ltnp | grep {port}`"
            )
        })?;
    }
    let runtime = tokio::runtime::Runtime::new().map_err(|error| error.to_string())?;
    let stopping = runtime.spawn(stop_signal());

    let options = BrokerOptions { folder: state.join("broker"), port: Some(BROKER) };
    let broker = std::thread::spawn(|| LoopbackBroker::start(options));
    let stage = Stage::begin("starting PostgreSQL and the broker");
    let database = Cluster::start(Options { folder: state.join("postgres"), port: Some(DATABASE), durable: true })
        .map_err(|error| error.to_string())?;
    database.create_database("wirewatch").map_err(|error| error.to_string())?;
    let broker = broker.join().map_err(|_| "the broker's thread ended".to_owned())?.map_err(|error| error.to_string())?;
    stage.done();
    if !database.folder().starts_with(&state) {
        println!(
            "The database's user cannot enter {}, so its data is in {}. `make demo-reset` removes it there too.",
            state.display(),
            database.folder().display()
        );
    }

    let orders = OrderSystem::stored_in(&state.join("orders.jsonl")).map_err(|error| format!("orders.jsonl: {error}"))?;
    for (port, router) in [(ORDER_SYSTEM, orders.router()), (CHAT, Chat::default().router())] {
        let listener = runtime.block_on(tokio::net::TcpListener::bind(("127.0.0.1", port)));
        let listener = listener.map_err(|error| format!("port {port}: {error}"))?;
        runtime.spawn(async move { axum::serve(listener, router).await });
    }

    let stage = Stage::begin("starting the service");
    let mut service = start_service(&state, workspace, program, &database)?;
    let health = format!("http://127.0.0.1:{SERVICE}/health/ready");
    while !runtime.block_on(answers(&health)) {
        if service.wait(Duration::from_millis(100)).is_some() {
            return Err(format!(
                "the service stopped while starting; its last lines:\n{}",
                last_words(&state.join("service.log"))
            ));
        }
    }
    stage.done();
    let token = token(&state)?;
    let secret = runtime.block_on(shop_secret(&token)).map_err(|error| format!("no secret for the shop: {error}"))?;
    let (user, password) = broker.user();
    let bus = Bus { address: broker.address(), user: user.into(), password: password.into(), prefix: String::new() };
    let set = runtime.block_on(set_secret(&token, "warehouse-bus", &json!({ "value": password })));
    set.map_err(|error| format!("no password for the warehouse's broker: {error}"))?;
    let every = Duration::from_secs(every);
    runtime.spawn(traffic::release(state.clone(), bus.clone(), orders));
    runtime.spawn(warehouse::pack(bus, every / 3));
    let traffic = runtime.spawn(traffic::run(state.clone(), every));
    runtime.spawn(traffic::shop(state.clone(), format!("http://127.0.0.1:{SERVICE}/in/{SHOP}"), secret, every));
    let link = runtime.block_on(console_link(&token)).map_err(|error| format!("no link to the console: {error}"))?;
    welcome(program, &state, &link);
    while !stopping.is_finished() && !traffic.is_finished() {
        if service.wait(Duration::from_millis(100)).is_some() {
            return Err(format!("the service stopped; its last lines:\n{}", last_words(&state.join("service.log"))));
        }
    }
    if traffic.is_finished() {
        return Err(runtime.block_on(traffic).unwrap_or_else(|error| error.to_string()));
    }
    let stage = Stage::begin("stopping the service, the broker and the database");
    service.end(Signal::TERM, Duration::from_secs(10));
    drop(broker);
    drop(database);
    stage.done();
    println!("All data is stored in {}; `make demo` continues with it, `make demo-reset` deletes it.", state.display());
    Ok(())
}

fn start_service(state: &Path, workspace: &Path, program: &Path, database: &Cluster) -> Result<OwnedProcess, String> {
    let text = |path: &Path| path.to_string_lossy().into_owned();
    let arguments: Vec<String> = [
        "serve",
        "--listen",
        &format!("127.0.0.1:{SERVICE}"),
        "--workspace",
        &text(workspace),
        "--env",
        "demo",
        "--state",
        &text(state),
    ]
    .map(str::to_owned)
    .to_vec();
    let url = database.url("wirewatch");
    let log = OpenOptions::new()
        .create(true)
        .append(true)
        .open(state.join("service.log"))
        .map_err(|error| format!("service.log: {error}"))?;
    OwnedProcess::spawn("TERM", &text(program), &arguments, move |command| {
        // In the environment: other users can read the arguments of a process.
        command.env("WIREWATCH_DATABASE", url);
        if let Ok(other) = log.try_clone() {
            command.stdout(other);
        }
        command.stderr(log);
    })
    .map_err(|error| format!("{}: {error}", program.display()))
}

fn welcome(program: &Path, state: &Path, link: &str) {
    let program = program.display();
    println!(
        "
Quillhaven Bee Supply is open. Marrowfield drops purchase orders, the web shop tells of purchases, the order system
books them, the warehouse packs what the shop sold.

  console       {link}
                (works once, for ten minutes; another: {program} console)
  order system  http://127.0.0.1:{ORDER_SYSTEM}   (has a switch for outages)
  chat          http://127.0.0.1:{CHAT}   (notices to people)
  stored in     {}

Or in another terminal in this folder:

  {program} watch             orders as they pass
  {program} orders            each order along its milestones
  {program} reasons           what failed, and why

  make demo-outage           stops the order system; make demo-recover lets it answer again
  Ctrl-C ends everything and keeps the data
",
        state.display()
    );
}

fn token(state: &Path) -> Result<String, String> {
    let text = fs::read_to_string(state.join("token.json")).map_err(|error| format!("token.json: {error}"))?;
    let token: serde_json::Value = serde_json::from_str(&text).map_err(|error| format!("token.json: {error}"))?;
    Ok(token["token"].as_str().unwrap_or_default().to_owned())
}

/// Asks the service as its owner.
async fn answered(request: reqwest::RequestBuilder, token: &str) -> Result<Value, String> {
    let answer = async { request.bearer_auth(token).send().await?.error_for_status()?.json().await };
    answer.await.map_err(|error: reqwest::Error| error.to_string())
}

/// A link that opens the console, signed in.
async fn console_link(token: &str) -> Result<String, String> {
    let link = answered(http_client().post(format!("http://127.0.0.1:{SERVICE}/api/links")), token).await?;
    link["url"].as_str().map(str::to_owned).ok_or_else(|| "the service gave none".to_owned())
}

/// A new secret for the shop's calls: it is shown once, so each start makes one.
async fn shop_secret(token: &str) -> Result<String, String> {
    let set = set_secret(token, "shop-signing", &json!({ "keep_seconds": 60 })).await?;
    set["value"].as_str().map(str::to_owned).ok_or_else(|| "the service gave none".to_owned())
}

async fn set_secret(token: &str, name: &str, request: &Value) -> Result<Value, String> {
    let put = http_client().put(format!("http://127.0.0.1:{SERVICE}/api/secrets/{name}"));
    answered(put.json(request), token).await
}

async fn stop_signal() {
    use tokio::signal::unix::{SignalKind, signal};
    let Ok(mut terminate) = signal(SignalKind::terminate()) else { return };
    tokio::select! {
        _ = tokio::signal::ctrl_c() => {}
        _ = terminate.recv() => {}
    }
}

async fn answers(url: &str) -> bool {
    http_client().get(url).send().await.is_ok_and(|response| response.status().is_success())
}

/// Allows one demo at a time in a folder. The lock ends with its process, so a left-over file means nothing.
fn lock(state: &Path) -> Result<File, String> {
    let path = state.join("demo.lock");
    let failed = |error: std::io::Error| format!("{}: {error}", path.display());
    let mut file = OpenOptions::new().read(true).write(true).create(true).truncate(false).open(&path).map_err(failed)?;
    if flock(&file, FlockOperation::NonBlockingLockExclusive).is_err() {
        let mut process = String::new();
        let _ = file.read_to_string(&mut process);
        return Err(format!(
            "The demo is already running (process {}). Use it, or stop it with Ctrl-C where it was started.",
            process.trim()
        ));
    }
    file.set_len(0)
        .and_then(|()| file.rewind())
        .and_then(|()| file.write_all(std::process::id().to_string().as_bytes()))
        .map_err(failed)?;
    Ok(file)
}

fn last_words(log: &Path) -> String {
    let text = fs::read_to_string(log).unwrap_or_default();
    let lines: Vec<&str> = text.lines().rev().take(5).collect();
    lines.into_iter().rev().collect::<Vec<_>>().join("\n")
}

fn outage(switch: Switch) -> Result<(), String> {
    let outage = matches!(switch, Switch::On);
    let runtime = tokio::runtime::Runtime::new().map_err(|error| error.to_string())?;
    let faults = Faults { outage, ..Faults::default() };
    let sent = runtime.block_on(async {
        let response = http_client().post(format!("http://127.0.0.1:{ORDER_SYSTEM}/faults")).json(&faults).send().await?;
        response.json::<Summary>().await
    });
    let summary =
        sent.map_err(|_| "The order system does not answer: is the demo running? Start it with `make demo`.".to_owned())?;
    println!("The order system is {}; {} orders are booked.", if outage { "closed" } else { "open" }, summary.booked);
    Ok(())
}

fn reset(state: &Path) -> Result<(), String> {
    if !state.exists() {
        println!("There is no demo data to delete.");
        return Ok(());
    }
    let _lock = lock(state)?;
    if let Some(elsewhere) = moved(&state.join("postgres")) {
        fs::remove_dir_all(&elsewhere).map_err(|error| format!("{}: {error}", elsewhere.display()))?;
        println!("{} is deleted.", elsewhere.display());
    }
    fs::remove_dir_all(state).map_err(|error| format!("{}: {error}", state.display()))?;
    println!("{} is deleted.", state.display());
    Ok(())
}
