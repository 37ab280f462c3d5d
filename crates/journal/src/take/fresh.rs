//! Stores new arrivals in one statement.
//!
//! An arrival by queue or webhook is nearly always new, and can be recognised by its sender's id only. So it is decided as new
//! and written on condition that none of the ids was seen before: one round trip instead of three or more. If one was, nothing is
//! written, and the full transaction finds out which.

use crate::days::DELIVERY;
use crate::error::JournalError;
use crate::group::columns;
use crate::group::custody::CustodyRows;
use crate::group::sql::{Rows, Sql};
use crate::group::{clean, run};
use crate::writer::{Counters, PgJournal};
use wirewatch_core::intake::Known;
use wirewatch_engine::{Arriving, Clock, Incoming, SystemClock, Taken};

impl PgJournal {
    /// Stores them as new; `None` when they have to be checked one by one.
    pub(super) async fn take_fresh(&self, batch: &[Arriving]) -> Result<Option<Vec<Taken>>, JournalError> {
        let plain = |arriving: &Arriving| arriving.keys.is_empty() && arriving.incoming.fingerprint.is_empty();
        if !batch.iter().all(plain) {
            return Ok(None);
        }
        let (now, me) = (SystemClock.now(), self.me());
        let (mut rows, mut seen, mut taken) =
            (CustodyRows::new(me.shards), Rows::of(columns::SEEN), Vec::with_capacity(batch.len()));
        let (mut scopes, mut keys) = (Vec::new(), Vec::new());
        for arriving in batch {
            let incoming = &arriving.incoming;
            let ahead = arriving.born.as_ref().map(|born| born.decision.clone());
            let decision = ahead.unwrap_or_else(|| (arriving.decide)(&[Known::NEW]));
            if !decision.seal.is_empty() || !decision.ledger.is_empty() {
                return Ok(None);
            }
            taken.push(self.one(&mut rows, arriving, decision, &mut Counters::new(), &[], now)?);
            if incoming.delivery.is_empty() {
                continue;
            }
            let (scope, key) = delivery(incoming);
            let (arrival, at, digest) = (incoming.id.0, incoming.received.0, incoming.digest.to_string());
            seen.push([scope.clone().into(), key.clone().into(), arrival.into(), at.into(), digest.into()]);
            scopes.push(scope);
            keys.push(key);
        }
        let number = self.next_take();
        let mut statement = Sql::unless_seen(me, scopes, keys);
        statement.insert("seen", seen, &[], "");
        let events = rows.write(&mut statement, number, now)?;
        match run(&self.takings, statement).await {
            Ok(()) => {
                self.tell(number, now, || events);
                Ok(Some(taken))
            }
            // Seen before, or stored by another process at this moment; or this process may not write any more; or one cannot be
            // stored.
            Err(JournalError::Fenced | JournalError::Refused(_) | JournalError::Unstorable(_)) => Ok(None),
            Err(other) => Err(other),
        }
    }
}

/// Returns the scope and key by which a delivery is recognised.
pub(super) fn delivery(incoming: &Incoming) -> (String, String) {
    (format!("{DELIVERY}{}", incoming.connection), clean(&incoming.delivery))
}
