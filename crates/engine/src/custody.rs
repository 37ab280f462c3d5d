//! Commits arrivals of all intakes in groups: all that wait are committed together as soon as the previous commit is done.

use crate::Clock;
use crate::journal::{Down, Journal};
use crate::links::Links;
use crate::shared::Shared;
use crate::take::{NotTaken, Ready, TakenReport, take_all};
use std::sync::Arc;
use tokio::sync::{mpsc, oneshot};

/// Arrivals of one commit, and bytes of them, at most; one arrival may have more.
const TOGETHER: usize = 500;
const TOGETHER_BYTES: u64 = 1 << 20;

/// An arrival that waits for its commit, and who receives the report.
#[derive(Debug)]
pub(crate) struct Waiting {
    pub ready: Ready,
    pub tell: oneshot::Sender<Result<TakenReport, NotTaken>>,
}

/// Commits what `waiting` yields until it ends. A failed commit is not retried here: the sender still has the arrival.
pub(crate) async fn run<J: Journal, L: Links, C: Clock>(
    shared: Arc<Shared<J, L, C>>,
    mut waiting: mpsc::UnboundedReceiver<Waiting>,
) {
    while let Some(first) = waiting.recv().await {
        let (mut batch, mut tells, mut bytes) = (Vec::new(), Vec::new(), 0);
        let mut next = Some(first);
        while let Some(Waiting { ready, tell }) = next {
            if ready.row().is_broken() {
                let _ = tell.send(Err(Down("an earlier item was not taken".to_owned()).into()));
            } else {
                bytes += ready.size();
                batch.push(ready);
                tells.push(tell);
            }
            let room = batch.len() < TOGETHER && bytes < TOGETHER_BYTES;
            next = if room { waiting.try_recv().ok() } else { None };
        }
        if batch.is_empty() {
            continue;
        }
        for ready in &mut batch {
            ready.number(&shared).await;
        }
        for (tell, report) in tells.into_iter().zip(take_all(&shared, batch).await) {
            // A receiver that is gone, such as a caller that hung up, sends the arrival again, and it is recognised as a
            // duplicate.
            let _ = tell.send(report);
        }
    }
}
