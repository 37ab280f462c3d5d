//! Failing a message: first the flow's steps on failure run, with the error in `$error`.

use super::{End, Machine, Next, Turn};
use crate::plan::Point;
use crate::reason::{Reason, ReasonCode};
use serde_json::json;

/// The failure of a message whose steps on failure run.
#[derive(Debug, Clone)]
pub(super) struct Failed {
    /// Index of the step where it failed, and the number of tries.
    at: usize,
    tries: u16,
    reason: Reason,
}

impl Failed {
    pub(super) fn reason(&self) -> &Reason {
        &self.reason
    }
}

impl Machine {
    /// Fails the message after the flow's steps on failure. A failure among those ends them.
    pub(super) fn fail(&mut self, reason: Reason) -> Turn {
        match (self.logic.flow.on_failure, self.failed.take()) {
            // A person is asked what to do, so the message has not failed yet.
            (Some(first), None) if reason.code != ReasonCode::OtherRequest => {
                let Reason { flow: _, step, connection, code, says } = &reason;
                let cause = format!("{:016x}", reason.id());
                let error = json!({ "step": step, "connection": connection, "code": code, "says": says, "cause": cause });
                self.variables.insert("error".to_owned(), error);
                self.failed = Some(Failed { at: self.at, tries: self.tries, reason });
                self.at = first;
                self.tries = 0;
                self.run()
            }
            (_, Some(failed)) => {
                let says = format!("{}; then in `on_failure`, {}: {}", failed.reason.says, reason.step, reason.says);
                let reason = Reason { says, ..failed.reason.clone() };
                self.end_failed(Turn::still(self.next.clone()), Failed { reason, ..failed })
            }
            (_, None) => {
                let failed = Failed { at: self.at, tries: self.tries, reason };
                self.end_failed(Turn::still(self.next.clone()), failed)
            }
        }
    }

    /// The last step is passed.
    pub(super) fn end(&mut self, mut turn: Turn) -> Turn {
        match self.failed.take() {
            Some(failed) => self.end_failed(turn, failed),
            None => {
                turn.points.push(Point::Done);
                self.stand(turn, Next::End(End::Done))
            }
        }
    }

    /// Returns to the step where it failed: the message stays there until a person acts.
    fn end_failed(&mut self, mut turn: Turn, failed: Failed) -> Turn {
        self.variables.remove("error");
        self.at = failed.at;
        self.tries = failed.tries;
        turn.points.push(Point::Failed);
        self.stand(turn, Next::End(End::Failed(failed.reason)))
    }
}
