//! Fills the targets of a level by its rules, and records each result.

use super::{Assignment, Filled, MapError, Place, Rules, THE_MAP};
use crate::expr::{EvalError, Scope};
use serde_json::map::Entry;
use serde_json::{Map as Fields, Value};

/// Place of a level in the target, and the records of its rules.
#[derive(Default)]
pub(super) struct Record {
    at: String,
    pub fills: Option<Vec<Filled>>,
    /// The line of this map at which another makes items.
    line: Option<u32>,
}

impl Record {
    /// Notes what each rule gave.
    pub fn noting() -> Self {
        Self { fills: Some(Vec::new()), ..Self::default() }
    }

    fn filled(&mut self, rule: &Assignment, value: Option<&Value>) {
        if let Some(fills) = &mut self.fills {
            let target = format!("{}{}", self.at, rule.target.join("."));
            let line = self.line.unwrap_or(rule.line);
            fills.push(Filled { target, expression: rule.value.text.clone(), line, value: value.cloned() });
        }
    }

    /// Records the values of a copied source.
    pub fn carried(&mut self, at: &str, value: &Value, line: u32) {
        match value {
            Value::Object(inner) => inner.iter().for_each(|(name, value)| self.carried(&format!("{at}.{name}"), value, line)),
            Value::Array(items) if items.iter().any(Value::is_object) => {
                items.iter().enumerate().for_each(|(n, item)| self.carried(&format!("{at}[{}]", n + 1), item, line));
            }
            single => {
                if let Some(fills) = &mut self.fills {
                    let expression = "as it is".to_owned();
                    fills.push(Filled { target: at.to_owned(), expression, line, value: Some(single.clone()) });
                }
            }
        }
    }
}

/// Fills one level: its rules in order, then its lists. In a transaction set (`joins`) lists of one id are concatenated: bill-to
/// loops after ship-to loops.
pub(super) fn level<'a>(
    rules: &'a Rules,
    scope: &Scope<'a>,
    record: &mut Record,
    mut fields: Fields<String, Value>,
    joins: bool,
) -> Result<Fields<String, Value>, MapError> {
    for rule in &rules.set {
        let wrong = |source: EvalError| MapError {
            target: rule.target.join("."),
            expression: rule.value.text.clone(),
            line: rule.line,
            map: THE_MAP.to_owned(),
            source,
        };
        let value = match rule.place {
            Place::List => rule.value.eval(scope).map(crate::expr::Item::list),
            Place::One => rule.value.single(scope),
            Place::Unknown => rule.value.one(scope),
        };
        let value = value.map_err(wrong)?;
        record.filled(rule, value.as_deref());
        if let Some(value) = value {
            put(&mut fields, &rule.target, value.into_owned(), joins).map_err(|says| wrong(EvalError { span: 0..0, says }))?;
        }
    }
    for each in &rules.each {
        let into = || each.into.join(".");
        let wrong = |source: EvalError| MapError {
            target: into(),
            expression: each.of.text.clone(),
            line: each.line,
            map: THE_MAP.to_owned(),
            source,
        };
        let items = each.of.eval(scope).map_err(wrong)?.items();
        if each.one && items.len() > 1 {
            let says = format!("{} items cannot make one object: choose one with first(…), a filter or a position", items.len());
            return Err(wrong(EvalError { span: 0..0, says }));
        }
        let mut list = Vec::new();
        for (n, item) in items.into_iter().enumerate() {
            let inner = scope.at(item, n);
            let place = || if each.one { into() } else { format!("{}[{}]", into(), n + 1) };
            let (outer, line) = (record.at.len(), record.line);
            if record.fills.is_some() {
                record.at += &format!("{}.", place());
            }
            record.line = line.or(each.by.as_ref().map(|_| each.line));
            let room = Fields::with_capacity(each.rules.set.len() + each.rules.each.len());
            let made = level(&each.rules, &inner, record, room, joins);
            record.at.truncate(outer);
            record.line = line;
            list.push(Value::Object(made.map_err(|error| error.below(&place(), each))?));
        }
        let made = if each.one { list.pop() } else { Some(Value::Array(list)) };
        if let Some(made) = made {
            put(&mut fields, &each.into, made, joins).map_err(|says| wrong(EvalError { span: 0..0, says }))?;
        }
    }
    Ok(fields)
}

pub(super) fn take_out(fields: &mut Fields<String, Value>, target: &[String]) {
    match target {
        [] => {}
        [last] => drop(fields.shift_remove(last)),
        [first, rest @ ..] => {
            if let Some(Value::Object(inner)) = fields.get_mut(first) {
                take_out(inner, rest);
            }
        }
    }
}

/// Puts a value at its target. A target that is filled already, or below a value that is not an object, is an error.
fn put(fields: &mut Fields<String, Value>, target: &[String], value: Value, joins: bool) -> Result<(), String> {
    match target {
        [] => Ok(()),
        [last] => match fields.entry(last.clone()) {
            Entry::Vacant(free) => {
                free.insert(value);
                Ok(())
            }
            Entry::Occupied(mut filled) => match (filled.get_mut(), value) {
                (Value::Array(before), Value::Array(more)) if joins => {
                    before.extend(more);
                    Ok(())
                }
                _ => Err(format!("another rule fills `{last}` already")),
            },
        },
        [first, rest @ ..] => match fields.entry(first.clone()).or_insert_with(|| Value::Object(Fields::new())) {
            Value::Object(inner) => put(inner, rest, value, joins),
            other => {
                let what = match other {
                    Value::Null => "null",
                    Value::Array(_) => "a list",
                    _ => "a single value",
                };
                Err(format!("`{first}` is {what}, so it cannot hold `{}`", rest.join(".")))
            }
        },
    }
}
