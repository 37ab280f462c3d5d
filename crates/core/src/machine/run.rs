//! Running steps: pure ones at once, up to the next effect.

use super::{Body, Effect, End, Machine, Next, OTHER_REQUEST, Pass, Passed, Post, Trace, Turn, Work};
use crate::act::Answers;
use crate::broker::SHORT;
use crate::course::Point;
use crate::expr::{EvalError, Expr, Scope};
use crate::flow::{Parcel, Publish, Rule, Step, Verb};
use crate::map::scope_of;
use crate::reason::Reason;
use crate::{Digest, Document};
use serde_json::Value;
use std::sync::Arc;

/// What one pure step did, or the effect that comes next.
enum Stepped {
    Became(Document),
    Kept(Value),
    Noted(String),
    Went,
    Skip(String),
    Effect(Effect),
    Fail { code: &'static str, says: String },
}

/// Whether a step was done before a resend.
enum Memory {
    None,
    /// With this request, or a person said that its answer stands.
    Same(super::Outcome),
    Other,
}

impl Machine {
    /// Runs from the current step up to the next effect or the end. Fills `next`.
    pub(super) fn run(&mut self) -> Turn {
        let mut turn = Turn { entry: None, passed: Vec::new(), points: Vec::new(), next: Next::End(End::Done) };
        let flow = self.logic.flow.clone();
        while let Some(step) = flow.steps.get(self.at) {
            match self.one_step(step) {
                Stepped::Effect(effect) => {
                    let work = self.work(step, effect);
                    self.traced(step, None, Some(work.effect.clone()));
                    match self.remembered(&work) {
                        Memory::Same(answer) => {
                            self.keep_answer(&answer);
                            self.at += 1;
                            continue;
                        }
                        Memory::Other => {
                            let says = "the step was done before with another request".to_owned();
                            return self.stop(turn, step, OTHER_REQUEST, says);
                        }
                        Memory::None => {}
                    }
                    self.next = Next::Perform(Arc::new(work));
                    turn.next = self.next.clone();
                    return turn;
                }
                Stepped::Skip(because) => {
                    self.traced(step, None, None);
                    turn.passed.push(Passed { step: step.name.clone(), how: Pass::Skipped });
                    self.next = Next::End(End::Skipped(because));
                    turn.next = self.next.clone();
                    return turn;
                }
                Stepped::Fail { code, says } => {
                    self.traced(step, None, None);
                    return self.stop(turn, step, code, says);
                }
                Stepped::Became(document) => {
                    self.traced(step, Some(document.clone()), None);
                    self.current = document;
                }
                Stepped::Kept(value) => {
                    self.traced(step, None, None);
                    self.kept.insert(step.name.clone(), value);
                }
                Stepped::Noted(text) => {
                    self.traced(step, None, None);
                    if let Some(trace) = self.trace.as_mut().and_then(|trace| trace.last_mut()) {
                        trace.note = text;
                    }
                }
                Stepped::Went => self.traced(step, None, None),
            }
            turn.passed.push(Passed { step: step.name.clone(), how: Pass::Done });
            turn.points.push(Point::Step(step.name.clone()));
            self.at += 1;
        }
        turn.points.push(Point::Done);
        self.next = Next::End(End::Done);
        turn.next = self.next.clone();
        turn
    }

    fn one_step(&self, step: &Step) -> Stepped {
        let scope = self.scope();
        let failed = |code: &'static str, error: &EvalError| Stepped::Fail { code, says: error.says.clone() };
        match &step.verb {
            Verb::Map { map } => match self.logic.workspace.maps.get(map) {
                None => Stepped::Fail { code: "map-missing", says: format!("the map `{map}` is not in the release") },
                Some(map) => match map.apply(&scope) {
                    Ok(value) => Stepped::Became(Document::Json(Arc::new(value))),
                    // A map error tells its source itself: the target means nothing without it.
                    Err(error) => Stepped::Fail { code: "map-failed", says: error.to_string() },
                },
            },
            Verb::Check { rules } => match broken(rules, &scope) {
                Ok(says) if says.is_empty() => Stepped::Went,
                Ok(says) => Stepped::Fail { code: "check-failed", says: says.join("; ") },
                Err(error) => failed("check-failed", &error),
            },
            Verb::Note { text } => match text.render(&scope, |value| Ok(value.to_owned())) {
                Ok(text) => Stepped::Noted(text),
                // A story without its line is no reason to stop an order.
                Err(error) => Stepped::Noted(format!("({})", error.says)),
            },
            Verb::Only { test, because } => match test.eval(&scope) {
                Ok(value) if value.holds() => Stepped::Went,
                Ok(_) => Stepped::Skip(if because.is_empty() { format!("not {}", test.text) } else { because.clone() }),
                Err(error) => failed("filter-failed", &error),
            },
            Verb::Set { value } => match value.eval(&scope) {
                Ok(value) => Stepped::Kept(value.one().map_or(Value::Null, std::borrow::Cow::into_owned)),
                Err(error) => failed("value-failed", &error),
            },
            Verb::Call { at, method, path, body, .. } => {
                let path = match path.render(&scope, |value| Ok(path_segment(value))) {
                    Ok(path) => path,
                    Err(error) => return failed("path-failed", &error),
                };
                let body = match body.as_ref().map(|body| worked_out(body, &scope)).transpose() {
                    Ok(body) => body.flatten(),
                    Err(error) => return failed("body-failed", &error),
                };
                Stepped::Effect(Effect::Call { connection: at.clone(), method: *method, path, body })
            }
            Verb::Send { to, parcel, body } => {
                let connection = match to {
                    Some(to) => to.clone(),
                    None => self.origin.meta.get("to").and_then(Value::as_str).unwrap_or_default().to_owned(),
                };
                let body = match body.as_ref().map(|body| worked_out(body, &scope)).transpose() {
                    Ok(body) => body.flatten().unwrap_or_else(|| Body(self.current.to_bytes())),
                    Err(error) => return failed("body-failed", &error),
                };
                match parcel {
                    Parcel::File(file) => match file.render(&scope, |value| Ok(file_name(value))) {
                        Ok(file) => Stepped::Effect(Effect::Send { connection, file, body }),
                        Err(error) => failed("file-name-failed", &error),
                    },
                    Parcel::Publish(publish) => match self.post(publish, &scope) {
                        Ok(post) => Stepped::Effect(Effect::Publish { connection, post: Box::new(post), body }),
                        Err(error) => failed("routing-failed", &error),
                    },
                }
            }
        }
    }

    /// Where a message goes at the broker, and what goes with it.
    fn post(&self, publish: &Publish, scope: &Scope<'_>) -> Result<Post, EvalError> {
        let text = |expr: &Expr| Ok::<_, EvalError>(expr.eval(scope)?.to_text().unwrap_or_default().into_owned());
        let optional = |expr: &Option<Expr>| expr.as_ref().map_or_else(|| Ok(String::new()), text);
        // To a queue the name is taken as it is; in a key for an exchange each value is one word.
        let clean = if publish.exchange.is_empty() { |value: &str| Ok(value.to_owned()) } else { key_word };
        let routing_key = publish.key.render(scope, clean)?;
        if routing_key.len() > SHORT {
            let says = format!("the routing key has {} bytes, a broker takes {SHORT}", routing_key.len());
            return Err(EvalError { span: 0..0, says });
        }
        let headers = publish.headers.iter().map(|(name, expr)| Ok((name.clone(), text(expr)?)));
        Ok(Post {
            exchange: publish.exchange.clone(),
            routing_key,
            content_type: self.current.content_type(),
            headers: headers.collect::<Result<_, EvalError>>()?,
            correlation_id: optional(&publish.correlation_id)?,
            reply_to: optional(&publish.reply_to)?,
            kind: optional(&publish.kind)?,
            priority: publish.priority,
            expires_ms: publish.expires.map(|span| span.as_millis() as u64),
        })
    }

    fn scope(&self) -> Scope<'_> {
        let doc = scope_of(&self.source, &self.kept, &self.logic.workspace.tables);
        Scope { it: crate::expr::Item::of(&self.current), ..doc }
    }

    fn work(&self, step: &Step, effect: Effect) -> Work {
        let generation = self.generation.to_be_bytes();
        let id = self.origin.id.0.to_be_bytes();
        let origin = self.origin.meta.get("origin").and_then(Value::as_str).map_or(&id[..], str::as_bytes);
        let key = Digest::of(&[origin, self.origin.flow.as_bytes(), step.name.as_bytes(), &generation]);
        Work { step: step.name.clone(), generation: self.generation, request: effect.digest(), key, effect }
    }

    fn remembered(&self, work: &Work) -> Memory {
        match self.memory.iter().find(|(step, ..)| *step == work.step) {
            None => Memory::None,
            Some((_, request, answer)) if *request == work.request || self.answers == Answers::Keep => {
                Memory::Same(answer.clone())
            }
            Some(_) => Memory::Other,
        }
    }

    /// Sets the message aside at `step`.
    fn stop(&mut self, mut turn: Turn, step: &Step, code: &str, says: String) -> Turn {
        turn.passed.push(Passed { step: step.name.clone(), how: Pass::Aside });
        turn.points.push(Point::Aside);
        let reason = Reason {
            flow: self.origin.flow.clone(),
            step: step.name.clone(),
            connection: step.verb.connection().unwrap_or_default().to_owned(),
            code: code.to_owned(),
            says,
        };
        self.next = Next::End(End::Aside(reason));
        turn.next = self.next.clone();
        turn
    }

    fn traced(&mut self, step: &Step, after: Option<Document>, effect: Option<Effect>) {
        if let Some(trace) = &mut self.trace {
            trace.retain(|known| known.step != step.name);
            trace.push(Trace { step: step.name.clone(), verb: step.verb.name(), note: String::new(), after, effect });
        }
    }
}

/// What the rules that do not hold say, every one of them.
fn broken(rules: &[Rule], scope: &Scope<'_>) -> Result<Vec<String>, EvalError> {
    let mut says = Vec::new();
    for rule in rules {
        if !rule.that.eval(scope)?.holds() {
            says.push(rule.says.render(scope, |value| Ok(value.to_owned())).unwrap_or_else(|_| rule.says.text().to_owned()));
        }
    }
    Ok(says)
}

/// What an expression gives, as JSON that goes out; `None` where it gives nothing.
fn worked_out(body: &Expr, scope: &Scope<'_>) -> Result<Option<Body>, EvalError> {
    let value = body.eval(scope)?.one();
    Ok(value.map(|value| Body(serde_json::to_vec(&*value).unwrap_or_default())))
}

/// A value inside a path: everything but unreserved characters is percent-encoded (RFC 3986, 2.3).
fn path_segment(value: &str) -> String {
    let mut encoded = String::with_capacity(value.len());
    for byte in value.bytes() {
        match byte {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => encoded.push(char::from(byte)),
            _ => encoded.push_str(&format!("%{byte:02X}")),
        }
    }
    encoded
}

/// A value inside a routing key: one word, since a dot in it would make two of it and reach other queues.
fn key_word(value: &str) -> Result<String, String> {
    if value.contains('.') {
        return Err(format!(
            "\"{value}\" has a dot, which would add a word to the routing key; replace(…, '.', '-') takes it out"
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
