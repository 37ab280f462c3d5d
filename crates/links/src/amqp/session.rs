//! Opens connections to brokers, with a sentence for every failure.

use lapin::options::{ExchangeDeclareOptions, QueueBindOptions, QueueDeclareOptions};
use lapin::protocol::constants::REPLY_SUCCESS;
use lapin::protocol::{AMQPErrorKind, AMQPHardError, AMQPSoftError};
use lapin::types::{AMQPValue, FieldTable, ShortString};
use lapin::uri::{AMQPUri, AMQPUserInfo};
use lapin::{Channel, Connection, ConnectionProperties, ErrorKind, ExchangeKind};
use std::time::Duration;
use wirewatch_core::broker::{Broker, Exchange, ExchangeKind as Kind, Queue};

/// Seconds between signs of life: a process that hangs gives back what it has not acknowledged after twice that.
const HEARTBEAT: u16 = 10;
/// Longest time for a broker to confirm the end of a connection.
const CLOSE: Duration = Duration::from_secs(2);

/// Credentials for a broker; never shown or logged.
#[derive(Clone, Default, PartialEq, Eq)]
pub struct Access {
    /// User and password; the broker's own guest when left out.
    pub user: Option<(String, String)>,
}

impl std::fmt::Debug for Access {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Access").field("user", &self.user.as_ref().map(|(user, _)| user)).finish_non_exhaustive()
    }
}

/// Why a broker cannot be used, in words for people, with what to do.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct Unreached(pub String);

/// Opens a connection. `name` is shown on the broker's own pages.
///
/// # Errors
/// [`Unreached`], which distinguishes name, network, authentication, permission and virtual host.
pub async fn open(broker: &Broker, access: &Access, name: &str) -> Result<Connection, Unreached> {
    let mut uri: AMQPUri = broker.address.parse().map_err(|says| Unreached(format!("the address cannot be read: {says}")))?;
    if let Some((username, password)) = &access.user {
        uri.authority.userinfo = AMQPUserInfo { username: username.clone(), password: password.clone() };
    }
    uri.query.heartbeat = Some(HEARTBEAT);
    uri.query.connection_timeout = Some(broker.timeout.as_millis() as u64);
    let properties = ConnectionProperties::default().with_connection_name(name.into());
    match tokio::time::timeout(broker.timeout, Connection::connect_uri(uri, properties)).await {
        Ok(Ok(connection)) => Ok(connection),
        Ok(Err(error)) => Err(Unreached(unreached(&error, broker))),
        Err(_) => Err(Unreached(format!(
            "{} accepted the connection but sent nothing within {} s; is it an AMQP 0-9-1 broker?",
            broker.address,
            broker.timeout.as_secs_f64()
        ))),
    }
}

/// Why a connection was not opened.
fn unreached(error: &lapin::Error, broker: &Broker) -> String {
    let address = &broker.address;
    let user = broker.auth.as_ref().map_or_else(|| "guest".to_owned(), |_| "us".to_owned());
    match error.kind() {
        ErrorKind::IOError(cause) if cause.kind() == std::io::ErrorKind::ConnectionRefused => {
            format!("connection refused by {address}: check the port, and whether the system runs")
        }
        ErrorKind::IOError(cause) => {
            let cause = cause.to_string();
            if cause.contains("lookup address") {
                format!("the host name in {address} cannot be resolved: check its spelling and the DNS server ({cause})")
            } else if cause.contains("certificate") || cause.contains("tls") {
                format!("{address}: no TLS connection: {cause}")
            } else {
                format!("cannot connect to {address}: {cause}; check host, port and network")
            }
        }
        ErrorKind::ProtocolError(error) => {
            let says = error.get_message();
            match error.kind() {
                AMQPErrorKind::Soft(AMQPSoftError::ACCESSREFUSED) => {
                    format!("{address} rejected the user {user}: user or password is wrong ({says})")
                }
                AMQPErrorKind::Hard(AMQPHardError::NOTALLOWED | AMQPHardError::INVALIDPATH) => {
                    format!("{address}: the virtual host does not exist, or the user has no access to it ({says})")
                }
                AMQPErrorKind::Soft(_) | AMQPErrorKind::Hard(_) => format!("{address}: {says}"),
            }
        }
        _ => format!("{address}: {error}"),
    }
}

/// Returns the broker's reason for closing a channel or connection, or why the connection is lost.
pub fn words(error: &lapin::Error) -> String {
    match error.kind() {
        ErrorKind::ProtocolError(error) => error.get_message().to_string(),
        ErrorKind::MissingHeartbeatError => "the broker stopped responding".to_owned(),
        ErrorKind::IOError(cause) => format!("the connection was lost: {cause}"),
        _ => format!("the connection was lost: {error}"),
    }
}

/// Declares what the workspace declares at a broker. Failures are reported where it is used.
pub async fn prepare(connection: &Connection, broker: &Broker) {
    for exchange in broker.exchanges.iter().filter(|exchange| exchange.declare) {
        let Ok(channel) = connection.create_channel().await else { return };
        let _ = prepare_exchange(&channel, exchange).await;
    }
    for queue in broker.queues.iter().filter(|queue| queue.declare) {
        let Ok(channel) = connection.create_channel().await else { return };
        let _ = prepare_queue(&channel, queue).await;
    }
}

/// Declares a queue, or checks that it exists.
pub async fn prepare_queue(channel: &Channel, queue: &Queue) -> Result<(), lapin::Error> {
    if !queue.declare {
        return depth(channel, &queue.name).await.map(drop);
    }
    if let Some(dead) = &queue.dead_letters {
        declare(channel, dead, queue.replicated, FieldTable::default()).await?;
    }
    let mut arguments = FieldTable::default();
    if let Some(dead) = &queue.dead_letters {
        arguments.insert("x-dead-letter-exchange".into(), AMQPValue::LongString("".into()));
        arguments.insert("x-dead-letter-routing-key".into(), AMQPValue::LongString(dead.as_str().into()));
    }
    declare(channel, &queue.name, queue.replicated, arguments).await?;
    for binding in &queue.bind {
        let (exchange, key) = (binding.exchange.as_str().into(), binding.key.as_str().into());
        channel.queue_bind(queue.name.as_str().into(), exchange, key, QueueBindOptions::default(), FieldTable::default()).await?;
    }
    Ok(())
}

async fn declare(channel: &Channel, name: &str, replicated: bool, mut arguments: FieldTable) -> Result<(), lapin::Error> {
    if replicated {
        arguments.insert("x-queue-type".into(), AMQPValue::LongString("quorum".into()));
    }
    let options = QueueDeclareOptions { durable: true, ..QueueDeclareOptions::default() };
    channel.queue_declare(name.into(), options, arguments).await.map(drop)
}

/// Declares an exchange, or checks that it exists.
pub async fn prepare_exchange(channel: &Channel, exchange: &Exchange) -> Result<(), lapin::Error> {
    let options = ExchangeDeclareOptions { passive: !exchange.declare, durable: true, ..ExchangeDeclareOptions::default() };
    let kind = match exchange.kind {
        Kind::Topic => ExchangeKind::Topic,
        Kind::Direct => ExchangeKind::Direct,
        Kind::Fanout => ExchangeKind::Fanout,
        Kind::Headers => ExchangeKind::Headers,
    };
    channel.exchange_declare(exchange.name.as_str().into(), kind, options, FieldTable::default()).await
}

/// Messages waiting in a queue, and its consumers.
///
/// # Errors
/// The broker's; the channel has ended then.
pub async fn depth(channel: &Channel, queue: &str) -> Result<(u32, u32), lapin::Error> {
    let options = QueueDeclareOptions { passive: true, ..QueueDeclareOptions::default() };
    let found = channel.queue_declare(ShortString::from(queue), options, FieldTable::default()).await?;
    Ok((found.message_count(), found.consumer_count()))
}

/// Ends a connection in peace; a broker that does not answer is left.
pub async fn close(connection: &Connection) {
    let _ = tokio::time::timeout(CLOSE, connection.close(REPLY_SUCCESS, "done".into())).await;
}

/// Closes a channel in the same way: unacknowledged messages return to their queue.
pub async fn close_channel(channel: &Channel) {
    let _ = tokio::time::timeout(CLOSE, channel.close(REPLY_SUCCESS, "done".into())).await;
}
