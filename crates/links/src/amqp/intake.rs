//! Takes what waits in a queue into custody; only what is committed is acknowledged.
//!
//! ```text
//!  listening ──delivery──▶ read, given to custody ──committed──▶ acknowledged, all up to it at once
//!      │ held by a person, work enough, database away, broker gone
//!      ▼
//!  the consumer is cancelled: what is under way is answered, the rest goes back to the queue, and after a pause
//!  it listens again
//! ```
//!
//! Nothing is held back unacknowledged: while we can take nothing, another consumer can.

use super::properties;
use super::session;
use super::watch::Queues;
use crate::Outside;
use futures_util::stream::FuturesOrdered;
use futures_util::{FutureExt, StreamExt};
use lapin::message::Delivery;
use lapin::options::{BasicAckOptions, BasicCancelOptions, BasicConsumeOptions, BasicQosOptions};
use lapin::types::FieldTable;
use lapin::{Channel, Connection};
use serde_json::Value;
use std::time::Duration;
use tokio::sync::futures::Notified;
use wirewatch_core::Document;
use wirewatch_core::broker::{Broker, Queue};
use wirewatch_core::flow::place_of;
use wirewatch_core::intake::Provenance;
use wirewatch_core::key;
use wirewatch_core::place::Place;
use wirewatch_engine::{Clock, Down, Engine, Journal, Links, Ready, Row, Source, TakenReport};

/// The pause before it listens again, doubling up to the longest.
const PAUSE: Duration = Duration::from_millis(250);
const LONGEST_PAUSE: Duration = Duration::from_secs(15);
/// Interval at which a queue whose order matters is checked for other consumers.
const ALONE: Duration = Duration::from_millis(500);

/// A queue to consume from.
#[derive(Debug, Clone, PartialEq)]
pub struct QueueIntake {
    /// Name of the connection.
    pub connection: String,
    pub broker: Broker,
    pub queue: Queue,
    /// The flows that take from it, for the consumer's name at the broker.
    pub flows: Vec<String>,
    /// A flow needs its order: no other consumer may take from the queue at the same time.
    pub in_order: bool,
}

/// Consumes from the queue until the task is dropped, and reports its state in `queues`.
pub async fn run<J: Journal, L: Links, C: Clock + Clone>(
    engine: Engine<J, L, C>,
    outside: Outside,
    queues: Queues,
    intake: QueueIntake,
) {
    let mut pause = PAUSE;
    let own = place_of(&intake.connection, &intake.queue.name);
    let places = [intake.connection.as_str(), own.as_str()];
    loop {
        engine.open(&places).await;
        let change = outside.secrets_change();
        let ended = match outside.session(&intake.connection, &intake.broker).await {
            Ok(connection) => listen(&engine, &queues, &intake, &connection, &places).await,
            Err(why) => Ended { listened: false, says: why.to_string() },
        };
        if let Some(why) = engine.closed(&places) {
            queues.stopped(&intake.connection, &intake.queue.name, &why.to_string());
            continue;
        }
        queues.stopped(&intake.connection, &intake.queue.name, &ended.says);
        pause = rest(pause, ended.listened, change).await;
    }
}

/// Waits before the next try: twice as long as before if the last try did not even begin to consume, but no longer than until
/// secrets change, since a secret may have been the cause. Returns the time to count from next.
async fn rest(before: Duration, listened: bool, change: Notified<'_>) -> Duration {
    let pause = if listened { PAUSE } else { (before * 2).min(LONGEST_PAUSE) };
    match tokio::time::timeout(pause, change).await {
        Ok(()) => PAUSE,
        Err(_) => pause,
    }
}

/// Why it listens no more.
struct Ended {
    /// True once the broker has confirmed the consumer.
    listened: bool,
    says: String,
}

async fn listen<J: Journal, L: Links, C: Clock + Clone>(
    engine: &Engine<J, L, C>,
    queues: &Queues,
    intake: &QueueIntake,
    connection: &Connection,
    places: &[&str],
) -> Ended {
    if intake.in_order {
        tokio::select! {
            stopped = alone(connection, queues, intake) => if let Err(says) = stopped {
                return Ended { listened: false, says };
            },
            () = engine.shut(places) => return Ended { listened: true, says: String::new() },
        }
    }
    match consumer(connection, intake).await {
        Ok((channel, consumer)) => {
            queues.listening(&intake.connection, &intake.queue.name);
            let ended = take(engine, intake, &channel, consumer, places).await;
            session::close_channel(&channel).await;
            ended
        }
        Err(error) => Ended { listened: false, says: session::words(&error) },
    }
}

/// Resolves when the queue has no other consumer. An earlier consumer may be gone for us and not yet for the broker: its
/// unacknowledged messages return to their places in the queue only then.
async fn alone(connection: &Connection, queues: &Queues, intake: &QueueIntake) -> Result<(), String> {
    let says = |error: lapin::Error| session::words(&error);
    session::prepare_queue(&connection.create_channel().await.map_err(says)?, &intake.queue).await.map_err(says)?;
    let channel = connection.create_channel().await.map_err(says)?;
    loop {
        let (_, consumers) = session::depth(&channel, &intake.queue.name).await.map_err(says)?;
        if consumers == 0 {
            return Ok(());
        }
        let words = "another consumer reads this queue exclusively; we wait, to keep the order of messages";
        queues.stopped(&intake.connection, &intake.queue.name, words);
        tokio::time::sleep(ALONE).await;
    }
}

async fn consumer(connection: &Connection, intake: &QueueIntake) -> Result<(Channel, lapin::Consumer), lapin::Error> {
    let queue = &intake.queue;
    // On a channel of its own: a queue with other properties than declared closes the channel.
    session::prepare_queue(&connection.create_channel().await?, queue).await?;
    let channel = connection.create_channel().await?;
    channel.basic_qos(queue.prefetch, BasicQosOptions::default()).await?;
    let name = format!("wirewatch receives {} for {} ({})", queue.name, intake.flows.join(", "), std::process::id());
    let tag: String = name.chars().take(200).collect();
    let consumer = channel
        .basic_consume(queue.name.as_str().into(), tag.into(), BasicConsumeOptions::default(), FieldTable::default())
        .await?;
    Ok((channel, consumer))
}

/// Consumes and acknowledges until something prevents it.
async fn take<J: Journal, L: Links, C: Clock + Clone>(
    engine: &Engine<J, L, C>,
    intake: &QueueIntake,
    channel: &Channel,
    mut consumer: lapin::Consumer,
    places: &[&str],
) -> Ended {
    let mut given = FuturesOrdered::new();
    let row = Row::default();
    let shut = engine.shut(places);
    tokio::pin!(shut);
    let says = loop {
        tokio::select! {
            biased;
            Some(first) = given.next(), if !given.is_empty() => {
                let mut answered: Vec<(u64, Result<TakenReport, Down>)> = vec![first];
                while let Some(Some(next)) = given.next().now_or_never() {
                    answered.push(next);
                }
                if let Err(says) = acknowledge(channel, &answered).await {
                    break says;
                }
            }
            () = &mut shut => break String::new(),
            delivery = consumer.next() => match delivery {
                Some(Ok(delivery)) => {
                    let tag = delivery.delivery_tag;
                    match read(engine, intake, &row, delivery).await {
                        Ok(ready) => {
                            let report = engine.give(ready);
                            given.push_back(async move { (tag, report.await) });
                        }
                        Err(down) => break down.to_string(),
                    }
                }
                Some(Err(error)) => break session::words(&error),
                None => break "the broker cancelled our consumer: the queue was deleted, or its node stops".to_owned(),
            },
        }
    };
    // What is under way is acknowledged; the broker delivers the rest to the next consumer.
    let _ = channel.basic_cancel(consumer.tag(), BasicCancelOptions::default()).await;
    while let Some((tag, report)) = given.next().await {
        if report.is_ok() {
            let _ = channel.basic_ack(tag, BasicAckOptions::default()).await;
        }
    }
    Ended { listened: true, says }
}

/// Acknowledges what is in custody: all up to the last at once, or one by one where some are not.
async fn acknowledge(channel: &Channel, answered: &[(u64, Result<TakenReport, Down>)]) -> Result<(), String> {
    let refused = answered.iter().find_map(|(_, report)| report.as_ref().err());
    let Some(down) = refused else {
        let Some((last, _)) = answered.last() else { return Ok(()) };
        let acked = channel.basic_ack(*last, BasicAckOptions { multiple: true }).await;
        return acked.map_err(|error| session::words(&error));
    };
    for (tag, _) in answered.iter().filter(|(_, report)| report.is_ok()) {
        let _ = channel.basic_ack(*tag, BasicAckOptions::default()).await;
    }
    Err(down.to_string())
}

async fn read<J: Journal, L: Links, C: Clock + Clone>(
    engine: &Engine<J, L, C>,
    intake: &QueueIntake,
    row: &Row,
    delivery: Delivery,
) -> Result<Ready, Down> {
    let properties = properties::of(&delivery);
    let headers = properties.get("headers").and_then(Value::as_object);
    let header = |name: &str| headers?.get(name)?.as_str();
    let json = Place::look_into([&intake.queue.event, &intake.queue.delivery], &delivery.data);
    let value_of = |place: &Option<Place>| {
        place.as_ref().and_then(|place| place.find(&header, &properties, json.as_deref())).unwrap_or_default()
    };
    let (event, id) = (key::stored(value_of(&intake.queue.event)), key::stored(value_of(&intake.queue.delivery)));
    let (connection, name) = (intake.connection.clone(), intake.queue.name.clone());
    let provenance = Provenance { connection, name, event, delivery: id, properties, accept: false };
    let mut taking = engine.read(Source { provenance, json: json.map(Document::Json), row: row.clone(), ..Source::default() });
    taking.feed(&delivery.data).await?;
    taking.ready().await
}

#[cfg(test)]
mod tests {
    use super::{LONGEST_PAUSE, PAUSE, rest};
    use tokio::sync::Notify;
    use tokio::time::Instant;

    #[tokio::test(start_paused = true)]
    async fn a_pause_doubles_up_to_the_longest_and_begins_anew_after_it_has_listened() {
        let (quiet, mut pause, mut rested) = (Notify::new(), PAUSE, Vec::new());
        for _ in 0..7 {
            let begun = Instant::now();
            pause = rest(pause, false, quiet.notified()).await;
            rested.push(begun.elapsed().as_millis());
        }
        assert_eq!(rested, [500, 1000, 2000, 4000, 8000, 15_000, 15_000]);
        assert_eq!(pause, LONGEST_PAUSE);
        assert_eq!(rest(pause, true, quiet.notified()).await, PAUSE);
    }

    #[tokio::test(start_paused = true)]
    async fn a_secret_that_is_set_while_it_tries_or_rests_ends_the_pause() {
        let (secrets, begun) = (Notify::new(), Instant::now());
        let change = secrets.notified();
        secrets.notify_waiters();
        assert_eq!(rest(LONGEST_PAUSE, false, change).await, PAUSE, "set while it tried");
        assert_eq!(begun.elapsed().as_millis(), 0);

        let resting = rest(LONGEST_PAUSE, false, secrets.notified());
        let (pause, ()) = tokio::join!(resting, async {
            tokio::time::sleep(PAUSE).await;
            secrets.notify_waiters();
        });
        assert_eq!((pause, begun.elapsed()), (PAUSE, PAUSE), "set while it rested");
    }
}
