//! States of queues: whether the service consumes, how many messages wait, and the number of consumers.

use super::session::{self, Access};
use crate::Outside;
use lapin::{Channel, Connection};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use tokio::sync::Notify;
use wirewatch_core::Timestamp;
use wirewatch_core::broker::Broker;
use wirewatch_engine::Clock;

/// Shortest time between two checks of a broker's queues, and the time added for each queue: two hundred queues are checked every
/// twenty seconds.
const EVERY: Duration = Duration::from_secs(3);
const FOR_EACH: Duration = Duration::from_millis(100);
/// When nobody has asked for this time, checks are less frequent; the next request causes one.
const ASKED: Duration = Duration::from_secs(30);
const RARELY: u32 = 6;

/// States of queues by connection and queue. Clones share them.
#[derive(Debug, Clone, Default)]
pub struct Queues {
    known: Arc<Mutex<BTreeMap<(String, String), QueueState>>>,
    asked: Arc<Asked>,
}

/// When the states were last requested, and who waits for new ones.
#[derive(Debug, Default)]
struct Asked {
    last: Mutex<Option<Instant>>,
    again: Notify,
}

impl Asked {
    fn lately(&self) -> bool {
        self.last.lock().expect("no holder panics").is_some_and(|last| last.elapsed() < ASKED)
    }

    fn now(&self) {
        let again = !self.lately();
        *self.last.lock().expect("no holder panics") = Some(Instant::now());
        if again {
            self.again.notify_waiters();
        }
    }
}

/// State of a queue.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct QueueState {
    pub listening: Listening,
    /// Last answer of the broker; `None` while it has not answered.
    pub depth: Option<Depth>,
    /// Why it cannot be checked; empty when it can.
    pub says: String,
}

/// State of the consumer of a queue.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum Listening {
    /// No flow takes from it here.
    #[default]
    No,
    Yes,
    /// A flow would take from it and cannot, for this reason.
    Stopped(String),
}

/// Counts of a queue, from the broker.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Depth {
    /// Messages that wait, those under way to consumers left out.
    pub messages: u32,
    pub consumers: u32,
    pub at: Timestamp,
}

impl Queues {
    /// Returns the state of a queue.
    #[must_use]
    pub fn at(&self, connection: &str, queue: &str) -> QueueState {
        self.asked.now();
        let known = self.known.lock().expect("no holder panics");
        known.get(&(connection.to_owned(), queue.to_owned())).cloned().unwrap_or_default()
    }

    pub(super) fn listening(&self, connection: &str, queue: &str) {
        self.change(connection, queue, |state| {
            if state.listening != Listening::Yes {
                tracing::info!(connection, queue, "receiving from the queue");
            }
            state.listening = Listening::Yes;
        });
    }

    pub(super) fn stopped(&self, connection: &str, queue: &str, says: &str) {
        self.change(connection, queue, |state| {
            if state.listening != Listening::Stopped(says.to_owned()) {
                tracing::warn!(connection, queue, says, "not receiving from the queue");
            }
            state.listening = Listening::Stopped(says.to_owned());
        });
    }

    /// Records that no flow takes from it any more.
    pub fn forget(&self, connection: &str, queue: &str) {
        self.change(connection, queue, |state| state.listening = Listening::No);
    }

    fn seen(&self, connection: &str, queue: &str, depth: Result<Depth, String>) {
        self.change(connection, queue, |state| match depth {
            Ok(depth) => (state.depth, state.says) = (Some(depth), String::new()),
            Err(says) => (state.depth, state.says) = (None, says),
        });
    }

    fn change(&self, connection: &str, queue: &str, change: impl FnOnce(&mut QueueState)) {
        let mut known = self.known.lock().expect("no holder panics");
        change(known.entry((connection.to_owned(), queue.to_owned())).or_default());
    }
}

/// Looks at the queues of a broker now and then, until the task is dropped.
pub async fn watch<C: Clock>(outside: Outside, queues: Queues, clock: C, connection: String, broker: Broker) {
    let mut open: Option<(Access, Connection)> = None;
    loop {
        if let Err(says) = look(&outside, &queues, &clock, &connection, &broker, &mut open).await {
            open = None;
            for queue in &broker.queues {
                queues.seen(&connection, &queue.name, Err(says.clone()));
            }
        }
        let rest = EVERY.max(FOR_EACH * broker.queues.len() as u32);
        let again = queues.asked.again.notified();
        match queues.asked.lately() {
            true => tokio::time::sleep(rest).await,
            false => drop(tokio::time::timeout(rest * RARELY, again).await),
        }
    }
}

async fn look<C: Clock>(
    outside: &Outside,
    queues: &Queues,
    clock: &C,
    connection: &str,
    broker: &Broker,
    open: &mut Option<(Access, Connection)>,
) -> Result<(), String> {
    let access = outside.access(broker)?;
    if open.as_ref().is_none_or(|(known, session)| *known != access || !session.status().connected()) {
        let session = session::open(broker, &access, &format!("wirewatch watches {connection}")).await;
        let session = session.map_err(|why| why.to_string())?;
        session::prepare(&session, broker).await;
        *open = Some((access, session));
    }
    let Some((_, session)) = open else { return Ok(()) };
    let mut channel: Option<Channel> = None;
    for queue in &broker.queues {
        // A queue that does not exist closes the channel: the next one is checked on another.
        let on = match channel.take() {
            Some(channel) => channel,
            None => session.create_channel().await.map_err(|error| session::words(&error))?,
        };
        let seen = match session::depth(&on, &queue.name).await {
            Ok((messages, consumers)) => {
                channel = Some(on);
                Ok(Depth { messages, consumers, at: clock.now() })
            }
            Err(error) if session.status().connected() => Err(session::words(&error)),
            Err(error) => return Err(session::words(&error)),
        };
        queues.seen(connection, &queue.name, seen);
    }
    if let Some(channel) = channel {
        session::close_channel(&channel).await;
    }
    Ok(())
}
