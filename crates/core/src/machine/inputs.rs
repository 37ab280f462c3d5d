//! Inputs of a machine: outcomes, moments, acts of people. Each becomes a log entry, and the entry has the same effect whether it
//! was made just now or is read from the log.

use super::{
    ActRefused, Body, End, LogEntry, Logged, Logic, Machine, Next, Outcome, Pass, Passed, State, Then, Turn, Work, parts,
};
use crate::act::{Act, Answers};
use crate::flow::{Recording, Retry, Verb};
use crate::plan::Point;
use crate::reason::{Reason, ReasonCode};
use crate::workspace::Workspace;
use crate::{Digest, Timestamp};
use serde_json::Value;
use std::sync::Arc;

impl Machine {
    /// Takes the outcome of the effect that was to be performed.
    ///
    /// `retry` is the policy in force now; `now` becomes the entry's time.
    pub fn outcome(&mut self, outcome: Outcome, retry: &Retry, now: Timestamp) -> Turn {
        let Next::Perform(work) = &self.next else {
            // A late or duplicate outcome: the log has one for this attempt already.
            return Turn::still(self.next.clone());
        };
        let work = work.clone();
        let then = self.decide(&work, &outcome, retry, now);
        let how = match &then {
            Then::Go => Pass::Done,
            Then::RetryAt(_) | Then::WaitFor(_) => Pass::Retried,
            Then::Failed(_) => Pass::Failed,
        };
        let passed = Passed { step: work.step.clone(), how };
        let outcome = match outcome {
            Outcome::Answer { status, .. } if matches!(then, Then::Go) && self.is_let_go() => {
                Outcome::Answer { status, body: Body::default() }
            }
            other => other,
        };
        // A connection that cannot be used does not use up this message's tries.
        let counts = u16::from(!matches!(outcome, Outcome::Held { .. }));
        let what = Logged::Attempt {
            step: work.step.clone(),
            generation: work.generation,
            tries: self.tries + counts,
            request: work.request,
            outcome,
            then,
        };
        let entry = LogEntry { at: now, what };
        let mut turn = self.log(entry);
        turn.passed.insert(0, passed);
        turn
    }

    /// The wait is over: returns the same effect again, or continues after the pause; the end of a pause is logged.
    pub fn woken(&mut self, now: Timestamp) -> Turn {
        match self.next {
            Next::WaitUntil(_) | Next::WaitFor(_) => self.run(),
            Next::Pause(_) => self.log(LogEntry { at: now, what: Logged::Woken { step: self.step().to_owned() } }),
            Next::Perform(_) | Next::Part(_) | Next::End(_) => Turn::still(self.next.clone()),
        }
    }

    /// Logs an entry made for this machine, and applies it.
    pub(super) fn log(&mut self, entry: LogEntry) -> Turn {
        let turn = self.apply(&entry, None).unwrap_or_else(|says| unreachable!("an entry made for this machine fits it: {says}"));
        Turn { entry: Some(entry), ..turn }
    }

    /// A person's act. `offered` is the release that the act names, by number, or the current one where it names none.
    ///
    /// A message that is resent or amended runs the offered release if its completed steps fit it, and otherwise the release that
    /// it ran before; where the act names a release, only that one. The entry of the turn has the number that was chosen.
    ///
    /// # Errors
    /// [`ActRefused`]; nothing has changed then.
    pub fn act(
        &mut self,
        act: Act,
        offered: &(i64, Arc<Workspace>),
        by: &str,
        why: &str,
        now: Timestamp,
    ) -> Result<Turn, ActRefused> {
        let state = self.next.state();
        match &act {
            Act::Discard if state.is_final() => return Err(ActRefused::Ended(state)),
            Act::Resend { .. } | Act::Amend { .. } if !state.is_final() && state != State::Failed => {
                return Err(ActRefused::NotStopped(state));
            }
            Act::Discard | Act::Resend { .. } | Act::Amend { .. } => {}
        }
        let entry = |act: Act| LogEntry { at: now, what: Logged::Act { act, by: by.to_owned(), why: why.to_owned() } };
        let (entry, logic) = match act {
            Act::Discard => (entry(act), None),
            Act::Resend { .. } | Act::Amend { .. } => {
                let named = act.release();
                let release = named.unwrap_or(offered.0);
                let first =
                    self.logic_of(release, offered).and_then(|logic| self.fitting(entry(act.clone().under(release)), logic));
                match first {
                    Err(_) if named.is_none() && release != self.release => {
                        let same = self.fitting(entry(act.under(self.release)), self.logic.clone());
                        same.or(first)?
                    }
                    first => first?,
                }
            }
        };
        let mut turn = self.apply(&entry, logic).map_err(ActRefused::Unreadable)?;
        turn.entry = Some(entry);
        Ok(turn)
    }

    /// Returns the logic of a release for this message.
    fn logic_of(&self, release: i64, offered: &(i64, Arc<Workspace>)) -> Result<Logic, ActRefused> {
        let missing = |what: String| ActRefused::NoLogic { release, what };
        if release == self.release {
            return Ok(self.logic.clone());
        }
        let workspace = Some(&offered.1).filter(|_| offered.0 == release);
        let logic = workspace.and_then(|workspace| Logic::of(workspace, &self.origin.flow));
        let logic = logic.ok_or_else(|| missing(format!("flow `{}`", self.origin.flow)))?;
        match parts::beginning(&logic.flow, &self.origin) {
            Some(_) => Ok(logic),
            None => Err(missing("branch".to_owned())),
        }
    }

    /// Tries an act on a copy: one after which a completed step might be done twice, or that would stop at once for want of a
    /// decision, is refused.
    fn fitting(&self, entry: LogEntry, logic: Logic) -> Result<(LogEntry, Option<Logic>), ActRefused> {
        let mut copy = self.clone();
        let turn = copy.apply(&entry, Some(logic.clone())).map_err(ActRefused::Unreadable)?;
        match turn.next {
            Next::End(End::Failed(reason)) if reason.code == ReasonCode::OtherRequest => {
                Err(ActRefused::OtherRequest { step: reason.step })
            }
            _ => match copy.passed_over() {
                Some(step) if copy.answers == Answers::Ask => Err(ActRefused::NotPassed { step }),
                _ => Ok((entry, Some(logic))),
            },
        }
    }

    /// Returns a completed step that the message has not passed since the act, and cannot pass any more.
    fn passed_over(&self) -> Option<String> {
        let at = match self.next {
            _ if self.failed.is_some() => return None,
            Next::End(End::Failed(_)) => return None,
            Next::End(_) => usize::MAX,
            _ => self.at,
        };
        let names = self.memory.iter().map(|(name, ..)| name);
        names.filter(|name| !self.skipped.contains(name)).find(|name| !self.logic.flow.reaches(at, name)).cloned()
    }

    /// The entry to commit before an effect that must not be repeated blindly.
    #[must_use]
    pub fn intent(work: &Work, now: Timestamp) -> LogEntry {
        LogEntry { at: now, what: Logged::Intent { step: work.step.clone(), request: work.request } }
    }

    /// Folds one entry into the machine.
    ///
    /// `chosen` is the logic of the release that the entry of an act names; `None` for any other entry.
    pub(super) fn apply(&mut self, entry: &LogEntry, chosen: Option<Logic>) -> Result<Turn, String> {
        self.now = entry.at;
        match &entry.what {
            Logged::Intent { .. } => {
                if matches!(self.next, Next::WaitUntil(_) | Next::WaitFor(_)) {
                    self.run();
                }
                self.in_doubt = true;
                Ok(Turn::still(self.next.clone()))
            }
            Logged::Attempt { step, request, outcome, then, tries, .. } => {
                if matches!(self.next, Next::WaitUntil(_) | Next::WaitFor(_)) {
                    self.run();
                }
                let Next::Perform(work) = &self.next else {
                    return Err(format!("step `{step}` has no effect here"));
                };
                if work.step != *step || work.request != *request {
                    return Err(format!(
                        "the logged request of step `{step}` differs from the request that step `{}` makes now",
                        work.step
                    ));
                }
                let work = work.clone();
                self.tries = *tries;
                self.in_doubt = false;
                // Outcomes of the steps on failure say nothing about the request that failed.
                if self.failed.is_none() {
                    self.refused = matches!(outcome, Outcome::Refused { .. });
                }
                Ok(self.follow(&work, outcome, then))
            }
            Logged::Act { act, .. } => self.apply_act(act, chosen),
            Logged::Stopped { reason } => {
                self.next = Next::End(End::Failed(reason.clone()));
                Ok(Turn { points: vec![Point::Failed], ..Turn::still(self.next.clone()) })
            }
            Logged::Woken { step } => match self.next {
                Next::Pause(_) if self.step() == step => Ok(self.passed_by_log(step)),
                _ => Err(format!("step `{step}` does not pause here")),
            },
            Logged::Parted { step, request } => match self.next {
                Next::Part(_) if self.step() == step && self.parting() == *request => {
                    let made = Outcome::Answer { status: 0, body: Body::default() };
                    self.remember(step, *request, made);
                    Ok(self.passed_by_log(step))
                }
                _ => Err(format!("step `{step}` makes no messages of this document here")),
            },
        }
    }

    fn follow(&mut self, work: &Work, outcome: &Outcome, then: &Then) -> Turn {
        match then {
            Then::Go => {
                self.remember(&work.step, work.request, outcome.clone());
                self.keep_answer(outcome);
                self.go_on(&work.step)
            }
            Then::RetryAt(due) => {
                self.next = Next::WaitUntil(*due);
                Turn::still(self.next.clone())
            }
            Then::WaitFor(connection) => {
                self.next = Next::WaitFor(connection.clone());
                Turn::still(self.next.clone())
            }
            Then::Failed(reason) => self.fail(reason.clone()),
        }
    }

    /// Continues after a completed step.
    fn go_on(&mut self, step: &str) -> Turn {
        self.at = self.logic.flow.steps[self.at].next;
        self.tries = 0;
        let mut turn = self.run();
        turn.points.insert(0, Point::Step(step.to_owned()));
        turn
    }

    /// Continues after a step that has no effect but is logged.
    fn passed_by_log(&mut self, step: &str) -> Turn {
        let mut turn = self.go_on(step);
        turn.passed.insert(0, Passed { step: step.to_owned(), how: Pass::Done });
        turn
    }

    /// Remembers a completed step, so that a resend skips it. Notices of the steps on failure are sent again.
    fn remember(&mut self, step: &str, request: Digest, outcome: Outcome) {
        if self.failed.is_none() {
            self.memory.retain(|(known, ..)| known != step);
            self.memory.push((step.to_owned(), request, outcome));
        }
    }

    fn apply_act(&mut self, act: &Act, chosen: Option<Logic>) -> Result<Turn, String> {
        if let (Some(release), Some(logic)) = (act.release(), chosen) {
            (self.release, self.logic) = (release, logic);
        }
        match act {
            Act::Discard => {
                self.next = Next::End(End::Discarded);
                return Ok(Turn { points: vec![Point::Discarded], ..Turn::still(self.next.clone()) });
            }
            Act::Resend { answers, .. } => {
                self.answers = *answers;
                self.generation += u16::from(self.refused || *answers == Answers::Again);
            }
            Act::Amend { form, document, answers, .. } => {
                self.answers = *answers;
                let read = self.logic.workspace.document(form, document.as_bytes());
                self.source = read.map_err(|error| error.to_string())?;
                self.generation += 1;
            }
        }
        if self.answers == Answers::Again {
            self.memory.clear();
        }
        self.current = self.source.clone();
        let beginning = parts::beginning(&self.logic.flow, &self.origin);
        (self.at, self.variables) =
            beginning.ok_or_else(|| format!("release {} has no branch for this message", self.release))?;
        self.skipped.clear();
        self.failed = None;
        self.tries = 0;
        self.refused = false;
        if let Some(trace) = &mut self.trace {
            trace.clear();
        }
        Ok(self.run())
    }

    fn decide(&self, work: &Work, outcome: &Outcome, retry: &Retry, now: Timestamp) -> Then {
        let reason = |code: ReasonCode, says: &str| Reason {
            flow: self.origin.flow.clone(),
            step: work.step.clone(),
            connection: work.effect.connection().to_owned(),
            code,
            says: says.to_owned(),
        };
        match outcome {
            Outcome::Answer { .. } => Then::Go,
            Outcome::Held { .. } => Then::WaitFor(work.effect.connection().to_owned()),
            Outcome::InDoubt { says } => Then::Failed(reason(ReasonCode::InDoubt, says)),
            Outcome::Refused { status, says, .. } => Then::Failed(reason(ReasonCode::Refused(*status), says)),
            Outcome::Again { says, after_ms, .. } => {
                let tries = self.tries + 1;
                if tries > retry.times {
                    return Then::Failed(reason(ReasonCode::GaveUp, says));
                }
                let wait = retry.wait(tries, self.origin.id.0 as u64);
                let asked = std::time::Duration::from_millis(after_ms.unwrap_or(0));
                Then::RetryAt(now.after(wait.max(asked)))
            }
        }
    }

    /// Returns whether the answer of the current step is dropped on success.
    fn is_let_go(&self) -> bool {
        let step = self.logic.flow.steps.get(self.at);
        let keeps = step.is_some_and(|step| matches!(step.verb, Verb::Call { keep: Some(_), .. }));
        self.recording.unwrap_or(self.logic.flow.record) == Recording::Failures && !keeps
    }

    pub(super) fn keep_answer(&mut self, outcome: &Outcome) {
        let keep = match self.logic.flow.steps.get(self.at).map(|step| &step.verb) {
            Some(Verb::Call { keep: Some(name), .. }) => name.clone(),
            _ => return,
        };
        if let Outcome::Answer { body, .. } = outcome {
            let value = serde_json::from_slice(&body.0).unwrap_or_else(|_| Value::String(body.text()));
            self.variables.insert(keep, value);
        }
    }
}
