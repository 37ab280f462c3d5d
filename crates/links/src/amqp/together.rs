//! Connections to brokers that several intakes share: one for each of two hundred idle queues is two hundred signs of life
//! to give and to hear.

use super::session::{self, Access, Unreached};
use lapin::Connection;
use std::collections::HashMap;
use std::sync::{Arc, Mutex, Weak};
use std::time::Instant;
use wirewatch_core::broker::Broker;

/// Intakes on one connection, at most: what ends one for its connection ends it for no more than these, and brokers allow
/// many times as many channels.
const TOGETHER: usize = 64;

/// The connections that are open, by the name of the workspace's connection. Each is closed with the last who has it.
#[derive(Debug, Default)]
pub struct Sessions {
    known: Mutex<HashMap<String, Arc<tokio::sync::Mutex<AtBroker>>>>,
}

#[derive(Debug, Default)]
struct AtBroker {
    /// Address and access for which the others are open.
    reached_by: Option<(String, Access)>,
    open: Vec<Weak<Connection>>,
    /// The last failure, and its time.
    failed: Option<(Instant, Unreached)>,
}

impl Sessions {
    /// Returns a connection for one more intake.
    ///
    /// # Errors
    /// [`Unreached`]. Callers that waited for another caller's try get its result: with a broker that does not respond, two
    /// hundred would wait one after another.
    pub async fn open(&self, connection: &str, broker: &Broker, access: &Access) -> Result<Arc<Connection>, Unreached> {
        let asked = Instant::now();
        let at_broker = self.known.lock().expect("no holder panics").entry(connection.to_owned()).or_default().clone();
        let mut at_broker = at_broker.lock().await;
        let by = (broker.address.clone(), access.clone());
        if at_broker.reached_by.as_ref() != Some(&by) {
            *at_broker = AtBroker { reached_by: Some(by), ..AtBroker::default() };
        }
        if let Some((_, why)) = at_broker.failed.as_ref().filter(|(at, _)| *at >= asked) {
            return Err(why.clone());
        }
        at_broker.open.retain(|open| open.upgrade().is_some_and(|open| open.status().connected()));
        let with_room = at_broker.open.iter().filter_map(Weak::upgrade).find(|open| Arc::strong_count(open) <= TOGETHER);
        if let Some(open) = with_room {
            return Ok(open);
        }
        match session::open(broker, access, &format!("wirewatch receives from {connection}")).await {
            Ok(open) => {
                let open = Arc::new(open);
                at_broker.open.push(Arc::downgrade(&open));
                at_broker.failed = None;
                Ok(open)
            }
            Err(why) => {
                at_broker.failed = Some((Instant::now(), why.clone()));
                Err(why)
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Duration;
    use wirewatch_testkit::TestBroker;

    fn broker_at(address: String) -> Broker {
        Broker { address, timeout: Duration::from_secs(10), auth: None, queues: Vec::new(), exchanges: Vec::new() }
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn intakes_share_a_connection_until_it_is_full_or_gone() {
        let ends = TestBroker::open().await;
        let (broker, sessions) = (broker_at(ends.address.clone()), Sessions::default());
        let access = Access { user: Some((ends.user.clone(), ends.password.clone())) };
        let open = async || sessions.open("orders", &broker, &access).await.expect("reached");
        let first = open().await;
        let mut others = Vec::new();
        for _ in 1..TOGETHER {
            others.push(open().await);
        }
        assert!(others.iter().all(|other| Arc::ptr_eq(other, &first)));
        let next = open().await;
        assert!(!Arc::ptr_eq(&next, &first), "the first one is full");
        others.pop();
        assert!(Arc::ptr_eq(&open().await, &first), "one of them left");
        session::close(&first).await;
        assert!(Arc::ptr_eq(&open().await, &next), "a connection that ended is lent no more");
        let other = Access { user: Some((ends.user.clone(), "another".to_owned())) };
        let refused = sessions.open("orders", &broker, &other).await.expect_err("not let in");
        assert!(refused.to_string().contains("password"), "{refused}");
    }

    #[tokio::test]
    async fn those_who_waited_for_one_that_found_nobody_are_reported_the_same() {
        let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.expect("a port");
        let broker = broker_at(format!("amqp://{}", listener.local_addr().expect("an address")));
        let (sessions, access) = (Sessions::default(), Access::default());
        let turned_away = tokio::spawn(async move {
            drop(listener.accept().await.expect("a caller"));
            drop(listener);
        });
        let asking = (0..50).map(|_| sessions.open("orders", &broker, &access));
        let errors: Vec<String> =
            futures_util::future::join_all(asking).await.into_iter().map(|asked| asked.expect_err("no broker").0).collect();
        turned_away.await.expect("one arrived");
        assert!(!errors[0].contains("connection refused"), "the first one reached it: {}", errors[0]);
        assert!(errors.iter().all(|says| *says == errors[0]), "a second try would have been refused: {errors:?}");
        let later = sessions.open("orders", &broker, &access).await.expect_err("no broker").0;
        assert!(later.contains("connection refused"), "who asks later tries anew: {later}");
    }
}
