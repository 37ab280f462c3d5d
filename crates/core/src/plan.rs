//! Plans: an order's milestones, bound to points of flows from outside; and timelines, the fold of what happened.

use crate::{ArrivalId, MessageId, Timestamp};
use serde::{Deserialize, Serialize};

/// The definition of an order's milestones.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Plan {
    pub name: String,
    pub title: String,
    pub milestones: Vec<Milestone>,
}

/// A milestone and the point that reaches it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Milestone {
    pub name: String,
    pub mark: Mark,
    pub flow: String,
    pub point: Point,
}

/// Meaning of a milestone for its timeline.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Mark {
    Begins,
    #[default]
    Passes,
    /// Something is wrong; a later milestone puts it right.
    Trouble,
    Ends,
}

impl Mark {
    /// Every mark.
    pub const ALL: [Self; 4] = [Self::Begins, Self::Passes, Self::Trouble, Self::Ends];

    /// Returns the word as shown and stored.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Begins => "begins",
            Self::Passes => "passes",
            Self::Trouble => "trouble",
            Self::Ends => "ends",
        }
    }
}

/// A point that a message passes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Point {
    /// The message was created.
    Begun,
    /// Functional group was acknowledged, and the acknowledgment was delivered.
    Acknowledged,
    /// The step of this name was done.
    Step(String),
    Failed,
    Done,
    Discarded,
}

/// A milestone that was reached.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fact {
    pub plan: String,
    pub partner: String,
    /// The order's key; empty in a fact about every order of the arrival.
    pub key: String,
    pub milestone: String,
    pub mark: Mark,
    pub message: MessageId,
    pub arrival: ArrivalId,
    pub at: Timestamp,
}

/// Returns the facts of a message's point, for all plans.
pub fn facts<'c>(plans: impl IntoIterator<Item = &'c Plan>, flow: &str, point: &Point) -> Vec<(String, String, Mark)> {
    let all = plans.into_iter().flat_map(|plan| plan.milestones.iter().map(move |milestone| (plan, milestone)));
    all.filter(|(_, milestone)| milestone.flow == flow && milestone.point == *point)
        .map(|(plan, milestone)| (plan.name.clone(), milestone.name.clone(), milestone.mark))
        .collect()
}

/// State of an order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum TimelineState {
    Open,
    Trouble,
    Done,
}

impl TimelineState {
    /// Returns the word as shown and stored.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Open => "open",
            Self::Trouble => "trouble",
            Self::Done => "done",
        }
    }
}

/// A milestone on a timeline, with the first and the newest time it was reached.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Reached {
    pub milestone: String,
    pub mark: Mark,
    pub first: Timestamp,
    pub last: Timestamp,
    pub times: u32,
    pub message: MessageId,
}

/// Folds facts into a timeline: milestones in the order they were first reached, and the state of the order.
///
/// The order of the facts does not matter, and neither do duplicates.
#[must_use]
pub fn fold(facts: &[Fact]) -> (Vec<Reached>, TimelineState) {
    let mut facts: Vec<&Fact> = facts.iter().collect();
    facts.sort_by_key(|fact| (fact.at, fact.message, fact.milestone.clone()));
    facts.dedup_by_key(|fact| (fact.at, fact.message, fact.milestone.clone()));
    let mut reached: Vec<Reached> = Vec::new();
    for fact in &facts {
        match reached.iter_mut().find(|known| known.milestone == fact.milestone) {
            Some(known) => {
                known.last = fact.at;
                known.times += 1;
                known.message = fact.message;
            }
            None => reached.push(Reached {
                milestone: fact.milestone.clone(),
                mark: fact.mark,
                first: fact.at,
                last: fact.at,
                times: 1,
                message: fact.message,
            }),
        }
    }
    let newest = |mark: Mark| facts.iter().rev().find(|fact| fact.mark == mark).map(|fact| fact.at);
    let state = match (newest(Mark::Trouble), newest(Mark::Ends)) {
        (trouble, Some(end)) if trouble.is_none_or(|trouble| trouble <= end) => TimelineState::Done,
        (Some(_), _) => TimelineState::Trouble,
        (None, _) => TimelineState::Open,
    };
    (reached, state)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Id;
    use proptest::prelude::*;

    fn fact(milestone: &str, mark: Mark, at: i64) -> Fact {
        Fact {
            plan: "c".into(),
            partner: "p".into(),
            key: "k".into(),
            milestone: milestone.into(),
            mark,
            message: Id(1),
            arrival: Id(1),
            at: Timestamp(at),
        }
    }

    #[test]
    fn trouble_is_put_right_by_an_end_after_it() {
        let begin = fact("received", Mark::Begins, 1);
        let trouble = fact("refused", Mark::Trouble, 2);
        let end = fact("booked", Mark::Ends, 3);
        assert_eq!(fold(std::slice::from_ref(&begin)).1, TimelineState::Open);
        assert_eq!(fold(&[begin.clone(), trouble.clone()]).1, TimelineState::Trouble);
        assert_eq!(fold(&[begin, trouble, end]).1, TimelineState::Done);
    }

    proptest! {
        #[test]
        fn order_and_repetition_of_facts_change_nothing(
            facts in prop::collection::vec((0usize..4, 0i64..50), 1..12).prop_map(|all| all.into_iter().map(|(n, at)| {
                let (name, mark) = [("a", Mark::Begins), ("b", Mark::Passes), ("c", Mark::Trouble), ("d", Mark::Ends)][n];
                fact(name, mark, at)
            }).collect::<Vec<_>>()),
            seed: u64,
        ) {
            let mut shuffled: Vec<Fact> = facts.iter().chain(&facts).cloned().collect();
            let mut state = seed;
            for n in (1..shuffled.len()).rev() {
                state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
                shuffled.swap(n, (state >> 33) as usize % (n + 1));
            }
            prop_assert_eq!(fold(&shuffled), fold(&facts));
        }
    }
}
