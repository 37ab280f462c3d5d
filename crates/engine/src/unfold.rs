//! Makes messages from arrivals, in batches with a durable cursor, arrivals taking turns.

use crate::dispatcher::{Entered, facts};
use crate::enter::{Broken, enter};
use crate::journal::{Down, Journal, NewMessage, Op, OpResult, Stored, Unfold, UnfoldRow};
use crate::links::Links;
use crate::shared::Shared;
use crate::{Clock, writer::Tell};
use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{mpsc, oneshot};
use wirewatch_core::ArrivalId;
use wirewatch_core::intake::{Head, Part};
use wirewatch_core::machine::Origin;
use wirewatch_core::workspace::Workspace;

/// Messages of one commit, and bytes of their documents, at most; one message may have more.
const BATCH: usize = 256;
const BATCH_BYTES: u64 = 8 << 20;

/// Unfolds what `arrivals` names, until it ends. While one turn is committed the next is worked out; it is submitted
/// when the one before it is committed, so the cursor of an arrival moves on step by step.
pub(crate) async fn run<J: Journal, L: Links, C: Clock>(
    shared: Arc<Shared<J, L, C>>,
    mut arrivals: mpsc::UnboundedReceiver<ArrivalId>,
) {
    let mut open: VecDeque<UnfoldRow> = VecDeque::new();
    let mut committing = Vec::new();
    loop {
        if open.is_empty() && committing.is_empty() {
            let Some(arrival) = arrivals.recv().await else { return };
            open.extend(retrying(|| shared.journal.unfolding(arrival)).await);
        }
        while let Ok(arrival) = arrivals.try_recv() {
            open.extend(retrying(|| shared.journal.unfolding(arrival)).await);
        }
        let (stuck, mut turn) = tokio::join!(settle(&shared, std::mem::take(&mut committing)), next_turn(&shared, &mut open));
        if !stuck.is_empty() {
            open.retain(|row| !stuck.contains(&row.arrival));
            turn.retain(|batch| !stuck.contains(&batch.unfold.arrival));
        }
        committing.extend(turn.into_iter().map(|batch| submit(&shared, batch)));
    }
}

/// The next messages of an arrival.
struct Batch {
    unfold: Unfold,
    entered: Vec<Result<Entered, Broken>>,
}

/// A batch on its way into the journal.
struct Submitted {
    arrival: ArrivalId,
    entered: Vec<Result<Entered, Broken>>,
    answer: oneshot::Receiver<OpResult>,
}

/// The batches of one turn: arrivals one after another, as many of them as fill one commit.
async fn next_turn<J: Journal, L: Links, C: Clock>(shared: &Arc<Shared<J, L, C>>, open: &mut VecDeque<UnfoldRow>) -> Vec<Batch> {
    if !open.is_empty() {
        shared.room().await;
    }
    let mut turn = Vec::new();
    let (mut messages, mut bytes, mut moved_on) = (0, 0, Vec::new());
    while messages < BATCH
        && bytes < BATCH_BYTES
        && let Some(mut row) = open.pop_front()
    {
        let batch = next_batch(shared, &row, BATCH - messages).await;
        messages += batch.entered.len();
        bytes += batch.unfold.messages.iter().map(|message| message.origin.size()).sum::<u64>();
        row.cursor = batch.unfold.to;
        if !batch.unfold.last {
            moved_on.push(row);
        }
        turn.push(batch);
    }
    open.extend(moved_on);
    turn
}

fn submit<J, L, C>(shared: &Shared<J, L, C>, batch: Batch) -> Submitted {
    let (tell, answer) = oneshot::channel();
    let arrival = batch.unfold.arrival;
    shared.submit(Op::Unfold(Box::new(batch.unfold)), Tell::One(tell));
    Submitted { arrival, entered: batch.entered, answer }
}

/// Enters what was committed; gives the arrivals that cannot be unfolded any further.
async fn settle<J, L, C>(shared: &Shared<J, L, C>, submitted: Vec<Submitted>) -> Vec<ArrivalId> {
    let mut stuck = Vec::new();
    for Submitted { arrival, entered, answer } in submitted {
        match answer.await {
            Ok(OpResult::Committed) => shared.enter(entered),
            Ok(OpResult::Refused(says)) => {
                tracing::error!(%arrival, %says, "an arrival cannot be unfolded; its bytes are kept");
                stuck.push(arrival);
            }
            Err(_) => stuck.push(arrival),
        }
    }
    stuck
}

async fn next_batch<J: Journal, L: Links, C: Clock>(shared: &Arc<Shared<J, L, C>>, row: &UnfoldRow, most: usize) -> Batch {
    let parts = &row.unfolding.parts;
    let from = (row.cursor as usize).min(parts.len());
    let mut bytes = 0;
    let fits = parts[from..].iter().take(most).take_while(|(_, slice, _)| {
        let first = bytes == 0;
        bytes += slice.end - slice.start;
        first || bytes <= BATCH_BYTES
    });
    let to = from + fits.count();
    let batch = &parts[from..to];
    let span = batch.iter().map(|(_, bytes, _)| bytes.start).min().unwrap_or(0)
        ..batch.iter().map(|(_, bytes, _)| bytes.end).max().unwrap_or(0);
    let bytes = retrying(|| shared.journal.body(row.arrival, span.clone())).await;
    let mut entered = Vec::with_capacity(batch.len());
    for part in batch {
        let within = (part.1.start - span.start) as usize..(part.1.end - span.start) as usize;
        let document = bytes.get(within).unwrap_or_default().to_vec();
        let stored = message(shared, row.arrival, row.release, &row.unfolding.heads, part, document);
        entered.push(retrying(|| enter(stored.clone(), &shared.releases, &*shared.journal)).await);
    }
    let surroundings = shared.releases.current().1;
    let messages = entered.iter().map(|entered| new_message(&surroundings, entered));
    let unfold = Unfold {
        arrival: row.arrival,
        from: from as u32,
        to: to as u32,
        last: to == parts.len(),
        messages: messages.collect(),
        at: shared.clock.now(),
    };
    Batch { unfold, entered }
}

/// A message of an arrival, as it will be kept: its head, where its document stands, and its own number there.
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
    Stored { origin: Arc::new(origin), document, log: Vec::new() }
}

/// What is recorded of a message that comes to be.
pub(crate) fn new_message(surroundings: &Workspace, entered: &Result<Entered, Broken>) -> NewMessage {
    match entered {
        Ok(entered) => {
            let machine = &entered.machine;
            // The order began when it came in, not when its turn came to be unfolded.
            let facts = facts::begun(surroundings, machine, machine.origin().arrival.made());
            let order_key = machine.order_key().unwrap_or_default();
            NewMessage { origin: machine.origin().clone(), key: machine.keys().0, order_key, facts }
        }
        Err(broken) => {
            NewMessage { origin: broken.origin.clone(), key: String::new(), order_key: String::new(), facts: Vec::new() }
        }
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
