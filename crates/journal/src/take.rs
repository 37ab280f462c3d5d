//! Stores arrivals: ledger, sealed acknowledgments, bodies and verdicts in one transaction.
//!
//! Five round trips whatever the number of arrivals: begin, deliveries seen before, ledger and counters (each only if needed),
//! one statement that writes everything, commit. One round trip for arrivals that are plain and new, which most are ([`fresh`]).

mod fresh;

use crate::error::JournalError;
use crate::group::custody::{Answering, CustodyRows};
use crate::group::sql::Sql;
use crate::group::{clean, run};
use crate::load::messages;
use crate::pack::pieces;
use crate::writer::{Counters, PgJournal, sql};
use fresh::delivery;
use sea_orm::{ConnectionTrait, DatabaseTransaction, TransactionTrait};
use serde_json::{Value as Json, json};
use std::collections::{BTreeSet, HashMap, HashSet};
use wirewatch_core::document::Form;
use wirewatch_core::flow::ACKNOWLEDGMENTS;
use wirewatch_core::intake::{Decision, Known, LedgerKey, Seal, Verdict};
use wirewatch_core::machine::Origin;
use wirewatch_core::x12::ack::Stamp;
use wirewatch_core::{ArrivalId, Digest, Id, MessageId, Timestamp};
use wirewatch_engine::{Arriving, Clock, Incoming, Splits, Stored, SystemClock, Taken};

impl PgJournal {
    pub(crate) async fn take_batch(&self, batch: &[Arriving]) -> Result<Vec<Taken>, JournalError> {
        let mut taken = Vec::with_capacity(batch.len());
        let mut rest = batch;
        while !rest.is_empty() {
            let (now, later) = rest.split_at(independent(rest));
            match self.take_together(now).await {
                // Shards were given away meanwhile: once more, with those that are left.
                Err(JournalError::Fenced) if self.still_mine().await? => continue,
                // One of them cannot be stored; stored one by one, the others can.
                Err(JournalError::Refused(_) | JournalError::Unstorable(_)) => {
                    for one in now {
                        match self.take_together(std::slice::from_ref(one)).await {
                            Err(JournalError::Refused(says) | JournalError::Unstorable(says)) => taken.push(Taken::Refused(says)),
                            other => taken.extend(other?),
                        }
                    }
                }
                other => taken.extend(other?),
            }
            rest = later;
        }
        Ok(taken)
    }

    async fn take_together(&self, batch: &[Arriving]) -> Result<Vec<Taken>, JournalError> {
        if let Some(taken) = self.take_fresh(batch).await? {
            return Ok(taken);
        }
        let transaction = self.takings.begin().await?;
        let before = seen(&transaction, batch).await?;
        let fresh: Vec<&Arriving> = batch.iter().filter(|arriving| !before.contains_key(&arriving.incoming.id)).collect();
        let delivered = delivered(&transaction, &fresh).await?;
        let ledger = ledger(&transaction, &fresh).await?;
        let mut numbers = Numbers::new();
        let decisions: Vec<Decision> = fresh.iter().map(|arriving| decide(arriving, &mut numbers, &ledger, &delivered)).collect();
        let mut counters = lock_counters(&transaction, &decisions).await?;
        let again: Vec<MessageId> = decisions.iter().flat_map(|decision| decision.again.iter().copied()).collect();
        let again = if again.is_empty() { Vec::new() } else { messages(&transaction, &again).await? };
        let now = SystemClock.now();
        let me = self.me();
        let mut rows = CustodyRows::new(me.shards);
        let mut fresh_taken = HashMap::new();
        for (arriving, decision) in fresh.iter().zip(decisions) {
            let taken = self.one(&mut rows, arriving, decision, &mut counters, &again, now)?;
            fresh_taken.insert(arriving.incoming.id, taken);
        }
        for (scope, value) in &counters {
            rows.counter(scope, *value);
        }
        let number = self.next_take();
        let mut statement = Sql::new(me);
        let events = rows.write(&mut statement, number, now)?;
        if !fresh.is_empty() {
            run(&transaction, statement).await?;
        }
        transaction.commit().await?;
        if let Some(sealed) = self.sealed.get().filter(|_| !counters.is_empty()) {
            (sealed.0)(&counters);
        }
        if !fresh.is_empty() {
            self.tell(number, now, || events);
        }
        let of = |arriving: &Arriving| {
            let id = arriving.incoming.id;
            before.get(&id).map_or_else(|| fresh_taken.remove(&id), |before| Some(Taken::Before(*before)))
        };
        Ok(batch.iter().filter_map(of).collect())
    }

    /// Adds the rows of one arrival.
    fn one(
        &self,
        rows: &mut CustodyRows,
        arriving: &Arriving,
        decision: Decision,
        counters: &mut Counters,
        again: &[Stored],
        now: Timestamp,
    ) -> Result<Taken, JournalError> {
        let (release, incoming) = (arriving.release, &arriving.incoming);
        let born = arriving.born.as_ref().filter(|born| born.decision.split == decision.split);
        let splits = match born {
            Some(_) => Splits::Born,
            None if decision.split.parts.is_empty() => Splits::Nothing,
            None => Splits::Later,
        };
        rows.arrival(release, incoming, &decision, splits)?;
        for message in born.iter().flat_map(|born| &born.messages) {
            rows.message(message, now, &mut || self.next_id(now))?;
        }
        for (key, digest) in &decision.ledger {
            rows.ledger(self.next_id(now), key, *digest, incoming.id, None, incoming.received);
        }
        let mut sealed = Vec::with_capacity(decision.seal.len() + decision.again.len());
        for seal in &decision.seal {
            sealed.push(self.seal(rows, release, incoming, seal, counters, now));
        }
        for id in &decision.again {
            sealed.extend(again.iter().find(|stored| stored.origin.id == *id).map(|stored| {
                // The same bytes as that acknowledgment, as a message of its own.
                let origin = Origin { id: self.next_message(now), arrival: incoming.id, release, ..(*stored.origin).clone() };
                Stored::new(origin, stored.document.clone())
            }));
        }
        for stored in &sealed {
            rows.acknowledgment(&stored.origin, now)?;
        }
        let Decision { verdict, says, partner, .. } = decision;
        Ok(Taken::Now { verdict, says, partner, messages: sealed, splits })
    }

    /// Numbers and renders an acknowledgment. Its counter rows stay locked until the commit: no number is used twice
    /// and none is left out.
    fn seal(
        &self,
        rows: &mut CustodyRows,
        release: i64,
        incoming: &Incoming,
        seal: &Seal,
        counters: &mut Counters,
        now: Timestamp,
    ) -> Stored {
        let mut numbers = seal.counters().into_iter().map(|scope| {
            let value = counters.entry(clean(&scope)).or_insert(0);
            // Nine digits: after 999,999,999 comes 1 again.
            *value = *value % 999_999_999 + 1;
            *value as u32
        });
        let (interchange_control, group_control) = (numbers.next().unwrap_or(0), numbers.next().unwrap_or(0));
        let (date, time) = incoming.received.x12();
        let bytes = seal.render(&Stamp { interchange_control, group_control, date, time });
        let id = self.next_message(now);
        let (control, key) = (format!("{interchange_control:09}"), LedgerKey::of(&seal.header));
        rows.body(id, pieces(&bytes));
        let back = LedgerKey { sender: key.receiver, receiver: key.sender, usage: key.usage, control: control.clone() };
        let answering = Answering { message: id, control: &key.control };
        rows.ledger(id, &back, Digest::of(&[&bytes]), incoming.id, Some(answering), incoming.received);
        let of_group = if seal.group().is_empty() { String::new() } else { format!(" group {}", seal.group()) };
        let meta = json!({
            "partner": seal.partner, "to": seal.to, "file": format!("{}-{control}.edi", seal.set()), "control": control,
            "group": format!("{}{of_group}", key.control), "interchange": key.control,
        });
        let Json::Object(meta) = meta else { unreachable!("an object was just written") };
        let (arrival, slice) = (incoming.id, 0..bytes.len() as u64);
        let origin = Origin { id, arrival, body: id, slice, flow: ACKNOWLEDGMENTS.to_owned(), release, form: Form::Bytes, meta };
        Stored::new(origin, bytes)
    }

    /// An arrival as its commit left it, with the acknowledgments sealed for it.
    pub(crate) async fn taken_before(&self, id: ArrivalId) -> Result<Option<Taken>, JournalError> {
        let text = "select verdict, says, partner, messages, exists (select 1 from splitting where arrival = $1) from arrival where id = $1";
        let Some(row) = self.db.query_one_raw(sql(text, [id.0.into()])).await? else { return Ok(None) };
        let verdict: String = row.try_get_by_index(0)?;
        let splits = match (row.try_get_by_index(4)?, row.try_get_by_index(3)?) {
            (true, _) => Splits::Later,
            (false, 0i32) => Splits::Nothing,
            // No splitting has begun: its messages were created with it.
            (false, _) => Splits::Born,
        };
        let text = "select id from live where arrival = $1 and flow = $2 order by id";
        let sealed = self.db.query_all_raw(sql(text, [id.0.into(), ACKNOWLEDGMENTS.into()])).await?;
        let ids = sealed.iter().map(|row| row.try_get_by_index(0).map(Id)).collect::<Result<Vec<_>, _>>()?;
        Ok(Some(Taken::Now {
            verdict: Verdict::ALL.into_iter().find(|known| known.as_str() == verdict).unwrap_or(Verdict::Received),
            says: row.try_get_by_index(1)?,
            partner: row.try_get_by_index(2)?,
            messages: messages(&self.db, &ids).await?,
            splits,
        }))
    }
}

/// Returns how many arrivals from the front do not depend on one another: no interchange, file or delivery occurs twice.
fn independent(batch: &[Arriving]) -> usize {
    let (mut keys, mut files, mut deliveries) = (HashSet::new(), HashSet::new(), HashSet::new());
    let depends = batch.iter().position(|arriving| {
        let known = arriving.keys.iter().any(|(key, _)| keys.contains(key));
        keys.extend(arriving.keys.iter().map(|(key, _)| key));
        let Incoming { connection, fingerprint, delivery, .. } = &arriving.incoming;
        known
            || (!fingerprint.is_empty() && !files.insert(fingerprint))
            || (!delivery.is_empty() && !deliveries.insert((connection, delivery)))
    });
    depends.unwrap_or(batch.len()).max(1)
}

/// Returns which of them were stored before, by their files' fingerprints: only their archiving was left.
async fn seen(transaction: &DatabaseTransaction, batch: &[Arriving]) -> Result<HashMap<ArrivalId, ArrivalId>, JournalError> {
    let files: Vec<&Incoming> =
        batch.iter().map(|arriving| &arriving.incoming).filter(|incoming| !incoming.fingerprint.is_empty()).collect();
    if files.is_empty() {
        return Ok(HashMap::new());
    }
    let scopes: Vec<String> = files.iter().map(|incoming| format!("folder {}", incoming.connection)).collect();
    let prints: Vec<String> = files.iter().map(|incoming| clean(&incoming.fingerprint)).collect();
    let ids: Vec<i64> = files.iter().map(|incoming| incoming.id.0).collect();
    let times: Vec<i64> = files.iter().map(|incoming| incoming.received.0).collect();
    let text =
        "insert into seen (scope, key, arrival, at) select * from unnest($1::text[], $2::text[], $3::bigint[], $4::bigint[])
        on conflict (scope, key) do update set key = seen.key returning key, arrival";
    let rows = transaction.query_all_raw(sql(text, [scopes.into(), prints.into(), ids.into(), times.into()])).await?;
    let mut before = HashMap::new();
    for row in rows {
        let (print, arrival): (String, i64) = (row.try_get_by_index(0)?, row.try_get_by_index(1)?);
        let own = files.iter().find(|incoming| clean(&incoming.fingerprint) == print);
        if let Some(incoming) = own.filter(|incoming| incoming.id.0 != arrival) {
            before.insert(incoming.id, Id(arrival));
        }
    }
    Ok(before)
}

/// Returns what is known of deliveries by their senders' ids; arrivals without one are left out.
async fn delivered(transaction: &DatabaseTransaction, fresh: &[&Arriving]) -> Result<HashMap<ArrivalId, Known>, JournalError> {
    let fresh: Vec<&Incoming> =
        fresh.iter().map(|arriving| &arriving.incoming).filter(|incoming| !incoming.delivery.is_empty()).collect();
    if fresh.is_empty() {
        return Ok(HashMap::new());
    }
    let (scopes, keys): (Vec<String>, Vec<String>) = fresh.iter().map(|incoming| delivery(incoming)).unzip();
    let ids: Vec<i64> = fresh.iter().map(|incoming| incoming.id.0).collect();
    let times: Vec<i64> = fresh.iter().map(|incoming| incoming.received.0).collect();
    let digests: Vec<String> = fresh.iter().map(|incoming| incoming.digest.to_string()).collect();
    let text = "insert into seen (scope, key, arrival, at, digest)
        select * from unnest($1::text[], $2::text[], $3::bigint[], $4::bigint[], $5::text[])
        on conflict (scope, key) do update set key = seen.key returning scope, key, arrival, digest";
    let values = [scopes.into(), keys.into(), ids.into(), times.into(), digests.into()];
    let mut found = HashMap::new();
    for row in transaction.query_all_raw(sql(text, values)).await? {
        let (scope, key): (String, String) = (row.try_get_by_index(0)?, row.try_get_by_index(1)?);
        found.insert((scope, key), (Id(row.try_get_by_index(2)?), row.try_get_by_index::<String>(3)?));
    }
    let known = |incoming: &Incoming| match found.get(&delivery(incoming)) {
        Some((arrival, digest)) if *arrival != incoming.id => match *digest == incoming.digest.to_string() {
            true => Known::Same { arrival: *arrival, acknowledgments: Vec::new() },
            false => Known::Other { arrival: *arrival },
        },
        Some(_) | None => Known::NEW,
    };
    Ok(fresh.into_iter().map(|incoming| (incoming.id, known(incoming))).collect())
}

/// A ledger entry: content, arrival, and the acknowledgments sent.
struct Recorded {
    digest: String,
    arrival: ArrivalId,
    acknowledgments: Vec<MessageId>,
}

/// Ledger entries of received interchanges, and for each key the highest control number below its own.
type InLedger = (HashMap<LedgerKey, Recorded>, HashMap<LedgerKey, u64>);

async fn ledger(transaction: &DatabaseTransaction, fresh: &[&Arriving]) -> Result<InLedger, JournalError> {
    let keys: Vec<&LedgerKey> = fresh.iter().flat_map(|arriving| arriving.keys.iter().map(|(key, _)| key)).collect();
    if keys.is_empty() {
        return Ok(InLedger::default());
    }
    let column = |pick: fn(&LedgerKey) -> &String| keys.iter().map(|key| clean(pick(key))).collect::<Vec<String>>();
    let columns = [column(|k| &k.sender), column(|k| &k.receiver), column(|k| &k.usage), column(|k| &k.control)];
    let numbers: Vec<i32> = (0..keys.len() as i32).collect();
    let text = "select u.n, l.digest, l.arrival,
            array(select o.message from ledger o where o.direction = 'out' and o.arrival = l.arrival and o.answers = u.control order by o.message),
            (select max(b.control) from ledger b where b.direction = 'in' and b.sender = u.sender and b.receiver = u.receiver
                and b.usage = u.usage and b.control < u.control collate \"C\")
        from unnest($1::int[], $2::text[], $3::text[], $4::text[], $5::text[]) as u(n, sender, receiver, usage, control)
        left join ledger l on l.direction = 'in' and l.sender = u.sender and l.receiver = u.receiver and l.usage = u.usage and l.control = u.control";
    let [senders, receivers, usages, controls] = columns;
    let values = [numbers.into(), senders.into(), receivers.into(), usages.into(), controls.into()];
    let (mut found, mut last) = InLedger::default();
    for row in transaction.query_all_raw(sql(text, values)).await? {
        let n: i32 = row.try_get_by_index(0)?;
        let key = keys[n as usize];
        if let Some(before) = row.try_get_by_index::<Option<String>>(4)?.and_then(|before| before.parse().ok()) {
            last.insert(key.clone(), before);
        }
        let (Some(digest), Some(arrival)) = (row.try_get_by_index(1)?, row.try_get_by_index(2)?) else { continue };
        let acknowledgments: Vec<i64> = row.try_get_by_index(3)?;
        let acknowledgments = acknowledgments.into_iter().map(Id).collect();
        found.insert(key.clone(), Recorded { digest, arrival: Id(arrival), acknowledgments });
    }
    Ok((found, last))
}

/// Control numbers decided on in one transaction, by sender, receiver and usage.
type Numbers<'k> = HashMap<[&'k str; 3], BTreeSet<u64>>;

fn decide<'k>(
    arriving: &'k Arriving,
    numbers: &mut Numbers<'k>,
    (ledger, last): &InLedger,
    delivered: &HashMap<ArrivalId, Known>,
) -> Decision {
    let arrival = arriving.incoming.id;
    if arriving.keys.is_empty() {
        return (arriving.decide)(&[delivered.get(&arrival).cloned().unwrap_or(Known::NEW)]);
    }
    let mut own: HashMap<&LedgerKey, Digest> = HashMap::new();
    let known = arriving.keys.iter().map(|(key, digest)| {
        // The same interchange twice in one file: the first one is the one it repeats.
        let earlier = own.get(key).copied();
        own.entry(key).or_insert(*digest);
        let decided = numbers.entry([&key.sender, &key.receiver, &key.usage]).or_default();
        let number = key.control.parse().unwrap_or(0);
        let before = decided.range(..number).next_back().max(last.get(key)).copied();
        decided.insert(number);
        match (earlier, ledger.get(key)) {
            (Some(other), _) if other == *digest => Known::Same { arrival, acknowledgments: Vec::new() },
            (Some(_), _) => Known::Other { arrival },
            (None, None) => Known::No { before },
            (None, Some(recorded)) if recorded.digest == digest.to_string() => {
                Known::Same { arrival: recorded.arrival, acknowledgments: recorded.acknowledgments.clone() }
            }
            (None, Some(recorded)) => Known::Other { arrival: recorded.arrival },
        }
    });
    (arriving.decide)(&known.collect::<Vec<_>>())
}

/// Locks the counters that are needed, in one order everywhere, and reads them.
async fn lock_counters(transaction: &DatabaseTransaction, decisions: &[Decision]) -> Result<Counters, JournalError> {
    let seals = decisions.iter().flat_map(|decision| &decision.seal);
    let scopes: BTreeSet<String> = seals.flat_map(Seal::counters).map(|scope| clean(&scope)).collect();
    if scopes.is_empty() {
        return Ok(Counters::new());
    }
    let scopes: Vec<String> = scopes.into_iter().collect();
    let text = "insert into counter select scope, 0 from unnest($1::text[]) as u(scope) order by scope
        on conflict (scope) do update set value = counter.value returning scope, value";
    let rows = transaction.query_all_raw(sql(text, [scopes.into()])).await?;
    rows.iter().map(|row| Ok((row.try_get_by_index(0)?, row.try_get_by_index(1)?))).collect()
}
