//! Takes arrivals into custody: bytes are read once, checked as they come, and stored before anything is promised.

use crate::Clock;
use crate::beside;
use crate::dispatcher::Entered;
use crate::enter::{Broken, enter, enter_read};
use crate::journal::{Arriving, Born, Decide, Down, Incoming, IncomingBody, Journal, Splits, Stored, Taken};
use crate::links::Links;
use crate::shared::Shared;
use crate::split::{born, message, retrying};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use wirewatch_core::document::{Content, Form};
use wirewatch_core::flow::Takes;
use wirewatch_core::intake::{
    Decision, Known, LedgerKey, MAX_ARRIVAL, Provenance, Received, Verdict, decide_document, decide_x12,
};
use wirewatch_core::machine::Origin;
use wirewatch_core::workspace::Workspace;
use wirewatch_core::x12::{Limits, Reader, Reading};
use wirewatch_core::{ArrivalId, Digest, Document, Timestamp};

/// A body up to this size is held in memory and stored with its arrival; a larger one is stored piece by piece ahead of it.
const WHOLE: usize = 4 << 20;
/// Bytes of one stored piece.
pub const PIECE: usize = 1 << 20;
/// Messages that are made ahead and committed with their arrival, and bytes of it, at most.
const AHEAD: usize = 16;
const AHEAD_BYTES: u64 = 256 << 10;

/// Origin of an arrival.
#[derive(Debug, Clone, Default)]
pub struct Source {
    /// Facts of the arrival for the decision and the messages.
    pub provenance: Provenance,
    /// See [`Incoming::fingerprint`].
    pub fingerprint: String,
    /// The whole body as JSON, if the intake has read it already.
    pub json: Option<Document>,
    /// The person who submitted it; empty when it was received by a connection.
    pub by: String,
    /// The id and time that a spooled call was promised.
    pub promised: Option<(ArrivalId, Timestamp)>,
    /// The arrivals before it on the same way.
    pub row: Row,
}

/// Arrivals that follow one another on one way: if the journal was away for one of them, none after it is stored, so that all are
/// sent again in order. Clones share the state.
#[derive(Debug, Clone, Default)]
pub struct Row(Arc<AtomicBool>);

impl Row {
    pub(crate) fn is_broken(&self) -> bool {
        self.0.load(Ordering::Acquire)
    }

    /// Breaks off where the journal was away.
    fn unless<T>(&self, done: Result<T, Down>) -> Result<T, Down> {
        if done.is_err() {
            self.0.store(true, Ordering::Release);
        }
        done
    }
}

/// An arrival that was read, checked, and is ready to be committed.
#[derive(Debug)]
pub struct Ready {
    pub(crate) arriving: Arriving,
    /// The messages made ahead, those that have not ended with that.
    entered: Vec<Result<Entered, Broken>>,
    /// Messages of flows in order, which are made when they are numbered.
    to_number: Option<(Decision, Vec<Stored>)>,
    row: Row,
}

impl Ready {
    /// See [`Source::row`].
    pub(crate) fn row(&self) -> &Row {
        &self.row
    }

    /// Bytes of the arrival.
    #[must_use]
    pub fn size(&self) -> u64 {
        self.arriving.incoming.size
    }

    /// Numbers and builds the messages of flows with an order. Their ids follow the order of commits, so the committing task
    /// calls this in that order.
    pub(crate) async fn number<J: Journal, L, C: Clock>(&mut self, shared: &Shared<J, L, C>) {
        let Some((decision, all)) = self.to_number.take() else { return };
        let workspace = shared.releases.current().1;
        let mut messages = Vec::with_capacity(all.len());
        for stored in all {
            let id = shared.journal.mint_message(shared.clock.now());
            let stored = Stored { origin: Arc::new(Origin { id, ..(*stored.origin).clone() }), ..stored };
            let one = retrying(|| enter(stored.clone(), &shared.releases, &*shared.journal)).await;
            let (message, unfinished) = born(&workspace, one, shared.clock.now());
            messages.push(message);
            self.entered.extend(unfinished);
        }
        self.arriving.born = Some(Born { decision, messages });
    }
}

/// An arrival under way into custody. Dropped before [`finish`](Self::finish), nothing of it counts.
pub struct Taking<J, L, C> {
    shared: Arc<Shared<J, L, C>>,
    id: ArrivalId,
    source: Source,
    // Both are large, and what is under way is moved often.
    reader: Option<Box<Reader>>,
    hasher: Box<blake3::Hasher>,
    held: Vec<u8>,
    pieces: u32,
    size: u64,
    workspace: (i64, Arc<Workspace>),
}

/// Messages built before their arrival is committed.
#[derive(Default)]
struct Ahead {
    entered: Vec<Result<Entered, Broken>>,
    born: Option<Born>,
    to_number: Option<(Decision, Vec<Stored>)>,
}

/// Why an arrival was not stored; nothing of it is.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub(crate) enum NotTaken {
    #[error(transparent)]
    Away(#[from] Down),
    /// The journal cannot store it, and never will.
    #[error("{0}")]
    Refused(String),
}

impl From<NotTaken> for Down {
    fn from(not: NotTaken) -> Self {
        match not {
            NotTaken::Away(down) => down,
            NotTaken::Refused(says) => Self(says),
        }
    }
}

/// Report on an arrival.
#[derive(Debug, Clone)]
pub struct TakenReport {
    pub arrival: ArrivalId,
    pub verdict: Verdict,
    /// One sentence; empty when there is nothing to say.
    pub says: String,
    /// Stored before, and only its archiving was left.
    pub before: bool,
}

impl<J, L, C> std::fmt::Debug for Taking<J, L, C> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Taking")
            .field("id", &self.id)
            .field("source", &self.source)
            .field("size", &self.size)
            .finish_non_exhaustive()
    }
}

impl<J: Journal, L: Links, C: Clock> Taking<J, L, C> {
    pub(crate) fn new(shared: Arc<Shared<J, L, C>>, source: Source) -> Self {
        let workspace = shared.releases.current();
        let takes_x12 = workspace.1.flows_from(&source.provenance).any(|(_, intake)| matches!(intake.takes, Takes::X12(_)));
        let terms = workspace.1.clone();
        let reader = takes_x12.then(|| Box::new(Reader::choosing(move |header| terms.terms(header), Limits::default())));
        let id = source.promised.map_or_else(|| shared.journal.mint(shared.clock.now()), |(id, _)| id);
        let hasher = Box::new(blake3::Hasher::new());
        Self { shared, id, source, reader, hasher, held: Vec::new(), pieces: 0, size: 0, workspace }
    }

    /// Takes the next bytes.
    ///
    /// # Errors
    /// [`Down`] while the journal cannot be reached; begin again from the first byte.
    pub async fn feed(&mut self, bytes: &[u8]) -> Result<(), Down> {
        self.size += bytes.len() as u64;
        if self.size > MAX_ARRIVAL {
            return Ok(());
        }
        self.hasher.update(bytes);
        if let Some(reader) = &mut self.reader {
            reader.feed(bytes);
        }
        self.held.extend_from_slice(bytes);
        if self.pieces > 0 || self.held.len() > WHOLE {
            while self.held.len() >= PIECE {
                let rest = self.held.split_off(PIECE);
                self.store(rest).await?;
            }
        }
        Ok(())
    }

    async fn store(&mut self, rest: Vec<u8>) -> Result<(), Down> {
        let piece = std::mem::replace(&mut self.held, rest);
        let stored = self.shared.journal.store_piece(self.id, self.pieces, piece).await;
        self.source.row.unless(stored)?;
        self.pieces += 1;
        Ok(())
    }

    /// Ends the reading and returns the arrival to be committed.
    ///
    /// # Errors
    /// [`Down`] while the journal cannot be reached; begin again from the first byte.
    pub async fn ready(self) -> Result<Ready, Down> {
        let row = self.source.row.clone();
        row.unless(self.made_ready().await)
    }

    async fn made_ready(mut self) -> Result<Ready, Down> {
        if self.pieces > 0 {
            self.store(Vec::new()).await?;
        }
        let digest = Digest::from_hasher(&self.hasher);
        let content = Arc::new(Content::new(std::mem::take(&mut self.held), self.source.json.take()));
        let (keys, decide) = match self.reader.take().filter(|_| self.size <= MAX_ARRIVAL) {
            Some(reader) => self.x12(reader.finish(), &content).await?,
            None => (Vec::new(), self.other(content.clone())),
        };
        let Ahead { entered, born, to_number } = self.ahead(&keys, &decide, &content).await?;
        let provenance = self.source.provenance;
        let body = match self.pieces {
            0 => IncomingBody::Whole(beside(content.bytes().len(), || self.shared.journal.pieces(content.bytes()))),
            _ => IncomingBody::Stored,
        };
        let incoming = Incoming {
            id: self.id,
            connection: provenance.connection,
            name: provenance.name,
            event: provenance.event,
            delivery: provenance.delivery,
            properties: provenance.properties,
            fingerprint: self.source.fingerprint,
            body,
            size: self.size,
            digest,
            received: self.source.promised.map_or_else(|| self.shared.clock.now(), |(_, received)| received),
            by: self.source.by,
        };
        let arriving = Arriving { release: self.workspace.0, incoming, keys, decide, born };
        Ok(Ready { arriving, entered, to_number, row: self.source.row })
    }

    /// Builds the messages of a small arrival ahead, so that one commit suffices instead of two. Not done while memory has no
    /// room.
    async fn ahead(&self, keys: &[(LedgerKey, Digest)], decide: &Decide, content: &Content) -> Result<Ahead, Down> {
        if self.pieces > 0 || self.size > AHEAD_BYTES || !self.shared.has_room() {
            return Ok(Ahead::default());
        }
        let decision = decide(&vec![Known::NEW; keys.len().max(1)]);
        let splitting = &decision.split;
        let (release, workspace) = &self.workspace;
        let ordered = |flow: &String| workspace.flows.get(flow).is_some_and(|flow| flow.in_order_by.is_some());
        if splitting.parts.is_empty() || splitting.parts.len() > AHEAD {
            return Ok(Ahead::default());
        }
        let stored = splitting.parts.iter().map(|part| {
            let bytes = content.bytes().get(part.1.start as usize..part.1.end as usize).unwrap_or_default();
            message(&self.shared, self.id, *release, &splitting.heads, part, bytes.to_vec())
        });
        let stored: Vec<Stored> = stored.collect();
        if splitting.heads.iter().any(|head| ordered(&head.flow)) {
            return Ok(Ahead { to_number: Some((decision, stored)), ..Ahead::default() });
        }
        let (mut entered, mut messages) = (Vec::new(), Vec::new());
        for stored in stored {
            let read = if stored.origin.form == Form::Json { content.json().ok().cloned() } else { None };
            let one = enter_read(stored, read, &self.shared.releases, &*self.shared.journal).await?;
            let (message, unfinished) = born(workspace, one, self.shared.clock.now());
            messages.push(message);
            entered.extend(unfinished);
        }
        Ok(Ahead { entered, born: Some(Born { decision, messages }), to_number: None })
    }

    async fn x12(&self, reading: Reading, content: &Content) -> Result<(Vec<(LedgerKey, Digest)>, Decide), Down> {
        let mut received = Vec::with_capacity(reading.interchanges.len());
        for interchange in &reading.interchanges {
            let digest = self.digest_of(interchange.bytes.clone(), content).await?;
            received.push(Received { interchange: interchange.clone(), digest });
        }
        let keys = received.iter().map(|one| (LedgerKey::of(&one.interchange.header), one.digest)).collect();
        let unread = Reading { interchanges: Vec::new(), unread: reading.unread };
        let (workspace, provenance) = (self.workspace.1.clone(), self.source.provenance.clone());
        let decide: Decide = Arc::new(move |known| decide_x12(&workspace, &provenance, &received, &unread, known));
        Ok((keys, decide))
    }

    async fn digest_of(&self, range: std::ops::Range<u64>, content: &Content) -> Result<Digest, Down> {
        let mut hasher = blake3::Hasher::new();
        if self.pieces == 0 {
            hasher.update(content.bytes().get(range.start as usize..range.end as usize).unwrap_or_default());
        } else {
            let mut at = range.start;
            while at < range.end {
                let end = (at + PIECE as u64).min(range.end);
                let piece = self.shared.journal.bodies(&[(self.id, at..end)]).await?;
                for bytes in piece {
                    hasher.update(&bytes.map_err(|damaged| Down(damaged.says))?);
                }
                at = end;
            }
        }
        Ok(Digest::from_hasher(&hasher))
    }

    /// An arrival that is not X12.
    fn other(&self, content: Arc<Content>) -> Decide {
        let (workspace, provenance, size) = (self.workspace.1.clone(), self.source.provenance.clone(), self.size);
        Arc::new(move |known| decide_document(&workspace, &provenance, size, &content, known.first().unwrap_or(&Known::NEW)))
    }
}

/// Stores arrivals and starts what follows from them. Each has its report, or [`NotTaken`] if nothing of it is stored.
pub(crate) async fn take_all<J: Journal, L: Links, C: Clock>(
    shared: &Arc<Shared<J, L, C>>,
    batch: Vec<Ready>,
) -> Vec<Result<TakenReport, NotTaken>> {
    let (batch, rest): (Vec<Arriving>, Vec<_>) =
        batch.into_iter().map(|ready| (ready.arriving, (ready.entered, ready.row))).unzip();
    let ids: Vec<ArrivalId> = batch.iter().map(|arriving| arriving.incoming.id).collect();
    let taken: Vec<Result<Taken, Down>> = match shared.journal.take(batch).await {
        Ok(taken) => taken.into_iter().map(Ok).collect(),
        // A commit may have succeeded although its answer was lost: then the arrival is stored, and its messages must start now.
        Err(down) => {
            let mut found = Vec::with_capacity(ids.len());
            for id in &ids {
                found.push(retrying(|| shared.journal.taken(*id)).await.ok_or_else(|| down.clone()));
            }
            found
        }
    };
    let mut reports = Vec::with_capacity(ids.len());
    for ((id, taken), (ahead, row)) in ids.into_iter().zip(taken).zip(rest) {
        reports.push(match row.unless(taken) {
            Ok(taken) => take_up(shared, id, taken, ahead).await,
            Err(down) => Err(down.into()),
        });
    }
    reports
}

async fn take_up<J: Journal, L: Links, C: Clock>(
    shared: &Arc<Shared<J, L, C>>,
    id: ArrivalId,
    taken: Taken,
    ahead: Vec<Result<Entered, Broken>>,
) -> Result<TakenReport, NotTaken> {
    Ok(match taken {
        Taken::Refused(says) => return Err(NotTaken::Refused(says)),
        Taken::Before(arrival) => TakenReport { arrival, verdict: Verdict::Received, says: String::new(), before: true },
        Taken::Now { verdict, says, messages, splits, .. } => {
            let mut entered = Vec::with_capacity(messages.len());
            for stored in messages {
                entered.push(retrying(|| enter(stored.clone(), &shared.releases, &*shared.journal)).await);
            }
            match splits {
                Splits::Nothing => {}
                Splits::Born => entered.extend(ahead),
                Splits::Later => shared.split(id),
            }
            shared.enter(entered);
            TakenReport { arrival: id, verdict, says, before: false }
        }
    })
}
