//! What every link promises, whatever its protocol: run it for a new one before anything else.

use std::time::{Duration, Instant};
use wirewatch_core::connection::{Connection, RepeatRule};
use wirewatch_core::machine::{Effect, Outcome, Work};
use wirewatch_engine::Links;

/// A connection of the protocol, and what is to be done there.
pub type Case = (Connection, Effect);

/// A protocol as it shows itself to be tried.
pub trait Trial {
    /// At a receiver that takes what comes.
    fn well(&self) -> Case;
    /// Where nobody is.
    fn nobody(&self) -> Case;
    /// At a receiver that refuses this, now and always; `None` where the protocol cannot say so.
    fn refused(&self) -> Option<Case>;
    /// What another protocol does, at a connection of this one.
    fn foreign(&self) -> Case;
    /// How often the receiver has taken what [`well`](Self::well) sends.
    fn taken(&self) -> impl Future<Output = usize>;
}

/// The longest that a link may take to say that nobody is there.
const NOBODY: Duration = Duration::from_secs(15);

/// Panics at the first promise that is not kept.
///
/// # Panics
/// See above: the words say which.
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
