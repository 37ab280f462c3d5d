//! Queues and exchanges of a test's own, at one private broker per run.

use crate::wait::eventually_within;
use lapin::message::Delivery;
use lapin::options::{
    BasicAckOptions, BasicGetOptions, BasicPublishOptions, ConfirmSelectOptions, ExchangeDeclareOptions, QueueBindOptions,
    QueueDeclareOptions,
};
use lapin::types::{AMQPValue, FieldTable};
use lapin::uri::{AMQPUri, AMQPUserInfo};
use lapin::{BasicProperties, Channel, Connection, ConnectionProperties, ExchangeKind};
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Mutex, OnceLock};
use std::time::Duration;
use wirewatch_loopback::{BrokerOptions, LoopbackBroker};

/// Variable by which `with-servers` passes its broker to the tests: address, user and password.
pub const BROKER: &str = "WIREWATCH_TEST_BROKER";

/// The broker of this process, when no run gave one.
static OWN: OnceLock<Mutex<(LoopbackBroker, tempfile::TempDir)>> = OnceLock::new();
static NEXT: AtomicU32 = AtomicU32::new(1);

/// Starts a private broker, for tests that stop it.
///
/// # Panics
/// When it cannot be started.
#[must_use]
pub fn private_broker() -> (LoopbackBroker, tempfile::TempDir) {
    let folder = tempfile::Builder::new().prefix("wirewatch-mq-").tempdir().expect("a folder");
    let options = BrokerOptions { folder: folder.path().join("broker"), port: None };
    let broker = LoopbackBroker::start(options).unwrap_or_else(|error| panic!("{error}"));
    (broker, folder)
}

/// A broker as a test sees it: with names of its own, and a client at the other end.
pub struct TestBroker {
    pub address: String,
    pub user: String,
    pub password: String,
    prefix: String,
    _connection: Connection,
    channel: Channel,
}

impl TestBroker {
    /// Opens the run's broker with a name space of its own.
    ///
    /// # Panics
    /// When it cannot be reached.
    pub async fn open() -> Self {
        let address = std::env::var(BROKER).unwrap_or_else(|_| {
            let own = OWN.get_or_init(|| Mutex::new(private_broker()));
            let own = own.lock().expect("no holder panics");
            let (user, password) = own.0.user();
            format!("{} {user} {password}", own.0.address())
        });
        let parts: Vec<&str> = address.split(' ').collect();
        let [address, user, password] = parts[..] else { panic!("{BROKER} holds address, user and password") };
        Self::at(address, user, password).await
    }

    /// A broker at an address.
    ///
    /// # Panics
    /// When it cannot be reached.
    pub async fn at(address: &str, user: &str, password: &str) -> Self {
        // Padded, so that columns in snapshots keep their width.
        let prefix = format!("t{:07}-{:03}.", std::process::id(), NEXT.fetch_add(1, Ordering::Relaxed));
        let mut uri: AMQPUri = address.parse().expect("an address");
        uri.authority.userinfo = AMQPUserInfo { username: user.to_owned(), password: password.to_owned() };
        let connection = Connection::connect_uri(uri, ConnectionProperties::default()).await.expect("a connection");
        let channel = connection.create_channel().await.expect("a channel");
        channel.confirm_select(ConfirmSelectOptions::default()).await.expect("confirms");
        let (address, user, password) = (address.to_owned(), user.to_owned(), password.to_owned());
        Self { address, user, password, prefix, _connection: connection, channel }
    }

    /// The test's own name for a queue or exchange.
    #[must_use]
    pub fn name(&self, name: &str) -> String {
        format!("{}{name}", self.prefix)
    }

    /// A channel of the test's own.
    #[must_use]
    pub fn channel(&self) -> &Channel {
        &self.channel
    }

    /// Makes a quorum queue, bound to an exchange of the same test when `bound` names one with a pattern.
    ///
    /// # Panics
    /// When the broker refuses.
    pub async fn queue(&self, name: &str, bound: Option<(&str, &str)>) {
        let mut arguments = FieldTable::default();
        arguments.insert("x-queue-type".into(), AMQPValue::LongString("quorum".into()));
        let options = QueueDeclareOptions { durable: true, ..QueueDeclareOptions::default() };
        let queue = self.name(name);
        self.channel.queue_declare(queue.as_str().into(), options, arguments).await.expect("a queue");
        if let Some((exchange, key)) = bound {
            let exchange = self.name(exchange);
            let none = FieldTable::default();
            let bound = self.channel.queue_bind(queue.into(), exchange.into(), key.into(), QueueBindOptions::default(), none);
            bound.await.expect("bound");
        }
    }

    /// Makes a topic exchange.
    ///
    /// # Panics
    /// When the broker refuses.
    pub async fn exchange(&self, name: &str) {
        let options = ExchangeDeclareOptions { durable: true, ..ExchangeDeclareOptions::default() };
        let exchange = self.name(name);
        let made = self.channel.exchange_declare(exchange.into(), ExchangeKind::Topic, options, FieldTable::default());
        made.await.expect("an exchange");
    }

    /// Puts a message into a queue of the test; confirmed when this returns.
    ///
    /// # Panics
    /// When the broker refuses.
    pub async fn put(&self, queue: &str, body: &[u8], properties: BasicProperties) {
        let options = BasicPublishOptions { mandatory: true, ..BasicPublishOptions::default() };
        let properties = properties.with_delivery_mode(2);
        let queue = self.name(queue);
        let published = self.channel.basic_publish("".into(), queue.into(), options, body, properties).await.expect("sent");
        let confirmed = published.await.expect("confirmed");
        assert!(confirmed.is_ack() && confirmed.take_message().is_none(), "the queue took it");
    }

    /// Puts a message into a queue without waiting for its confirmation; [`filled`](Self::filled) waits for all.
    ///
    /// # Panics
    /// When the broker refuses.
    pub async fn fill(&self, queue: &str, body: &[u8], properties: BasicProperties) {
        let queue = self.name(queue);
        let properties = properties.with_delivery_mode(2);
        let options = BasicPublishOptions::default();
        drop(self.channel.basic_publish("".into(), queue.into(), options, body, properties).await.expect("sent"));
    }

    /// Waits until all that was filled in is confirmed.
    ///
    /// # Panics
    /// When the broker refuses.
    pub async fn filled(&self) {
        self.channel.wait_for_confirms().await.expect("confirmed");
    }

    /// Takes the next message of a queue, if there is one.
    ///
    /// # Panics
    /// When the queue does not exist.
    pub async fn take(&self, queue: &str) -> Option<Delivery> {
        self.get(&self.name(queue)).await
    }

    /// Opens another connection with the same names, for when the first is gone.
    #[must_use]
    pub fn named_as(self, other: &Self) -> Self {
        Self { prefix: other.prefix.clone(), ..self }
    }

    /// Waits for the next message of a queue and takes it.
    ///
    /// # Panics
    /// When none arrives.
    pub async fn next(&self, queue: &str) -> Delivery {
        let name = self.name(queue);
        eventually_within(Duration::from_secs(30), &format!("a message in {queue}"), || self.get(&name)).await
    }

    async fn get(&self, name: &str) -> Option<Delivery> {
        let got = self.channel.basic_get(name.into(), BasicGetOptions::default()).await.expect("an answer")?;
        got.delivery.acker.ack(BasicAckOptions::default()).await.expect("acknowledged");
        Some(got.delivery)
    }

    /// Returns the number of waiting messages and of consumers of a queue.
    ///
    /// # Panics
    /// When the queue does not exist.
    pub async fn depth(&self, queue: &str) -> (u32, u32) {
        let options = QueueDeclareOptions { passive: true, durable: true, ..QueueDeclareOptions::default() };
        let found = self.channel.queue_declare(self.name(queue).into(), options, FieldTable::default()).await.expect("a queue");
        (found.message_count(), found.consumer_count())
    }
}

impl std::fmt::Debug for TestBroker {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("TestBroker").field("address", &self.address).field("prefix", &self.prefix).finish_non_exhaustive()
    }
}
