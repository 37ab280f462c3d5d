//! Sending to a broker, and what each answer means.
//!
//! | answer | outcome |
//! |---|---|
//! | confirmed | done |
//! | returned: no queue takes it | refused |
//! | not confirmed by the broker (`basic.nack`) | again |
//! | the channel ends: no such exchange | again |
//! | the channel ends for another reason: a message on it is not to the broker's liking | as when the connection is lost |
//! | the channel ends: access refused | refused |
//! | cannot connect, not signed in, the broker blocks publishing | the connection is held |
//! | no confirmation in time, or the connection was lost before it | again; in doubt where a repeat is not safe |

use super::session::{self, Access, Unreached};
use lapin::options::{BasicPublishOptions, ConfirmSelectOptions};
use lapin::protocol::{AMQPErrorKind, AMQPSoftError};
use lapin::types::{AMQPValue, FieldTable};
use lapin::{BasicProperties, Channel, Confirmation, Connection, ErrorKind};
use std::collections::HashMap;
use std::time::Instant;
use tokio::sync::Mutex;
use wirewatch_core::Digest;
use wirewatch_core::broker::{Broker, Queue};
use wirewatch_core::connection::RepeatRule;
use wirewatch_core::machine::{Body, Outcome, Post};

/// Publishes to one broker. The connection is opened when needed and stays open.
#[derive(Debug)]
pub struct Publisher {
    name: String,
    broker: Broker,
    access: Access,
    open: Mutex<Open>,
}

#[derive(Debug, Default)]
struct Open {
    connection: Option<Connection>,
    /// By exchange.
    channels: HashMap<String, Channel>,
    /// The last time it could not be opened: those who waited for that attempt need no other one.
    failed: Option<(Instant, Unreached)>,
}

/// Delivery mode of messages that outlive a restart of the broker.
const PERSISTENT: u8 = 2;

impl Publisher {
    pub(super) fn new(name: &str, broker: Broker, access: Access) -> Self {
        Self { name: name.to_owned(), broker, access, open: Mutex::default() }
    }

    /// Returns whether it is for this broker and these credentials.
    pub(super) fn is_of(&self, broker: &Broker, access: &Access) -> bool {
        self.broker == *broker && self.access == *access
    }

    /// Sends, and waits for the broker's confirmation.
    pub async fn send(&self, post: &Post, body: &Body, key: Digest, rule: RepeatRule) -> Outcome {
        // A step's message was checked before; one that a person submits was not.
        if let Err(says) = post.check() {
            return Outcome::Refused { says, status: 0, body: Body::default() };
        }
        let (channel, blocked) = match self.channel(&post.exchange).await {
            Ok(found) => found,
            Err(outcome) => return outcome,
        };
        if blocked {
            let says = "the broker blocks publishing, because it is short of memory or disk".to_owned();
            return Outcome::Held { says, status: 0 };
        }
        let options = BasicPublishOptions { mandatory: true, ..BasicPublishOptions::default() };
        let (exchange, key_text) = (post.exchange.as_str().into(), post.routing_key.as_str().into());
        let published = channel.basic_publish(exchange, key_text, options, &body.0, properties(post, key)).await;
        let confirmed = match published {
            Ok(confirm) => tokio::time::timeout(self.broker.timeout, confirm).await,
            Err(error) => Ok(Err(error)),
        };
        match confirmed {
            Ok(Ok(Confirmation::Ack(None) | Confirmation::NotRequested)) => {
                Outcome::Answer { status: 0, body: Body::from("confirmed by the broker") }
            }
            Ok(Ok(Confirmation::Ack(Some(_)) | Confirmation::Nack(Some(_)))) => {
                let says = match post.exchange.as_str() {
                    "" => format!("there is no queue {}", post.routing_key),
                    exchange => {
                        format!("no queue receives {} from the exchange {exchange}: no binding matches", post.routing_key)
                    }
                };
                Outcome::Refused { says, status: 0, body: Body::default() }
            }
            Ok(Ok(Confirmation::Nack(None))) => again("the broker could not store it".to_owned()),
            Ok(Err(error)) => lost(&error, rule),
            Err(_) => {
                let says = format!("no confirmation within {} s", self.broker.timeout.as_secs_f64());
                unknown(says, rule)
            }
        }
    }

    /// Returns an open channel, and whether the broker blocks publishing at present.
    async fn channel(&self, exchange: &str) -> Result<(Channel, bool), Outcome> {
        let asked = Instant::now();
        let mut open = self.open.lock().await;
        if open.connection.as_ref().is_none_or(|connection| !connection.status().connected()) {
            if let Some((_, why)) = open.failed.as_ref().filter(|(at, _)| *at >= asked) {
                return Err(Outcome::Held { says: why.to_string(), status: 0 });
            }
            open.channels.clear();
            open.connection = None;
            match session::open(&self.broker, &self.access, &format!("wirewatch sends to {}", self.name)).await {
                Ok(connection) => open.connection = Some(connection),
                Err(why) => {
                    let says = why.to_string();
                    open.failed = Some((Instant::now(), why));
                    return Err(Outcome::Held { says, status: 0 });
                }
            }
        }
        let Open { connection: Some(connection), channels, .. } = &mut *open else { unreachable!("it was just opened") };
        let blocked = connection.status().blocked();
        if let Some(channel) = channels.get(exchange).filter(|channel| channel.status().connected()) {
            return Ok((channel.clone(), blocked));
        }
        match self.prepared(connection, exchange).await {
            Ok(channel) => {
                channels.insert(exchange.to_owned(), channel.clone());
                Ok((channel, blocked))
            }
            // Nothing was sent yet, so the outcome is certain.
            Err(error) => Err(lost(&error, RepeatRule::Safe)),
        }
    }

    async fn prepared(&self, connection: &Connection, exchange: &str) -> Result<Channel, lapin::Error> {
        let channel = connection.create_channel().await?;
        for known in self.broker.exchanges.iter().filter(|known| known.name == exchange && known.declare) {
            session::prepare_exchange(&channel, known).await?;
        }
        let reached = |queue: &&Queue| exchange.is_empty() || queue.bind.iter().any(|binding| binding.exchange == exchange);
        for queue in self.broker.queues.iter().filter(|queue| queue.declare).filter(reached) {
            session::prepare_queue(&channel, queue).await?;
        }
        channel.confirm_select(ConfirmSelectOptions::default()).await?;
        Ok(channel)
    }
}

fn properties(post: &Post, key: Digest) -> BasicProperties {
    let mut properties = BasicProperties::default()
        .with_delivery_mode(PERSISTENT)
        .with_content_type(post.content_type.into())
        .with_message_id(key.to_string().into())
        .with_app_id("wirewatch".into());
    if !post.headers.is_empty() {
        let mut headers = FieldTable::default();
        for (name, value) in &post.headers {
            headers.insert(name.as_str().into(), AMQPValue::LongString(value.as_str().into()));
        }
        properties = properties.with_headers(headers);
    }
    if !post.correlation_id.is_empty() {
        properties = properties.with_correlation_id(post.correlation_id.as_str().into());
    }
    if !post.reply_to.is_empty() {
        properties = properties.with_reply_to(post.reply_to.as_str().into());
    }
    if !post.kind.is_empty() {
        properties = properties.with_type(post.kind.as_str().into());
    }
    if let Some(priority) = post.priority {
        properties = properties.with_priority(priority);
    }
    if let Some(ms) = post.expires_ms {
        properties = properties.with_expiration(ms.to_string().into());
    }
    properties
}

fn again(says: String) -> Outcome {
    Outcome::Again { says, status: 0, body: Body::default(), after_ms: None }
}

fn unknown(says: String, rule: RepeatRule) -> Outcome {
    match rule {
        RepeatRule::Never => Outcome::InDoubt { says: format!("{says}; the message may have been accepted") },
        RepeatRule::Key | RepeatRule::Safe => again(says),
    }
}

/// No confirmation was received.
fn lost(error: &lapin::Error, rule: RepeatRule) -> Outcome {
    let says = session::words(error);
    match error.kind() {
        ErrorKind::ProtocolError(error) => match error.kind() {
            AMQPErrorKind::Soft(AMQPSoftError::ACCESSREFUSED) => Outcome::Refused { says, status: 0, body: Body::default() },
            AMQPErrorKind::Soft(AMQPSoftError::NOTFOUND) => again(says),
            // The fault may be in another message of the channel; this one may have been accepted before it.
            AMQPErrorKind::Soft(_) | AMQPErrorKind::Hard(_) => unknown(says, rule),
        },
        _ => unknown(says, rule),
    }
}
