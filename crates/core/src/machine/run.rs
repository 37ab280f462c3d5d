//! Running steps: pure ones at once, up to the next effect.

use super::{Body, Claim, Effect, End, Machine, Next, Pass, Passed, Post, Trace, Turn, Work};
use crate::act::Answers;
use crate::expr::{EvalError, Expr, Scope, Template};
use crate::flow::{Choice, Method, Once, Parcel, Publish, Rule, Step, Until, Verb, Way};
use crate::guard::guarded;
use crate::map::{Mapped, scope_of};
use crate::partner::Sending;
use crate::plan::Point;
use crate::reason::{Reason, ReasonCode};
use crate::{Digest, Document, Timestamp, request_path};
use serde_json::Value;
use std::sync::Arc;

/// Result of a pure step, or the next effect.
enum Stepped {
    Became(Mapped),
    Value(Value),
    Noted(String),
    Went,
    Skip(String),
    Effect(Effect, Option<Claim>),
    /// The branch taken: its first step, or `None` to continue after the choice.
    Chose(Option<usize>, String),
    Pause(Timestamp),
    Part(Vec<Way>),
    Fail {
        code: ReasonCode,
        says: String,
    },
}

/// Record of a step from before a resend.
enum Memory {
    None,
    /// Completed with this request, or a person has chosen to keep its answer.
    Same(super::Outcome),
    Other,
}

impl Machine {
    /// Runs from the current step up to the next effect or the end. Fills `next`.
    pub(super) fn run(&mut self) -> Turn {
        let mut turn = Turn::still(Next::End(End::Done));
        let flow = self.logic.flow.clone();
        if let Some(failing) = self.without_key() {
            return failing;
        }
        while let Some(step) = flow.steps.get(self.at) {
            let stepped = guarded(|| self.one_step(step)).unwrap_or_else(|says| Stepped::Fail { code: ReasonCode::Broken, says });
            match stepped {
                Stepped::Effect(effect, once) => {
                    let work = self.work(step, effect, once);
                    self.traced(step, None, Some(work.effect.clone()));
                    match self.remembered(&work.step, work.request) {
                        Memory::Same(answer) => {
                            self.keep_answer(&answer);
                            self.skipped.push(work.step.clone());
                            self.at = step.next;
                            continue;
                        }
                        Memory::Other => {
                            let says = "the step is complete, but its request would now be different".to_owned();
                            return self.stop(turn, step, ReasonCode::OtherRequest, says);
                        }
                        Memory::None => {}
                    }
                    return self.stand(turn, Next::Perform(Arc::new(work)));
                }
                Stepped::Part(ways) => {
                    let names: Vec<&str> = ways.iter().map(|way| way.name.as_str()).collect();
                    self.noted(step, names.join(", "));
                    match self.remembered(&step.name, self.parting()) {
                        Memory::Same(_) => {
                            self.skipped.push(step.name.clone());
                            self.at = step.next;
                            continue;
                        }
                        Memory::Other => {
                            let says = "the branches ran before with another document".to_owned();
                            return self.stop(turn, step, ReasonCode::OtherRequest, says);
                        }
                        Memory::None => return self.stand(turn, Next::Part(ways)),
                    }
                }
                Stepped::Pause(due) => {
                    self.noted(step, format!("until {due}"));
                    if due > self.now {
                        return self.stand(turn, Next::Pause(due));
                    }
                }
                Stepped::Skip(because) => {
                    self.traced(step, None, None);
                    turn.passed.push(Passed { step: step.name.clone(), how: Pass::Skipped });
                    return match self.failed.is_some() {
                        // A skip among the steps on failure is not an outcome of its own: the message stays failed.
                        true => self.end(turn),
                        false => self.stand(turn, Next::End(End::Skipped(because))),
                    };
                }
                Stepped::Fail { code, says } => {
                    self.traced(step, None, None);
                    return self.stop(turn, step, code, says);
                }
                Stepped::Became(Mapped { document, warning }) => {
                    self.traced(step, Some(document.clone()), None);
                    if let Some(trace) = self.trace.as_mut().and_then(|trace| trace.last_mut()) {
                        trace.note = warning;
                    }
                    self.current = document;
                }
                Stepped::Value(value) => {
                    self.traced(step, None, None);
                    self.variables.insert(step.name.clone(), value);
                }
                Stepped::Noted(text) => self.noted(step, text),
                Stepped::Chose(first, which) => {
                    self.noted(step, which);
                    turn.passed.push(Passed { step: step.name.clone(), how: Pass::Done });
                    turn.points.push(Point::Step(step.name.clone()));
                    self.at = first.unwrap_or(step.next);
                    continue;
                }
                Stepped::Went => self.traced(step, None, None),
            }
            turn.passed.push(Passed { step: step.name.clone(), how: Pass::Done });
            turn.points.push(Point::Step(step.name.clone()));
            self.at = step.next;
        }
        self.end(turn)
    }

    /// Fails a message whose key or order key cannot be evaluated, before its first step: otherwise nobody could find it, and
    /// others could overtake it.
    fn without_key(&mut self) -> Option<Turn> {
        let flow = self.logic.flow.clone();
        let first = flow.steps.first().filter(|_| self.at == 0 && self.failed.is_none())?;
        if super::parts::part(&self.origin).is_some() {
            return None;
        }
        let scope = scope_of(&self.source, &self.variables, &self.logic.workspace.library);
        let wrong = |by: &Expr| match guarded(|| by.text(&scope)) {
            Ok(Ok(_)) => None,
            Ok(Err(error)) => Some(error.says),
            Err(says) => Some(says),
        };
        let asked = [(ReasonCode::KeyFailed, "key", &flow.key), (ReasonCode::OrderFailed, "in_order_by", &flow.in_order_by)];
        let (code, says) = asked.into_iter().find_map(|(code, name, by)| {
            let says = wrong(by.as_ref()?)?;
            Some((code, format!("{name}: {says}")))
        })?;
        Some(self.stop(Turn::still(Next::End(End::Done)), first, code, says))
    }

    /// Stands before what is next.
    pub(super) fn stand(&mut self, mut turn: Turn, next: Next) -> Turn {
        turn.next = next.clone();
        self.next = next;
        turn
    }

    fn one_step(&self, step: &Step) -> Stepped {
        let scope = self.scope();
        let failed = |code: ReasonCode, error: &EvalError| Stepped::Fail { code, says: error.says.clone() };
        match &step.verb {
            Verb::Map { map } => match self.logic.workspace.maps.get(map) {
                None => Stepped::Fail { code: ReasonCode::MapMissing, says: format!("the map `{map}` is not in the release") },
                Some(map) => match map.document(&scope, &self.sending()) {
                    Ok(mapped) => Stepped::Became(mapped),
                    // A map error names its source: the target alone would not explain it.
                    Err(error) => Stepped::Fail { code: ReasonCode::MapFailed, says: error.to_string() },
                },
            },
            Verb::Check { rules } => match broken(rules, &scope) {
                Ok(says) if says.is_empty() => Stepped::Went,
                Ok(says) => Stepped::Fail { code: ReasonCode::CheckFailed, says: says.join("; ") },
                Err(error) => failed(ReasonCode::CheckFailed, &error),
            },
            Verb::Note { text } => match text.render(&scope, |value| Ok(value.to_owned())) {
                Ok(text) => Stepped::Noted(text),
                // A note that cannot be evaluated is no reason to stop an order.
                Err(error) => Stepped::Noted(format!("({})", error.says)),
            },
            Verb::Only { test, because } => match test.holds(&scope) {
                Ok(true) => Stepped::Went,
                Ok(false) => Stepped::Skip(if because.is_empty() { format!("not {}", test.text) } else { because.clone() }),
                Err(error) => failed(ReasonCode::FilterFailed, &error),
            },
            Verb::Set { value } => match value.value(&scope) {
                Ok(value) => Stepped::Value(value.map_or(Value::Null, std::borrow::Cow::into_owned)),
                Err(error) => failed(ReasonCode::ValueFailed, &error),
            },
            Verb::Call { at, method, path, body, .. } => {
                let path = match request_path::render(path, &scope) {
                    Ok(path) => path,
                    Err(error) => return failed(ReasonCode::PathFailed, &error),
                };
                let body = match body {
                    Some(body) => worked_out(body, &scope),
                    None if method.carries_a_document() => Ok(Some(Body(self.current.to_bytes()))),
                    None => Ok(None),
                };
                let body = match body {
                    Ok(body) => body,
                    Err(error) => return failed(ReasonCode::BodyFailed, &error),
                };
                Stepped::Effect(Effect::Call { connection: at.clone(), method: *method, path, body }, None)
            }
            Verb::Send { to, parcel, body } => {
                let connection = match to {
                    Some(to) => to.clone(),
                    None => self.origin.meta.get("to").and_then(Value::as_str).unwrap_or_default().to_owned(),
                };
                let body = match body.as_ref().map(|body| worked_out(body, &scope)).transpose() {
                    Ok(body) => body.flatten().unwrap_or_else(|| Body(self.current.to_bytes())),
                    Err(error) => return failed(ReasonCode::BodyFailed, &error),
                };
                match parcel {
                    Parcel::File(file) => match file.render(&scope, |value| Ok(file_name(value))) {
                        Ok(file) => Stepped::Effect(Effect::Send { connection, file, body }, None),
                        Err(error) => failed(ReasonCode::FileNameFailed, &error),
                    },
                    Parcel::Publish(publish) => match self.post(publish, &body, &scope) {
                        Ok(post) => Stepped::Effect(Effect::Publish { connection, post: Box::new(post), body }, None),
                        Err(error) => failed(ReasonCode::RoutingFailed, &error),
                    },
                }
            }
            Verb::Choose { ways } => chosen(ways, &scope).unwrap_or_else(|error| failed(ReasonCode::ChoiceFailed, &error)),
            Verb::Also { ways } => Stepped::Part(ways.clone()),
            Verb::Pause { until: Until::Span(span) } => Stepped::Pause(self.now.after(*span)),
            Verb::Pause { until: Until::At(until) } => match moment(until, &scope) {
                Ok(due) => Stepped::Pause(due),
                Err(error) => failed(ReasonCode::PauseFailed, &error),
            },
            Verb::Notify { at, path, says, once } => self
                .notice(at, path, says, once.as_ref(), &scope)
                .unwrap_or_else(|error| failed(ReasonCode::NoticeFailed, &error)),
        }
    }

    /// A sentence for people.
    fn notice(
        &self,
        at: &str,
        path: &Template,
        says: &Template,
        once: Option<&Once>,
        scope: &Scope<'_>,
    ) -> Result<Stepped, EvalError> {
        let text = says.render(scope, |value| Ok(value.to_owned()))?;
        let path = request_path::render(path, scope)?;
        let claim = |once: &Once| {
            // Messages without a cause share none: each is notified.
            let Some(cause) = once.cause.text(scope)? else { return Ok::<_, EvalError>(None) };
            let cause = Digest::of(&[self.origin.flow.as_bytes(), at.as_bytes(), path.as_bytes(), cause.as_bytes()]);
            Ok(Some(Claim { cause, within: once.within }))
        };
        let once = once.map(claim).transpose()?.flatten();
        let body = Body(serde_json::to_vec(&serde_json::json!({ "text": text })).unwrap_or_default());
        let effect = Effect::Call { connection: at.to_owned(), method: Method::Post, path, body: Some(body) };
        Ok(Stepped::Effect(effect, once))
    }

    /// Returns destination and properties of a message at a broker.
    fn post(&self, publish: &Publish, body: &Body, scope: &Scope<'_>) -> Result<Post, EvalError> {
        let text = |expr: &Expr| Ok::<_, EvalError>(expr.text(scope)?.unwrap_or_default());
        let optional = |expr: &Option<Expr>| expr.as_ref().map_or_else(|| Ok(String::new()), text);
        // A queue name is taken literally; in a routing key each value is one word.
        let clean = if publish.exchange.is_empty() { |value: &str| Ok(value.to_owned()) } else { key_word };
        let routing_key = publish.key.render(scope, clean)?;
        let headers = publish.headers.iter().map(|(name, expr)| Ok((name.clone(), text(expr)?)));
        let post = Post {
            exchange: publish.exchange.clone(),
            routing_key,
            content_type: body.content_type(),
            headers: headers.collect::<Result<_, EvalError>>()?,
            correlation_id: optional(&publish.correlation_id)?,
            reply_to: optional(&publish.reply_to)?,
            kind: optional(&publish.kind)?,
            priority: publish.priority,
            expires_ms: publish.expires.map(|span| span.as_millis() as u64),
        };
        post.check().map_err(|says| EvalError { span: 0..0, says })?;
        Ok(post)
    }

    /// Returns how to write to the partner that the message is from.
    fn sending(&self) -> Sending {
        let partner = self.origin.meta.get("partner").and_then(Value::as_str);
        let known = partner.and_then(|partner| self.logic.workspace.partners.get(partner));
        known.map(|partner| partner.sending).unwrap_or_default()
    }

    fn scope(&self) -> Scope<'_> {
        let doc = scope_of(&self.source, &self.variables, &self.logic.workspace.library);
        Scope { it: crate::expr::Item::of(&self.current), ..doc }
    }

    fn work(&self, step: &Step, effect: Effect, once: Option<Claim>) -> Work {
        let generation = self.generation.to_be_bytes();
        let id = self.origin.id.0.to_be_bytes();
        let origin = self.origin.meta.get("origin").and_then(Value::as_str).map_or(&id[..], str::as_bytes);
        let key = Digest::of(&[origin, self.origin.flow.as_bytes(), step.name.as_bytes(), &generation]);
        Work { step: step.name.clone(), generation: self.generation, request: effect.digest(), key, effect, once }
    }

    fn remembered(&self, step: &str, request: Digest) -> Memory {
        match self.memory.iter().find(|(known, ..)| known == step) {
            None => Memory::None,
            Some((_, before, answer)) if *before == request || self.answers == Answers::Keep => Memory::Same(answer.clone()),
            Some(_) => Memory::Other,
        }
    }

    /// Fails the message at `step`.
    fn stop(&mut self, mut turn: Turn, step: &Step, code: ReasonCode, says: String) -> Turn {
        turn.passed.push(Passed { step: step.name.clone(), how: Pass::Failed });
        let reason = Reason {
            flow: self.origin.flow.clone(),
            step: step.name.clone(),
            connection: step.verb.connection().unwrap_or_default().to_owned(),
            code,
            says,
        };
        let failing = self.fail(reason);
        turn.then(failing)
    }

    fn noted(&mut self, step: &Step, text: String) {
        self.traced(step, None, None);
        if let Some(trace) = self.trace.as_mut().and_then(|trace| trace.last_mut()) {
            trace.note = text;
        }
    }

    fn traced(&mut self, step: &Step, after: Option<Document>, effect: Option<Effect>) {
        if let Some(trace) = &mut self.trace {
            trace.retain(|known| known.step != step.name);
            trace.push(Trace { step: step.name.clone(), verb: step.verb.name(), note: String::new(), after, effect });
        }
    }
}

/// Returns the first branch whose condition holds.
fn chosen(ways: &[Choice], scope: &Scope<'_>) -> Result<Stepped, EvalError> {
    for way in ways {
        let Some(when) = &way.when else { return Ok(Stepped::Chose(way.first, "otherwise".to_owned())) };
        if when.holds(scope)? {
            return Ok(Stepped::Chose(way.first, when.text.clone()));
        }
    }
    let says = "no branch's condition holds, and there is no branch without a condition".to_owned();
    Ok(Stepped::Fail { code: ReasonCode::NoWay, says })
}

/// The moment that an expression names.
fn moment(until: &Expr, scope: &Scope<'_>) -> Result<Timestamp, EvalError> {
    let text = until.text(scope)?.unwrap_or_default();
    Timestamp::parse(&text).ok_or_else(|| EvalError {
        span: 0..until.text.len(),
        says: format!("expected a date or time such as 2026-12-01 or 2026-12-01T08:00:00Z, found \"{text}\""),
    })
}

/// Returns the sentences of all broken rules.
fn broken(rules: &[Rule], scope: &Scope<'_>) -> Result<Vec<String>, EvalError> {
    let mut says = Vec::new();
    for rule in rules {
        if !rule.that.holds(scope)? {
            says.push(rule.says.render(scope, |value| Ok(value.to_owned())).unwrap_or_else(|_| rule.says.text().to_owned()));
        }
    }
    Ok(says)
}

/// Evaluates an expression to a body: a text unchanged, anything else as JSON, several values as a list; `None` for a missing
/// value or `null`.
fn worked_out(body: &Expr, scope: &Scope<'_>) -> Result<Option<Body>, EvalError> {
    let value = body.value(scope)?.filter(|value| !value.is_null());
    Ok(value.map(|value| match &*value {
        Value::String(text) => Body::from(text.as_str()),
        other => Body(serde_json::to_vec(other).unwrap_or_default()),
    }))
}

/// Returns a value for a routing key: one word, since a dot in it would make two of it and reach other queues.
fn key_word(value: &str) -> Result<String, String> {
    if value.contains('.') {
        return Err(format!(
            "\"{value}\" has a dot, which would add a word to the routing key; remove it with replace(…, '.', '-')"
        ));
    }
    Ok(value.to_owned())
}

/// A value inside a file name: nothing that could leave the folder or hide the file.
fn file_name(value: &str) -> String {
    let clean: String =
        value.chars().map(|c| if c.is_alphanumeric() || matches!(c, '-' | '_' | '.') { c } else { '-' }).collect();
    clean.trim_start_matches('.').to_owned()
}

#[cfg(test)]
mod tests {
    use crate::document::Form;
    use crate::expr::{Expr, parse};
    use crate::flow::{END, Flow, Retry, Step, Verb};
    use crate::machine::{End, Logic, Machine, Next, Origin};
    use crate::workspace::Workspace;
    use crate::{Document, Id};
    use serde_json::Map;
    use std::sync::Arc;

    fn reason(in_order_by: Option<Expr>, value: &str) -> (String, String) {
        let step = Step {
            name: "one".to_owned(),
            verb: Verb::Set { value: parse(value).unwrap() },
            retry: Retry::default(),
            next: END,
            way: String::new(),
        };
        let flow = Flow { name: "f".to_owned(), steps: vec![step], in_order_by, key: None, ..Flow::acknowledgments() };
        let logic = Logic { workspace: Arc::new(Workspace::default()), flow: Arc::new(flow) };
        let origin = Origin {
            id: Id(1),
            arrival: Id(1),
            body: Id(1),
            slice: 0..0,
            flow: "f".to_owned(),
            release: 1,
            form: Form::Json,
            meta: Map::new(),
        };
        let document = Document::json(br#"{"a":[1,2]}"#).unwrap();
        match Machine::begin(logic, Arc::new(origin), document).0.next() {
            Next::End(End::Failed(reason)) => (reason.code.to_string(), reason.says.clone()),
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn a_step_that_breaks_in_our_code_fails_its_message() {
        let (code, says) = reason(None, "break_for_tests()");
        assert!(code == "broken" && says.contains("asked to break"), "{code}: {says}");
    }

    #[test]
    fn a_message_without_its_place_in_the_order_goes_no_step() {
        let (code, says) = reason(parse("a").ok(), "1");
        assert_eq!(
            (code.as_str(), says.as_str()),
            (
                "order-failed",
                "in_order_by: `a` gives 2 values; one value is needed here: choose one with first(…), last(…), a filter or a position"
            )
        );
    }
}
