//! Rate limits and statistics of webhook addresses.

use super::room::Room;
use governor::{DefaultDirectRateLimiter, Quota, RateLimiter};
use std::collections::HashMap;
use std::num::NonZeroU32;
use std::sync::{Arc, Mutex};
use wirewatch_core::Timestamp;
use wirewatch_core::connection::Connection;
use wirewatch_core::webhook::Webhook;

/// Bytes of bodies that are under way at a time.
const ROOM: u64 = 128 << 20;

/// Every address, by its connection's name.
#[derive(Debug)]
pub struct Doors {
    pub room: Room,
    limits: Mutex<HashMap<String, (NonZeroU32, Arc<DefaultDirectRateLimiter>)>>,
    seen: Mutex<HashMap<String, Door>>,
}

/// Statistics of one address since the service started.
#[derive(Debug, Clone, Default)]
pub struct Door {
    /// When a client last checked that the address exists.
    pub checked: Option<Timestamp>,
    pub turned: Option<Turned>,
}

/// Refused calls.
#[derive(Debug, Clone)]
pub struct Turned {
    pub calls: u64,
    pub last: Timestamp,
    /// Why the last of them was not.
    pub says: String,
}

impl Default for Doors {
    fn default() -> Self {
        Self { room: Room::new(ROOM), limits: Mutex::default(), seen: Mutex::default() }
    }
}

impl Doors {
    /// Returns whether one more call is within the connection's rate limit. Only authenticated calls count: forged ones must not
    /// use up what the sender may send.
    pub fn admits(&self, connection: &Connection, webhook: &Webhook) -> bool {
        let Some(most) = webhook.per_second.and_then(NonZeroU32::new) else { return true };
        let limiter = {
            let mut limits = self.limits.lock().expect("no holder panics");
            let known = limits.get(&connection.name).filter(|(known, _)| *known == most).map(|(_, limiter)| limiter.clone());
            known.unwrap_or_else(|| {
                let fresh = Arc::new(RateLimiter::direct(Quota::per_second(most)));
                limits.insert(connection.name.clone(), (most, fresh.clone()));
                fresh
            })
        };
        limiter.check().is_ok()
    }

    /// Records that a client has checked the address.
    pub fn checked(&self, connection: &str, now: Timestamp) {
        self.seen.lock().expect("no holder panics").entry(connection.to_owned()).or_default().checked = Some(now);
    }

    /// Records a refused call.
    pub fn turned_away(&self, connection: &str, says: &str, now: Timestamp) {
        tracing::warn!(connection, says, "a call was not received");
        let mut seen = self.seen.lock().expect("no holder panics");
        let turned = &mut seen.entry(connection.to_owned()).or_default().turned;
        let calls = turned.as_ref().map_or(0, |before| before.calls) + 1;
        *turned = Some(Turned { calls, last: now, says: says.to_owned() });
    }

    /// Returns the statistics of a connection's address.
    #[must_use]
    pub fn at(&self, connection: &str) -> Door {
        self.seen.lock().expect("no holder panics").get(connection).cloned().unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn refusals_are_counted_and_the_last_is_reported() {
        let doors = Doors::default();
        doors.turned_away("shop", "no signature", Timestamp(1));
        doors.turned_away("shop", "too large", Timestamp(2));
        let turned = doors.at("shop").turned.unwrap();
        assert_eq!((turned.calls, turned.last, turned.says.as_str()), (2, Timestamp(2), "too large"));
        assert!(doors.at("other").turned.is_none());
    }
}
