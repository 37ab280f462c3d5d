//! Makes messages from arrivals, in batches with a durable cursor, arrivals taking turns.

use crate::dispatcher::{Entered, facts};
use crate::engine::Shared;
use crate::enter::{Broken, enter};
use crate::journal::{Down, Journal, NewMessage, Op, OpResult, Stored, Unfold, UnfoldRow};
use crate::links::Links;
use crate::{Clock, writer::Tell};
use std::collections::VecDeque;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{mpsc, oneshot};
use wirewatch_core::ArrivalId;
use wirewatch_core::machine::Origin;

/// Messages of one commit.
const BATCH: usize = 256;

/// Unfolds what `arrivals` names, until it ends.
pub(crate) async fn run<J: Journal, L: Links, C: Clock>(
    shared: Arc<Shared<J, L, C>>,
    mut arrivals: mpsc::UnboundedReceiver<ArrivalId>,
) {
    let mut open: VecDeque<UnfoldRow> = VecDeque::new();
    loop {
        if open.is_empty() {
            let Some(arrival) = arrivals.recv().await else { return };
            open.extend(retrying(|| shared.journal.unfolding(arrival)).await);
        }
        while let Ok(arrival) = arrivals.try_recv() {
            open.extend(retrying(|| shared.journal.unfolding(arrival)).await);
        }
        shared.room().await;
        // Arrivals take turns, as many of them as fill one commit.
        let mut turn = Vec::new();
        let mut messages = 0;
        while messages < BATCH
            && let Some(row) = open.pop_front()
        {
            let batch = next_batch(&shared, &row, BATCH - messages).await;
            messages += batch.entered.len();
            turn.push((row, batch));
        }
        for (row, done) in commit(&shared, turn).await {
            if done && (row.cursor as usize) < row.unfolding.parts.len() {
                open.push_back(row);
            }
        }
    }
}

/// The next messages of an arrival.
struct Batch {
    unfold: Unfold,
    entered: Vec<Result<Entered, Broken>>,
}

/// Submits the batches together and enters what was committed; gives each arrival back, moved on where it was.
async fn commit<J: Journal, L: Links, C: Clock>(
    shared: &Arc<Shared<J, L, C>>,
    turn: Vec<(UnfoldRow, Batch)>,
) -> Vec<(UnfoldRow, bool)> {
    let mut told = Vec::with_capacity(turn.len());
    for (row, Batch { unfold, entered }) in turn {
        let (tell, answer) = oneshot::channel();
        let to = unfold.to;
        shared.submit(Op::Unfold(Box::new(unfold)), Tell::One(tell));
        told.push((row, to, entered, answer));
    }
    let mut rows = Vec::with_capacity(told.len());
    for (mut row, to, entered, answer) in told {
        let committed = match answer.await {
            Ok(OpResult::Committed) => true,
            Ok(OpResult::Refused(says)) => {
                tracing::error!(arrival = %row.arrival, %says, "an arrival cannot be unfolded; its bytes are kept");
                false
            }
            Err(_) => false,
        };
        if committed {
            row.cursor = to;
            shared.enter(entered);
        }
        rows.push((row, committed));
    }
    rows
}

async fn next_batch<J: Journal, L: Links, C: Clock>(shared: &Arc<Shared<J, L, C>>, row: &UnfoldRow, most: usize) -> Batch {
    let parts = &row.unfolding.parts;
    let from = (row.cursor as usize).min(parts.len());
    let to = (from + most).min(parts.len());
    let batch = &parts[from..to];
    let span = batch.iter().map(|(_, bytes, _)| bytes.start).min().unwrap_or(0)
        ..batch.iter().map(|(_, bytes, _)| bytes.end).max().unwrap_or(0);
    let bytes = retrying(|| shared.journal.body(row.arrival, span.clone())).await;
    let mut entered = Vec::with_capacity(batch.len());
    for (head, slice, number) in batch {
        let head = &row.unfolding.heads[*head as usize];
        let mut meta = head.meta.clone();
        if !number.is_empty() {
            meta.insert("set".to_owned(), number.clone().into());
        }
        let origin = Arc::new(Origin {
            id: shared.journal.mint(shared.clock.now()),
            arrival: row.arrival,
            body: row.arrival,
            slice: slice.clone(),
            flow: head.flow.clone(),
            release: row.release,
            form: head.form.clone(),
            meta,
        });
        let within = (slice.start - span.start) as usize..(slice.end - span.start) as usize;
        let document = bytes.get(within).unwrap_or_default().to_vec();
        let stored = Stored { origin, document, log: Vec::new() };
        entered.push(retrying(|| enter(stored.clone(), &shared.releases, &*shared.journal)).await);
    }
    let surroundings = shared.releases.current().1;
    let messages = entered.iter().map(|entered| match entered {
        Ok(entered) => {
            let machine = &entered.machine;
            // The order began when it came in, not when its turn came to be unfolded.
            let facts = facts::begun(&surroundings, machine, row.arrival.made());
            let order_key = machine.order_key().unwrap_or_default();
            NewMessage { origin: machine.origin().clone(), key: machine.keys().0, order_key, facts }
        }
        Err(broken) => {
            NewMessage { origin: broken.origin.clone(), key: String::new(), order_key: String::new(), facts: Vec::new() }
        }
    });
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
