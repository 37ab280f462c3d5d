//! Groups arrivals of all intakes: whatever waits is taken in one commit, as soon as the last one is done.

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

/// An arrival that waits for its turn, and whom to tell.
#[derive(Debug)]
pub(crate) struct Waiting {
    pub ready: Ready,
    pub tell: oneshot::Sender<Result<TakenReport, NotTaken>>,
}

/// Takes what `waiting` gives until it ends. Nothing is tried again here: whoever waits still has what it gave.
pub(crate) async fn run<J: Journal, L: Links, C: Clock>(
    shared: Arc<Shared<J, L, C>>,
    mut waiting: mpsc::UnboundedReceiver<Waiting>,
) {
    while let Some(first) = waiting.recv().await {
        let (mut batch, mut tells, mut bytes) = (Vec::new(), Vec::new(), 0);
        let mut next = Some(first);
        while let Some(Waiting { ready, tell }) = next {
            if ready.row().is_broken() {
                let _ = tell.send(Err(Down("what came before it was not taken".to_owned()).into()));
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
            // Who has gone meanwhile, such as a caller that hung up, gives it again and gets it recognised.
            let _ = tell.send(report);
        }
    }
}
