//! Rows of stored arrivals: bodies, arrivals, ledger, sealed acknowledgments, counters, splittings.

use super::columns;
use super::sql::{Rows, Sql};
use super::{GroupRows, clean};
use crate::error::JournalError;
use crate::events::{Event, partner};
use serde_json::Value as Json;
use std::collections::BTreeMap;
use std::sync::Arc;
use wirewatch_core::flow::place_of;
use wirewatch_core::intake::{Decision, LedgerKey, Verdict};
use wirewatch_core::machine::Origin;
use wirewatch_core::place::Property;
use wirewatch_core::{ArrivalId, Digest, Id, Timestamp};
use wirewatch_engine::{Incoming, IncomingBody, NewMessage, Piece, Shards, Splits};

/// Every row of one taking.
#[derive(Debug)]
pub struct CustodyRows {
    arrivals: Rows,
    ledger: Rows,
    splittings: Rows,
    counters: Rows,
    /// By connection and event: how many, when the last was received, and its id.
    heard: BTreeMap<(String, String), (i64, Timestamp, ArrivalId)>,
    messages: GroupRows,
    events: Vec<Event>,
}

impl CustodyRows {
    /// No rows yet, by a process with these shards.
    pub fn new(own: Shards) -> Self {
        Self {
            arrivals: Rows::of(columns::ARRIVAL),
            ledger: Rows::of(columns::LEDGER),
            splittings: Rows::of(columns::SPLITTING),
            counters: Rows::of(columns::COUNTER),
            heard: BTreeMap::new(),
            messages: GroupRows::new(own),
            events: Vec::new(),
        }
    }
}

/// A ledger entry of an interchange that goes out, besides its key.
#[derive(Debug, Clone, Copy)]
pub struct Answering<'a> {
    pub message: Id,
    /// ISA13 of what it answers.
    pub control: &'a str,
}

impl CustodyRows {
    /// An arrival with its body, verdict and what is still to split.
    pub fn arrival(
        &mut self,
        release: i64,
        incoming: &Incoming,
        decision: &Decision,
        splits: Splits,
    ) -> Result<(), JournalError> {
        if let IncomingBody::Whole(pieces) = &incoming.body {
            self.body(incoming.id, pieces.iter().cloned());
        }
        let later = splits == Splits::Later;
        let verdict = if later && decision.verdict == Verdict::Received { Verdict::Splitting } else { decision.verdict };
        let messages = if splits == Splits::Born { decision.split.parts.len() } else { 0 };
        let properties =
            if incoming.properties.is_empty() { String::new() } else { clean(&serde_json::to_string(&incoming.properties)?) };
        self.arrivals.push([
            incoming.id.0.into(),
            incoming.connection.clone().into(),
            decision.partner.clone().into(),
            clean(&incoming.name).into(),
            verdict.as_str().into(),
            clean(&decision.says).into(),
            (incoming.size as i64).into(),
            incoming.digest.to_string().into(),
            (messages as i32).into(),
            incoming.received.0.into(),
            incoming.by.clone().into(),
            clean(&incoming.event).into(),
            properties.into(),
        ]);
        // Counted by event, and once without for the place: arrivals of a queue have the queue's name.
        let from_broker = ["exchange", Property::RoutingKey.key()].iter().any(|key| incoming.properties.contains_key(*key));
        let queue = if from_broker { &incoming.name } else { "" };
        let here = (place_of(&incoming.connection, queue), String::new());
        let event = (!incoming.event.is_empty()).then(|| (incoming.connection.clone(), clean(&incoming.event)));
        for key in event.into_iter().chain([here]) {
            let (n, last, arrival) = self.heard.entry(key).or_insert((0, incoming.received, incoming.id));
            (*n, *last, *arrival) = (*n + 1, incoming.received, incoming.id);
        }
        if later {
            let parts = zstd::bulk::compress(&serde_json::to_vec(&decision.split)?, 1)?;
            self.splittings.push([incoming.id.0.into(), release.into(), 0i32.into(), parts.into()]);
        }
        self.events.push(Event {
            partner: decision.partner.clone(),
            step: incoming.connection.clone(),
            state: verdict.as_str().to_owned(),
            key: incoming.name.clone(),
            says: decision.says.clone(),
            ..Event::blank("arrival", incoming.id, incoming.received)
        });
        Ok(())
    }

    /// A body in pieces.
    pub fn body(&mut self, id: Id, pieces: impl IntoIterator<Item = Piece>) {
        self.messages.body(id, pieces);
    }

    /// A ledger entry: received, or sent when it answers something.
    pub fn ledger(
        &mut self,
        id: Id,
        key: &LedgerKey,
        digest: Digest,
        arrival: ArrivalId,
        answering: Option<Answering<'_>>,
        at: Timestamp,
    ) {
        let (direction, message, answers) = match answering {
            None => ("in", 0, ""),
            Some(Answering { message, control }) => ("out", message.0, control),
        };
        self.ledger.push([
            id.0.into(),
            direction.into(),
            clean(&key.sender).into(),
            clean(&key.receiver).into(),
            clean(&key.usage).into(),
            clean(&key.control).into(),
            digest.to_string().into(),
            arrival.0.into(),
            message.into(),
            clean(answers).into(),
            at.0.into(),
        ]);
    }

    /// Adds a message that is created with its arrival.
    pub fn message(
        &mut self,
        message: &NewMessage,
        at: Timestamp,
        mint: &mut (dyn FnMut() -> Id + Send),
    ) -> Result<(), JournalError> {
        self.messages.new_message(message, at, mint)?;
        self.events.extend(Event::born(message, at));
        Ok(())
    }

    /// Adds an acknowledgment as a message of its own.
    pub fn acknowledgment(&mut self, origin: &Arc<Origin>, at: Timestamp) -> Result<(), JournalError> {
        let text = |name: &str| origin.meta.get(name).and_then(Json::as_str).unwrap_or_default().to_owned();
        self.messages.born(origin, &text("group"), &text("control"), &text("to"), at)?;
        self.events.push(Event {
            flow: origin.flow.clone(),
            partner: partner(&origin.meta),
            state: "running".to_owned(),
            key: text("group"),
            result: text("control"),
            says: "sealed".to_owned(),
            ..Event::blank("message", origin.id, at)
        });
        Ok(())
    }

    /// The last number used of a counter that is locked.
    pub fn counter(&mut self, scope: &str, value: i64) {
        self.counters.push([scope.into(), value.into()]);
    }

    /// Writes everything into the statement; returns the events.
    pub fn write(self, sql: &mut Sql, number: i64, now: Timestamp) -> Result<Vec<Event>, JournalError> {
        self.messages.write(sql, number, now, &self.events.iter().collect::<Vec<_>>())?;
        sql.insert("arrival", self.arrivals, &[], "");
        sql.insert("ledger", self.ledger, &[], "");
        sql.insert("splitting", self.splittings, &[("writer", "me.id")], "");
        let mut heard = Rows::of(columns::HEARD);
        for ((connection, event), (n, last, arrival)) in self.heard {
            heard.push([connection.into(), event.into(), n.into(), last.0.into(), arrival.0.into()]);
        }
        sql.insert(
            "heard",
            heard,
            &[],
            "on conflict (connection, event) do update set n = heard.n + excluded.n, last = excluded.last, arrival = excluded.arrival",
        );
        sql.over("counted", self.counters, "update counter set value = u.value <from> where counter.scope = u.scope");
        Ok(self.events)
    }
}
