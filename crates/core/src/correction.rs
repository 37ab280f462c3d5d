//! One correction of a value, for many documents alike: a value that an outside system refused is replaced wherever it occurs.
//!
//! Only whole values are replaced, never a part of one, and everything else of a document stays as it is.

use crate::Document;
use crate::document::Form;
use crate::workspace::Workspace;
use crate::x12::{Delimiters, Tokens};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::fmt;
use std::ops::Range;

/// Shortest value that [`named_in`] looks for: shorter ones stand in sentences by chance.
const SHORTEST: usize = 3;
/// Most values that [`named_in`] returns.
const MOST: usize = 5;

/// A value to replace.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Correction {
    /// The whole value; never empty.
    pub replace: String,
    /// Its successor; may be empty.
    pub with: String,
    /// The field to replace it in: `PO107`, or `lines.sku` in other forms. `None` replaces it in every field.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
}

/// A corrected document.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Corrected {
    pub document: String,
    /// The field of each replaced value, in the order of the document.
    pub fields: Vec<String>,
}

/// A value with its field.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FieldValue {
    pub field: String,
    pub value: String,
}

/// Why a document cannot be corrected.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum NotCorrected {
    #[error("the value to replace is empty")]
    Empty,
    #[error("`{0}` would be replaced with itself")]
    Same(String),
    #[error("no {field} is `{value}`")]
    Absent { field: Place, value: String },
    #[error("`{with}` has the character {separator}, which separates {parts} in this document")]
    Separator { with: String, separator: char, parts: &'static str },
    #[error("{field} is the number {replace}, and `{with}` is not a number")]
    NotNumber { field: String, replace: String, with: String },
    #[error("the document cannot be read: {0}")]
    Unreadable(String),
    #[error("the corrected document cannot be written: {0}; amend this message by hand")]
    Unwritable(String),
}

/// Where a value was looked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place(Option<String>);

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.0.as_deref().unwrap_or("value of the document"))
    }
}

impl Correction {
    /// Replaces the value in a document.
    ///
    /// A transaction set keeps its bytes besides the value; its ST and SE, which carry the control number and the count, are left
    /// alone. JSON is written anew with the same fields in the same order. Other forms are written by their schema.
    ///
    /// # Errors
    /// [`NotCorrected`]: nothing is replaced by halves.
    pub fn apply(&self, workspace: &Workspace, form: &Form, document: &[u8]) -> Result<Corrected, NotCorrected> {
        if self.replace.is_empty() {
            return Err(NotCorrected::Empty);
        }
        if self.replace == self.with {
            return Err(NotCorrected::Same(self.with.clone()));
        }
        let corrected = match form {
            Form::X12 { delimiters, .. } => self.in_set(document, *delimiters)?,
            Form::Json | Form::Shaped { .. } => self.in_tree(workspace, form, document)?,
            Form::Bytes => return Err(NotCorrected::Unreadable("it has no fields".to_owned())),
        };
        if corrected.fields.is_empty() {
            return Err(NotCorrected::Absent { field: Place(self.field.clone()), value: self.replace.clone() });
        }
        Ok(corrected)
    }

    fn wants(&self, field: &str) -> bool {
        self.field.as_deref().is_none_or(|wanted| wanted.eq_ignore_ascii_case(field))
    }

    fn in_set(&self, document: &[u8], delimiters: Delimiters) -> Result<Corrected, NotCorrected> {
        let Delimiters { element, component, repetition, segment } = delimiters;
        let separators = [
            (Some(element), "elements"),
            (Some(segment), "segments"),
            (Some(component), "components"),
            (repetition, "repetitions"),
        ];
        for (separator, parts) in separators {
            let separator = separator.map(char::from).filter(|separator| self.with.contains(*separator));
            if let Some(separator) = separator {
                return Err(NotCorrected::Separator { with: self.with.clone(), separator, parts });
            }
        }
        let (mut bytes, mut copied, mut fields) = (Vec::with_capacity(document.len()), 0, Vec::new());
        for (field, place) in set_values(document, delimiters) {
            if &document[place.clone()] == self.replace.as_bytes() && self.wants(&field) {
                bytes.extend_from_slice(&document[copied..place.start]);
                bytes.extend_from_slice(self.with.as_bytes());
                copied = place.end;
                fields.push(field);
            }
        }
        bytes.extend_from_slice(&document[copied..]);
        Ok(Corrected { document: text(bytes)?, fields })
    }

    fn in_tree(&self, workspace: &Workspace, form: &Form, document: &[u8]) -> Result<Corrected, NotCorrected> {
        let read = workspace.document(form, document).map_err(|unread| NotCorrected::Unreadable(unread.to_string()))?;
        let Document::Json(value) = read else { return Err(NotCorrected::Unreadable("it has no fields".to_owned())) };
        let (mut value, mut fields) = (Value::clone(&value), Vec::new());
        self.in_value(&mut value, "", &mut fields)?;
        let bytes = match form {
            Form::Shaped { written, schema: name } => {
                let schema = workspace.schemas.get(name);
                let schema = schema.ok_or_else(|| NotCorrected::Unwritable(format!("there is no schema {name}")))?;
                let bytes = schema.write(*written, &value).map_err(NotCorrected::Unwritable)?;
                // What does not read back as it was meant would change the message in silence.
                if schema.read(*written, &bytes).as_ref() != Ok(&value) {
                    return Err(NotCorrected::Unwritable("it would not be read back as it is".to_owned()));
                }
                bytes
            }
            Form::Json | Form::X12 { .. } | Form::Bytes => serde_json::to_vec(&value).unwrap_or_default(),
        };
        Ok(Corrected { document: text(bytes)?, fields })
    }

    fn in_value(&self, value: &mut Value, path: &str, fields: &mut Vec<String>) -> Result<(), NotCorrected> {
        match value {
            Value::Object(own) => own.iter_mut().try_for_each(|(name, value)| self.in_value(value, &below(path, name), fields)),
            Value::Array(items) => items.iter_mut().try_for_each(|item| self.in_value(item, path, fields)),
            Value::String(text) if *text == self.replace && self.wants(path) => {
                text.clone_from(&self.with);
                fields.push(path.to_owned());
                Ok(())
            }
            Value::Number(number) if number.to_string() == self.replace && self.wants(path) => {
                let (field, replace, with) = (path.to_owned(), self.replace.clone(), self.with.clone());
                *number = with.parse().map_err(|_| NotCorrected::NotNumber { field, replace, with })?;
                fields.push(path.to_owned());
                Ok(())
            }
            Value::String(_) | Value::Number(_) | Value::Bool(_) | Value::Null => Ok(()),
        }
    }
}

/// Returns the values of a document that a sentence names as whole words, longest first: likely the ones that it is about.
#[must_use]
pub fn named_in(says: &str, workspace: &Workspace, form: &Form, document: &[u8]) -> Vec<FieldValue> {
    let mut found: Vec<FieldValue> = Vec::new();
    let mut see = |field: &str, value: &str| {
        let known = found.iter().any(|one| one.value == value);
        if value.chars().count() >= SHORTEST && !known && has_word(says, value) {
            found.push(FieldValue { field: field.to_owned(), value: value.to_owned() });
        }
    };
    match form {
        Form::X12 { delimiters, .. } => {
            for (field, place) in set_values(document, *delimiters) {
                see(&field, &String::from_utf8_lossy(&document[place]));
            }
        }
        Form::Json | Form::Shaped { .. } => {
            if let Ok(Document::Json(value)) = workspace.document(form, document) {
                leaves(&value, "", &mut see);
            }
        }
        Form::Bytes => {}
    }
    found.sort_by_key(|one| std::cmp::Reverse(one.value.len()));
    found.truncate(MOST);
    found
}

/// Returns `true` if `word` occurs in `says` with no letter or digit beside it.
fn has_word(says: &str, word: &str) -> bool {
    let part = |c: char| c.is_alphanumeric();
    says.match_indices(word).any(|(at, _)| {
        let (before, after) = (says[..at].chars().next_back(), says[at + word.len()..].chars().next());
        !before.is_some_and(part) && !after.is_some_and(part)
    })
}

fn leaves(value: &Value, path: &str, see: &mut impl FnMut(&str, &str)) {
    match value {
        Value::Object(own) => own.iter().for_each(|(name, value)| leaves(value, &below(path, name), see)),
        Value::Array(items) => items.iter().for_each(|item| leaves(item, path, see)),
        Value::String(text) => see(path, text),
        Value::Number(number) => see(path, &number.to_string()),
        Value::Bool(_) | Value::Null => {}
    }
}

fn below(path: &str, name: &str) -> String {
    if path.is_empty() { name.to_owned() } else { format!("{path}.{name}") }
}

/// Returns the values of a transaction set besides ST and SE, each with its field (`PO107`, of a component `SV101-2`) and its place.
fn set_values(document: &[u8], delimiters: Delimiters) -> Vec<(String, Range<usize>)> {
    let mut values = Vec::new();
    let tokens = Tokens::new(document, delimiters);
    for segment in tokens.iter().filter(|segment| !matches!(segment.id(), b"ST" | b"SE")) {
        let id = String::from_utf8_lossy(segment.id());
        let mut at = segment.offset as usize;
        for (n, element) in segment.elements().enumerate() {
            let start = at;
            at += element.len() + 1;
            if n == 0 {
                continue;
            }
            let mut part = start;
            for repeat in element.split(|byte| Some(*byte) == delimiters.repetition) {
                let components: Vec<&[u8]> = repeat.split(|byte| *byte == delimiters.component).collect();
                for (c, value) in components.iter().enumerate() {
                    let field = if components.len() == 1 { format!("{id}{n:02}") } else { format!("{id}{n:02}-{}", c + 1) };
                    values.push((field, part..part + value.len()));
                    part += value.len() + 1;
                }
            }
        }
    }
    values
}

fn text(bytes: Vec<u8>) -> Result<String, NotCorrected> {
    String::from_utf8(bytes).map_err(|_| NotCorrected::Unwritable("it has bytes that are not UTF-8 text".to_owned()))
}
