//! A message that is to fail: first the flow's steps on failure run, with the error at hand.

use super::{End, Machine, Next, OTHER_REQUEST, Turn};
use crate::plan::Point;
use crate::reason::Reason;
use serde_json::json;

/// What a message fails for once the steps on failure have run.
#[derive(Debug, Clone)]
pub(super) struct Failed {
    /// Where it failed, and after how many tries.
    at: usize,
    tries: u16,
    reason: Reason,
}

impl Machine {
    /// Fails the message, behind the flow's steps on failure. A failure among those ends them.
    pub(super) fn fail(&mut self, reason: Reason) -> Turn {
        match (self.logic.flow.on_failure, self.failed.take()) {
            // A person is asked what is to be done, so nothing has failed yet.
            (Some(first), None) if reason.code != OTHER_REQUEST => {
                let Reason { flow: _, step, connection, code, says } = &reason;
                let cause = format!("{:016x}", reason.id());
                let error = json!({ "step": step, "connection": connection, "code": code, "says": says, "cause": cause });
                self.kept.insert("error".to_owned(), error);
                self.failed = Some(Failed { at: self.at, tries: self.tries, reason });
                self.at = first;
                self.tries = 0;
                self.run()
            }
            (_, Some(failed)) => {
                let says = format!("{}; then on failure, {}: {}", failed.reason.says, reason.step, reason.says);
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

    /// Back to where it failed: there it stands until a person has looked.
    fn end_failed(&mut self, mut turn: Turn, failed: Failed) -> Turn {
        self.kept.remove("error");
        self.at = failed.at;
        self.tries = failed.tries;
        turn.points.push(Point::Failed);
        self.stand(turn, Next::End(End::Failed(failed.reason)))
    }
}
