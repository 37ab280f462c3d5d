//! Which milestones the points of a message mean, by the plans in force.

use wirewatch_core::Timestamp;
use wirewatch_core::flow::ACKNOWLEDGMENTS;
use wirewatch_core::machine::{Machine, Origin};
use wirewatch_core::plan::{Fact, Point, facts};
use wirewatch_core::workspace::Workspace;

/// The facts of `points` that a message has passed at `now`.
pub fn of(surroundings: &Workspace, machine: &Machine, points: &[Point], now: Timestamp) -> Vec<Fact> {
    let origin = machine.origin();
    if origin.flow == ACKNOWLEDGMENTS {
        return if points.contains(&Point::Done) { acknowledged(surroundings, origin, now) } else { Vec::new() };
    }
    let (key, _) = machine.keys();
    if key.is_empty() {
        return Vec::new();
    }
    let plans = || surroundings.plans.values().map(AsRef::as_ref);
    let met = points.iter().flat_map(|point| facts(plans(), &origin.flow, point));
    met.map(|(plan, milestone, mark)| Fact { plan, milestone, mark, key: key.clone(), ..blank(origin, now) }).collect()
}

/// A delivered acknowledgment is a fact about every order of its arrival: its key stays empty.
fn acknowledged(surroundings: &Workspace, origin: &Origin, now: Timestamp) -> Vec<Fact> {
    let plans = || surroundings.plans.values().map(AsRef::as_ref);
    let flows = surroundings.flows.keys();
    let met = flows.flat_map(|flow| facts(plans(), flow, &Point::Acknowledged));
    met.map(|(plan, milestone, mark)| Fact { plan, milestone, mark, ..blank(origin, now) }).collect()
}

fn blank(origin: &Origin, now: Timestamp) -> Fact {
    let partner = origin.meta.get("partner").and_then(serde_json::Value::as_str).unwrap_or_default();
    Fact {
        plan: String::new(),
        partner: partner.to_owned(),
        key: String::new(),
        milestone: String::new(),
        mark: wirewatch_core::plan::Mark::Passes,
        message: origin.id,
        arrival: origin.arrival,
        at: now,
    }
}

/// Returns the milestone facts of a message that is created.
pub fn begun(surroundings: &Workspace, machine: &Machine, now: Timestamp) -> Vec<Fact> {
    of(surroundings, machine, &[Point::Begun], now)
}
