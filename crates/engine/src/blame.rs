//! Whose an outcome at a connection is: the message's own, or everybody's. One message must never hold a connection for all.
//!
//! | outcome | counts as |
//! |---|---|
//! | the other side cannot be reached, does not know us (401), or says that it is unavailable (503) | the connection's: it is held |
//! | the same from one message three times, while others passed in between | the message's: it is tried again, as its step says |
//! | 403 | the message's: it fails; from the third message in a row, the connection's |
//! | no answer in time, or a connection lost on the way | the message's: it is tried again, or is in doubt; from the third in a row, the connection's |
//! | any other | the message's |

use std::collections::{HashMap, HashSet};
use wirewatch_core::MessageId;
use wirewatch_core::machine::{Body, Outcome};

/// Doubtful outcomes in a row that are the connection's.
const IN_A_ROW: usize = 3;
/// Holds that one message began and another message ended before its outcomes count against the message itself.
const ALONE: u32 = 3;
/// Messages whose holds are counted; above this number, counting starts again.
const COUNTED: usize = 1000;

/// Outcomes at one connection so far.
#[derive(Debug, Default)]
pub struct Blame {
    /// The doubtful outcomes since the last that was not, or of another sort.
    row: Option<Row>,
    /// The message whose outcome began the current hold.
    began: Option<MessageId>,
    /// For each message, how often it began a hold that another message ended.
    alone: HashMap<MessageId, u32>,
}

#[derive(Debug)]
struct Row {
    sort: Sort,
    times: usize,
    messages: HashSet<MessageId>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Sort {
    Forbidden,
    Unanswered,
}

/// An outcome as it counts.
#[derive(Debug)]
pub struct Judged {
    /// The outcome for the message.
    pub outcome: Outcome,
    /// The reason to hold the connection; `None` when it stays in use.
    pub held: Option<String>,
}

impl Blame {
    /// Decides whether an outcome counts against the message or the connection. `is_held` is whether the connection is on hold
    /// already.
    pub fn judge(&mut self, id: MessageId, outcome: Outcome, is_held: bool) -> Judged {
        let sort = match &outcome {
            Outcome::Held { .. } => return self.everybodys(id, outcome, is_held),
            Outcome::Refused { status: 403, .. } => Sort::Forbidden,
            Outcome::Again { status: 0, .. } | Outcome::InDoubt { .. } => Sort::Unanswered,
            Outcome::Answer { .. } | Outcome::Again { .. } | Outcome::Refused { .. } => {
                self.passed(id, is_held);
                return Judged { outcome, held: None };
            }
        };
        let row = match &mut self.row {
            Some(row) if row.sort == sort => row,
            other => other.insert(Row { sort, times: 0, messages: HashSet::new() }),
        };
        row.times += 1;
        if row.messages.len() < IN_A_ROW {
            row.messages.insert(id);
        }
        let enough = match sort {
            Sort::Forbidden => row.messages.len() >= IN_A_ROW,
            Sort::Unanswered => row.times >= IN_A_ROW,
        };
        match (enough, outcome) {
            (false, outcome) => Judged { outcome, held: None },
            // It is not known whether the request took effect: the message is in doubt, whatever happens to the connection.
            (true, outcome @ Outcome::InDoubt { .. }) => Judged { held: Some(outcome.says().to_owned()), outcome },
            (true, outcome) => {
                let outcome = Outcome::Held { says: outcome.says().to_owned(), status: outcome.status() };
                self.everybodys(id, outcome, is_held)
            }
        }
    }

    fn everybodys(&mut self, id: MessageId, outcome: Outcome, is_held: bool) -> Judged {
        if self.alone.get(&id).is_some_and(|times| *times >= ALONE) {
            let (says, status) = (outcome.says().to_owned(), outcome.status());
            return Judged { outcome: Outcome::Again { says, status, body: Body::default(), after_ms: None }, held: None };
        }
        if !is_held {
            self.began = Some(id);
        }
        Judged { held: Some(outcome.says().to_owned()), outcome }
    }

    /// The connection is in order for this message.
    fn passed(&mut self, id: MessageId, is_held: bool) {
        self.row = None;
        self.alone.remove(&id);
        let began = self.began.take_if(|_| is_held).filter(|began| *began != id);
        if let Some(began) = began {
            if self.alone.len() >= COUNTED {
                self.alone.clear();
            }
            *self.alone.entry(began).or_default() += 1;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use wirewatch_core::Id;

    fn held() -> Outcome {
        Outcome::Held { says: "answered 503".into(), status: 503 }
    }

    fn forbidden() -> Outcome {
        Outcome::Refused { says: "answered 403".into(), status: 403, body: Body::default() }
    }

    fn unanswered() -> Outcome {
        Outcome::Again { says: "no answer".into(), status: 0, body: Body::default(), after_ms: None }
    }

    fn done() -> Outcome {
        Outcome::Answer { status: 201, body: Body::default() }
    }

    fn holds(blame: &mut Blame, id: i64, outcome: Outcome) -> bool {
        blame.judge(Id(id), outcome, false).held.is_some()
    }

    #[test]
    fn a_403_is_the_messages_own_until_the_third_message_in_a_row() {
        let mut blame = Blame::default();
        assert!((0..9).all(|_| !holds(&mut blame, 1, forbidden())), "one message, however often");
        assert!(!holds(&mut blame, 2, forbidden()));
        assert!(!holds(&mut blame, 3, done()), "one that passes ends the row");
        assert_eq!([1, 2, 3].map(|id| holds(&mut blame, id, forbidden())), [false, false, true]);
        let judged = blame.judge(Id(4), forbidden(), true);
        assert!(matches!(judged.outcome, Outcome::Held { status: 403, .. }), "while it lasts, messages wait: {judged:?}");
    }

    #[test]
    fn time_outs_hold_from_the_third_in_a_row() {
        let mut blame = Blame::default();
        assert_eq!([1, 1, 2].map(|id| holds(&mut blame, id, unanswered())), [false, false, true]);
        let mut blame = Blame::default();
        assert_eq!(
            [unanswered(), forbidden(), unanswered(), done(), unanswered()].map(|one| holds(&mut blame, 1, one)),
            [false; 5]
        );
        let doubt = || Outcome::InDoubt { says: "no answer".into() };
        let mut blame = Blame::default();
        let judged = [1, 2, 3].map(|id| blame.judge(Id(id), doubt(), false));
        assert!(judged.iter().all(|one| matches!(one.outcome, Outcome::InDoubt { .. })), "in doubt stays in doubt");
        assert_eq!(judged.map(|one| one.held.is_some()), [false, false, true]);
    }

    #[test]
    fn what_is_out_of_use_for_one_message_alone_is_its_own() {
        let mut blame = Blame::default();
        for _ in 0..ALONE {
            assert!(holds(&mut blame, 1, held()));
            assert!(blame.judge(Id(2), done(), true).held.is_none(), "another passes and ends the hold");
        }
        let judged = blame.judge(Id(1), held(), false);
        assert!(matches!(judged.outcome, Outcome::Again { status: 503, .. }) && judged.held.is_none(), "{judged:?}");
        assert!(holds(&mut blame, 2, held()), "for others it counts as before");
        assert!(!holds(&mut blame, 1, done()));
        assert!(holds(&mut blame, 1, held()), "it passed in between: it is like the others again");
    }

    #[test]
    fn an_outage_is_not_blamed_on_the_message_that_met_it_first() {
        let mut blame = Blame::default();
        for _ in 0..100 {
            assert!(holds(&mut blame, 1, held()));
            assert!(blame.judge(Id(1), done(), true).held.is_none(), "the same one ends it");
        }
    }
}
