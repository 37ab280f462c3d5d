//! The other processes that share the journal: takes over what they leave behind, and gives them the shards that are theirs.

use crate::Clock;
use crate::engine::ActError;
use crate::journal::{Down, Hold, Journal, NotActed, Others, RemoteAct};
use crate::links::Links;
use crate::shard::Shards;
use crate::shared::{Shared, unfinished};
use crate::split::retrying;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{mpsc, watch};

/// Interval between looks at the other processes: when there are none, and when there are some.
const ALONE: Duration = Duration::from_secs(1);
const TOGETHER: Duration = Duration::from_millis(250);

/// Result of the last look.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Looked {
    pub times: u64,
    /// There are other processes.
    pub any: bool,
}

/// Looks at the other processes for as long as the engine runs. `mine` are the shards owned from the start; `left` receives those
/// that were given away.
pub(crate) async fn run<J: Journal, L: Links, C: Clock + Clone>(
    shared: Arc<Shared<J, L, C>>,
    mut mine: Shards,
    mut left: mpsc::UnboundedReceiver<Shards>,
    looked: watch::Sender<Looked>,
) {
    let mut leaving = Shards::NONE;
    // Holds set by people and holds of steps, as last recorded.
    let mut held: BTreeMap<String, Hold> = by_name(retrying(|| shared.journal.holds()).await);
    loop {
        while let Ok(given) = left.try_recv() {
            leaving = leaving.without(given);
        }
        let any = match shared.journal.others().await {
            Ok(others) => {
                let any = others.any;
                held = look(&shared, others, &mut mine, &mut leaving, held).await;
                looked.send_modify(|last| *last = Looked { times: last.times + 1, any });
                any
            }
            Err(down) => {
                tracing::debug!(%down, "the other processes cannot be checked");
                false
            }
        };
        tokio::time::sleep(if any { TOGETHER } else { ALONE }).await;
    }
}

async fn look<J: Journal, L: Links, C: Clock + Clone>(
    shared: &Arc<Shared<J, L, C>>,
    others: Others,
    mine: &mut Shards,
    leaving: &mut Shards,
    held: BTreeMap<String, Hold>,
) -> BTreeMap<String, Hold> {
    let gained = others.shards.without(*mine).without(*leaving);
    if !gained.is_empty() {
        tracing::info!(shards = gained.len(), "shards taken up");
        // First what exists already, then what is created: so the order within a lane holds. After `gained`, everything created
        // here for these shards goes to the dispatcher, which lets it wait until the older messages are loaded.
        shared.expect(gained);
        retrying(|| shared.journal.gained(gained)).await;
        let found = retrying(|| unfinished(&*shared.journal, gained)).await;
        shared.gain(gained, found);
        *mine = mine.with(gained);
    }
    others.splittings.into_iter().for_each(|arrival| shared.split(arrival));
    others.spools.into_iter().for_each(|id| shared.spool.left(id));
    if !others.handed.is_empty() {
        shared.handed(others.handed);
    }
    for remote_act in others.remote_acts {
        tokio::spawn(run_remote_act(shared.clone(), remote_act));
    }
    let now = others.holds.map_or_else(|| held.clone(), by_name);
    for (name, hold) in &now {
        if held.get(name) != Some(hold) {
            shared.held_elsewhere(hold.clone());
        }
    }
    for name in held.keys().filter(|name| !now.contains_key(*name)) {
        shared.resumed_elsewhere(name.clone());
    }
    if let Some((shards, to)) = others.due
        && leaving.is_empty()
    {
        tracing::info!(shards = shards.len(), to, "shards are released");
        *mine = mine.without(shards);
        *leaving = shards;
        shared.leave(shards, to);
    }
    now
}

async fn run_remote_act<J: Journal, L: Links, C: Clock + Clone>(shared: Arc<Shared<J, L, C>>, remote_act: RemoteAct) {
    let acted = shared.act(remote_act.message, remote_act.act, &remote_act.by, &remote_act.why, false).await;
    let answer = match acted {
        Ok(()) => Ok(()),
        Err(ActError::Not(not)) => Err(not),
        Err(ActError::Down(Down(_))) => Err(NotActed::Busy),
    };
    retrying(|| shared.journal.answer(remote_act.id, answer.clone())).await;
}

fn by_name(holds: Vec<Hold>) -> BTreeMap<String, Hold> {
    holds.into_iter().filter(Hold::is_everybodys).map(|hold| (hold.connection.clone(), hold)).collect()
}
