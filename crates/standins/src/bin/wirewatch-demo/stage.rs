//! Progress of work that takes longer than a moment.

use anstream::eprintln;
use std::time::Instant;

/// A stage, printed when it begins and when it is done.
pub struct Stage {
    begun: Instant,
}

impl Stage {
    pub fn begin(what: &str) -> Self {
        eprintln!("… {what}");
        Self { begun: Instant::now() }
    }

    pub fn done(self) {
        let took = self.begun.elapsed().as_secs_f64();
        if took > 2.0 {
            eprintln!("  done in {took:.0} s");
        }
    }
}
