//! Promises of every link, whatever its protocol: run them for a new one first.

use std::time::{Duration, Instant};
use wirewatch_core::connection::{Connection, RepeatRule};
use wirewatch_core::machine::{Effect, Outcome, Work};
use wirewatch_engine::Links;

/// A connection of the protocol, and what is to be done there.
pub type Case = (Connection, Effect);

/// A protocol as it shows itself to be tried.
pub trait Trial {
    /// A receiver that accepts.
    fn well(&self) -> Case;
    /// An address without a receiver.
    fn nobody(&self) -> Case;
    /// A receiver that refuses this for good; `None` if the protocol cannot express that.
    fn refused(&self) -> Option<Case>;
    /// An effect of another protocol, at a connection of this one.
    fn foreign(&self) -> Case;
    /// Returns how often the receiver has received what [`well`](Self::well) sends.
    fn taken(&self) -> impl Future<Output = usize>;
}

/// Longest time for a link to report that there is no receiver.
const NOBODY: Duration = Duration::from_secs(15);

/// Panics at the first broken promise.
///
/// # Panics
/// As above; the message names the promise.
pub async fn conforms(links: &impl Links, trial: &impl Trial) {
    let perform = async |(connection, effect): Case, repeat: RepeatRule| {
        let request = effect.digest();
        let (step, generation, key) = ("tried".to_owned(), 0, request);
        let work = Work { step, generation, effect, request, key, once: None };
        links.perform(&Connection { repeat, ..connection }, &work).await
    };

    let outcome = perform(trial.well(), RepeatRule::Key).await;
    assert!(matches!(outcome, Outcome::Answer { .. }), "what is taken is done: {outcome:?}");
    assert_eq!(trial.taken().await, 1, "it arrives once");

    for rule in [RepeatRule::Key, RepeatRule::Safe, RepeatRule::Never] {
        let begun = Instant::now();
        let outcome = perform(trial.nobody(), rule).await;
        let Outcome::Held { says, .. } = &outcome else { panic!("where nobody is, the connection is held: {outcome:?}") };
        assert!(!says.is_empty() && begun.elapsed() < NOBODY, "in words, and soon: {says:?} after {:?}", begun.elapsed());
    }

    if let Some(case) = trial.refused() {
        let outcome = perform(case, RepeatRule::Never).await;
        let Outcome::Refused { says, .. } = &outcome else { panic!("a definite no is a refusal: {outcome:?}") };
        assert!(!says.is_empty(), "in words");
    }

    let outcome = perform(trial.foreign(), RepeatRule::Safe).await;
    let Outcome::Held { says, .. } = &outcome else { panic!("what it cannot do holds it: {outcome:?}") };
    assert!(says.contains("cannot do this"), "{says}");
    assert_eq!(trial.taken().await, 1, "nothing of that arrived");
}
