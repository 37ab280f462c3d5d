//! Connected clients. When there are too many, the one that has proved least is disconnected, so that a flood of strangers cannot
//! keep out a sender with a signature or a person with a token.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use tokio::sync::Notify;

/// Every open connection, by the order in which they were opened.
#[derive(Debug)]
pub(super) struct Clients {
    most: usize,
    open: Mutex<Open>,
}

#[derive(Debug, Default)]
struct Open {
    next: u64,
    clients: BTreeMap<u64, Arc<State>>,
}

#[derive(Debug, Default)]
struct State {
    proved: AtomicBool,
    working: AtomicBool,
    cut: Notify,
}

/// A connection as a request handler sees it.
#[derive(Debug, Clone, Default)]
pub struct Client(Arc<State>);

/// A connection's place, until it is dropped.
#[derive(Debug)]
pub(super) struct Admitted {
    of: Arc<Clients>,
    id: u64,
    state: Arc<State>,
}

impl Client {
    /// Records that the client has shown a token, a cookie or a signature: others are disconnected before it.
    pub fn proved(&self) {
        self.0.proved.store(true, Ordering::Relaxed);
    }

    /// Marks a complete request as being worked on: the client is not disconnected until the returned value is dropped.
    #[must_use]
    pub fn working(&self) -> Working {
        self.0.working.store(true, Ordering::Relaxed);
        Working(self.0.clone())
    }
}

/// A request that is being worked on.
#[derive(Debug)]
pub struct Working(Arc<State>);

impl Drop for Working {
    fn drop(&mut self) {
        self.0.working.store(false, Ordering::Relaxed);
    }
}

impl Clients {
    pub(super) fn new(most: usize) -> Self {
        Self { most, open: Mutex::default() }
    }

    /// A place for one more, if need be that of the oldest client without proof, then that of the oldest one that is not worked
    /// for; `None` when all are.
    pub(super) fn admit(self: &Arc<Self>) -> Option<Admitted> {
        let mut open = self.open.lock().expect("no holder panics");
        if open.clients.len() >= self.most {
            let idle = || open.clients.iter().filter(|(_, client)| !client.working.load(Ordering::Relaxed));
            let stranger = idle().find(|(_, client)| !client.proved.load(Ordering::Relaxed));
            let id = *stranger.or_else(|| idle().next())?.0;
            tracing::warn!(most = self.most, "too many connections: the oldest unproven or idle one was closed");
            open.clients.remove(&id)?.cut.notify_one();
        }
        let (id, state) = (open.next, Arc::<State>::default());
        open.next += 1;
        open.clients.insert(id, state.clone());
        Some(Admitted { of: self.clone(), id, state })
    }
}

impl Admitted {
    pub(super) fn handle(&self) -> Client {
        Client(self.state.clone())
    }

    /// Returns when the connection has to make room.
    pub(super) async fn cut(&self) {
        self.state.cut.notified().await;
    }
}

impl Drop for Admitted {
    fn drop(&mut self) {
        self.of.open.lock().expect("no holder panics").clients.remove(&self.id);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use futures_util::FutureExt;

    fn is_cut(client: &Admitted) -> bool {
        client.cut().now_or_never().is_some()
    }

    #[test]
    fn strangers_make_room_first_and_who_is_worked_for_stays() {
        let clients = Arc::new(Clients::new(3));
        let [working, stranger, proved] = std::array::from_fn(|_| clients.admit().unwrap());
        let work = working.handle().working();
        proved.handle().proved();
        let second = clients.admit().unwrap();
        assert!(is_cut(&stranger) && !is_cut(&working) && !is_cut(&proved));
        second.handle().proved();
        let third = clients.admit().unwrap();
        assert!(is_cut(&proved), "nobody is a stranger: the oldest that is not worked for");
        let held = [&second, &third].map(|client| client.handle().working());
        assert!(clients.admit().is_none());
        drop((work, held));
        assert!(clients.admit().is_some());
    }

    #[test]
    fn a_place_is_free_again_when_its_client_has_gone() {
        let clients = Arc::new(Clients::new(1));
        let first = clients.admit().unwrap();
        drop(first);
        let second = clients.admit().unwrap();
        assert!(!is_cut(&second));
    }
}
