//! Maps: target = expression, in target order; lists by `each`.

mod as_is;
pub mod edit;
mod source;
mod to_set;

pub use as_is::{AsIs, Pattern};
pub use source::SourceField;

use crate::Document;
use crate::expr::{EvalError, Expr, Item, Scope, Work};
use crate::outline::{Outline, Written};
use crate::x12::SetDefinition;
use serde_json::{Map as Fields, Value};
use std::sync::Arc;

/// A map as it runs.
#[derive(Debug, Clone)]
pub struct Map {
    pub name: String,
    /// Outline of the source: `x12/004010/850` or the name of a JSON outline.
    pub from: String,
    /// Outline of the target.
    pub to: String,
    /// The target, where it is a transaction set.
    pub set: Option<Arc<SetDefinition>>,
    /// How the target is written, where a text of it goes on instead of its tree.
    pub written: Option<(Written, Arc<Outline>)>,
    /// What it reads beside the source, as `$name`, each with its outline where that is known.
    pub with: Vec<(String, Option<String>)>,
    /// It begins with the source as it is, so changed; with nothing otherwise.
    pub begin: Option<AsIs>,
    pub rules: Rules,
}

/// Targets of one level.
#[derive(Debug, Clone, Default)]
pub struct Rules {
    pub set: Vec<Assignment>,
    pub each: Vec<Each>,
}

/// One target and the expression that fills it.
#[derive(Debug, Clone)]
pub struct Assignment {
    /// Field names from the outside in.
    pub target: Vec<String>,
    pub value: Expr,
    /// Line of the map file, from 1.
    pub line: u32,
    /// The target is a list: all that the expression selects fills it, not the first alone.
    pub list: bool,
}

/// A list: one item for each item of `of`.
#[derive(Debug, Clone)]
pub struct Each {
    pub of: Expr,
    pub into: Vec<String>,
    /// `into` is an object: the first item makes it.
    pub one: bool,
    /// The map whose rules make the items, where they are not this one's own.
    pub by: Option<String>,
    /// Line of the map file, from 1.
    pub line: u32,
    pub rules: Rules,
}

/// A target whose expression has no value over this document.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{target} = {expression} (line {line} of {map}): {source}")]
pub struct MapError {
    pub target: String,
    pub expression: String,
    pub line: u32,
    /// `the map`, or the name of another that makes the items.
    pub map: String,
    pub source: EvalError,
}

impl Map {
    /// The target document. A target whose expression gives nothing is left out.
    ///
    /// A transaction set is given as `wirewatch edi tree` writes one.
    ///
    /// # Errors
    /// [`MapError`] at the first target that cannot be worked out.
    pub fn apply(&self, scope: &Scope<'_>) -> Result<Value, MapError> {
        Ok(self.finished(self.fields(scope, &mut Told::default())?))
    }

    /// The target as a document that goes on.
    ///
    /// # Errors
    /// As [`Self::apply`]; and where a transaction set cannot be written, e.g. a number with a fraction where its element has
    /// none, or would be rejected for how it is built. Codes are not checked here: a partner may have some of its own.
    pub fn document(&self, scope: &Scope<'_>) -> Result<Document, MapError> {
        let value = self.apply(scope)?;
        match (&self.set, self.bytes(&value)?) {
            (Some(set), _) => to_set::document(set, &value).map_err(|says| MapError::of_all(format!("the {}", set.set), says)),
            (None, Some(bytes)) => Ok(Document::Bytes(bytes.into())),
            (None, None) => Ok(Document::Json(Arc::new(value))),
        }
    }

    /// What [`Self::apply`] gave as it is written; none where its tree goes on.
    ///
    /// # Errors
    /// [`MapError`] of a value that cannot be written so.
    pub fn bytes(&self, value: &Value) -> Result<Option<Vec<u8>>, MapError> {
        let Some((written, outline)) = &self.written else { return Ok(None) };
        outline.write(*written, value).map(Some).map_err(|says| MapError::of_all(format!("the {}", outline.name), says))
    }

    /// The target document, and what each rule gave, in the order of the rules.
    ///
    /// # Errors
    /// As [`Self::apply`].
    pub fn explain(&self, scope: &Scope<'_>) -> Result<(Value, Vec<Filled>), MapError> {
        let mut told = Told { fills: Some(Vec::new()), ..Told::default() };
        let value = self.fields(scope, &mut told)?;
        Ok((self.finished(value), told.fills.unwrap_or_default()))
    }

    fn fields<'a>(&'a self, scope: &Scope<'a>, told: &mut Told) -> Result<Fields<String, Value>, MapError> {
        let mut fields = match &self.begin {
            Some(begin) => begin.begin(scope)?,
            None => Fields::new(),
        };
        // A rule takes the place of what was there; lists would be joined.
        let targets = self.rules.set.iter().map(|rule| &rule.target).chain(self.rules.each.iter().map(|each| &each.into));
        targets.for_each(|target| take_out(&mut fields, target));
        if let Some(begin) = &self.begin {
            fields.iter().for_each(|(name, value)| told.carried(name, value, begin.line));
        }
        level(&self.rules, scope, told, fields)
    }

    fn finished(&self, fields: Fields<String, Value>) -> Value {
        match &self.set {
            Some(set) => to_set::tree(set, &fields),
            None => Value::Object(fields),
        }
    }
}

/// What one rule gave for one target.
#[derive(Debug, Clone, PartialEq, serde::Serialize)]
pub struct Filled {
    /// The target field, items of lists counted from 1: `rows[2].quantity`.
    pub target: String,
    pub expression: String,
    /// Line of the map file, from 1.
    pub line: u32,
    /// `None` where the expression gave nothing, so the target was left out.
    pub value: Option<Value>,
}

/// Where a level stands in the target, and what is noted of its rules.
#[derive(Default)]
struct Told {
    at: String,
    fills: Option<Vec<Filled>>,
    /// The line of this map at which another makes items.
    line: Option<u32>,
}

impl Told {
    fn filled(&mut self, rule: &Assignment, value: Option<&Value>) {
        if let Some(fills) = &mut self.fills {
            let target = format!("{}{}", self.at, rule.target.join("."));
            let line = self.line.unwrap_or(rule.line);
            fills.push(Filled { target, expression: rule.value.text.clone(), line, value: value.cloned() });
        }
    }

    /// What a source that is taken as it is brings along.
    fn carried(&mut self, at: &str, value: &Value, line: u32) {
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

const THE_MAP: &str = "the map";

impl MapError {
    /// What all rules together gave cannot go on.
    fn of_all(target: String, says: String) -> Self {
        let (expression, source) = ("all rules together".to_owned(), EvalError { span: 0..0, says });
        Self { target, expression, line: 1, map: THE_MAP.to_owned(), source }
    }

    /// The error as seen from a level further out, made by another map where `each` says so.
    fn below(self, target: &str, each: &Each) -> Self {
        let map = each.by.as_ref().filter(|_| self.map == THE_MAP).map_or(self.map, |by| format!("the map {by}"));
        Self { target: format!("{target}.{}", self.target), map, ..self }
    }
}

fn level<'a>(
    rules: &'a Rules,
    scope: &Scope<'a>,
    told: &mut Told,
    mut fields: Fields<String, Value>,
) -> Result<Fields<String, Value>, MapError> {
    for assignment in &rules.set {
        let value = assignment.value.eval(scope).map_err(|source| MapError {
            target: assignment.target.join("."),
            expression: assignment.value.text.clone(),
            line: assignment.line,
            map: THE_MAP.to_owned(),
            source,
        })?;
        let value = if assignment.list { value.list() } else { value.one() };
        told.filled(assignment, value.as_deref());
        if let Some(value) = value {
            put(&mut fields, &assignment.target, value.into_owned());
        }
    }
    for each in &rules.each {
        let into = || each.into.join(".");
        let items = each.of.eval(scope).map_err(|source| MapError {
            target: into(),
            expression: each.of.text.clone(),
            line: each.line,
            map: THE_MAP.to_owned(),
            source,
        })?;
        let mut list = Vec::new();
        let most = if each.one { 1 } else { usize::MAX };
        for (n, item) in items.each().into_iter().take(most).enumerate() {
            let inner = Scope { it: item, ..scope.clone() };
            let place = if each.one { into() } else { format!("{}[{}]", into(), n + 1) };
            let (outer, line) = (told.at.len(), told.line);
            told.at += &format!("{place}.");
            told.line = line.or(each.by.as_ref().map(|_| each.line));
            let made = level(&each.rules, &inner, told, Fields::new());
            told.at.truncate(outer);
            told.line = line;
            list.push(Value::Object(made.map_err(|error| error.below(&place, each))?));
        }
        match each.one {
            true => list.into_iter().for_each(|only| put(&mut fields, &each.into, only)),
            false => put(&mut fields, &each.into, Value::Array(list)),
        }
    }
    Ok(fields)
}

fn take_out(fields: &mut Fields<String, Value>, target: &[String]) {
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

fn put(fields: &mut Fields<String, Value>, target: &[String], value: Value) {
    match target {
        [] => {}
        // Loops of one id come from several lists: those of the bill-to behind those of the ship-to.
        [last] => match (fields.get_mut(last), value) {
            (Some(Value::Array(before)), Value::Array(more)) => before.extend(more),
            (_, value) => {
                fields.insert(last.clone(), value);
            }
        },
        [first, rest @ ..] => {
            let inner = fields.entry(first.clone()).or_insert_with(|| Value::Object(Fields::new()));
            if let Value::Object(inner) = inner {
                put(inner, rest, value);
            }
        }
    }
}

/// The item that a document is to a map; here so that callers need not know expressions.
#[must_use]
pub fn scope_of<'a>(
    document: &'a crate::Document,
    kept: &'a Fields<String, Value>,
    library: &'a crate::expr::Library,
) -> Scope<'a> {
    let it = Item::of(document);
    Scope { it: it.clone(), doc: it, kept, library, given: None, work: Work::default() }
}
