//! Feeds the meter with what is committed.

use std::sync::{Arc, Mutex};
use tokio::sync::broadcast::{Receiver, error::RecvError};
use wirewatch_core::Timestamp;
use wirewatch_core::meter::{Figures, FlowStep, Meter, Point};
use wirewatch_journal::{Event, FeedRow};

/// The last minute of every step; cloning shares it.
#[derive(Debug, Clone, Default)]
pub struct Meters(Arc<Mutex<Meter>>);

impl Meters {
    /// Counts the events of `live` until it ends.
    pub async fn follow(self, mut live: Receiver<Arc<FeedRow>>) {
        loop {
            match live.recv().await {
                Ok(row) => row.events.iter().for_each(|event| self.count(event)),
                // Figures of a minute for the eye: the tally has the exact ones.
                Err(RecvError::Lagged(_)) => {}
                Err(RecvError::Closed) => return,
            }
        }
    }

    fn count(&self, event: &Event) {
        if event.kind != "message" {
            return;
        }
        let mut meter = self.0.lock().expect("no holder panics");
        let mut count = |point, took| meter.count(FlowStep { flow: event.flow.clone(), point }, took, event.at);
        if event.began() {
            count(Point::Begun, None);
        }
        for step in &event.passed {
            count(Point::Step(step.clone()), (*step == event.tried).then_some(event.took));
        }
        if event.state == "done" {
            count(Point::Done, None);
        }
    }

    /// Returns the figures of every step for the minute before `now`.
    pub fn read(&self, now: Timestamp) -> std::collections::BTreeMap<FlowStep, Figures> {
        self.0.lock().expect("no holder panics").read(now)
    }
}
