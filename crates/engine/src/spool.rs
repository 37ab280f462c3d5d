//! The spool: under load, webhook calls are stored unread, many in one row, answered, and worked on later.
//!
//! With few calls at a time each is turned into messages before it is answered, and the answer gives the result. With more calls
//! than that can keep up with, senders would time out; so a call is made durable, which is all that the answer promises, and the
//! work follows. Calls of flows with an order or with `in_flight` are never spooled: their senders wait.

use crate::Clock;
use crate::custody::Waiting;
use crate::journal::{Down, Journal};
use crate::links::Links;
use crate::shared::Shared;
use crate::split::retrying;
use crate::take::{NotTaken, Source, TakenReport, Taking};
use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::sync::{OwnedSemaphorePermit, Semaphore, mpsc, oneshot};
use tokio::task::JoinSet;
use tokio::time::Instant;
use wirewatch_core::intake::Provenance;
use wirewatch_core::{ArrivalId, Document, Id, Timestamp};

/// Calls at a time up to which each is processed before it is answered.
const AT_A_TIME: usize = 16;
/// A burst is over when there were no more calls than that for this time.
const CALM: Duration = Duration::from_millis(50);
/// Time that a spooled call waits for the end of the burst. After it, a third of the time is spent on the spool, the rest on new
/// calls.
const PATIENCE: Duration = Duration::from_secs(2);
/// A spooled call that has waited for this time goes before new calls.
const NO_LONGER: Duration = Duration::from_secs(15);
/// A body larger than this, in bytes, is never spooled.
const MAX_BODY: usize = 256 << 10;
/// Calls of one row, and bytes of their bodies; the last may exceed it.
const TOGETHER: usize = 500;
const TOGETHER_BYTES: usize = 1 << 20;
/// Kilobytes of spooled calls that are also in memory; the rest is read again when its turn comes.
const IN_MEMORY: usize = 64 << 10;
/// Kilobytes of spooled calls at a time; above, new calls wait.
const ROOM: usize = 256 << 10;
/// Spool rows that are processed at a time.
const TAKINGS: usize = 16;

/// An authenticated call that is not stored yet.
#[derive(Debug)]
pub struct Call {
    pub provenance: Provenance,
    /// The whole of its body as JSON, where it was read already.
    pub json: Option<Document>,
    pub body: Vec<u8>,
}

/// A call in the spool.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SpooledCall {
    /// The arrival that it will be.
    pub id: ArrivalId,
    pub received: Timestamp,
    pub provenance: Provenance,
    pub body: Vec<u8>,
}

/// Calls of one spool row, under the id of the first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Spooled {
    pub id: Id,
    pub calls: Vec<SpooledCall>,
}

/// Result of a call that is stored durably.
#[derive(Debug)]
pub enum Received {
    Taken(TakenReport),
    /// Spooled, and will be the arrival with this id.
    Spooled(ArrivalId),
}

/// Decides whether calls are processed at once or spooled.
pub(crate) struct Spool {
    rush: Mutex<Rush>,
    to_store: mpsc::UnboundedSender<ToKeep>,
    stored: mpsc::UnboundedSender<Stored>,
    /// For each spool row, the number of calls that are not processed yet.
    rows: Mutex<BTreeMap<Id, usize>>,
}

/// Calls under way, and until when that counts as a burst.
#[derive(Debug, Default)]
struct Rush {
    under_way: usize,
    until: Option<Instant>,
}

impl Rush {
    fn begins(&mut self, now: Instant) {
        self.under_way += 1;
        if self.under_way > AT_A_TIME {
            self.until = Some(now + CALM);
        }
    }

    /// Returns when the burst is expected to end; `None` without a burst.
    fn over(&self, now: Instant) -> Option<Instant> {
        self.until.filter(|until| *until > now)
    }
}

/// A call to be spooled, and who waits for the answer.
struct ToKeep {
    call: SpooledCall,
    tell: oneshot::Sender<Result<(), Down>>,
}

/// Calls of one spool row.
struct Stored {
    id: Id,
    by: By,
}

/// Which process spooled the calls.
enum By {
    Us {
        since: Instant,
        /// The calls, if memory had room for them.
        calls: Option<(Vec<SpooledCall>, OwnedSemaphorePermit)>,
        room: OwnedSemaphorePermit,
    },
    /// A process that has ended; some of the calls may be processed already.
    Another,
}

/// Inputs of [`run`].
pub(crate) struct Feeds {
    to_store: mpsc::UnboundedReceiver<ToKeep>,
    stored: mpsc::UnboundedReceiver<Stored>,
}

/// A call under way, until it is dropped.
struct UnderWay<'a>(&'a Spool);

impl Drop for UnderWay<'_> {
    fn drop(&mut self) {
        self.0.rush.lock().expect("no holder panics").under_way -= 1;
    }
}

impl Spool {
    pub fn new() -> (Self, Feeds) {
        let ((to_store, store), (stored, take)) = (mpsc::unbounded_channel(), mpsc::unbounded_channel());
        (Self { rush: Mutex::default(), to_store, stored, rows: Mutex::default() }, Feeds { to_store: store, stored: take })
    }

    /// Returns how many calls are spooled, and when the first of them was received.
    pub fn waiting(&self) -> Option<(usize, Timestamp)> {
        let rows = self.rows.lock().expect("no holder panics");
        Some((rows.values().sum(), rows.keys().next()?.made()))
    }

    fn waits(&self, id: Id, calls: usize) {
        self.rows.lock().expect("no holder panics").insert(id, calls);
    }

    fn forget(&self, id: Id) {
        self.rows.lock().expect("no holder panics").remove(&id);
    }

    /// Queues the calls that another process has left in the spool.
    pub fn left(&self, id: Id) {
        let _ = self.stored.send(Stored { id, by: By::Another });
    }

    fn begin(&self) -> UnderWay<'_> {
        self.rush.lock().expect("no holder panics").begins(Instant::now());
        UnderWay(self)
    }

    fn rush_over(&self) -> Option<Instant> {
        self.rush.lock().expect("no holder panics").over(Instant::now())
    }

    /// Ends when the rush is over, and at that moment at the latest.
    async fn calm(&self, latest: Instant) {
        while let Some(over) = self.rush_over()
            && Instant::now() < latest
        {
            tokio::time::sleep_until(over.min(latest)).await;
        }
    }
}

/// Processes a call, or spools it while there are too many.
pub(crate) async fn receive<J: Journal, L: Links, C: Clock>(
    shared: &Arc<Shared<J, L, C>>,
    call: Call,
) -> Result<Received, NotTaken> {
    let _under_way = shared.spool.begin();
    let rush = shared.spool.rush_over().is_some();
    if !rush || call.body.len() > MAX_BODY || !may_wait(shared, &call.provenance) {
        let source = Source { provenance: call.provenance, json: call.json, ..Source::default() };
        return Ok(Received::Taken(take_now(shared, source, &call.body).await?));
    }
    let now = shared.clock.now();
    let (id, (tell, answer)) = (shared.journal.mint(now), oneshot::channel());
    let call = SpooledCall { id, received: now, provenance: call.provenance, body: call.body };
    let _ = shared.spool.to_store.send(ToKeep { call, tell });
    answer.await.unwrap_or_else(|_| Err(Down("the engine has ended".to_owned())))?;
    Ok(Received::Spooled(id))
}

/// Returns whether the call may wait: no flow that takes it has an order or a limit.
fn may_wait<J, L, C>(shared: &Shared<J, L, C>, provenance: &Provenance) -> bool {
    let workspace = shared.releases.current().1;
    workspace.flows_from(provenance).all(|(flow, _)| flow.in_order_by.is_none() && flow.in_flight.is_none())
}

async fn take_now<J: Journal, L: Links, C: Clock>(
    shared: &Arc<Shared<J, L, C>>,
    source: Source,
    body: &[u8],
) -> Result<TakenReport, NotTaken> {
    let mut taking = Taking::new(shared.clone(), source);
    taking.feed(body).await?;
    let ready = taking.ready().await?;
    let (tell, answer) = oneshot::channel();
    let _ = shared.custody.send(Waiting { ready, tell });
    answer.await.unwrap_or_else(|_| Err(Down("the engine has ended".to_owned()).into()))
}

/// Spools and processes what `feeds` yield until they end.
pub(crate) async fn run<J: Journal, L: Links, C: Clock>(shared: Arc<Shared<J, L, C>>, feeds: Feeds) {
    let (taken, done) = mpsc::unbounded_channel();
    tokio::join!(store(&shared, feeds.to_store), take(&shared, feeds.stored, taken), unspool(&shared, done));
}

/// Spools calls: all that wait go into one row as soon as the previous row is durable.
async fn store<J: Journal, L: Links, C: Clock>(shared: &Shared<J, L, C>, mut to_store: mpsc::UnboundedReceiver<ToKeep>) {
    let (room, memory) = (Arc::new(Semaphore::new(ROOM)), Arc::new(Semaphore::new(IN_MEMORY)));
    while let Some(first) = to_store.recv().await {
        let (mut calls, mut tells, mut bytes) = (Vec::new(), Vec::new(), 0);
        let mut next = Some(first);
        while let Some(ToKeep { call, tell }) = next {
            bytes += call.body.len();
            calls.push(call);
            tells.push(tell);
            let more = calls.len() < TOGETHER && bytes < TOGETHER_BYTES;
            next = if more { to_store.try_recv().ok() } else { None };
        }
        let kilobytes = (bytes / 1024 + calls.len() / 2) as u32 + 1;
        let room = room.clone().acquire_many_owned(kilobytes).await.expect("it is never closed");
        let spooled = Spooled { id: calls[0].id, calls };
        let stored = match shared.journal.spool(&spooled).await {
            Ok(()) => Ok(()),
            // The row may be stored although its answer was lost: then its calls are processed here.
            Err(down) => retrying(|| shared.journal.spooled(spooled.id)).await.map(drop).ok_or(down),
        };
        let is_stored = stored.is_ok();
        for tell in tells {
            let _ = tell.send(stored.clone());
        }
        if is_stored {
            let Spooled { id, calls } = spooled;
            shared.spool.waits(id, calls.len());
            let in_memory = memory.clone().try_acquire_many_owned(kilobytes).ok();
            let by = By::Us { since: Instant::now(), calls: in_memory.map(|permit| (calls, permit)), room };
            let _ = shared.spool.stored.send(Stored { id, by });
        }
    }
}

/// Processes spooled calls. During a burst some rows are processed together, then new calls have the machine for twice as long:
/// without that pause, senders would have a third of the rate at which calls can be spooled.
async fn take<J: Journal, L: Links, C: Clock>(
    shared: &Arc<Shared<J, L, C>>,
    mut stored: mpsc::UnboundedReceiver<Stored>,
    taken: mpsc::UnboundedSender<Id>,
) {
    let mut under_way = JoinSet::new();
    let (mut together, mut begun) = (0, Instant::now());
    while let Some(next) = stored.recv().await {
        if let By::Us { since, .. } = next.by {
            shared.spool.calm(since + PATIENCE).await;
            if together == TAKINGS && shared.spool.rush_over().is_some() && since.elapsed() < NO_LONGER {
                while under_way.join_next().await.is_some() {}
                shared.spool.calm((Instant::now() + 2 * begun.elapsed()).min(since + NO_LONGER)).await;
            }
        }
        // Finished ones do not count among those processed together.
        while under_way.try_join_next().is_some() {}
        shared.room().await;
        while under_way.len() >= TAKINGS {
            under_way.join_next().await;
        }
        if together == TAKINGS || under_way.is_empty() {
            (together, begun) = (0, Instant::now());
        }
        together += 1;
        under_way.spawn(take_row(shared.clone(), next, taken.clone()));
    }
}

async fn take_row<J: Journal, L: Links, C: Clock>(
    shared: Arc<Shared<J, L, C>>,
    Stored { id, by }: Stored,
    taken: mpsc::UnboundedSender<Id>,
) {
    let (in_memory, left, _room) = match by {
        By::Us { calls, room, .. } => (calls, false, Some(room)),
        By::Another => (None, true, None),
    };
    let (calls, _memory) = match in_memory {
        Some((calls, permit)) => (calls, Some(permit)),
        None => match retrying(|| shared.journal.spooled(id)).await {
            Some(spooled) => (spooled.calls, None),
            // Another process owns it now.
            None => return shared.spool.forget(id),
        },
    };
    shared.spool.waits(id, calls.len());
    let mut each = JoinSet::new();
    for call in calls {
        each.spawn(take_call(shared.clone(), call, left));
    }
    let mut all = true;
    while let Some(one) = each.join_next().await {
        all &= one.unwrap_or(false);
    }
    if all {
        shared.spool.forget(id);
        let _ = taken.send(id);
    } else {
        tracing::error!(%id, "stored calls cannot be received; they stay stored, and the next start tries again");
    }
}

/// Removes finished rows from the spool, several at once.
async fn unspool<J: Journal, L, C>(shared: &Shared<J, L, C>, mut taken: mpsc::UnboundedReceiver<Id>) {
    let mut ids = Vec::new();
    while taken.recv_many(&mut ids, TOGETHER).await > 0 {
        retrying(|| shared.journal.unspool(&ids)).await;
        ids.clear();
    }
}

/// Processes one spooled call, unless an earlier process had stored it already.
async fn take_call<J: Journal, L: Links, C: Clock>(shared: Arc<Shared<J, L, C>>, call: SpooledCall, left: bool) -> bool {
    let SpooledCall { id, received, provenance, body } = call;
    if left && retrying(|| shared.journal.taken(id)).await.is_some() {
        return true;
    }
    let taken = retrying(|| async {
        let source = Source { provenance: provenance.clone(), promised: Some((id, received)), ..Source::default() };
        match take_now(&shared, source, &body).await {
            Ok(_) => Ok(None),
            Err(NotTaken::Refused(says)) => Ok(Some(says)),
            Err(NotTaken::Away(down)) => Err(down),
        }
    });
    match taken.await {
        None => true,
        Some(says) => {
            tracing::error!(arrival = %id, %says, "a stored call cannot be received");
            false
        }
    }
}
