//! Calls in a rush: kept as they came, many in one row, answered, and taken when the rush is over.
//!
//! While few come at a time each is taken before it is answered, and its answer says what became of it. When more come than
//! that keeps up with, their senders would wait for work that is not theirs, and give up: then what they sent is made
//! durable, which is all that the answer promises, and the work follows. Calls that stand in an order, or are limited in how
//! many may be under way, are never kept: their senders wait.

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
use wirewatch_core::intake::Came;
use wirewatch_core::{ArrivalId, Document, Id, Timestamp};

/// So many calls at a time are taken as they come.
const AT_A_TIME: usize = 16;
/// A rush is over when for so long no more came at a time than that.
const CALM: Duration = Duration::from_millis(50);
/// So long a call that is kept waits for the end of the rush. Then a third of the time is for what is kept, the rest for who comes.
const PATIENCE: Duration = Duration::from_secs(2);
/// One that has waited for so long waits for nobody any more: whoever comes waits.
const NO_LONGER: Duration = Duration::from_secs(15);
/// A body larger than this is never kept, in bytes.
const LARGEST: usize = 256 << 10;
/// Calls of one row, and bytes of their bodies; the last may exceed it.
const TOGETHER: usize = 500;
const TOGETHER_BYTES: usize = 1 << 20;
/// Kilobytes of calls that are kept in memory, too; what comes beyond is read again when its turn has come.
const IN_MEMORY: usize = 64 << 10;
/// Kilobytes of calls that are kept at a time: beyond, those that come wait for those before.
const ROOM: usize = 256 << 10;
/// Rows that are taken at a time.
const TAKINGS: usize = 16;

/// A call that is believed, and was not taken yet.
#[derive(Debug)]
pub struct Call {
    pub came: Came,
    /// The whole of its body as JSON, where it was read already.
    pub json: Option<Document>,
    pub body: Vec<u8>,
}

/// A call as it is kept until it is taken.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SpooledCall {
    /// The arrival that it will be.
    pub id: ArrivalId,
    pub received: Timestamp,
    pub came: Came,
    pub body: Vec<u8>,
}

/// Calls that are kept together, under the id of the first.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Spooled {
    pub id: Id,
    pub calls: Vec<SpooledCall>,
}

/// What became of a call that is in custody.
#[derive(Debug)]
pub enum Received {
    Taken(TakenReport),
    /// It will be taken under that id.
    Kept(ArrivalId),
}

/// Where calls pass, one by one or in a rush.
pub(crate) struct Spool {
    rush: Mutex<Rush>,
    to_keep: mpsc::UnboundedSender<ToKeep>,
    kept: mpsc::UnboundedSender<Kept>,
    /// How many calls each row has that is kept and not taken yet.
    rows: Mutex<BTreeMap<Id, usize>>,
}

/// How many calls are under way, and until when that is a rush.
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

    /// When it is over, as it looks; `None` when there is none.
    fn over(&self, now: Instant) -> Option<Instant> {
        self.until.filter(|until| *until > now)
    }
}

/// A call that is to be kept, and whom to tell.
struct ToKeep {
    call: SpooledCall,
    tell: oneshot::Sender<Result<(), Down>>,
}

/// Calls that are kept in one row.
struct Kept {
    id: Id,
    by: By,
}

/// Who keeps calls.
enum By {
    Us {
        since: Instant,
        /// Where there was room in memory for them.
        calls: Option<(Vec<SpooledCall>, OwnedSemaphorePermit)>,
        room: OwnedSemaphorePermit,
    },
    /// A process that has ended; some of them may be taken.
    Another,
}

/// What a spool gives [`run`] to do.
pub(crate) struct Feeds {
    to_keep: mpsc::UnboundedReceiver<ToKeep>,
    kept: mpsc::UnboundedReceiver<Kept>,
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
        let ((to_keep, keep), (kept, take)) = (mpsc::unbounded_channel(), mpsc::unbounded_channel());
        (Self { rush: Mutex::default(), to_keep, kept, rows: Mutex::default() }, Feeds { to_keep: keep, kept: take })
    }

    /// How many calls are kept and not taken yet, and when the first of them came.
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

    /// Has calls taken that a process has left behind.
    pub fn left(&self, id: Id) {
        let _ = self.kept.send(Kept { id, by: By::Another });
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

/// Takes a call, or keeps it while there are too many to take each before it is answered.
pub(crate) async fn receive<J: Journal, L: Links, C: Clock>(
    shared: &Arc<Shared<J, L, C>>,
    call: Call,
) -> Result<Received, NotTaken> {
    let _under_way = shared.spool.begin();
    let rush = shared.spool.rush_over().is_some();
    if !rush || call.body.len() > LARGEST || !may_wait(shared, &call.came) {
        let source = Source { came: call.came, json: call.json, ..Source::default() };
        return Ok(Received::Taken(take_now(shared, source, &call.body).await?));
    }
    let now = shared.clock.now();
    let (id, (tell, answer)) = (shared.journal.mint(now), oneshot::channel());
    let call = SpooledCall { id, received: now, came: call.came, body: call.body };
    let _ = shared.spool.to_keep.send(ToKeep { call, tell });
    answer.await.unwrap_or_else(|_| Err(Down("the engine has ended".to_owned())))?;
    Ok(Received::Kept(id))
}

/// Whether nothing that a flow says depends on when its turn comes.
fn may_wait<J, L, C>(shared: &Shared<J, L, C>, came: &Came) -> bool {
    let workspace = shared.releases.current().1;
    workspace.flows_from(came).all(|(flow, _)| flow.in_order_by.is_none() && flow.in_flight.is_none())
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

/// Keeps and takes what `feeds` give until they end.
pub(crate) async fn run<J: Journal, L: Links, C: Clock>(shared: Arc<Shared<J, L, C>>, feeds: Feeds) {
    let (taken, done) = mpsc::unbounded_channel();
    tokio::join!(keep(&shared, feeds.to_keep), take(&shared, feeds.kept, taken), unspool(&shared, done));
}

/// Keeps what comes, whatever waits together, as soon as the last is durable.
async fn keep<J: Journal, L: Links, C: Clock>(shared: &Shared<J, L, C>, mut to_keep: mpsc::UnboundedReceiver<ToKeep>) {
    let (room, memory) = (Arc::new(Semaphore::new(ROOM)), Arc::new(Semaphore::new(IN_MEMORY)));
    while let Some(first) = to_keep.recv().await {
        let (mut calls, mut tells, mut bytes) = (Vec::new(), Vec::new(), 0);
        let mut next = Some(first);
        while let Some(ToKeep { call, tell }) = next {
            bytes += call.body.len();
            calls.push(call);
            tells.push(tell);
            let more = calls.len() < TOGETHER && bytes < TOGETHER_BYTES;
            next = if more { to_keep.try_recv().ok() } else { None };
        }
        let kilobytes = (bytes / 1024 + calls.len() / 2) as u32 + 1;
        let room = room.clone().acquire_many_owned(kilobytes).await.expect("it is never closed");
        let spooled = Spooled { id: calls[0].id, calls };
        let kept = match shared.journal.spool(&spooled).await {
            Ok(()) => Ok(()),
            // It may be there though its answer was lost: then it is ours to take.
            Err(down) => retrying(|| shared.journal.spooled(spooled.id)).await.map(drop).ok_or(down),
        };
        let is_kept = kept.is_ok();
        for tell in tells {
            let _ = tell.send(kept.clone());
        }
        if is_kept {
            let Spooled { id, calls } = spooled;
            shared.spool.waits(id, calls.len());
            let in_memory = memory.clone().try_acquire_many_owned(kilobytes).ok();
            let by = By::Us { since: Instant::now(), calls: in_memory.map(|permit| (calls, permit)), room };
            let _ = shared.spool.kept.send(Kept { id, by });
        }
    }
}

/// Takes what is kept, when its turn has come. In a rush some rows are taken together, then whoever comes has the machine for twice
/// as long: taken without a pause, they would leave senders a third of the pace at which their calls can be kept.
async fn take<J: Journal, L: Links, C: Clock>(
    shared: &Arc<Shared<J, L, C>>,
    mut kept: mpsc::UnboundedReceiver<Kept>,
    taken: mpsc::UnboundedSender<Id>,
) {
    let mut under_way = JoinSet::new();
    let (mut together, mut begun) = (0, Instant::now());
    while let Some(next) = kept.recv().await {
        if let By::Us { since, .. } = next.by {
            shared.spool.calm(since + PATIENCE).await;
            if together == TAKINGS && shared.spool.rush_over().is_some() && since.elapsed() < NO_LONGER {
                while under_way.join_next().await.is_some() {}
                shared.spool.calm((Instant::now() + 2 * begun.elapsed()).min(since + NO_LONGER)).await;
            }
        }
        // Those that are done are no part of what is taken together from here on.
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
    Kept { id, by }: Kept,
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
            // It is another process's to take.
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
        tracing::error!(%id, "calls that were kept cannot be taken; they stay where they are, and the next start tries again");
    }
}

/// Lets go of the rows that are taken, whatever is done together.
async fn unspool<J: Journal, L, C>(shared: &Shared<J, L, C>, mut taken: mpsc::UnboundedReceiver<Id>) {
    let mut ids = Vec::new();
    while taken.recv_many(&mut ids, TOGETHER).await > 0 {
        retrying(|| shared.journal.unspool(&ids)).await;
        ids.clear();
    }
}

/// Whether a call is in its place: it may have been before, when it was left behind.
async fn take_call<J: Journal, L: Links, C: Clock>(shared: Arc<Shared<J, L, C>>, call: SpooledCall, left: bool) -> bool {
    let SpooledCall { id, received, came, body } = call;
    if left && retrying(|| shared.journal.taken(id)).await.is_some() {
        return true;
    }
    let taken = retrying(|| async {
        let source = Source { came: came.clone(), promised: Some((id, received)), ..Source::default() };
        match take_now(&shared, source, &body).await {
            Ok(_) => Ok(None),
            Err(NotTaken::Refused(says)) => Ok(Some(says)),
            Err(NotTaken::Away(down)) => Err(down),
        }
    });
    match taken.await {
        None => true,
        Some(says) => {
            tracing::error!(arrival = %id, %says, "a call that was kept cannot be stored");
            false
        }
    }
}
