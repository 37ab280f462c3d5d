//! Follows what other processes on the same database change: releases and secrets.

use crate::run::App;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;
use wirewatch_core::workspace::Workspace;
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::JournalError;

/// Interval between two reads.
const OFTEN: Duration = Duration::from_millis(500);

/// Follows the others for as long as the service runs.
pub async fn follow(app: Arc<App>) {
    loop {
        tokio::time::sleep(OFTEN).await;
        app.end_recordings(SystemClock.now());
        if !app.journal.is_together() {
            continue;
        }
        let _one = app.releasing.lock().await;
        if let Err(error) = app.catch_up().await {
            tracing::debug!(%error, "cannot read what the other processes changed");
        }
    }
}

impl App {
    /// Applies what other processes have changed since the last read.
    pub(crate) async fn catch_up(&self) -> Result<(), JournalError> {
        self.secrets_changed(&self.secrets.read_again().await?);
        self.follow_recordings().await?;
        let (current, _) = self.engine.releases().current();
        if self.store.newest_release().await? <= current {
            return Ok(());
        }
        let Some(newest) = self.store.releases(i64::MAX, 1).await?.pop() else { return Ok(()) };
        let read = newest.files.as_ref().and_then(|files| Workspace::read_in(files, self.environment.as_deref()).workspace);
        match read.map(Arc::new) {
            Some(workspace) => {
                self.engine.release(newest.no, workspace.clone());
                self.follow_intakes(&workspace);
                tracing::info!(release = newest.no, by = newest.by, "deployed at another process");
            }
            None if self.passed_over.swap(newest.no, Ordering::Relaxed) != newest.no => {
                tracing::error!(
                    release = newest.no,
                    "a newer release cannot be read here; is its record damaged, or is it of another version?"
                );
            }
            None => {}
        }
        Ok(())
    }

    /// Wakes tasks that may have waited for these secrets.
    pub(crate) fn secrets_changed(&self, changed: &[String]) {
        if changed.is_empty() {
            return;
        }
        let (_, workspace) = self.engine.releases().current();
        let connections = workspace.connections.values();
        let using = connections.filter(|connection| connection.secrets().any(|secret| changed.iter().any(|one| one == secret)));
        using.for_each(|connection| self.engine.probe_now(&connection.name));
        self.outside.secrets_changed();
    }
}
