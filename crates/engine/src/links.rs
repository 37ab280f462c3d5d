//! The outside, as the engine sees it.

use std::future::Future;
use wirewatch_core::connection::Connection;
use wirewatch_core::machine::{Outcome, Work};

/// Performs effects. Never fails: what goes wrong is an [`Outcome`].
pub trait Links: Send + Sync + 'static {
    /// Performs one effect at `connection` and tells what came of it, within the connection's own time limit.
    fn perform(&self, connection: &Connection, work: &Work) -> impl Future<Output = Outcome> + Send;
}
