//! Waits for conditions, no longer than it takes.

use std::time::{Duration, Instant};

/// Description of a condition: words, or a function that finds them when the time is over.
pub trait What {
    /// Returns the words.
    fn say(&self) -> String;
}

impl What for &str {
    fn say(&self) -> String {
        (*self).to_owned()
    }
}

impl What for &String {
    fn say(&self) -> String {
        (*self).clone()
    }
}

impl<F: Fn() -> String> What for F {
    fn say(&self) -> String {
        self()
    }
}

/// Asks until there is an answer; panics with `what` after two minutes, which no sound run comes near.
///
/// # Panics
/// When the time is over.
pub async fn eventually<T, F: Future<Output = Option<T>>>(what: impl What, ask: impl FnMut() -> F) -> T {
    eventually_within(Duration::from_secs(120), what, ask).await
}

/// As [`eventually`], with another limit.
///
/// # Panics
/// When the time is over.
pub async fn eventually_within<T, F: Future<Output = Option<T>>>(
    limit: Duration,
    what: impl What,
    mut ask: impl FnMut() -> F,
) -> T {
    let begun = Instant::now();
    loop {
        if let Some(answer) = ask().await {
            return answer;
        }
        assert!(begun.elapsed() < limit, "within {limit:?}: {}", what.say());
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
}
