//! A mistake of ours in a task of the engine is told to whoever runs it.

use std::ops::Range;
use std::sync::Arc;
use wirewatch_core::connection::Connection;
use wirewatch_core::intake::Unfolding;
use wirewatch_core::machine::{Outcome, Work};
use wirewatch_core::workspace::{Files, Workspace};
use wirewatch_core::{ArrivalId, Id, MessageId, Timestamp};
use wirewatch_engine::{
    Arriving, Down, Engine, Hold, Journal, Links, Op, OpResult, Recovered, Releases, Settings, Shards, Stored, SystemClock,
    Taken, UnfoldRow,
};

/// A journal with nothing in it but, if so made, one unfolding that breaks whoever reads it.
struct Breaking(bool);

impl Journal for Breaking {
    async fn commit(&self, _: u64, ops: &[Op]) -> Result<Vec<OpResult>, Down> {
        Ok(vec![OpResult::Committed; ops.len()])
    }
    async fn take(&self, _: Vec<Arriving>) -> Result<Vec<Taken>, Down> {
        Ok(Vec::new())
    }
    async fn taken(&self, _: ArrivalId) -> Result<Option<Taken>, Down> {
        Ok(None)
    }
    async fn store_piece(&self, _: ArrivalId, _: u32, _: Vec<u8>) -> Result<(), Down> {
        Ok(())
    }
    async fn bodies(&self, _: &[(Id, Range<u64>)]) -> Result<Vec<Vec<u8>>, Down> {
        Ok(Vec::new())
    }
    async fn load(&self, _: &[MessageId]) -> Result<Vec<Stored>, Down> {
        Ok(Vec::new())
    }
    async fn unfinished(&self, _: Shards, _: MessageId, _: u32) -> Result<Vec<Recovered>, Down> {
        Ok(Vec::new())
    }
    async fn unfoldings(&self) -> Result<Vec<UnfoldRow>, Down> {
        let row = UnfoldRow { arrival: Id(1), release: 1, unfolding: Unfolding::default(), cursor: 0 };
        Ok(if self.0 { vec![row] } else { Vec::new() })
    }
    async fn unfolding(&self, _: &[ArrivalId]) -> Result<Vec<UnfoldRow>, Down> {
        panic!("a mistake");
    }
    async fn holds(&self) -> Result<Vec<Hold>, Down> {
        Ok(Vec::new())
    }
    async fn claim(&self, _: &wirewatch_core::machine::Claim, _: wirewatch_core::Digest, _: Timestamp) -> Result<bool, Down> {
        unreachable!()
    }
    async fn release(&self, _: i64) -> Result<Option<Files>, Down> {
        Ok(None)
    }
    fn mint(&self, _: Timestamp) -> Id {
        Id(2)
    }
}

struct Nowhere;

impl Links for Nowhere {
    async fn perform(&self, _: &Connection, _: &Work) -> Outcome {
        unreachable!("nothing is sent")
    }
}

async fn engine(breaks: bool) -> Engine<Breaking, Nowhere, SystemClock> {
    let files = Files::from([("workspace.toml".to_owned(), "format = 1\ntitle = \"Empty\"\n".to_owned())]);
    let workspace = Arc::new(Workspace::read(&files).workspace.expect("sound"));
    let releases = Releases::new(1, workspace);
    Engine::start(Arc::new(Breaking(breaks)), Arc::new(Nowhere), SystemClock, releases, Settings::default()).await.unwrap()
}

#[tokio::test]
async fn the_end_of_one_task_is_the_end_of_the_engine() {
    engine(true).await.ended().await;
}

#[tokio::test(start_paused = true)]
async fn a_sound_one_does_not_end() {
    let engine = engine(false).await;
    // The clock runs ahead as soon as nothing else is to be done.
    let waited = tokio::time::timeout(std::time::Duration::from_secs(3600), engine.ended()).await;
    assert!(waited.is_err());
    assert!(engine.held().await.is_empty(), "it still answers");
}
