//! Webhooks: signed calls of 1 KB over 64 connections, answered after the commit. Beside the service, a bare handler that stores
//! each body in groups and does nothing else.
//!
//! Two times count: when the last call is answered, and when all messages are done.

use crate::cpu_seconds;
use crate::serving::serve;
use axum::Router;
use axum::body::Bytes;
use axum::extract::State;
use axum::http::StatusCode;
use axum::routing::post;
use sea_orm::{ConnectionTrait, Database, DatabaseConnection, Statement};
use std::net::SocketAddr;
use std::path::Path;
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::sync::{mpsc, oneshot};
use wirewatch_loopback::{OwnedProcess, free_port};
use wirewatch_standins::shop::sign;

/// Connections of the sender.
const SENDERS: usize = 64;
/// Calls of one measurement, and of a long one in which calls are answered and processed side by side.
pub const CALLS: usize = 320 * SENDERS;
pub const LONG_CALLS: usize = 8 * CALLS;
/// The argument that makes this program the bare handler.
pub const BARE: &str = "bare-handler";
const SECRET: &str = "whsec_YmVuY2htYXJrcyBzaGFyZSB0aGlzIG9uZSBzZWNyZXQ=";

const CONNECTION: &str = "kind = \"webhook\"\npath = \"bench\"\nsignature = { secret = \"bench\" }\n";
const FLOW: &str =
    "key = \"data.number\"\n[[intake]]\nfrom = \"bench\"\ntakes = \"order\"\n[[step]]\nname = \"keep\"\nset = \"data.total\"\n";

/// A group of bodies, each with the receiver of its answer.
type Waiting = mpsc::UnboundedSender<(Bytes, oneshot::Sender<()>)>;

/// Runs the bare handler as a process of its own until it is killed.
pub async fn bare(url: &str, port: u16) {
    let db = Database::connect(url).await.expect("a database");
    db.execute_unprepared("create table body (id bigserial primary key, bytes bytea not null)").await.expect("a table");
    let (waiting, bodies) = mpsc::unbounded_channel();
    tokio::spawn(store(db, bodies));
    let router = Router::new().route("/in/bench", post(keep)).route("/health/ready", post(async || ())).with_state(waiting);
    let listener = tokio::net::TcpListener::bind(SocketAddr::from(([127, 0, 0, 1], port))).await.expect("a port");
    axum::serve(listener, router).await.expect("served");
}

async fn keep(State(waiting): State<Waiting>, body: Bytes) -> StatusCode {
    let (tell, stored) = oneshot::channel();
    let _ = waiting.send((body, tell));
    if stored.await.is_ok() { StatusCode::ACCEPTED } else { StatusCode::SERVICE_UNAVAILABLE }
}

/// Writes all bodies that wait as soon as the last commit is done.
async fn store(db: DatabaseConnection, mut bodies: mpsc::UnboundedReceiver<(Bytes, oneshot::Sender<()>)>) {
    let mut group = Vec::new();
    while bodies.recv_many(&mut group, 500).await > 0 {
        let (values, tells): (Vec<Vec<u8>>, Vec<_>) = group.drain(..).map(|(body, tell)| (body.to_vec(), tell)).unzip();
        let text = "insert into body (bytes) select * from unnest($1::bytea[])";
        let statement = Statement::from_sql_and_values(db.get_database_backend(), text, [values.into()]);
        db.execute_raw(statement).await.expect("written");
        for tell in tells {
            let _ = tell.send(());
        }
    }
}

/// A measurement.
#[derive(Debug, Clone, Copy, Default)]
pub struct Calls {
    pub answered_per_s: f64,
    /// Until the message of each call was done; the bare handler makes none, so it has the same figure as above.
    pub done_per_s: f64,
    /// For each call, until its message was done.
    pub cpu_s: f64,
    pub database_cpu_s: f64,
}

/// Measures the bare handler on an empty database.
pub async fn measure_bare(url: &str, database: i32, calls: usize) -> Calls {
    let port = free_port().expect("a port");
    let own = std::env::current_exe().expect("a program has a file");
    let arguments = [BARE.to_owned(), port.to_string()];
    let url = url.to_owned();
    let process = OwnedProcess::spawn("KILL", &own.to_string_lossy(), &arguments, move |command| {
        command.env("WIREWATCH_DATABASE", url);
    });
    let process = process.expect("started");
    while TcpStream::connect(("127.0.0.1", port)).await.is_err() {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    send(port, (process.id(), database), calls, async || {}).await
}

/// Measures the service on an empty database.
pub async fn measure_service(program: &Path, url: &str, database: i32, calls: usize) -> Calls {
    let files = [
        ("workspace.toml", "format = 1\n"),
        ("connections/bench.toml", CONNECTION),
        ("flows/bench.toml", FLOW),
        ("schemas/order.schema.json", "{ \"type\": \"object\", \"properties\": { \"data\": {} } }"),
    ];
    let serving = serve(program, url, &files, ("bench", SECRET)).await;
    let db = Database::connect(url).await.expect("a database");
    let all_done = async || {
        while done(&db).await < calls as i64 {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    };
    send(serving.port, (serving.process.id(), database), calls, all_done).await
}

/// Messages of the flow, which has one step, that are done.
async fn done(db: &DatabaseConnection) -> i64 {
    let text = "select coalesce(sum(n), 0)::bigint from tally";
    let row = db.query_one_raw(Statement::from_string(db.get_database_backend(), text)).await.expect("read");
    row.expect("a row").try_get_by_index(0).expect("a number")
}

/// Sends the calls over all connections, each the next one when the last is answered.
async fn send(port: u16, (program, database): (i32, i32), number: usize, all_done: impl AsyncFn()) -> Calls {
    let calls: Vec<Vec<Vec<u8>>> =
        (0..SENDERS).map(|sender| (0..number / SENDERS).map(|n| call(port, &format!("{sender}-{n}"))).collect()).collect();
    let (cpu, database_cpu, begun) = (cpu_seconds(program), cpu_seconds(database), Instant::now());
    let senders: Vec<_> = calls.into_iter().map(|calls| tokio::spawn(send_one_by_one(port, calls))).collect();
    for sender in senders {
        sender.await.expect("every call is answered 202");
    }
    let each = number as f64;
    let answered_per_s = each / begun.elapsed().as_secs_f64();
    all_done().await;
    Calls {
        answered_per_s,
        done_per_s: each / begun.elapsed().as_secs_f64(),
        cpu_s: (cpu_seconds(program) - cpu) / each,
        database_cpu_s: (cpu_seconds(database) - database_cpu) / each,
    }
}

fn call(port: u16, id: &str) -> Vec<u8> {
    let seconds = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
    let padding = "clover ".repeat(130);
    let body = format!(r#"{{"type":"purchase.placed","data":{{"number":"W-{id}","total":12.50,"note":"{padding}"}}}}"#);
    let signature = sign(SECRET, id, seconds, body.as_bytes());
    let head = format!(
        "POST /in/bench HTTP/1.1\r\nHost: 127.0.0.1:{port}\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\
         webhook-id: {id}\r\nwebhook-timestamp: {seconds}\r\nwebhook-signature: {signature}\r\n\r\n",
        body.len()
    );
    (head + &body).into_bytes()
}

/// A sender that costs next to nothing, since it shares the machine: bytes made before, answers read to their length.
async fn send_one_by_one(port: u16, calls: Vec<Vec<u8>>) {
    let mut stream = TcpStream::connect(("127.0.0.1", port)).await.expect("connected");
    stream.set_nodelay(true).expect("set");
    let mut answer = Vec::with_capacity(4096);
    for call in calls {
        stream.write_all(&call).await.expect("sent");
        answer.clear();
        while !is_whole(&answer) {
            assert!(stream.read_buf(&mut answer).await.expect("read") > 0, "the connection was closed");
        }
        assert!(answer.starts_with(b"HTTP/1.1 202"), "{}", String::from_utf8_lossy(&answer));
    }
}

fn is_whole(answer: &[u8]) -> bool {
    let Some(head) = answer.windows(4).position(|four| four == b"\r\n\r\n") else { return false };
    let text = String::from_utf8_lossy(&answer[..head]).to_ascii_lowercase();
    let length = text.lines().find_map(|line| line.strip_prefix("content-length:")?.trim().parse::<usize>().ok());
    answer.len() >= head + 4 + length.unwrap_or(0)
}
