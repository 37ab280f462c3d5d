//! The outside, as the engine sees it.

use std::future::Future;
use wirewatch_core::connection::Connection;
use wirewatch_core::machine::{Outcome, Work};

/// Performs effects. Every failure is an [`Outcome`].
pub trait Links: Send + Sync + 'static {
    /// Performs one effect at `connection` within the connection's time limit, and returns its outcome.
    fn perform(&self, connection: &Connection, work: &Work) -> impl Future<Output = Outcome> + Send;
}
