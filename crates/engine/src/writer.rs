//! Groups commits: all ops that wait are committed together as soon as the previous commit is done.

use crate::journal::{Hold, Journal, Op, OpResult};
use crate::shard::Shards;
use crate::split::retrying;
use std::collections::{HashSet, VecDeque};
use std::sync::{Arc, Mutex};
use std::time::Duration;
use tokio::sync::{mpsc, oneshot};
use wirewatch_core::MessageId;

/// Most ops in a group, and most bytes of log entries and bodies.
const OPS: usize = 500;
const BYTES: usize = 1 << 20;

/// Something to commit, and who receives the result.
#[derive(Debug)]
pub struct Submitted {
    pub what: What,
    pub tell: Tell,
}

/// An entry of the commit queue.
#[derive(Debug)]
pub enum What {
    Op(Op),
    /// Give shards to another process, after everything that was submitted before.
    GiveAway {
        shards: Shards,
        to: i16,
    },
}

/// Receiver of the result of a commit.
#[derive(Debug)]
pub enum Tell {
    Nobody,
    Dispatcher(MessageId),
    One(oneshot::Sender<OpResult>),
}

/// Why commits fail at present; `None` while they do not. Cloning shares it.
#[derive(Debug, Clone, Default)]
pub struct Stall(Arc<Mutex<Option<String>>>);

impl Stall {
    /// Returns the reason why the journal fails at present.
    #[must_use]
    pub fn says(&self) -> Option<String> {
        self.0.lock().expect("no holder panics").clone()
    }

    fn set(&self, says: Option<String>) {
        *self.0.lock().expect("no holder panics") = says;
    }
}

/// Commits until `submitted` ends. `report` receives the messages of each group; `stall` shows why commits fail.
pub async fn run<J: Journal>(
    journal: Arc<J>,
    mut submitted: mpsc::UnboundedReceiver<Submitted>,
    stall: Stall,
    report: impl Fn(Vec<(MessageId, OpResult)>) + Send + 'static,
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
        if let Some((shards, to)) = give_away(&waiting) {
            retrying(|| journal.give_away(shards, to)).await;
            if let Some(Submitted { tell: Tell::One(tell), .. }) = waiting.pop_front() {
                let _ = tell.send(OpResult::Committed);
            }
            continue;
        }
        let (ops, tells) = next_group(&mut waiting);
        no += 1;
        let results = commit(&*journal, no, &ops, &stall).await;
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
        report(messages);
    }
}

/// The shards to give away, when that is next.
fn give_away(waiting: &VecDeque<Submitted>) -> Option<(Shards, i16)> {
    match waiting.front()?.what {
        What::GiveAway { shards, to } => Some((shards, to)),
        What::Op(_) => None,
    }
}

/// Takes the next group from the front: no message twice in it, since one statement writes each row once.
fn next_group(waiting: &mut VecDeque<Submitted>) -> (Vec<Op>, Vec<Tell>) {
    let (mut ops, mut tells, mut bytes) = (Vec::new(), Vec::new(), 0);
    let mut rows = HashSet::new();
    while let Some(What::Op(next)) = waiting.front().map(|next| &next.what) {
        let row = match next {
            Op::Change(change) => change.origin.id.0,
            Op::Split(split) => split.arrival.0,
            Op::Resolve(settle) => settle.arrival.0,
            Op::Hold(Hold { connection, .. }) | Op::Resume { connection, .. } => {
                -wirewatch_core::Digest::of(&[connection.as_bytes()]).short()
            }
        };
        if ops.len() >= OPS || bytes >= BYTES || !rows.insert(row) {
            break;
        }
        bytes += size(next);
        if let Some(Submitted { what: What::Op(op), tell }) = waiting.pop_front() {
            ops.push(op);
            tells.push(tell);
        }
    }
    (ops, tells)
}

fn size(op: &Op) -> usize {
    use wirewatch_core::machine::Logged;
    match op {
        Op::Change(change) => {
            change.parts.iter().map(|part| part.document.len() + 400).sum::<usize>()
                + match &change.entry {
                    Some((_, entry)) => match &entry.what {
                        Logged::Attempt { outcome, .. } => 200 + outcome.body().map_or(0, |body| body.0.len()),
                        Logged::Act { .. }
                        | Logged::Intent { .. }
                        | Logged::Stopped { .. }
                        | Logged::Woken { .. }
                        | Logged::Parted { .. } => 1000,
                    },
                    None => 200,
                }
        }
        Op::Split(split) => split.messages.len() * 400,
        Op::Hold(_) | Op::Resume { .. } | Op::Resolve(_) => 100,
    }
}

/// Commits, however long the journal is away.
async fn commit<J: Journal>(journal: &J, no: u64, ops: &[Op], stall: &Stall) -> Vec<OpResult> {
    let mut wait = Duration::from_millis(50);
    loop {
        match journal.commit(no, ops).await {
            Ok(results) => {
                stall.set(None);
                return results;
            }
            Err(down) => {
                tracing::warn!(%down, "the commit will be retried");
                stall.set(Some(down.0));
                tokio::time::sleep(wait).await;
                wait = (wait * 2).min(Duration::from_secs(1));
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::journal::{Arriving, Change, Recovered, SplitRow, Stored, Taken};
    use crate::spool::Spooled;
    use std::ops::Range;
    use std::sync::Mutex;
    use wirewatch_core::document::Form;
    use wirewatch_core::machine::{Claim, Origin};
    use wirewatch_core::workspace::Files;
    use wirewatch_core::{ArrivalId, Id, Timestamp};

    /// A test journal that records its groups, is away for a given number of commits, and refuses some messages.
    #[derive(Default)]
    struct Remembering {
        groups: Mutex<Vec<(u64, Vec<i64>)>>,
        away: Mutex<u32>,
        refuses: Vec<i64>,
    }

    fn id(op: &Op) -> i64 {
        match op {
            Op::Change(change) => change.origin.id.0,
            Op::Split(split) => split.arrival.0,
            Op::Resolve(settle) => settle.arrival.0,
            Op::Hold(_) | Op::Resume { .. } => 0,
        }
    }

    impl Journal for Remembering {
        async fn commit(&self, no: u64, ops: &[Op]) -> Result<Vec<OpResult>, crate::Down> {
            self.groups.lock().unwrap().push((no, ops.iter().map(id).collect()));
            let mut away = self.away.lock().unwrap();
            if *away > 0 {
                *away -= 1;
                return Err(crate::Down("restarting".into()));
            }
            let refused = |op: &Op| self.refuses.contains(&id(op));
            Ok(ops.iter().map(|op| if refused(op) { OpResult::Refused("no".into()) } else { OpResult::Committed }).collect())
        }
        async fn take(&self, _: Vec<Arriving>) -> Result<Vec<Taken>, crate::Down> {
            unreachable!("the writer commits and nothing else")
        }
        async fn taken(&self, _: ArrivalId) -> Result<Option<Taken>, crate::Down> {
            unreachable!()
        }
        async fn spool(&self, _: &Spooled) -> Result<(), crate::Down> {
            unreachable!()
        }
        async fn spooled(&self, _: Id) -> Result<Option<Spooled>, crate::Down> {
            unreachable!()
        }
        async fn spools(&self) -> Result<Vec<Id>, crate::Down> {
            unreachable!()
        }
        async fn unspool(&self, _: &[Id]) -> Result<(), crate::Down> {
            unreachable!()
        }
        async fn store_piece(&self, _: ArrivalId, _: u32, _: Vec<u8>) -> Result<(), crate::Down> {
            unreachable!()
        }
        async fn bodies(&self, _: &[(Id, Range<u64>)]) -> Result<Vec<Result<Vec<u8>, crate::Damaged>>, crate::Down> {
            unreachable!()
        }
        async fn load(&self, _: &[MessageId]) -> Result<Vec<Stored>, crate::Down> {
            unreachable!()
        }
        async fn pick_up(&self, _: &[MessageId]) -> Result<(), crate::Down> {
            unreachable!()
        }
        async fn unfinished(&self, _: Shards, _: MessageId, _: u32) -> Result<Vec<Recovered>, crate::Down> {
            unreachable!()
        }
        async fn splittings(&self) -> Result<Vec<SplitRow>, crate::Down> {
            unreachable!()
        }
        async fn splitting(&self, _: &[ArrivalId]) -> Result<Vec<SplitRow>, crate::Down> {
            unreachable!()
        }
        async fn holds(&self) -> Result<Vec<Hold>, crate::Down> {
            unreachable!()
        }
        async fn settle_claim(&self, _: &Claim, _: wirewatch_core::Digest, _: bool) -> Result<(), crate::Down> {
            Ok(())
        }

        async fn claim(&self, _: &Claim, _: wirewatch_core::Digest, _: Timestamp) -> Result<bool, crate::Down> {
            unreachable!()
        }
        async fn release(&self, _: i64) -> Result<Option<Files>, crate::Down> {
            unreachable!()
        }
        fn mint(&self, _: Timestamp) -> Id {
            unreachable!()
        }
    }

    fn change(id: i64) -> Op {
        let form = Form::Json;
        let meta = serde_json::Map::new();
        let origin = Origin { id: Id(id), arrival: Id(1), body: Id(1), slice: 0..1, flow: "f".into(), release: 1, form, meta };
        Op::Change(Box::new(Change::blank(Arc::new(origin), Timestamp(1))))
    }

    /// Commits these messages; returns the resulting groups, and the result reported for each.
    async fn committed(journal: Remembering, ids: &[i64]) -> (Vec<(u64, Vec<i64>)>, Vec<(i64, OpResult)>) {
        let journal = Arc::new(journal);
        let (submit, submitted) = mpsc::unbounded_channel();
        for id in ids {
            submit.send(Submitted { what: What::Op(change(*id)), tell: Tell::Dispatcher(Id(*id)) }).unwrap();
        }
        drop(submit);
        let (tell, mut report) = mpsc::unbounded_channel();
        run(journal.clone(), submitted, Stall::default(), move |done| tell.send(done).unwrap()).await;
        let mut heard = Vec::new();
        while let Some(done) = report.recv().await {
            heard.extend(done.into_iter().map(|(id, result)| (id.0, result)));
        }
        (std::mem::take(&mut journal.groups.lock().unwrap()), heard)
    }

    #[tokio::test]
    async fn what_waits_goes_out_together_and_no_message_twice_in_a_group() {
        let (groups, heard) = committed(Remembering::default(), &[1, 2, 3, 2, 4, 2]).await;
        assert_eq!(groups, [(1, vec![1, 2, 3]), (2, vec![2, 4]), (3, vec![2])]);
        assert_eq!(heard.iter().map(|(id, _)| *id).collect::<Vec<_>>(), [1, 2, 3, 2, 4, 2], "reported in order");
    }

    #[tokio::test]
    async fn a_group_has_at_most_five_hundred() {
        let ids: Vec<i64> = (1..=1234).collect();
        let (groups, heard) = committed(Remembering::default(), &ids).await;
        assert_eq!(groups.iter().map(|(_, ids)| ids.len()).collect::<Vec<_>>(), [500, 500, 234]);
        assert_eq!(heard.len(), 1234);
    }

    #[tokio::test(start_paused = true)]
    async fn while_the_journal_is_away_the_same_group_is_given_again_under_its_number() {
        let journal = Remembering { away: Mutex::new(3), ..Remembering::default() };
        let (groups, heard) = committed(journal, &[1, 2]).await;
        assert_eq!(groups, vec![(1, vec![1, 2]); 4]);
        assert_eq!(heard, [(1, OpResult::Committed), (2, OpResult::Committed)]);
    }

    #[tokio::test]
    async fn each_hears_of_its_own() {
        let journal = Remembering { refuses: vec![2], ..Remembering::default() };
        let (_, heard) = committed(journal, &[1, 2, 3]).await;
        assert_eq!(heard[1], (2, OpResult::Refused("no".into())));
        assert_eq!((&heard[0].1, &heard[2].1), (&OpResult::Committed, &OpResult::Committed));
    }

    #[tokio::test]
    async fn one_that_waits_for_its_commit_is_answered() {
        let (submit, submitted) = mpsc::unbounded_channel();
        let (tell, answer) = oneshot::channel();
        submit.send(Submitted { what: What::Op(change(1)), tell: Tell::One(tell) }).unwrap();
        submit.send(Submitted { what: What::Op(change(2)), tell: Tell::Nobody }).unwrap();
        drop(submit);
        run(Arc::new(Remembering::default()), submitted, Stall::default(), |done| assert!(done.is_empty())).await;
        assert_eq!(answer.await, Ok(OpResult::Committed));
    }
}
