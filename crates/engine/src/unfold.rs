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
use tokio::sync::mpsc;
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
        let fresh = if open.is_empty() { arrivals.recv().await } else { arrivals.try_recv().ok() };
        match fresh {
            Some(arrival) => match retrying(|| shared.journal.unfolding(arrival)).await {
                Some(row) => open.push_back(row),
                None => continue,
            },
            None if open.is_empty() => return,
            None => {}
        }
        shared.room().await;
        let Some(mut row) = open.pop_front() else { continue };
        if one_batch(&shared, &mut row).await {
            open.push_back(row);
        }
    }
}

/// Makes the next batch; `true` while there are more.
async fn one_batch<J: Journal, L: Links, C: Clock>(shared: &Arc<Shared<J, L, C>>, row: &mut UnfoldRow) -> bool {
    let parts = &row.unfolding.parts;
    let from = (row.cursor as usize).min(parts.len());
    let to = (from + BATCH).min(parts.len());
    let batch = &parts[from..to];
    let mut stored = Vec::with_capacity(batch.len());
    let span = batch.iter().map(|(_, bytes, _)| bytes.start).min().unwrap_or(0)
        ..batch.iter().map(|(_, bytes, _)| bytes.end).max().unwrap_or(0);
    let bytes = retrying(|| shared.journal.body(row.arrival, span.clone())).await;
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
        stored.push(Stored { origin, document, log: Vec::new() });
    }
    let mut entered: Vec<Result<Entered, Broken>> = Vec::with_capacity(stored.len());
    for stored in stored {
        entered.push(retrying(|| enter(stored.clone(), &shared.releases, &*shared.journal)).await);
    }
    let now = shared.clock.now();
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
        at: now,
    };
    let (tell, told) = tokio::sync::oneshot::channel();
    shared.submit(Op::Unfold(Box::new(unfold)), Tell::One(tell));
    match told.await {
        Ok(OpResult::Committed) => {}
        Ok(OpResult::Refused(says)) => {
            tracing::error!(arrival = %row.arrival, %says, "an arrival cannot be unfolded; its bytes are kept");
            return false;
        }
        Err(_) => return false,
    }
    row.cursor = to as u32;
    shared.enter(entered);
    to < row.unfolding.parts.len()
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
