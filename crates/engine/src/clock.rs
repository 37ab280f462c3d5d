//! The source of the current time.

use std::future::Future;
use std::time::{Duration, SystemTime, UNIX_EPOCH};
use wirewatch_core::Timestamp;

/// The time, and waiting for it.
pub trait Clock: Send + Sync + 'static {
    /// The moment it is.
    fn now(&self) -> Timestamp;
    /// Ends at `at`, or at once when that has passed.
    fn until(&self, at: Timestamp) -> impl Future<Output = ()> + Send;
}

/// The machine's clock.
#[derive(Debug, Clone, Copy, Default)]
pub struct SystemClock;

impl Clock for SystemClock {
    fn now(&self) -> Timestamp {
        let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or(Duration::ZERO);
        Timestamp(i64::try_from(since.as_micros()).unwrap_or(i64::MAX))
    }

    async fn until(&self, at: Timestamp) {
        tokio::time::sleep(at.since(self.now())).await;
    }
}
