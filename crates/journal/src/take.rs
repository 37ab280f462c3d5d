//! Takes an arrival into custody: ledger, sealed acknowledgments, body and verdict in one transaction.

use crate::error::JournalError;
use crate::events::Event;
use crate::group::{HeadColumn, clean};
use crate::load::{PIECE, store_piece};
use crate::pack::pack;
use crate::writer::{PgJournal, sql};
use sea_orm::{ConnectionTrait, DatabaseTransaction, TransactionTrait};
use serde_json::{Map, Value as Json, json};
use std::collections::{BTreeSet, HashMap};
use std::sync::Arc;
use wirewatch_core::document::Form;
use wirewatch_core::flow::ACKNOWLEDGMENTS;
use wirewatch_core::intake::{Decision, Known, LedgerKey, Seal, Verdict};
use wirewatch_core::machine::Origin;
use wirewatch_core::x12::ack::{Stamp, functional_ack};
use wirewatch_core::{ArrivalId, Digest, MessageId, Timestamp};
use wirewatch_engine::{Clock, Decide, Incoming, IncomingBody, Stored, SystemClock, Taken};

impl PgJournal {
    pub(crate) async fn take_arrival(
        &self,
        release: i64,
        incoming: Incoming,
        keys: Vec<(LedgerKey, Digest)>,
        decide: Decide,
    ) -> Result<Taken, JournalError> {
        let transaction = self.db.begin().await?;
        let me = [self.me.writer.into(), self.me.epoch.into()];
        if transaction.query_one_raw(sql("select id from writer where id = $1 and epoch = $2 for share", me)).await?.is_none() {
            return Err(JournalError::Fenced);
        }
        if let Some(before) = seen(&transaction, &incoming).await? {
            transaction.rollback().await?;
            return Ok(Taken::Before(before));
        }
        let mut known = Vec::with_capacity(keys.len());
        for (n, (key, digest)) in keys.iter().enumerate() {
            // The same interchange twice in one file: the first one is the one it repeats.
            let earlier = keys[..n].iter().find(|(other, _)| other == key);
            known.push(match earlier {
                Some((_, other)) if other == digest => Known::Same { arrival: incoming.id, acknowledgments: Vec::new() },
                Some(_) => Known::Other { arrival: incoming.id },
                None => ledger(&transaction, key, *digest).await?,
            });
        }
        let decision = decide(&known);
        let unfolding = !decision.unfold.parts.is_empty();
        write_arrival(&transaction, &incoming, &decision, unfolding).await?;
        for (key, digest) in &decision.ledger {
            let id = self.next_id(SystemClock.now());
            let values = [
                id.0.into(),
                "in".into(),
                clean(&key.sender).into(),
                clean(&key.receiver).into(),
                clean(&key.usage).into(),
                clean(&key.control).into(),
                digest.to_string().into(),
                incoming.id.0.into(),
                0i64.into(),
                "".into(),
                incoming.received.0.into(),
            ];
            transaction.execute_raw(sql(LEDGER, values)).await?;
        }
        let mut messages = self.seal(&transaction, release, &incoming, &decision.seal).await?;
        for id in &decision.again {
            messages.extend(self.again(&transaction, release, &incoming, *id).await?);
        }
        if unfolding {
            let (_, parts) = pack(&serde_json::to_vec(&decision.unfold)?);
            let parts = if parts.starts_with(&ZSTD) { parts } else { zstd::bulk::compress(&parts, 1)? };
            let text = "insert into unfolding values ($1, $2, 0, $3)";
            transaction.execute_raw(sql(text, [incoming.id.0.into(), release.into(), parts.into()])).await?;
        }
        let event = Event {
            partner: decision.partner.clone(),
            step: incoming.connection.clone(),
            state: if unfolding && decision.verdict == Verdict::Taken { Verdict::Unfolding } else { decision.verdict }
                .as_str()
                .to_owned(),
            key: incoming.name.clone(),
            says: decision.says.clone(),
            ..Event::blank("arrival", incoming.id, incoming.received)
        };
        let events = vec![event];
        let at = self.feed(&transaction, incoming.id, &events).await?;
        transaction.commit().await?;
        self.tell(-incoming.id.0, at, || events);
        let Decision { verdict, says, partner, .. } = decision;
        Ok(Taken::Now { verdict, says, partner, messages, unfolding })
    }

    /// An arrival as its commit left it, with the acknowledgments sealed for it.
    pub(crate) async fn taken_before(&self, id: ArrivalId) -> Result<Option<Taken>, JournalError> {
        let text =
            "select verdict, says, partner, exists (select 1 from unfolding where arrival = $1) from arrival where id = $1";
        let Some(row) = self.db.query_one_raw(sql(text, [id.0.into()])).await? else { return Ok(None) };
        let verdict: String = row.try_get_by_index(0)?;
        let text = "select id from live where arrival = $1 and flow = $2 order by id";
        let sealed = self.db.query_all_raw(sql(text, [id.0.into(), ACKNOWLEDGMENTS.into()])).await?;
        let ids = sealed.iter().map(|row| row.try_get_by_index(0).map(wirewatch_core::Id)).collect::<Result<Vec<_>, _>>()?;
        Ok(Some(Taken::Now {
            verdict: Verdict::ALL.into_iter().find(|known| known.as_str() == verdict).unwrap_or(Verdict::Taken),
            says: row.try_get_by_index(1)?,
            partner: row.try_get_by_index(2)?,
            messages: crate::load::messages(&self.db, &ids).await?,
            unfolding: row.try_get_by_index(3)?,
        }))
    }

    /// Writes events beside a transaction that is no group; the id keeps the number apart from those of groups.
    pub(crate) async fn feed(
        &self,
        transaction: &DatabaseTransaction,
        id: wirewatch_core::Id,
        events: &[Event],
    ) -> Result<Timestamp, JournalError> {
        let (packed, bytes) = pack(&serde_json::to_vec(events)?);
        let now = SystemClock.now();
        let text = "insert into feed values ($1, $2, $3, $4, $5)";
        transaction
            .execute_raw(sql(text, [self.me.writer.into(), (-id.0).into(), now.0.into(), packed.into(), bytes.into()]))
            .await?;
        Ok(now)
    }

    /// Numbers and renders acknowledgments. The counter rows stay locked until the commit: no number is used twice
    /// and none is lost.
    async fn seal(
        &self,
        transaction: &DatabaseTransaction,
        release: i64,
        incoming: &Incoming,
        seals: &[Seal],
    ) -> Result<Vec<Stored>, JournalError> {
        let scopes: BTreeSet<String> = seals.iter().flat_map(Seal::counters).map(|scope| clean(&scope)).collect();
        let mut counters = HashMap::new();
        for scope in scopes {
            let text =
                "insert into counter values ($1, 0) on conflict (scope) do update set value = counter.value returning value";
            let row = transaction.query_one_raw(sql(text, [scope.clone().into()])).await?;
            let value: i64 = row.map(|row| row.try_get_by_index(0)).transpose()?.unwrap_or(0);
            counters.insert(scope, value);
        }
        let mut stored = Vec::with_capacity(seals.len());
        for seal in seals {
            let [interchange, group] = seal.counters().map(|scope| {
                let value = counters.entry(clean(&scope)).or_insert(0);
                // Nine digits: after 999,999,999 comes 1 again.
                *value = *value % 999_999_999 + 1;
                *value as u32
            });
            let (date, time) = incoming.received.x12();
            let bytes = functional_ack(
                &seal.header,
                &seal.group,
                &Stamp { interchange_control: interchange, group_control: group, date, time },
            );
            stored.push(self.sealed(transaction, release, incoming, seal, interchange, bytes).await?);
        }
        for (scope, value) in counters {
            transaction.execute_raw(sql("update counter set value = $2 where scope = $1", [scope.into(), value.into()])).await?;
        }
        Ok(stored)
    }

    async fn sealed(
        &self,
        transaction: &DatabaseTransaction,
        release: i64,
        incoming: &Incoming,
        seal: &Seal,
        interchange: u32,
        bytes: Vec<u8>,
    ) -> Result<Stored, JournalError> {
        let id = self.next_id(SystemClock.now());
        store_piece(transaction, id, 0, &bytes).await?;
        let control = format!("{interchange:09}");
        let key = LedgerKey::of(&seal.header);
        let digest = Digest::of(&[&bytes]);
        let values = [
            id.0.into(),
            "out".into(),
            clean(&key.receiver).into(),
            clean(&key.sender).into(),
            clean(&key.usage).into(),
            control.clone().into(),
            digest.to_string().into(),
            incoming.id.0.into(),
            id.0.into(),
            clean(&key.control).into(),
            incoming.received.0.into(),
        ];
        transaction.execute_raw(sql(LEDGER, values)).await?;
        let meta = json!({
            "partner": seal.partner, "to": seal.to, "file": format!("997-{control}.edi"), "control": control,
            "group": format!("{} group {}", key.control, seal.group.control), "interchange": key.control,
        });
        let Json::Object(meta) = meta else { unreachable!("an object was just written") };
        let origin = Origin {
            id,
            arrival: incoming.id,
            body: id,
            slice: 0..bytes.len() as u64,
            flow: ACKNOWLEDGMENTS.to_owned(),
            release,
            form: Form::Bytes,
            meta,
        };
        self.insert_live(transaction, &origin).await?;
        Ok(Stored { origin: Arc::new(origin), document: bytes, log: Vec::new() })
    }

    /// The very bytes of an acknowledgment once more, as a message of their own.
    async fn again(
        &self,
        transaction: &DatabaseTransaction,
        release: i64,
        incoming: &Incoming,
        before: MessageId,
    ) -> Result<Option<Stored>, JournalError> {
        let text = "select body, slice_to, head from live where id = $1 union all select body, slice_to, head from message where id = $1";
        let Some(row) = transaction.query_one_raw(sql(text, [before.0.into()])).await? else { return Ok(None) };
        let (body, length): (i64, i64) = (row.try_get_by_index(0)?, row.try_get_by_index(1)?);
        let head: HeadColumn = serde_json::from_slice(&row.try_get_by_index::<Vec<u8>>(2)?)?;
        let body = wirewatch_core::Id(body);
        let bytes = crate::load::body_range(transaction, body, 0..length as u64).await?;
        let origin = Origin {
            id: self.next_id(SystemClock.now()),
            arrival: incoming.id,
            body,
            slice: 0..length as u64,
            flow: ACKNOWLEDGMENTS.to_owned(),
            release,
            form: Form::Bytes,
            meta: head.meta,
        };
        self.insert_live(transaction, &origin).await?;
        Ok(Some(Stored { origin: Arc::new(origin), document: bytes, log: Vec::new() }))
    }

    async fn insert_live(&self, transaction: &DatabaseTransaction, origin: &Origin) -> Result<(), JournalError> {
        let text = |name: &str, meta: &Map<String, Json>| meta.get(name).and_then(Json::as_str).unwrap_or_default().to_owned();
        let head = crate::group::head(origin)?;
        let values = [
            origin.id.0.into(),
            origin.arrival.0.into(),
            origin.body.0.into(),
            (origin.slice.start as i64).into(),
            (origin.slice.end as i64).into(),
            origin.flow.clone().into(),
            origin.release.into(),
            ((origin.id.0 & 63) as i16).into(),
            text("partner", &origin.meta).into(),
            head.into(),
            text("group", &origin.meta).into(),
            text("control", &origin.meta).into(),
            text("to", &origin.meta).into(),
            SystemClock.now().0.into(),
        ];
        let insert = "insert into live (id, arrival, body, slice_from, slice_to, flow, release, shard, partner, head, key, result, order_key,
            state, step, tries, due, waits_for, reason, says, at)
            values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, 'moving', '', 0, 0, '', 0, '', $14)";
        transaction.execute_raw(sql(insert, values)).await?;
        Ok(())
    }
}

/// How zstd data begins (RFC 8878, 3.1.1).
const ZSTD: [u8; 4] = [0x28, 0xB5, 0x2F, 0xFD];

const LEDGER: &str = "insert into ledger (id, direction, sender, receiver, usage, control, digest, arrival, message, answers, at)
    values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11)";

async fn seen(transaction: &DatabaseTransaction, incoming: &Incoming) -> Result<Option<ArrivalId>, JournalError> {
    if incoming.fingerprint.is_empty() {
        return Ok(None);
    }
    let text = "insert into seen values ($1, $2, $3, $4) on conflict (scope, key) do update set key = seen.key returning arrival";
    let scope = format!("folder {}", incoming.connection);
    let values = [scope.into(), clean(&incoming.fingerprint).into(), incoming.id.0.into(), incoming.received.0.into()];
    let row = transaction.query_one_raw(sql(text, values)).await?;
    let arrival: i64 = row.map(|row| row.try_get_by_index(0)).transpose()?.unwrap_or(incoming.id.0);
    Ok((arrival != incoming.id.0).then_some(wirewatch_core::Id(arrival)))
}

async fn ledger(transaction: &DatabaseTransaction, key: &LedgerKey, digest: Digest) -> Result<Known, JournalError> {
    let text = "select digest, arrival from ledger
        where direction = 'in' and sender = $1 and receiver = $2 and usage = $3 and control = $4";
    let values = [clean(&key.sender).into(), clean(&key.receiver).into(), clean(&key.usage).into(), clean(&key.control).into()];
    let Some(row) = transaction.query_one_raw(sql(text, values)).await? else { return Ok(Known::No) };
    let (stored, arrival): (String, i64) = (row.try_get_by_index(0)?, row.try_get_by_index(1)?);
    if stored != digest.to_string() {
        return Ok(Known::Other { arrival: wirewatch_core::Id(arrival) });
    }
    let text = "select message from ledger where direction = 'out' and arrival = $1 and answers = $2 order by message";
    let rows = transaction.query_all_raw(sql(text, [arrival.into(), clean(&key.control).into()])).await?;
    let acknowledgments = rows.iter().map(|row| row.try_get_by_index(0).map(wirewatch_core::Id)).collect::<Result<_, _>>()?;
    Ok(Known::Same { arrival: wirewatch_core::Id(arrival), acknowledgments })
}

async fn write_arrival(
    transaction: &DatabaseTransaction,
    incoming: &Incoming,
    decision: &Decision,
    unfolding: bool,
) -> Result<(), JournalError> {
    if let IncomingBody::Whole(bytes) = &incoming.body {
        for (piece, bytes) in bytes.chunks(PIECE).enumerate() {
            store_piece(transaction, incoming.id, piece as u32, bytes).await?;
        }
    }
    let verdict = if unfolding && decision.verdict == Verdict::Taken { Verdict::Unfolding } else { decision.verdict };
    let text = "insert into arrival (id, connection, partner, name, verdict, says, size, digest, messages, received, by_whom)
        values ($1, $2, $3, $4, $5, $6, $7, $8, 0, $9, $10)";
    let values = [
        incoming.id.0.into(),
        incoming.connection.clone().into(),
        decision.partner.clone().into(),
        clean(&incoming.name).into(),
        verdict.as_str().into(),
        clean(&decision.says).into(),
        (incoming.size as i64).into(),
        incoming.digest.to_string().into(),
        incoming.received.0.into(),
        incoming.by.clone().into(),
    ];
    transaction.execute_raw(sql(text, values)).await?;
    Ok(())
}
