//! Loads messages whose turn has come: whatever waits is loaded together, as soon as the last are there.

use crate::Clock;
use crate::enter::enter;
use crate::journal::Journal;
use crate::links::Links;
use crate::shared::Shared;
use crate::unfold::retrying;
use std::sync::Arc;
use tokio::sync::mpsc;
use wirewatch_core::MessageId;

/// Messages loaded together, at most.
const TOGETHER: usize = 256;

/// Loads what `wanted` names until it ends.
pub(crate) async fn run<J: Journal, L: Links, C: Clock + Clone>(
    shared: Arc<Shared<J, L, C>>,
    mut wanted: mpsc::UnboundedReceiver<MessageId>,
) {
    let mut ids = Vec::with_capacity(TOGETHER);
    while wanted.recv_many(&mut ids, TOGETHER).await > 0 {
        let stored = retrying(|| shared.journal.load(&ids)).await;
        ids.clear();
        let mut loaded = Vec::with_capacity(stored.len());
        for one in stored {
            loaded.push(retrying(|| enter(one.clone(), &shared.releases, &*shared.journal)).await);
        }
        shared.loaded(loaded);
    }
}
