//! Runs work on large documents without blocking the other tasks of a thread.

use tokio::runtime::{Handle, RuntimeFlavor};

/// Bytes of a document from which what else waits on the thread would feel the work on it.
const LARGE: usize = 256 << 10;

/// Runs `work` on a document of `bytes` bytes. Large work runs where it may block the thread, so that leases, the database and
/// requests are still served in time.
pub fn beside<T>(bytes: usize, work: impl FnOnce() -> T) -> T {
    let may_stand = || Handle::try_current().is_ok_and(|handle| handle.runtime_flavor() == RuntimeFlavor::MultiThread);
    if bytes > LARGE && may_stand() { tokio::task::block_in_place(work) } else { work() }
}

#[cfg(test)]
mod tests {
    use super::{LARGE, beside};
    use std::time::Duration;
    use tokio::sync::oneshot;

    /// The only worker thread is blocked by the work, and another task still makes progress.
    #[tokio::test(flavor = "multi_thread", worker_threads = 1)]
    async fn a_large_document_holds_up_nobody_else() {
        let (sent, heard) = std::sync::mpsc::channel();
        let (go, gone) = oneshot::channel();
        tokio::spawn(async move {
            gone.await.expect("the work has begun");
            sent.send("got on").expect("the work waits for it");
        });
        let working = tokio::spawn(async move {
            beside(LARGE + 1, move || {
                go.send(()).expect("the other waits");
                heard.recv_timeout(Duration::from_secs(30))
            })
        });
        assert_eq!(working.await.expect("no panic"), Ok("got on"));
    }

    #[tokio::test(flavor = "current_thread")]
    async fn a_runtime_of_one_thread_does_it_in_place() {
        assert_eq!(beside(LARGE + 1, || 2), 2);
    }
}
