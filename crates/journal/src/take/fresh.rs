//! Arrivals of which nothing is known, in one statement.
//!
//! What comes by a queue or a webhook is nearly always new, and all that it could be known by is its sender's id. So it is
//! decided on as new, and written on condition that none of the ids was seen before: one round trip instead of three or more.
//! Where one was, nothing is written, and the careful way tells which.

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
    /// Takes them as new; `None` when they have to be looked at one by one.
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
            // Seen before, or by another at this moment; or it is not ours to write any more, or cannot be stored.
            Err(JournalError::Fenced | JournalError::Refused(_) | JournalError::Unstorable(_)) => Ok(None),
            Err(other) => Err(other),
        }
    }
}

/// What a delivery is remembered by.
pub(super) fn delivery(incoming: &Incoming) -> (String, String) {
    (format!("{DELIVERY}{}", incoming.connection), clean(&incoming.delivery))
}
