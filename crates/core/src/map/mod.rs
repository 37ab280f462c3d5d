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
use fill::{Told, level, take_out};
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
    /// How the target is written, where a text of it goes on instead of its tree.
    pub written: Option<(Written, Arc<Schema>)>,
    /// What the target is held against, and what is done where it does not fit; none for a transaction set.
    pub fits: Option<(Validate, Arc<Validator>)>,
    /// What it reads beside the source, as `$name`, each with its schema where that is known.
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
    pub place: Place,
}

/// What a target takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Place {
    /// One value that is no list; several are an error.
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
    /// The map whose rules make the items, where they are not this one's own.
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

/// A target that goes on.
#[derive(Debug, Clone)]
pub struct Mapped {
    pub document: Document,
    /// How it does not fit its schema, where that is let pass; empty otherwise.
    pub warning: String,
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

    /// The target as a document that goes on; a transaction set with the separators of `sending`.
    ///
    /// # Errors
    /// As [`Self::apply`]; where it does not fit its schema, unless that is let pass; and where a transaction set cannot be written, e.g. a number with a fraction where its element has
    /// none, or would be rejected for how it is built. Codes are not checked here: a partner may have some of its own.
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

    /// How what [`Self::apply`] gave does not fit the target's schema; nothing where it is not held against it.
    #[must_use]
    pub fn misfits(&self, value: &Value) -> Vec<Misfit> {
        match &self.fits {
            Some((Validate::Reject | Validate::Warn, validator)) => validator.misfits(value),
            Some((Validate::Off, _)) | None => Vec::new(),
        }
    }

    /// What [`Self::apply`] gave as it is written; none where its tree goes on.
    ///
    /// # Errors
    /// [`MapError`] of a value that cannot be written so.
    pub fn bytes(&self, value: &Value) -> Result<Option<Vec<u8>>, MapError> {
        let Some((written, schema)) = &self.written else { return Ok(None) };
        schema.write(*written, value).map(Some).map_err(|says| MapError::of_all(format!("the {}", schema.name), says))
    }

    /// The target document, and what each rule gave, in the order of the rules.
    ///
    /// # Errors
    /// As [`Self::apply`].
    pub fn explain(&self, scope: &Scope<'_>) -> Result<(Value, Vec<Filled>), MapError> {
        let mut told = Told::noting();
        let value = self.fields(scope, &mut told)?;
        Ok((self.finished(value), told.fills.unwrap_or_default()))
    }

    fn fields<'a>(&'a self, scope: &Scope<'a>, told: &mut Told) -> Result<Fields<String, Value>, MapError> {
        let mut fields = match &self.begin {
            Some(begin) => begin.begin(scope)?,
            None => Fields::new(),
        };
        if let Some(begin) = &self.begin {
            // A rule takes the place of what the source has there.
            let targets = self.rules.set.iter().map(|rule| &rule.target).chain(self.rules.each.iter().map(|each| &each.into));
            targets.for_each(|target| take_out(&mut fields, target));
            fields.iter().for_each(|(name, value)| told.carried(name, value, begin.line));
        }
        level(&self.rules, scope, told, fields, self.set.is_some())
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

const THE_MAP: &str = "the map";

impl MapError {
    /// What all rules together gave cannot go on.
    fn of_all(target: String, says: String) -> Self {
        let source = EvalError { span: 0..0, says };
        Self { target, expression: String::new(), line: 1, map: THE_MAP.to_owned(), source }
    }

    /// The error as seen from a level further out, made by another map where `each` says so.
    fn below(self, target: &str, each: &Each) -> Self {
        let map = each.by.as_ref().filter(|_| self.map == THE_MAP).map_or(self.map, |by| format!("the map {by}"));
        Self { target: format!("{target}.{}", self.target), map, ..self }
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
    Scope { it: it.clone(), doc: it, kept, library, given: None, position: None, work: Work::default() }
}
