//! Measures the whole system beside its physical limit, in one run, and writes `docs/BENCHMARKS.md`.
//!
//! Two programs take turns: the service (file → map → order system → done, journal on, fsync on), and a bare program that writes
//! the same rows through the same grouped statement and does nothing else. Likewise webhooks beside a bare handler, and queues
//! beside relays.

mod bare;
mod edi;
mod hooks;
mod queues;
mod report;
mod serving;
mod steady;
mod whole;

use hooks::Calls;
use queues::Relay;
use std::path::PathBuf;
use wirewatch_loopback::{BrokerOptions, Cluster, LoopbackBroker, Options};

// The service's allocator, for both sides.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Pairs measured; the median of each side counts.
const PAIRS: usize = 5;
/// Orders of one measurement, and in one file.
const ORDERS: usize = 10_000;
const PER_FILE: usize = 100;
/// Orders of the long run.
const LONG: usize = 200_000;

/// Messages a second at rest, when the peak is not measured.
const RATE_AT_REST: f64 = 500.0;

/// A measurement.
#[derive(Debug, Clone, Copy, Default)]
pub struct Measured {
    pub orders_per_s: f64,
    /// Of the measured program, without the database.
    pub cpu_s: f64,
    /// Of the database server.
    pub database_cpu_s: f64,
}

fn main() {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().expect("a runtime");
    let arguments: Vec<String> = std::env::args().collect();
    if arguments.get(1).is_some_and(|first| first == queues::RELAY) {
        return runtime.block_on(queues::relay(&arguments[2..]));
    }
    match arguments.iter().position(|argument| argument == hooks::BARE).and_then(|n| arguments.get(n + 1)?.parse().ok()) {
        Some(port) => runtime.block_on(hooks::bare(&std::env::var("WIREWATCH_DATABASE").expect("a database"), port)),
        None => runtime.block_on(run()),
    }
}

async fn run() {
    // Parts by themselves, while one works on them; only the whole writes the page.
    let asked = |part: &str| std::env::args().any(|argument| argument == part);
    if asked("--edi") {
        return print!("{}", edi::measure(&program()).markdown());
    }
    let folder = tempfile::Builder::new().prefix("wirewatch-bench-").tempdir().expect("a folder");
    std::fs::set_permissions(folder.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755)).expect("permissions");
    let server = |name: &str| {
        let options = Options { folder: folder.path().join(name), port: None, durable: true };
        Cluster::start(options).unwrap_or_else(|error| panic!("{error}"))
    };
    let cluster = server("database");
    let program = program();
    let quick = asked("--quick");
    if asked("--webhooks") {
        webhooks(&program, &cluster).await;
        return;
    }
    let broker = async |name: &str| {
        let options = BrokerOptions { folder: folder.path().join(name), port: None };
        let broker = tokio::task::spawn_blocking(|| LoopbackBroker::start(options)).await.expect("no panic");
        broker.unwrap_or_else(|error| panic!("{error}"))
    };
    if asked("--queues") {
        queued(&program, &cluster, &broker("broker").await).await;
        return;
    }
    if asked("--million") {
        million(&program, &cluster, &broker("broker").await).await;
        return;
    }
    if asked("--at-rest") {
        at_rest(&program, &cluster, &broker("broker").await, RATE_AT_REST, !quick).await;
        return;
    }
    let (mut services, mut bares) = (Vec::new(), Vec::new());
    let (mut rows, mut bare_rows) = (0.0, 0.0);
    let mut number = 0;
    for pair in 0..PAIRS {
        number += 1;
        let database = format!("whole{number}");
        cluster.create_database(&database).expect("a database");
        let mut whole = whole::Whole::start(&program, &cluster.url(&database), cluster.id()).await;
        let measured = whole.pass(ORDERS, PER_FILE).await;
        drop(whole);
        rows = rows_written(&cluster.url(&database)).await / ORDERS as f64;
        let database = format!("bare{number}");
        cluster.create_database(&database).expect("a database");
        let bare = bare::run(&cluster.url(&database), ORDERS, cluster.id()).await;
        bare_rows = rows_written(&cluster.url(&database)).await / ORDERS as f64;
        println!("pair {}: service {:.0} orders/s, bare {:.0} orders/s", pair + 1, measured.orders_per_s, bare.orders_per_s);
        services.push(measured);
        bares.push(bare);
    }
    let (service, bare) = (report::median(&services), report::median(&bares));
    let calls = webhooks(&program, &cluster).await;
    let queued = queued(&program, &cluster, &broker("broker").await).await;
    drop(cluster);
    // A broker and a database server of its own: others are still busy with the measurements before.
    let cluster = server("database-at-rest");
    let far = at_rest(&program, &cluster, &broker("rested").await, queued[0].orders_per_s / 10.0, !quick).await;
    drop(cluster);
    let cluster = server("database-of-orders");
    cluster.create_database("latency").expect("a database");
    let mut whole = whole::Whole::start(&program, &cluster.url("latency"), cluster.id()).await;
    let latency = whole.latency(service.orders_per_s / 10.0).await;
    println!(
        "from file complete to booked: p50 {:.1} ms, p99 {:.1} ms at {:.0} orders/s",
        latency.p50_ms, latency.p99_ms, latency.rate
    );
    drop(whole);
    let mut long = None;
    if !quick {
        cluster.create_database("long").expect("a database");
        let mut whole = whole::Whole::start(&program, &cluster.url("long"), cluster.id()).await;
        let tenths = whole.tenths(LONG, PER_FILE).await;
        let memory = whole.peak_memory_kb();
        println!(
            "{LONG} orders: first tenth {:.0}, last tenth {:.0} orders/s, {} MB at most",
            tenths[0],
            tenths[9],
            memory / 1024
        );
        long = Some((tenths, memory));
    }
    let edi = tokio::task::spawn_blocking(|| edi::measure(&self::program())).await.expect("no panic").markdown();
    println!("{edi}");
    let text = report::markdown(&service, &bare, (rows, bare_rows), &calls, (&queued, &far), &latency, long.as_ref()) + &edi;
    let path = PathBuf::from("docs/BENCHMARKS.md");
    std::fs::write(&path, &text).unwrap_or_else(|error| panic!("{}: {error}", path.display()));
    println!("\n{text}\nwritten to {}", path.display());
}

/// Webhooks: the service and the bare handler in turn, the median of each; and once for long.
async fn webhooks(program: &std::path::Path, cluster: &Cluster) -> [(Calls, Calls); 2] {
    let pair = async |name: &str, calls: usize| {
        let (ours, theirs) = (format!("hooks{name}"), format!("barehooks{name}"));
        cluster.create_database(&ours).expect("a database");
        cluster.create_database(&theirs).expect("a database");
        let service = hooks::measure_service(program, &cluster.url(&ours), cluster.id(), calls).await;
        let bare = hooks::measure_bare(&cluster.url(&theirs), cluster.id(), calls).await;
        println!(
            "webhooks {name}: service {:.0} calls/s answered, {:.0} done, bare handler {:.0}",
            service.answered_per_s, service.done_per_s, bare.answered_per_s
        );
        (service, bare)
    };
    let (mut services, mut bares) = (Vec::new(), Vec::new());
    for n in 1..=PAIRS {
        let (service, bare) = pair(&n.to_string(), hooks::CALLS).await;
        services.push(service);
        bares.push(bare);
    }
    [(report::median_calls(&services), report::median_calls(&bares)), pair("long", hooks::LONG_CALLS).await]
}

/// Queues: the service, the pipelined relay and the straightforward one in turn; the median of each.
async fn queued(program: &std::path::Path, cluster: &Cluster, broker: &LoopbackBroker) -> [Measured; 3] {
    let mut all = [Vec::new(), Vec::new(), Vec::new()];
    for pair in 1..=PAIRS {
        let names = ["queues", "relay", "slow"].map(|name| format!("{name}{pair}"));
        names.iter().for_each(|name| cluster.create_database(name).expect("a database"));
        let urls = names.map(|name| cluster.url(&name));
        all[0].push(queues::measure_service(program, &urls[0], cluster.id(), broker).await);
        all[1].push(queues::measure_relay(Relay::Pipelined, &urls[1], cluster.id(), broker).await);
        all[2].push(queues::measure_relay(Relay::Straightforward, &urls[2], cluster.id(), broker).await);
        let [service, relay, slow] = [0, 1, 2].map(|one: usize| all[one][pair - 1].orders_per_s);
        println!("queues {pair}: service {service:.0} messages/s, relay {relay:.0}, one at a time {slow:.0}");
    }
    all.map(|one| report::median(&one))
}

/// Queues at a tenth of the peak, at rest, and, when there is time for it, for long.
async fn at_rest(program: &std::path::Path, cluster: &Cluster, broker: &LoopbackBroker, rate: f64, long: bool) -> Steady {
    for name in ["far", "idle"] {
        cluster.create_database(name).expect("a database");
    }
    let latency = steady::latency(program, &cluster.url("far"), broker, rate).await;
    println!("from publishing to the far end: p50 {:.1} ms, p99 {:.1} ms at {rate:.0}/s", latency.p50_ms, latency.p99_ms);
    let idle = steady::idle(program, &cluster.url("idle"), broker).await;
    println!("{} idle flows: {:.2} % of a core", steady::FLOWS, idle * 100.0);
    let million = if long { Some(million(program, cluster, broker).await) } else { None };
    Steady { latency, idle, million }
}

async fn million(program: &std::path::Path, cluster: &Cluster, broker: &LoopbackBroker) -> ([f64; 10], u64) {
    cluster.create_database("million").expect("a database");
    let (tenths, memory) = steady::million(program, &cluster.url("million"), broker).await;
    let each: Vec<String> = tenths.iter().map(|tenth| format!("{tenth:.0}")).collect();
    println!("a million messages: {}/s in each tenth, {} MB at most", each.join(" "), memory / 1024);
    (tenths, memory)
}

/// Measurements of queues besides their peak rate.
#[derive(Debug)]
pub struct Steady {
    pub latency: whole::Latency,
    /// Part of a core.
    pub idle: f64,
    pub million: Option<([f64; 10], u64)>,
}

/// Rows inserted, updated and deleted in a database that nobody works on any more.
async fn rows_written(url: &str) -> f64 {
    let database = wirewatch_testkit::Database { url: url.to_owned() };
    database.rows_written("n_tup_ins + n_tup_upd + n_tup_del").await as f64
}

/// Returns the service's program, built beside this one.
fn program() -> PathBuf {
    let own = std::env::current_exe().expect("a program has a file");
    let path = own.with_file_name("wirewatch");
    assert!(path.exists(), "{} is not built: run `make bench`, which builds it first", path.display());
    path
}

/// Processor seconds that a process and its children have used.
pub fn cpu_seconds(id: i32) -> f64 {
    let own = |id: i32| -> f64 {
        let text = std::fs::read_to_string(format!("/proc/{id}/stat")).unwrap_or_default();
        let after = text.rsplit(')').next().unwrap_or_default();
        // utime, stime, cutime, cstime are fields 14 to 17 of proc(5); field 3 comes first here. 100 ticks a second.
        after.split_whitespace().skip(11).take(4).filter_map(|field| field.parse::<f64>().ok()).sum::<f64>() / 100.0
    };
    let children = std::fs::read_to_string(format!("/proc/{id}/task/{id}/children")).unwrap_or_default();
    own(id) + children.split_whitespace().filter_map(|child| child.parse().ok()).map(own).sum::<f64>()
}
