//! Supervised tasks that run for as long as the service does.

use futures_util::FutureExt;
use std::panic::AssertUnwindSafe;
use std::time::Duration;

/// Pause before a task is restarted, so that one that ends again and again does not use up the processor.
const PAUSE: Duration = Duration::from_secs(1);

/// Runs a task for ever. If it ends or panics, which only a bug of ours can cause, that is logged and the task is restarted. Its
/// state must therefore be in the journal or be rebuilt from there.
pub async fn restarted<F: Future<Output = ()>>(task: &str, mut start: impl FnMut() -> F) {
    loop {
        let how = match AssertUnwindSafe(start()).catch_unwind().await {
            Ok(()) => "ended",
            Err(_) => "panicked",
        };
        tracing::error!(task, "a task of the service {how} unexpectedly; it is restarted");
        tokio::time::sleep(PAUSE).await;
    }
}

#[cfg(test)]
mod tests {
    use super::restarted;
    use tokio::sync::mpsc;

    #[tokio::test(start_paused = true)]
    async fn a_task_that_panics_or_ends_is_started_again() {
        let (starts, mut started) = mpsc::unbounded_channel();
        let mut count = 0;
        let task = tokio::spawn(async move {
            restarted("test", || {
                count += 1;
                starts.send(count).unwrap();
                async move { assert!(count % 2 == 0, "every other time") }
            })
            .await;
        });
        for n in 1..=4 {
            assert_eq!(started.recv().await, Some(n));
        }
        task.abort();
    }
}
