//! Makes messages from arrivals, in batches with a durable cursor, arrivals taking turns.

use crate::dispatcher::{Entered, ended_at_birth, facts};
use crate::enter::{Broken, enter};
use crate::journal::{Damaged, Down, Journal, NewMessage, Op, OpResult, Split, SplitRow, Stored};
use crate::links::Links;
use crate::shared::Shared;
use crate::{Clock, writer::Tell};
use std::collections::VecDeque;
use std::ops::Range;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{mpsc, oneshot};
use wirewatch_core::intake::{Head, Part};
use wirewatch_core::machine::Origin;
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{ArrivalId, Timestamp};

/// Messages of one commit, and bytes of their documents, at most; one message may have more.
const BATCH: usize = 256;
const BATCH_BYTES: u64 = 8 << 20;

/// Splits what `arrivals` names, until it ends. While one turn is committed the next is worked out; it is submitted
/// when the one before it is committed, so the cursor of an arrival moves on step by step.
pub(crate) async fn run<J: Journal, L: Links, C: Clock>(
    shared: Arc<Shared<J, L, C>>,
    mut arrivals: mpsc::UnboundedReceiver<ArrivalId>,
) {
    let mut open: VecDeque<SplitRow> = VecDeque::new();
    let mut named: VecDeque<ArrivalId> = VecDeque::new();
    let mut committing = Vec::new();
    loop {
        if open.is_empty() && named.is_empty() && committing.is_empty() {
            let Some(arrival) = arrivals.recv().await else { return };
            named.push_back(arrival);
        }
        while let Ok(arrival) = arrivals.try_recv() {
            named.push_back(arrival);
        }
        // Far more may be named at once than is split in one turn: they are read when their turn comes.
        if open.len() < BATCH && !named.is_empty() {
            let next: Vec<ArrivalId> = named.drain(..named.len().min(BATCH)).collect();
            open.extend(retrying(|| shared.journal.splitting(&next)).await);
        }
        let (stuck, mut turn) = tokio::join!(settle(&shared, std::mem::take(&mut committing)), next_turn(&shared, &mut open));
        if !stuck.is_empty() {
            open.retain(|row| !stuck.contains(&row.arrival));
            turn.retain(|batch| !stuck.contains(&batch.split.arrival));
        }
        committing.extend(turn.into_iter().map(|batch| submit(&shared, batch)));
    }
}

/// The next messages of an arrival, and those of them that are not ended with that.
struct Batch {
    split: Split,
    entered: Vec<Result<Entered, Broken>>,
}

/// A batch on its way into the journal.
struct Submitted {
    arrival: ArrivalId,
    entered: Vec<Result<Entered, Broken>>,
    answer: oneshot::Receiver<OpResult>,
}

/// The batches of one turn: arrivals one after another, as many of them as fill one commit, their bytes read at once.
async fn next_turn<J: Journal, L: Links, C: Clock>(shared: &Arc<Shared<J, L, C>>, open: &mut VecDeque<SplitRow>) -> Vec<Batch> {
    if !open.is_empty() {
        shared.room().await;
    }
    let mut planned = Vec::new();
    let (mut messages, mut bytes) = (0, 0);
    while messages < BATCH
        && bytes < BATCH_BYTES
        && let Some(row) = open.pop_front()
    {
        let next = Next::of(row, BATCH - messages, BATCH_BYTES - bytes);
        messages += next.parts.len();
        bytes += next.span.end - next.span.start;
        planned.push(next);
    }
    let spans: Vec<_> = planned.iter().map(|next| (next.row.arrival, next.span.clone())).collect();
    let bodies = if spans.is_empty() { Vec::new() } else { retrying(|| shared.journal.bodies(&spans)).await };
    let (mut turn, mut moved_on) = (Vec::with_capacity(planned.len()), Vec::new());
    for (next, bytes) in planned.into_iter().zip(bodies) {
        let batch = next.batch(shared, bytes).await;
        if !batch.split.last {
            moved_on.push(SplitRow { cursor: batch.split.to, ..next.row });
        }
        turn.push(batch);
    }
    open.extend(moved_on);
    turn
}

fn submit<J, L, C>(shared: &Shared<J, L, C>, batch: Batch) -> Submitted {
    let (tell, answer) = oneshot::channel();
    let arrival = batch.split.arrival;
    shared.submit(Op::Split(Box::new(batch.split)), Tell::One(tell));
    Submitted { arrival, entered: batch.entered, answer }
}

/// Enters what was committed; gives the arrivals that cannot be split any further.
async fn settle<J, L, C>(shared: &Shared<J, L, C>, submitted: Vec<Submitted>) -> Vec<ArrivalId> {
    let mut stuck = Vec::new();
    for Submitted { arrival, entered, answer } in submitted {
        match answer.await {
            Ok(OpResult::Committed) => shared.enter(entered),
            Ok(OpResult::Refused(says)) => {
                tracing::error!(%arrival, %says, "an arrival cannot be split; its bytes stay stored");
                stuck.push(arrival);
            }
            Err(_) => stuck.push(arrival),
        }
    }
    stuck
}

/// The next batch of an arrival: its parts and where they are in the bytes.
struct Next {
    row: SplitRow,
    parts: Range<usize>,
    span: Range<u64>,
}

impl Next {
    /// Chooses at most `most` parts and `most_bytes` bytes, at least one part.
    fn of(row: SplitRow, most: usize, most_bytes: u64) -> Self {
        let all = &row.splitting.parts;
        let from = (row.cursor as usize).min(all.len());
        let mut bytes = 0;
        let fits = all[from..].iter().take(most).take_while(|(_, slice, _)| {
            let first = bytes == 0;
            bytes += slice.end - slice.start;
            first || bytes <= most_bytes
        });
        let parts = from..from + fits.count();
        let slices = || all[parts.clone()].iter().map(|(_, slice, _)| slice);
        let span = slices().map(|slice| slice.start).min().unwrap_or(0)..slices().map(|slice| slice.end).max().unwrap_or(0);
        Self { row, parts, span }
    }

    /// Builds the messages of a batch from the bytes of its span.
    async fn batch<J: Journal, L: Links, C: Clock>(
        &self,
        shared: &Arc<Shared<J, L, C>>,
        bytes: Result<Vec<u8>, Damaged>,
    ) -> Batch {
        let Self { row, parts, span } = self;
        let (surroundings, at) = (shared.releases.current().1, shared.clock.now());
        let (mut messages, mut entered) = (Vec::with_capacity(parts.len()), Vec::with_capacity(parts.len()));
        for part in &row.splitting.parts[parts.clone()] {
            let within = (part.1.start - span.start) as usize..(part.1.end - span.start) as usize;
            let document = bytes.as_ref().ok().and_then(|bytes| bytes.get(within)).unwrap_or_default().to_vec();
            let mut stored = message(shared, row.arrival, row.release, &row.splitting.heads, part, document);
            stored.damaged = bytes.as_ref().err().cloned();
            let one = retrying(|| enter(stored.clone(), &shared.releases, &*shared.journal)).await;
            let (message, unfinished) = born(&surroundings, one, at);
            messages.push(message);
            entered.extend(unfinished);
        }
        let last = parts.end == row.splitting.parts.len();
        let split = Split { arrival: row.arrival, from: parts.start as u32, to: parts.end as u32, last, messages, at };
        Batch { split, entered }
    }
}

/// Builds a message of an arrival as it is stored: head, span of its document, and its number within the arrival.
pub(crate) fn message<J: Journal, L, C: Clock>(
    shared: &Shared<J, L, C>,
    arrival: ArrivalId,
    release: i64,
    heads: &[Head],
    (head, slice, number): &Part,
    document: Vec<u8>,
) -> Stored {
    let head = &heads[*head as usize];
    let mut meta = head.meta.clone();
    if !number.is_empty() {
        meta.insert("set".to_owned(), number.clone().into());
    }
    let origin = Origin {
        id: shared.journal.mint_message(shared.clock.now()),
        arrival,
        body: arrival,
        slice: slice.clone(),
        flow: head.flow.clone(),
        release,
        form: head.form.clone(),
        meta,
    };
    Stored::new(origin, document)
}

/// Builds what is recorded when a message is created, and the message itself unless it has ended already.
pub(crate) fn born(
    surroundings: &Workspace,
    entered: Result<Entered, Broken>,
    now: Timestamp,
) -> (NewMessage, Option<Result<Entered, Broken>>) {
    let entered = match entered {
        Ok(entered) => entered,
        Err(broken) => {
            let (origin, facts) = (broken.origin.clone(), Vec::new());
            let message = NewMessage { origin, key: String::new(), order_key: String::new(), facts, ended: None };
            return (message, Some(Err(broken)));
        }
    };
    let machine = &entered.machine;
    // An order begins when its arrival is received, not when it is split.
    let facts = facts::begun(surroundings, machine, machine.origin().arrival.made());
    let order_key = machine.order_key().unwrap_or_default();
    let message = NewMessage { origin: machine.origin().clone(), key: machine.keys().0, order_key, facts, ended: None };
    match ended_at_birth(surroundings, &entered, now) {
        ended @ Some(_) => (NewMessage { ended, ..message }, None),
        None => (message, Some(Ok(entered))),
    }
}

/// Asks until the journal answers.
pub(crate) async fn retrying<T, F: Future<Output = Result<T, Down>>>(mut ask: impl FnMut() -> F) -> T {
    let mut wait = Duration::from_millis(50);
    loop {
        match ask().await {
            Ok(answer) => return answer,
            Err(down) => {
                tracing::debug!(%down, "asking again");
                tokio::time::sleep(wait).await;
                wait = (wait * 2).min(Duration::from_secs(1));
            }
        }
    }
}
