//! Brokers by AMQP 0-9-1: consuming from queues, publishing to exchanges and queues, and the state of both.
//!
//! Consumers and publishers use separate connections: a broker that is short of memory stops reading from one that publishes, and
//! acknowledgments would wait behind it. Consumers share connections, each queue on a channel of its own. Each exchange has a
//! channel of its own, since a broker closes a channel for one wrong message: so a fault at one exchange leaves the others alone.

mod intake;
mod overhear;
mod properties;
mod publish;
mod session;
mod together;
mod watch;

pub use intake::{QueueIntake, run};
pub use overhear::Overheard;
pub use publish::Publisher;
pub use session::{Access, Unreached};
pub use together::Sessions;
pub use watch::{Depth, Listening, QueueState, Queues, watch};

use std::collections::HashMap;
use std::sync::{Arc, Mutex};
use wirewatch_core::broker::Broker;

/// Connects to a broker and checks what the workspace names there, without changing anything.
///
/// # Errors
/// A sentence that distinguishes name, network, authentication, virtual host, permission and queue, with what to do.
pub async fn test(broker: &Broker, access: &Access) -> Result<String, String> {
    let connection = session::open(broker, access, "wirewatch tests the connection").await.map_err(|why| why.to_string())?;
    let mut missing = Vec::new();
    for queue in &broker.queues {
        let channel = connection.create_channel().await.map_err(|error| session::words(&error))?;
        if let Err(error) = session::depth(&channel, &queue.name).await {
            let help =
                if queue.declare { "; it is declared when a flow needs it" } else { "; set declare = true to have it declared" };
            missing.push((queue.declare, format!("{}{help}", session::words(&error))));
        }
    }
    for exchange in broker.exchanges.iter().filter(|exchange| !exchange.declare) {
        let channel = connection.create_channel().await.map_err(|error| session::words(&error))?;
        if let Err(error) = session::prepare_exchange(&channel, exchange).await {
            missing.push((false, format!("{}; set declare = true to have it declared", session::words(&error))));
        }
    }
    session::close(&connection).await;
    let wrong: Vec<&str> = missing.iter().filter(|(made, _)| !made).map(|(_, says)| says.as_str()).collect();
    if !wrong.is_empty() {
        return Err(format!("signed in, but {}", wrong.join("; ")));
    }
    let made: Vec<&str> = missing.iter().map(|(_, says)| says.as_str()).collect();
    let queues = match broker.queues.len() {
        0 => String::new(),
        1 => " and has the queue".to_owned(),
        n => format!(" and has the {n} queues"),
    };
    Ok(if made.is_empty() { format!("signed in{queues}") } else { format!("signed in; {}", made.join("; ")) })
}

/// Publishers by connection name, replaced when the connection or its secret has changed.
#[derive(Debug, Default)]
pub struct Publishers {
    known: Mutex<HashMap<String, Arc<Publisher>>>,
}

impl Publishers {
    /// The publisher of a connection.
    #[must_use]
    pub fn at(&self, connection: &str, broker: &Broker, access: &Access) -> Arc<Publisher> {
        let mut known = self.known.lock().expect("no holder panics");
        if let Some(publisher) = known.get(connection).filter(|publisher| publisher.is_of(broker, access)) {
            return publisher.clone();
        }
        let fresh = Arc::new(Publisher::new(connection, broker.clone(), access.clone()));
        known.insert(connection.to_owned(), fresh.clone());
        fresh
    }
}
