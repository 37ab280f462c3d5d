//! Documents that messages carry: JSON, a transaction set as a tree, or bytes.

use crate::schema::{Schema, Written};
use crate::x12::{Definitions, Delimiters, SetTree};
use serde_json::Value;
use std::sync::{Arc, OnceLock};

/// A document. Cloning shares the content.
#[derive(Debug, Clone)]
pub enum Document {
    Json(Arc<Value>),
    X12(Arc<SetTree>),
    /// Sent unchanged and never parsed.
    Bytes(Arc<[u8]>),
}

/// Deepest nesting of a JSON document that is read; beyond, the parser's own limit of 128 refuses.
pub const JSON_LIMIT: usize = 16 << 20;

/// Form in which the bytes of a document are read.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Form {
    Json,
    /// In the form and by the schema of that name.
    Shaped {
        written: Written,
        schema: String,
    },
    X12 {
        version: String,
        set: String,
        delimiters: Delimiters,
    },
    Bytes,
}

/// Bytes that are not a document of the expected form.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Unreadable {
    #[error("not JSON: {0}")]
    Json(String),
    /// Says itself what it is not.
    #[error("{0}")]
    Other(String),
    #[error("not a transaction set: {0}")]
    X12(String),
    #[error("does not fit the schema {schema}: {says}")]
    Misfit { schema: String, says: String },
}

/// Rule for a document that does not fit its schema.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Validate {
    /// Rejected.
    #[default]
    Reject,
    /// Accepted with a warning.
    Warn,
    /// Not validated.
    Off,
}

impl Validate {
    /// Every value with its word in files.
    pub const WORDS: [(&'static str, Self); 3] = [("reject", Self::Reject), ("warn", Self::Warn), ("off", Self::Off)];
}

/// A received body, parsed as JSON at most once.
#[derive(Debug, Default)]
pub struct Content {
    bytes: Vec<u8>,
    json: OnceLock<Result<Document, Unreadable>>,
}

impl Content {
    /// A body, and what it is as JSON where somebody has read it already.
    #[must_use]
    pub fn new(bytes: Vec<u8>, json: Option<Document>) -> Self {
        Self { bytes, json: json.map_or_else(OnceLock::new, |json| Ok(json).into()) }
    }

    /// Returns the body unchanged.
    #[must_use]
    pub fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// Returns the body as JSON.
    ///
    /// # Errors
    /// [`Unreadable`] with the parser's reason.
    pub fn json(&self) -> Result<&Document, &Unreadable> {
        self.json.get_or_init(|| Document::json(&self.bytes)).as_ref()
    }
}

impl Document {
    /// Reads `bytes` in the given form, X12 by `definitions`, other forms by their schema.
    ///
    /// # Errors
    /// [`Unreadable`] with the parser's reason. Faults in X12 are not errors here; the checker finds them.
    pub fn read<'o>(
        definitions: &Definitions,
        schema: impl FnOnce(&str) -> Option<&'o Schema>,
        form: &Form,
        bytes: &[u8],
    ) -> Result<Self, Unreadable> {
        if matches!(form, Form::Json | Form::Shaped { .. }) && bytes.len() > JSON_LIMIT {
            return Err(Unreadable::Other(format!("larger than {JSON_LIMIT} bytes")));
        }
        match form {
            Form::Json => Self::json(bytes),
            Form::Shaped { written, schema: name } => {
                let schema = schema(name).ok_or_else(|| Unreadable::Other(format!("there is no schema \"{name}\"")))?;
                schema.read(*written, bytes).map(|value| Self::Json(Arc::new(value))).map_err(Unreadable::Other)
            }
            Form::X12 { version, set, delimiters } => {
                let definition =
                    definitions.find(version, set).ok_or_else(|| Unreadable::X12(format!("{version} {set} is not defined")))?;
                SetTree::new(definition.clone(), bytes, *delimiters)
                    .map(|tree| Self::X12(Arc::new(tree)))
                    .map_err(|error| Unreadable::X12(error.to_string()))
            }
            Form::Bytes => Ok(Self::Bytes(bytes.into())),
        }
    }

    /// Reads JSON.
    ///
    /// # Errors
    /// [`Unreadable`] with the parser's reason.
    pub fn json(bytes: &[u8]) -> Result<Self, Unreadable> {
        crate::json::read(bytes).map(|value| Self::Json(Arc::new(value))).map_err(Unreadable::Json)
    }

    /// The document as it would be sent or stored.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        match self {
            Self::Json(value) => serde_json::to_vec(&**value).unwrap_or_default(),
            Self::X12(tree) => tree.bytes().to_vec(),
            Self::Bytes(bytes) => bytes.to_vec(),
        }
    }

    /// Returns the form of its bytes.
    #[must_use]
    pub fn form(&self) -> Form {
        match self {
            Self::Json(_) => Form::Json,
            Self::X12(tree) => {
                let definition = tree.definition();
                Form::X12 { version: definition.version.clone(), set: definition.set.clone(), delimiters: tree.delimiters() }
            }
            Self::Bytes(_) => Form::Bytes,
        }
    }

    /// Returns the word for its form: `json`, `x12` or `bytes`.
    #[must_use]
    pub const fn form_name(&self) -> &'static str {
        match self {
            Self::Json(_) => "json",
            Self::X12(_) => "x12",
            Self::Bytes(_) => "bytes",
        }
    }

    /// The document for a person: indented JSON, one segment a line.
    #[must_use]
    pub fn readable(&self) -> String {
        match self {
            Self::Json(value) => serde_json::to_string_pretty(&**value).unwrap_or_default(),
            Self::X12(tree) => segments_as_lines(tree.bytes(), tree.delimiters().segment),
            Self::Bytes(bytes) if bytes.starts_with(b"ISA") && bytes.len() > 105 => segments_as_lines(bytes, bytes[105]),
            Self::Bytes(bytes) => String::from_utf8_lossy(bytes).into_owned(),
        }
    }
}

pub(crate) fn segments_as_lines(bytes: &[u8], terminator: u8) -> String {
    let mut lines = String::new();
    for segment in bytes.split(|&byte| byte == terminator) {
        let text = String::from_utf8_lossy(segment);
        let text = text.trim();
        if !text.is_empty() {
            lines.push_str(text);
            lines.push(char::from(terminator));
            if terminator != b'\n' {
                lines.push('\n');
            }
        }
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn a_body_is_read_once_or_not_at_all_where_that_was_done_before() {
        let value = |content: &Content| match content.json() {
            Ok(Document::Json(value)) => Ok(value.clone()),
            other => Err(format!("{other:?}")),
        };
        let unread = Content::new(b"{\"n\":1}".to_vec(), None);
        let (first, second) = (value(&unread).unwrap(), value(&unread).unwrap());
        assert_eq!(*first, json!({ "n": 1 }));
        assert!(Arc::ptr_eq(&first, &second), "it is the same reading");
        let before = Arc::new(json!({ "n": 1 }));
        let read = Content::new(unread.bytes().to_vec(), Some(Document::Json(before.clone())));
        assert!(Arc::ptr_eq(&value(&read).unwrap(), &before));
        let broken = Content::new(b"{".to_vec(), None);
        assert!(value(&broken).unwrap_err().contains("EOF"), "{:?}", value(&broken));
    }
}
