//! Maps: target = expression, in target order; lists by `each`.

mod as_is;
pub mod edit;
mod fill;
mod source;
mod to_set;

pub use as_is::{AsIs, Pattern};
pub use source::SourceField;

use crate::Document;
use crate::document::Validate;
use crate::expr::{EvalError, Expr, Item, Scope, Work};
use crate::partner::Sending;
use crate::schema::{Misfit, Schema, Validator, Written, in_words};
use crate::x12::SetDefinition;
use fill::{Record, level, take_out};
use serde_json::{Map as Fields, Value};
use std::fmt;
use std::sync::Arc;

/// A map as it runs.
#[derive(Debug, Clone)]
pub struct Map {
    pub name: String,
    /// Schema of the source: `x12/004010/850` or the name of a JSON schema.
    pub from: String,
    /// Schema of the target.
    pub to: String,
    /// The target, where it is a transaction set.
    pub set: Option<Arc<SetDefinition>>,
    /// Form of the target, if its text is passed on instead of its tree.
    pub written: Option<(Written, Arc<Schema>)>,
    /// Validator of the target, and what happens if it does not fit; `None` for a transaction set.
    pub fits: Option<(Validate, Arc<Validator>)>,
    /// Further documents that it reads as `$name`, with their schemas if known.
    pub with: Vec<(String, Option<String>)>,
    /// Begins with a copy of the source, changed so; otherwise empty.
    pub begin: Option<AsIs>,
    pub rules: Rules,
}

/// Targets of one level.
#[derive(Debug, Clone, Default)]
pub struct Rules {
    pub set: Vec<Assignment>,
    pub each: Vec<Each>,
}

/// A target and the expression that fills it.
#[derive(Debug, Clone)]
pub struct Assignment {
    /// Field names from the outside in.
    pub target: Vec<String>,
    pub value: Expr,
    /// Line of the map file, from 1.
    pub line: u32,
    pub place: Place,
}

/// Kind of value that a target takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Place {
    /// One value that is not a list; several are an error.
    One,
    /// A list: all that the expression selects.
    List,
    /// The target's schema does not say: one value, or a list that is one in the source.
    Unknown,
}

/// A list: one item for each item of `of`.
#[derive(Debug, Clone)]
pub struct Each {
    pub of: Expr,
    pub into: Vec<String>,
    /// `into` is an object: the first item makes it.
    pub one: bool,
    /// The map whose rules fill the items, if they are not this map's own.
    pub by: Option<String>,
    /// Line of the map file, from 1.
    pub line: u32,
    pub rules: Rules,
}

/// A target whose expression has no value over this document.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub struct MapError {
    pub target: String,
    /// Empty where no rule alone is to blame.
    pub expression: String,
    pub line: u32,
    /// `the map`, or the name of another that makes the items.
    pub map: String,
    pub source: EvalError,
}

impl fmt::Display for MapError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { target, expression, line, map, source } = self;
        match expression.as_str() {
            "" => write!(f, "{target}: {source}"),
            _ => write!(f, "{target} = {expression} (line {line} of {map}): {source}"),
        }
    }
}

/// A mapped document.
#[derive(Debug, Clone)]
pub struct Mapped {
    pub document: Document,
    /// How it does not fit its schema, if that is only a warning; empty otherwise.
    pub warning: String,
}

impl Map {
    /// Returns the target document. A target whose expression is missing is left out.
    ///
    /// A transaction set has the form that `wirewatch edi tree` writes.
    ///
    /// # Errors
    /// [`MapError`] at the first target that cannot be evaluated.
    pub fn apply(&self, scope: &Scope<'_>) -> Result<Value, MapError> {
        Ok(self.finished(self.fields(scope, &mut Record::default())?))
    }

    /// Returns the target as a document for the flow; a transaction set with the separators of `sending`.
    ///
    /// # Errors
    /// As [`Self::apply`]; if it does not fit its schema, unless that is a warning; and if a transaction set cannot be written,
    /// e.g. a number with a fraction where its element has none, or would be rejected for its structure. Codes are not checked
    /// here: a partner may have some of its own.
    pub fn document(&self, scope: &Scope<'_>, sending: &Sending) -> Result<Mapped, MapError> {
        let value = self.apply(scope)?;
        let warning = self.fitted(&value)?;
        let document = match (&self.set, self.bytes(&value)?) {
            (Some(set), _) => {
                to_set::document(set, &value, sending).map_err(|says| MapError::of_all(format!("the {}", set.set), says))?
            }
            (None, Some(bytes)) => Document::Bytes(bytes.into()),
            (None, None) => Document::Json(Arc::new(value)),
        };
        Ok(Mapped { document, warning })
    }

    /// Holds what [`Self::apply`] gave against the target's schema. Gives how it does not fit where that is let pass; an empty
    /// text otherwise.
    ///
    /// # Errors
    /// [`MapError`] where it does not fit and that is not let pass.
    pub fn fitted(&self, value: &Value) -> Result<String, MapError> {
        let misfits = self.misfits(value);
        let Some((validate, _)) = self.fits.as_ref().filter(|_| !misfits.is_empty()) else { return Ok(String::new()) };
        let says = format!("does not fit the schema {}: {}", self.to, in_words(&misfits));
        match validate {
            Validate::Reject => Err(MapError::of_all("the result".to_owned(), says)),
            Validate::Warn => Ok(format!("the result {says}")),
            Validate::Off => Ok(String::new()),
        }
    }

    /// Returns how the result of [`Self::apply`] does not fit the target's schema; nothing if it is not validated.
    #[must_use]
    pub fn misfits(&self, value: &Value) -> Vec<Misfit> {
        match &self.fits {
            Some((Validate::Reject | Validate::Warn, validator)) => validator.misfits(value),
            Some((Validate::Off, _)) | None => Vec::new(),
        }
    }

    /// Returns the result of [`Self::apply`] in its written form; `None` if its tree is passed on.
    ///
    /// # Errors
    /// [`MapError`] for a value that cannot be written.
    pub fn bytes(&self, value: &Value) -> Result<Option<Vec<u8>>, MapError> {
        let Some((written, schema)) = &self.written else { return Ok(None) };
        schema.write(*written, value).map(Some).map_err(|says| MapError::of_all(format!("the {}", schema.name), says))
    }

    /// The target document, and what each rule gave, in the order of the rules.
    ///
    /// # Errors
    /// As [`Self::apply`].
    pub fn explain(&self, scope: &Scope<'_>) -> Result<(Value, Vec<Filled>), MapError> {
        let mut record = Record::noting();
        let value = self.fields(scope, &mut record)?;
        Ok((self.finished(value), record.fills.unwrap_or_default()))
    }

    fn fields<'a>(&'a self, scope: &Scope<'a>, record: &mut Record) -> Result<Fields<String, Value>, MapError> {
        let mut fields = match &self.begin {
            Some(begin) => begin.begin(scope)?,
            None => Fields::new(),
        };
        if let Some(begin) = &self.begin {
            // A rule replaces the value of the source.
            let targets = self.rules.set.iter().map(|rule| &rule.target).chain(self.rules.each.iter().map(|each| &each.into));
            targets.for_each(|target| take_out(&mut fields, target));
            fields.iter().for_each(|(name, value)| record.carried(name, value, begin.line));
        }
        level(&self.rules, scope, record, fields, self.set.is_some())
    }

    fn finished(&self, fields: Fields<String, Value>) -> Value {
        match &self.set {
            Some(set) => to_set::tree(set, &fields),
            None => Value::Object(fields),
        }
    }
}

/// Result of a rule for its target.
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

const THE_MAP: &str = "the map";

impl MapError {
    /// Returns whether the rule is in the map that was run, not in one that makes the items of a list.
    #[must_use]
    pub fn in_own_map(&self) -> bool {
        self.map == THE_MAP
    }

    /// The whole target document cannot be used.
    fn of_all(target: String, says: String) -> Self {
        let source = EvalError { span: 0..0, says };
        Self { target, expression: String::new(), line: 1, map: THE_MAP.to_owned(), source }
    }

    /// Returns the error as seen from a level further out; `each` names the other map if there is one.
    fn below(self, target: &str, each: &Each) -> Self {
        let map = each.by.as_ref().filter(|_| self.map == THE_MAP).map_or(self.map, |by| format!("the map {by}"));
        Self { target: format!("{target}.{}", self.target), map, ..self }
    }
}

/// The item that a document is to a map; here so that callers need not know expressions.
#[must_use]
pub fn scope_of<'a>(
    document: &'a crate::Document,
    variables: &'a Fields<String, Value>,
    library: &'a crate::expr::Library,
) -> Scope<'a> {
    let it = Item::of(document);
    Scope { it: it.clone(), doc: it, variables, library, given: None, position: None, work: Work::default() }
}
