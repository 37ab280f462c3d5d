//! Loads messages whose turn has come: all that wait are loaded together as soon as the previous batch is loaded.

use crate::Clock;
use crate::enter::enter;
use crate::journal::Journal;
use crate::links::Links;
use crate::shared::Shared;
use crate::split::retrying;
use std::sync::Arc;
use tokio::sync::mpsc;
use wirewatch_core::MessageId;

/// Messages loaded together, at most.
const TOGETHER: usize = 256;

/// A message that is wanted.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Wanted {
    /// The message was in this process's memory before.
    Again(MessageId),
    /// The message was not in memory before, so the pick-up is counted.
    PickedUp(MessageId),
    /// Loaded without being run.
    Suspect(MessageId),
}

impl Wanted {
    fn id(self) -> MessageId {
        let (Self::Again(id) | Self::PickedUp(id) | Self::Suspect(id)) = self;
        id
    }
}

/// Loads what is `wanted` until it ends.
pub(crate) async fn run<J: Journal, L: Links, C: Clock + Clone>(
    shared: Arc<Shared<J, L, C>>,
    mut wanted: mpsc::UnboundedReceiver<Wanted>,
) {
    let mut batch = Vec::with_capacity(TOGETHER);
    while wanted.recv_many(&mut batch, TOGETHER).await > 0 {
        let of = |kind: fn(&Wanted) -> bool| batch.iter().filter(|one| kind(one)).map(|one| one.id()).collect::<Vec<_>>();
        let picked_up = of(|one| matches!(one, Wanted::PickedUp(_)));
        let suspects = of(|one| matches!(one, Wanted::Suspect(_)));
        let ids = of(|_| true);
        batch.clear();
        if !picked_up.is_empty() {
            retrying(|| shared.journal.pick_up(&picked_up)).await;
        }
        let stored = retrying(|| shared.journal.load(&ids)).await;
        let (suspects, stored): (Vec<_>, Vec<_>) = stored.into_iter().partition(|one| suspects.contains(&one.origin.id));
        shared.suspected(suspects.into_iter().map(|one| (one.origin, one.log.len() as u32)).collect());
        let mut loaded = Vec::with_capacity(stored.len());
        for one in stored {
            loaded.push(retrying(|| enter(one.clone(), &shared.releases, &*shared.journal)).await);
        }
        shared.loaded(loaded);
    }
}
