//! Recording depth of flows, changed by a person for a time; stored in the database, so that every process follows it.

use crate::run::App;
use std::sync::Mutex;
use wirewatch_core::Timestamp;
use wirewatch_core::flow::Recording;
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::{JournalError, RecordingRow};

/// The present changes, as given to the engine.
#[derive(Debug, Default)]
pub struct Recordings {
    known: Mutex<Vec<RecordingRow>>,
}

impl Recordings {
    /// A flow's, where it is switched.
    #[must_use]
    pub fn of(&self, flow: &str, now: Timestamp) -> Option<RecordingRow> {
        let known = self.known.lock().expect("no holder panics");
        known.iter().find(|row| row.flow == flow && row.until > now.0).cloned()
    }
}

impl App {
    /// Switches a flow's depth of recording, here at once and at the other processes shortly after.
    ///
    /// # Errors
    /// [`JournalError`] when it cannot be stored; nothing is switched then.
    pub async fn record(&self, row: &RecordingRow) -> Result<(), JournalError> {
        self.store.record(row).await?;
        self.follow_recordings().await
    }

    /// Takes up what was switched, here or at another process.
    pub(crate) async fn follow_recordings(&self) -> Result<(), JournalError> {
        let rows = self.store.recordings(SystemClock.now()).await?;
        self.change_recordings(|known| *known = rows);
        Ok(())
    }

    /// Switches back what has had its time.
    pub(crate) fn end_recordings(&self, now: Timestamp) {
        self.change_recordings(|known| known.retain(|row| row.until > now.0));
    }

    /// Changes the list and gives it to the engine if that made a difference; one caller at a time, so that none undoes another's
    /// change.
    fn change_recordings(&self, change: impl FnOnce(&mut Vec<RecordingRow>)) {
        let mut known = self.recordings.known.lock().expect("no holder panics");
        let before = known.clone();
        change(&mut known);
        if *known == before {
            return;
        }
        let switched = known.iter().filter_map(|row| Some((row.flow.clone(), Recording::of(&row.depth)?)));
        self.engine.record(switched.collect());
    }
}
