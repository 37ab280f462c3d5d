//! Brokers: where messages wait in queues, and what is to be there (AMQP 0-9-1).

use crate::connection::Auth;
use crate::place::Place;
use std::time::Duration;

/// Default number of messages that a broker delivers ahead of their acknowledgment.
pub const PREFETCH: u16 = 1000;
/// Longest routing key, and longest name of a queue or exchange, in bytes: a short string (AMQP 0-9-1, 4.2.5.3).
pub const SHORT: usize = 255;

/// A broker as the workspace describes it.
#[derive(Debug, Clone, PartialEq)]
pub struct Broker {
    /// `amqp://host:port/vhost`, without credentials.
    pub address: String,
    /// Longest time for a confirmation.
    pub timeout: Duration,
    pub auth: Option<Auth>,
    pub queues: Vec<Queue>,
    pub exchanges: Vec<Exchange>,
}

/// A queue that flows take from or send to.
#[derive(Debug, Clone, PartialEq)]
pub struct Queue {
    pub name: String,
    /// Created when it is missing; otherwise it must exist.
    pub declare: bool,
    /// Messages are replicated to several brokers of a cluster.
    pub replicated: bool,
    /// Exchanges bound to it, with patterns of routing keys.
    pub bind: Vec<Binding>,
    /// The queue to which the broker moves what expires or is rejected.
    pub dead_letters: Option<String>,
    pub prefetch: u16,
    /// Where the name of the event is.
    pub event: Option<Place>,
    /// Where the sender's id is, by which a duplicate is recognised.
    pub delivery: Option<Place>,
}

/// A queue bound to an exchange.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Binding {
    pub exchange: String,
    /// A routing key, or a pattern of them.
    pub key: String,
}

/// An exchange that flows send to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Exchange {
    pub name: String,
    /// Created when it is missing; otherwise it must exist.
    pub declare: bool,
    pub kind: ExchangeKind,
}

/// How an exchange finds the queues for a message.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ExchangeKind {
    Topic,
    Direct,
    Fanout,
    Headers,
}

impl ExchangeKind {
    /// Every kind with its word, in files and on the wire.
    pub const ALL: [(&'static str, Self); 4] =
        [("topic", Self::Topic), ("direct", Self::Direct), ("fanout", Self::Fanout), ("headers", Self::Headers)];

    /// Returns the word on the wire.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Topic => "topic",
            Self::Direct => "direct",
            Self::Fanout => "fanout",
            Self::Headers => "headers",
        }
    }
}

impl Broker {
    /// Returns the queue of that name, if the workspace describes it.
    #[must_use]
    pub fn queue(&self, name: &str) -> Option<&Queue> {
        self.queues.iter().find(|queue| queue.name == name)
    }
}
