//! Groups what is to be committed: whatever waits goes out as soon as the last commit is done.

use crate::journal::{Journal, Op, OpResult};
use std::collections::{HashSet, VecDeque};
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{mpsc, oneshot};
use wirewatch_core::MessageId;

/// Most ops in a group, and most bytes of log entries and bodies.
const OPS: usize = 500;
const BYTES: usize = 1 << 20;

/// Something to commit, and whom to tell.
#[derive(Debug)]
pub struct Submitted {
    pub op: Op,
    pub tell: Tell,
}

/// Whom to tell of a commit.
#[derive(Debug)]
pub enum Tell {
    Nobody,
    Dispatcher(MessageId),
    One(oneshot::Sender<OpResult>),
}

/// Commits until `submitted` ends. `told` gets the messages of each group.
pub async fn run<J: Journal>(
    journal: Arc<J>,
    mut submitted: mpsc::UnboundedReceiver<Submitted>,
    told: impl Fn(Vec<(MessageId, OpResult)>) + Send + 'static,
) {
    let mut waiting: VecDeque<Submitted> = VecDeque::new();
    let mut no = 0;
    loop {
        if waiting.is_empty() {
            match submitted.recv().await {
                Some(first) => waiting.push_back(first),
                None => return,
            }
        }
        while waiting.len() < OPS * 4
            && let Ok(more) = submitted.try_recv()
        {
            waiting.push_back(more);
        }
        let (ops, tells) = next_group(&mut waiting);
        no += 1;
        let results = commit(&*journal, no, &ops).await;
        let mut messages = Vec::with_capacity(tells.len());
        for (tell, result) in tells.into_iter().zip(results) {
            match tell {
                Tell::Dispatcher(id) => messages.push((id, result)),
                Tell::One(sender) => drop(sender.send(result)),
                Tell::Nobody => {
                    if let OpResult::Refused(says) = result {
                        tracing::error!(%says, "a record could not be stored");
                    }
                }
            }
        }
        told(messages);
    }
}

/// Takes the next group from the front: no message twice in it, since one statement writes each row once.
fn next_group(waiting: &mut VecDeque<Submitted>) -> (Vec<Op>, Vec<Tell>) {
    let (mut ops, mut tells, mut bytes) = (Vec::new(), Vec::new(), 0);
    let mut rows = HashSet::new();
    while let Some(next) = waiting.front() {
        let row = match &next.op {
            Op::Change(change) => change.origin.id.0,
            Op::Unfold(unfold) => unfold.arrival.0,
            Op::Hold { connection, .. } => -wirewatch_core::Digest::of(&[connection.as_bytes()]).short(),
        };
        if ops.len() >= OPS || bytes >= BYTES || !rows.insert(row) {
            break;
        }
        bytes += size(&next.op);
        if let Some(Submitted { op, tell }) = waiting.pop_front() {
            ops.push(op);
            tells.push(tell);
        }
    }
    (ops, tells)
}

fn size(op: &Op) -> usize {
    use wirewatch_core::machine::Logged;
    match op {
        Op::Change(change) => match &change.entry {
            Some((_, entry)) => match &entry.what {
                Logged::Attempt { outcome, .. } => 200 + outcome.body().map_or(0, |body| body.0.len()),
                Logged::Act { .. } | Logged::Intent { .. } | Logged::Stopped { .. } => 1000,
            },
            None => 200,
        },
        Op::Unfold(unfold) => unfold.messages.len() * 400,
        Op::Hold { .. } => 100,
    }
}

/// Commits, however long the journal is away.
async fn commit<J: Journal>(journal: &J, no: u64, ops: &[Op]) -> Vec<OpResult> {
    let mut wait = Duration::from_millis(50);
    loop {
        match journal.commit(no, ops).await {
            Ok(results) => return results,
            Err(down) => {
                tracing::warn!(%down, "commit will be tried again");
                tokio::time::sleep(wait).await;
                wait = (wait * 2).min(Duration::from_secs(1));
            }
        }
    }
}
