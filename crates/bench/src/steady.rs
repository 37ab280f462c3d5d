//! Queues at a tenth of the peak, at rest, and for long: how late the far end hears, what two hundred idle flows cost, and
//! whether a million messages slow down.

use crate::cpu_seconds;
use crate::queues::{PREFETCH, serve_relay};
use crate::serving::serve;
use crate::whole::Latency;
use futures_util::StreamExt;
use lapin::BasicProperties;
use lapin::options::{BasicAckOptions, BasicConsumeOptions, BasicQosOptions};
use lapin::types::FieldTable;
use sea_orm::{ConnectionTrait, Database};
use serde_json::Value;
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use wirewatch_loopback::LoopbackBroker;
use wirewatch_testkit::TestBroker;

/// Messages of the long run, and how many of them are under way at a time.
pub const MILLION: usize = 1_000_000;
const UNDER_WAY: usize = 20_000;
/// Idle flows, each with a queue of its own, and for how long they are watched.
pub const FLOWS: usize = 200;
const WATCHED: Duration = Duration::from_secs(20);
/// How long messages arrive at a tenth of the peak rate.
const STEADY: Duration = Duration::from_secs(20);

async fn ends(broker: &LoopbackBroker) -> TestBroker {
    let (user, password) = broker.user();
    let broker = TestBroker::at(&broker.address(), user, password).await;
    broker.queue("in", None).await;
    broker.queue("out", None).await;
    broker
}

fn body(number: u128) -> String {
    format!(r#"{{"number":"{number}","total":12.50,"note":"{}"}}"#, "clover ".repeat(130))
}

async fn far_end(broker: &TestBroker) -> lapin::Consumer {
    let channel = broker.channel();
    channel.basic_qos(PREFETCH, BasicQosOptions::default()).await.expect("set");
    let options = BasicConsumeOptions { no_ack: false, ..BasicConsumeOptions::default() };
    channel.basic_consume(broker.name("out").into(), "far end".into(), options, FieldTable::default()).await.expect("a consumer")
}

async fn checkpoint(url: &str) {
    let db = Database::connect(url).await.expect("a database");
    db.execute_unprepared("checkpoint").await.expect("a checkpoint");
}

/// Waits until the service consumes from a queue: its start is not measured.
async fn taken_from(ends: &TestBroker, queue: &str) {
    while ends.depth(queue).await.1 == 0 {
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

/// Measures the time from publishing to the far consumer, with messages at fixed times and a database checkpoint in the middle.
pub async fn latency(program: &Path, url: &str, broker: &LoopbackBroker, rate: f64) -> Latency {
    let broker_ends = ends(broker).await;
    let _serving = serve_relay(program, url, broker, &broker_ends).await;
    let sending = ends_named(broker, &broker_ends).await;
    let mut consumer = far_end(&broker_ends).await;
    taken_from(&broker_ends, "in").await;
    // Earlier measurements left much to write; the checkpoint in the middle must be of these messages.
    checkpoint(url).await;
    let begun = Instant::now();
    let count = (rate * STEADY.as_secs_f64()) as usize;
    let sender = tokio::spawn(async move {
        for n in 0..count {
            let due = Duration::from_secs_f64(n as f64 / rate);
            tokio::time::sleep_until((begun + due).into()).await;
            // Late sending counts as lateness: the time is that at which it was due.
            sending.fill("in", body(due.as_micros()).as_bytes(), BasicProperties::default()).await;
        }
    });
    let checkpoint = {
        let url = url.to_owned();
        tokio::spawn(async move {
            tokio::time::sleep(STEADY / 2).await;
            checkpoint(&url).await;
        })
    };
    let mut late = Vec::with_capacity(count);
    while late.len() < count {
        let delivery = consumer.next().await.expect("more to come").expect("a message");
        let document: Value = serde_json::from_slice(&delivery.data).expect("JSON");
        let due: u64 = document["number"].as_str().and_then(|text| text.parse().ok()).expect("a number");
        late.push(begun.elapsed().saturating_sub(Duration::from_micros(due)).as_secs_f64() * 1000.0);
        if late.len().is_multiple_of(50) || late.len() == count {
            let options = BasicAckOptions { multiple: true };
            broker_ends.channel().basic_ack(delivery.delivery_tag, options).await.expect("acknowledged");
        }
    }
    sender.await.expect("all were sent");
    checkpoint.await.expect("a checkpoint");
    late.sort_by(f64::total_cmp);
    let at = |part: f64| late[((late.len() - 1) as f64 * part) as usize];
    Latency { rate, p50_ms: at(0.5), p99_ms: at(0.99) }
}

/// Another connection to the same queues: one that is busy sending must not delay what comes out.
async fn ends_named(broker: &LoopbackBroker, like: &TestBroker) -> TestBroker {
    let (user, password) = broker.user();
    TestBroker::at(&broker.address(), user, password).await.named_as(like)
}

/// Returns the share of a core that the service uses while nothing arrives for [`FLOWS`] flows.
pub async fn idle(program: &Path, url: &str, broker: &LoopbackBroker) -> f64 {
    let ends = ends(broker).await;
    let (user, password) = broker.user();
    let mut connection = format!(
        "kind = \"amqp\"\naddress = \"{}\"\nauth = {{ as = \"plain\", user = \"{user}\", secret = \"bench\" }}\n",
        broker.address()
    );
    let mut files = vec![
        ("workspace.toml".to_owned(), "format = 1\n".to_owned()),
        ("schemas/order.schema.json".to_owned(), "{ \"type\": \"object\", \"properties\": { \"number\": {} } }".to_owned()),
    ];
    for n in 0..FLOWS {
        let queue = ends.name(&format!("idle{n}"));
        ends.queue(&format!("idle{n}"), None).await;
        connection.push_str(&format!("[[queue]]\nname = \"{queue}\"\n"));
        let flow = format!(
            "key = \"number\"\n[[intake]]\nfrom = \"bench\"\nqueue = \"{queue}\"\ntakes = \"order\"\n\
             [[step]]\nname = \"keep\"\nset = \"number\"\n"
        );
        files.push((format!("flows/idle{n}.toml"), flow));
    }
    files.push(("connections/bench.toml".to_owned(), connection));
    let files: Vec<(&str, &str)> = files.iter().map(|(name, text)| (name.as_str(), text.as_str())).collect();
    let serving = serve(program, url, &files, ("bench", password)).await;
    for n in 0..FLOWS {
        taken_from(&ends, &format!("idle{n}")).await;
    }
    tokio::time::sleep(Duration::from_secs(5)).await;
    let before = cpu_seconds(serving.process.id());
    tokio::time::sleep(WATCHED).await;
    (cpu_seconds(serving.process.id()) - before) / WATCHED.as_secs_f64()
}

/// Messages a second in each tenth of a million, and the most memory of the service, in kilobytes.
pub async fn million(program: &Path, url: &str, broker: &LoopbackBroker) -> ([f64; 10], u64) {
    let broker_ends = ends(broker).await;
    let serving = serve_relay(program, url, broker, &broker_ends).await;
    let sending = ends_named(broker, &broker_ends).await;
    let mut consumer = far_end(&broker_ends).await;
    let received = std::sync::Arc::new(AtomicUsize::new(0));
    let seen = received.clone();
    tokio::spawn(async move {
        for n in 0..MILLION {
            while n >= seen.load(Ordering::Relaxed) + UNDER_WAY {
                tokio::time::sleep(Duration::from_millis(5)).await;
            }
            sending.fill("in", body(n as u128).as_bytes(), BasicProperties::default()).await;
        }
        sending.filled().await;
    });
    let mut tenths = [0.0; 10];
    let mut begun = Instant::now();
    for n in 1..=MILLION {
        let delivery = consumer.next().await.expect("more to come").expect("a message");
        received.store(n, Ordering::Relaxed);
        if n.is_multiple_of(250) {
            let options = BasicAckOptions { multiple: true };
            broker_ends.channel().basic_ack(delivery.delivery_tag, options).await.expect("acknowledged");
        }
        if n.is_multiple_of(MILLION / 10) {
            tenths[n / (MILLION / 10) - 1] = (MILLION / 10) as f64 / begun.elapsed().as_secs_f64();
            begun = Instant::now();
        }
    }
    let status = std::fs::read_to_string(format!("/proc/{}/status", serving.process.id())).unwrap_or_default();
    let peak =
        status.lines().find(|line| line.starts_with("VmHWM:")).and_then(|line| line.split_whitespace().nth(1)?.parse().ok());
    (tenths, peak.unwrap_or(0))
}
