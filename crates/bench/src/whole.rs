//! The service as its users run it, with an order system that answers at once.

use crate::{Measured, cpu_seconds};
use axum::extract::State;
use axum::routing::post;
use axum::{Json, Router};
use serde_json::{Value, json};
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use wirewatch_loopback::{OwnedProcess, free_port};
use wirewatch_standins::marrowfield::{Flaw, Marrowfield, drop_file};

/// When each order was booked, by its number.
type Booked = Arc<Mutex<HashMap<String, Instant>>>;

/// A running service with its partner and an instant order system.
pub struct Whole {
    service: OwnedProcess,
    database: i32,
    folder: tempfile::TempDir,
    marrowfield: Marrowfield,
    booked: Booked,
    port: u16,
}

/// Latency at a steady load.
#[derive(Debug, Clone, Copy)]
pub struct Latency {
    pub rate: f64,
    pub p50_ms: f64,
    pub p99_ms: f64,
}

/// All that it reads of an order: it should cost next to nothing.
#[derive(serde::Deserialize)]
struct Order {
    reference: String,
}

async fn book(State(booked): State<Booked>, Json(Order { reference }): Json<Order>) -> (axum::http::StatusCode, Json<Value>) {
    let mut booked = booked.lock().expect("no holder panics");
    let number = format!("Q-{}", 100_001 + booked.len());
    booked.entry(reference).or_insert_with(Instant::now);
    (axum::http::StatusCode::CREATED, Json(json!({ "order_number": number })))
}

impl Whole {
    /// Starts it on an empty database.
    pub async fn start(program: &Path, url: &str, database: i32) -> Self {
        let booked = Booked::default();
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let address = format!("http://{}", listener.local_addr().expect("an address"));
        let router = Router::new().route("/orders", post(book)).with_state(booked.clone());
        tokio::spawn(async move { axum::serve(listener, router).await });
        let folder = tempfile::tempdir().expect("a folder");
        let workspace = folder.path().join("workspace");
        copy(Path::new("demo/workspace"), &workspace);
        let erp = workspace.join("connections/erp.toml");
        let text = std::fs::read_to_string(&erp).expect("the connection");
        std::fs::write(&erp, text.replace("http://127.0.0.1:7812", &address).replace("= 16", "= 64")).expect("written");
        // Without the warehouse: its broker is not part of this.
        for file in [
            "connections/warehouse.toml",
            "milestones/web-order.toml",
            "env/demo.toml",
            "flows/moved-dates.toml",
            "flows/picks.toml",
            "flows/shipments.toml",
        ] {
            std::fs::remove_file(workspace.join(file)).expect("a file of the demo");
        }
        std::fs::remove_dir_all(workspace.join("cases")).expect("the demo's cases");
        let port = free_port().expect("a port");
        let text = |path: PathBuf| path.to_string_lossy().into_owned();
        let state = folder.path().join("state");
        let arguments =
            ["serve", "--listen", &format!("127.0.0.1:{port}"), "--workspace", &text(workspace), "--state", &text(state.clone())]
                .map(str::to_owned);
        let url = url.to_owned();
        let service = OwnedProcess::spawn("KILL", &text(program.to_owned()), &arguments, move |command| {
            command.env("WIREWATCH_DATABASE", url).env("WIREWATCH_LOG", "warn");
        });
        let whole = Self {
            service: service.expect("started"),
            database,
            folder,
            marrowfield: Marrowfield::new(1, 100, 100_000),
            booked,
            port,
        };
        while !wirewatch_loopback::http_client()
            .get(format!("http://127.0.0.1:{port}/health/ready"))
            .send()
            .await
            .is_ok_and(|response| response.status().is_success())
        {
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        whole
    }

    fn drop_folder(&self) -> PathBuf {
        self.folder.path().join("state/files/marrowfield/to-us")
    }

    fn count(&self) -> usize {
        self.booked.lock().expect("no holder panics").len()
    }

    /// Waits until so many orders are booked and nothing is unfinished.
    async fn quiet(&self, orders: usize) {
        while self.count() < orders || self.unfinished().await > 0 {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    }

    async fn get(&self, path: &str) -> Value {
        let text = std::fs::read_to_string(self.folder.path().join("state/token.json")).unwrap_or_default();
        let token: Value = serde_json::from_str(&text).unwrap_or_default();
        let request = wirewatch_loopback::http_client().get(format!("http://127.0.0.1:{}{path}", self.port));
        let response = request.bearer_auth(token["token"].as_str().unwrap_or_default()).send().await;
        match response {
            Ok(response) => response.json().await.unwrap_or_default(),
            Err(_) => Value::Null,
        }
    }

    async fn unfinished(&self) -> i64 {
        let status = self.get("/api/status").await;
        status["unfinished"].as_object().map_or(1, |states| states.values().filter_map(Value::as_i64).sum())
    }

    /// Runs so many orders as fast as possible.
    pub async fn pass(&mut self, orders: usize, per_file: usize) -> Measured {
        let files: Vec<(String, String)> = (0..orders / per_file)
            .map(|_| {
                let sent = self.marrowfield.interchange_of(per_file, Flaw::None);
                (format!("po-{:06}.edi", sent.control), sent.text)
            })
            .collect();
        let already = self.count();
        let (cpu, database_cpu, begun) = (cpu_seconds(self.service.id()), cpu_seconds(self.database), Instant::now());
        for (name, text) in &files {
            drop_file(&self.drop_folder(), name, text.as_bytes()).expect("dropped");
        }
        self.quiet(already + orders).await;
        Measured {
            orders_per_s: orders as f64 / begun.elapsed().as_secs_f64(),
            cpu_s: cpu_seconds(self.service.id()) - cpu,
            database_cpu_s: cpu_seconds(self.database) - database_cpu,
        }
    }

    /// Measures the latency from a complete file to the booking at a steady rate for ten seconds; files arrive at fixed times.
    pub async fn latency(&mut self, rate: f64) -> Latency {
        const PER_FILE: usize = 10;
        let every = Duration::from_secs_f64(PER_FILE as f64 / rate);
        let mut dropped: Vec<(Instant, Vec<String>)> = Vec::new();
        let begun = Instant::now();
        for n in 0u32.. {
            let due = begun + every * n;
            if due > begun + Duration::from_secs(10) {
                break;
            }
            tokio::time::sleep_until(due.into()).await;
            let sent = self.marrowfield.interchange_of(PER_FILE, Flaw::None);
            drop_file(&self.drop_folder(), &format!("po-{:06}.edi", sent.control), sent.text.as_bytes()).expect("dropped");
            dropped.push((Instant::now(), sent.orders));
        }
        self.quiet(dropped.len() * PER_FILE).await;
        let booked = self.booked.lock().expect("no holder panics");
        let mut waits: Vec<f64> = dropped
            .iter()
            .flat_map(|(at, orders)| {
                orders.iter().map(|order| booked[order].saturating_duration_since(*at).as_secs_f64() * 1000.0)
            })
            .collect();
        waits.sort_by(f64::total_cmp);
        let at = |share: f64| waits[((waits.len() - 1) as f64 * share) as usize];
        Latency { rate, p50_ms: at(0.5), p99_ms: at(0.99) }
    }

    /// Orders a second of each tenth of a long run.
    pub async fn tenths(&mut self, orders: usize, per_file: usize) -> [f64; 10] {
        let mut rates = [0.0; 10];
        for rate in &mut rates {
            *rate = self.pass(orders / 10, per_file).await.orders_per_s;
        }
        rates
    }

    /// The most memory the service has used.
    pub fn peak_memory_kb(&self) -> u64 {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.service.id())).unwrap_or_default();
        let line = status.lines().find(|line| line.starts_with("VmHWM:")).unwrap_or_default();
        line.split_whitespace().nth(1).and_then(|kb| kb.parse().ok()).unwrap_or(0)
    }
}

fn copy(from: &Path, to: &Path) {
    std::fs::create_dir_all(to).expect("a folder");
    for entry in std::fs::read_dir(from).expect("the demo workspace; run this at the top of the checkout") {
        let path = entry.expect("an entry").path();
        let target = to.join(path.file_name().expect("a name"));
        if path.is_dir() { copy(&path, &target) } else { std::fs::copy(&path, &target).map(|_| ()).expect("copied") }
    }
}
