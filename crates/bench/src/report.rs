//! The table.

use crate::hooks::{CALLS, Calls, LONG_CALLS};
use crate::queues::{FEW, MESSAGES};
use crate::steady::{FLOWS, MILLION};
use crate::whole::Latency;
use crate::{LONG, Measured, ORDERS, PAIRS, PER_FILE, Steady};

/// Returns the median of each figure by itself.
pub fn median(all: &[Measured]) -> Measured {
    let of = |pick: fn(&Measured) -> f64| middle(&mut all.iter().map(pick).collect::<Vec<_>>());
    Measured {
        orders_per_s: of(|one| one.orders_per_s),
        cpu_s: of(|one| one.cpu_s),
        database_cpu_s: of(|one| one.database_cpu_s),
    }
}

/// The same of calls.
pub fn median_calls(all: &[Calls]) -> Calls {
    let of = |pick: fn(&Calls) -> f64| middle(&mut all.iter().map(pick).collect::<Vec<_>>());
    Calls {
        answered_per_s: of(|one| one.answered_per_s),
        done_per_s: of(|one| one.done_per_s),
        cpu_s: of(|one| one.cpu_s),
        database_cpu_s: of(|one| one.database_cpu_s),
    }
}

/// The median.
pub fn middle(values: &mut [f64]) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// The page.
pub fn markdown(
    service: &Measured,
    bare: &Measured,
    (rows, bare_rows): (f64, f64),
    [(calls, bare_calls), (long_calls, long_bare)]: &[(Calls, Calls); 2],
    ([queued, relay, slow], far): (&[Measured; 3], &Steady),
    latency: &Latency,
    long: Option<&([f64; 10], u64)>,
) -> String {
    let per_order = |seconds: f64| seconds * 1e6 / ORDERS as f64;
    let mut text = format!(
        "# Benchmarks

Written by `make bench`: {PAIRS} interleaved pairs in one run, the median of each side. fsync is on.
Machine: {}.

## Whole flow

{ORDERS} orders in files of {PER_FILE}: file → check → 997 → map → order system that answers at once → done, all
journalled, timelines folded. Beside it a bare program that writes about as many rows through the same grouped statement, one
group after another, and does nothing else: no files, no X12, no HTTP, no acknowledgments, no timelines.

| | orders/s | rows/s | CPU µs an order, program | CPU µs an order, database |
|---|--:|--:|--:|--:|
| service | {:.0} | {:.0} | {:.0} | {:.0} |
| bare program | {:.0} | {:.0} | {:.0} | {:.0} |
| ratio | {:.2} | {:.2} | | |

Rows an order (inserted, updated, deleted): {rows:.1} of the service, {bare_rows:.1} of the bare program.

## Webhooks

{CALLS} calls of 1 KB over 64 connections, each answered after its commit. The service checks signature and time, reads the
event, stores the call, and answers; in a rush like this it decides on repeats, stores arrivals and messages and runs these to
their end behind the answers, which is counted as done, and in the CPU time. The bare handler stores the body, grouped with
whatever waits, and does nothing else.

| | calls/s answered | calls/s done | CPU µs a call, program | CPU µs a call, database |
|---|--:|--:|--:|--:|
| service | {:.0} | {:.0} | {:.0} | {:.0} |
| bare handler | {:.0} | {:.0} | {:.0} | {:.0} |
| ratio | {:.2} | {:.2} | | |

{LONG_CALLS} calls without a pause, so that calls are answered and worked on side by side: {:.0} calls/s answered, {:.0} done,
beside {:.0} of the bare handler ({:.2}, {:.2}). What comes without a pause for longer than a quarter of a minute is answered at
the pace of the work.

## Queues

{MESSAGES} persistent messages of 1 KB from one quorum queue over a map to another. The pipelined relay parses and rewrites
each message, writes a row for it in grouped statements before it publishes and marks it sent in a second one, and does
nothing else; the straightforward relay ({FEW} messages) does the same with one commit and one confirmation at a time.

| | messages/s | CPU µs a message, program | CPU µs a message, database |
|---|--:|--:|--:|
| service | {:.0} | {:.0} | {:.0} |
| pipelined relay | {:.0} | {:.0} | {:.0} |
| straightforward relay | {:.0} | {:.0} | {:.0} |
| ratio to the pipelined one | {:.2} | | |
| ratio to the straightforward one | {:.1} | | |

At one tenth of that ({:.0} messages/s), coming when they are due, with a checkpoint of the database in the middle: from
publishing to the far consumer p50 {:.1} ms, p99 {:.1} ms. {FLOWS} idle flows, each with a queue: {:.2} % of a core.

## Latency

From file complete to booked, files of ten orders coming when they are due, at one tenth of the rate above
({:.0} orders/s): p50 {:.1} ms, p99 {:.1} ms.
",
        machine(),
        service.orders_per_s,
        service.orders_per_s * rows,
        per_order(service.cpu_s),
        per_order(service.database_cpu_s),
        bare.orders_per_s,
        bare.orders_per_s * bare_rows,
        per_order(bare.cpu_s),
        per_order(bare.database_cpu_s),
        service.orders_per_s / bare.orders_per_s,
        service.orders_per_s * rows / (bare.orders_per_s * bare_rows),
        calls.answered_per_s,
        calls.done_per_s,
        calls.cpu_s * 1e6,
        calls.database_cpu_s * 1e6,
        bare_calls.answered_per_s,
        bare_calls.done_per_s,
        bare_calls.cpu_s * 1e6,
        bare_calls.database_cpu_s * 1e6,
        calls.answered_per_s / bare_calls.answered_per_s,
        calls.done_per_s / bare_calls.done_per_s,
        long_calls.answered_per_s,
        long_calls.done_per_s,
        long_bare.answered_per_s,
        long_calls.answered_per_s / long_bare.answered_per_s,
        long_calls.done_per_s / long_bare.done_per_s,
        queued.orders_per_s,
        queued.cpu_s * 1e6,
        queued.database_cpu_s * 1e6,
        relay.orders_per_s,
        relay.cpu_s * 1e6,
        relay.database_cpu_s * 1e6,
        slow.orders_per_s,
        slow.cpu_s * 1e6,
        slow.database_cpu_s * 1e6,
        queued.orders_per_s / relay.orders_per_s,
        queued.orders_per_s / slow.orders_per_s,
        far.latency.rate,
        far.latency.p50_ms,
        far.latency.p99_ms,
        far.idle * 100.0,
        latency.rate,
        latency.p50_ms,
        latency.p99_ms,
    );
    if let Some((tenths, memory)) = &far.million {
        text.push_str(&format!(
            "
## A million messages

{MILLION} from queue to queue, one tenth after another: the first {:.0} messages/s, the last {:.0} ({:.2} of the first).
Memory of the service: {} MB at most. All tenths: {}.
",
            tenths[0],
            tenths[9],
            tenths[9] / tenths[0],
            memory / 1024,
            tenths.iter().map(|tenth| format!("{tenth:.0}")).collect::<Vec<_>>().join(", ")
        ));
    }
    if let Some((tenths, memory)) = long {
        text.push_str(&format!(
            "
## Long run

{LONG} orders, one tenth after another: the first {:.0} orders/s, the last {:.0} ({:.2} of the first). Memory of the
service: {} MB at most.
",
            tenths[0],
            tenths[9],
            tenths[9] / tenths[0],
            memory / 1024
        ));
    }
    text
}

fn machine() -> String {
    let text = std::fs::read_to_string("/proc/cpuinfo").unwrap_or_default();
    let model = text
        .lines()
        .find(|line| line.starts_with("model name"))
        .and_then(|line| line.split(':').nth(1))
        .unwrap_or("unknown")
        .trim();
    let cores = std::thread::available_parallelism().map_or(0, usize::from);
    let memory = std::fs::read_to_string("/proc/meminfo").unwrap_or_default();
    let kb: u64 =
        memory.lines().next().and_then(|line| line.split_whitespace().nth(1)).and_then(|kb| kb.parse().ok()).unwrap_or(0);
    format!("{cores} cores ({model}), {} GB of memory, PostgreSQL on the same machine", kb / (1 << 20))
}
