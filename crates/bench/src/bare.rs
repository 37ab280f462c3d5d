//! The limit: as many rows through the same grouped statement, one group after another, nothing else.

use crate::{Measured, cpu_seconds};
use serde_json::Map;
use std::sync::Arc;
use std::time::Instant;
use wirewatch_core::document::Form;
use wirewatch_core::machine::{Body, LogEntry, Logged, Origin, Outcome, Pass, Passed, State, Then};
use wirewatch_core::plan::{Fact, Mark};
use wirewatch_core::x12::Delimiters;
use wirewatch_core::{Digest, Id, Timestamp};
use wirewatch_engine::{Change, Clock, Journal, NewMessage, Op, Split, SystemClock};
use wirewatch_journal::PgJournal;

const BATCH: usize = 256;

/// Writes what `orders` orders mean, in groups.
pub async fn run(url: &str, orders: usize, database: i32) -> Measured {
    let journal = PgJournal::open(url, "bare").await.unwrap_or_else(|error| panic!("{error}"));
    let (cpu, database_cpu, begun) = (cpu_seconds(std::process::id() as i32), cpu_seconds(database), Instant::now());
    let mut no = 0;
    for start in (0..orders).step_by(BATCH) {
        let now = SystemClock.now();
        let batch: Vec<Arc<Origin>> = (start..(start + BATCH).min(orders)).map(|_| origin(journal.mint(now))).collect();
        let messages = batch.iter().map(|origin| NewMessage {
            ended: None,
            origin: origin.clone(),
            key: format!("MF-{}", origin.id.0),
            order_key: String::new(),
            facts: vec![fact(origin, "received", Mark::Begins, now)],
        });
        let split = Split { arrival: Id(1), from: 0, to: BATCH as u32, last: true, messages: messages.collect(), at: now };
        no += 1;
        journal.commit(no, &[Op::Split(Box::new(split))]).await.expect("committed");
        let done: Vec<Op> = batch.iter().map(|origin| done(origin, now)).collect();
        no += 1;
        journal.commit(no, &done).await.expect("committed");
    }
    Measured {
        orders_per_s: orders as f64 / begun.elapsed().as_secs_f64(),
        cpu_s: cpu_seconds(std::process::id() as i32) - cpu,
        database_cpu_s: cpu_seconds(database) - database_cpu,
    }
}

fn origin(id: Id) -> Arc<Origin> {
    let form = Form::X12 { version: "004010".into(), set: "850".into(), delimiters: Delimiters::default() };
    let meta = serde_json::json!({ "partner": "marrowfield", "from": "marrowfield-drop", "file": "po-000101.edi", "interchange": "000000101", "group": "101", "usage": "T", "set": "0001" });
    let meta: Map<String, serde_json::Value> = meta.as_object().cloned().unwrap_or_default();
    Arc::new(Origin { id, arrival: Id(1), body: Id(1), slice: 300..1100, flow: "partner-orders".into(), release: 1, form, meta })
}

fn fact(origin: &Origin, milestone: &str, mark: Mark, at: Timestamp) -> Fact {
    Fact {
        plan: "order-to-answer".into(),
        partner: "marrowfield".into(),
        key: format!("MF-{}", origin.id.0),
        milestone: milestone.into(),
        mark,
        message: origin.id,
        arrival: origin.arrival,
        at,
    }
}

fn done(origin: &Arc<Origin>, now: Timestamp) -> Op {
    let outcome = Outcome::Answer { status: 201, body: Body(b"{\"order_number\":\"Q-100001\"}".to_vec()) };
    let what =
        Logged::Attempt { step: "book".into(), generation: 0, tries: 1, request: Digest::default(), outcome, then: Then::Go };
    let passed = ["to-order", "book"].map(|step| Passed { step: step.into(), how: Pass::Done });
    Op::Change(Box::new(Change {
        entry: Some((0, LogEntry { at: now, what })),
        state: State::Done,
        key: format!("MF-{}", origin.id.0),
        result: "Q-100001".into(),
        passed: passed.to_vec(),
        // Two of them stand for the timeline's row, inserted and updated.
        facts: ["booked", "timeline", "timeline"].map(|milestone| fact(origin, milestone, Mark::Ends, now)).to_vec(),
        took: 900,
        ..Change::blank(origin.clone(), now)
    }))
}
