//! Taps: receives copies of what an exchange routes, without taking messages from any queue.

use super::properties;
use super::session::{self, Access};
use futures_util::StreamExt;
use lapin::options::{BasicConsumeOptions, QueueBindOptions, QueueDeclareOptions};
use lapin::types::FieldTable;
use lapin::{Connection, Consumer};
use serde_json::{Map, Value};
use wirewatch_core::broker::Broker;

/// A queue of our own at an exchange; the broker deletes it with the connection.
#[derive(Debug)]
pub struct Overheard {
    _connection: Connection,
    consumer: Consumer,
}

impl Overheard {
    /// Binds a queue of our own to the exchange by a pattern of routing keys.
    ///
    /// # Errors
    /// A sentence: the broker cannot be reached, or has no such exchange.
    pub async fn open(broker: &Broker, access: &Access, exchange: &str, pattern: &str) -> Result<Self, String> {
        let connection = session::open(broker, access, "wirewatch capture").await.map_err(|why| why.to_string())?;
        session::prepare(&connection, broker).await;
        let bound = async {
            let channel = connection.create_channel().await?;
            let options = QueueDeclareOptions { exclusive: true, auto_delete: true, ..QueueDeclareOptions::default() };
            let queue = channel.queue_declare("".into(), options, FieldTable::default()).await?;
            let (name, none) = (queue.name().clone(), FieldTable::default());
            let bind = QueueBindOptions::default();
            channel.queue_bind(name.clone(), exchange.into(), pattern.into(), bind, none.clone()).await?;
            let options = BasicConsumeOptions { no_ack: true, ..BasicConsumeOptions::default() };
            channel.basic_consume(name, "wirewatch capture".into(), options, none).await
        };
        let consumer = bound.await.map_err(|error: lapin::Error| session::words(&error))?;
        Ok(Self { _connection: connection, consumer })
    }

    /// Returns the next message: its properties and its body.
    ///
    /// # Errors
    /// A sentence why no more arrive, when the connection ends.
    pub async fn next(&mut self) -> Result<(Map<String, Value>, Vec<u8>), String> {
        match self.consumer.next().await {
            Some(Ok(delivery)) => Ok((properties::of(&delivery), delivery.data)),
            Some(Err(error)) => Err(session::words(&error)),
            None => Err("the broker ended it".to_owned()),
        }
    }
}
