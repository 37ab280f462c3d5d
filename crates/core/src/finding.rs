//! What is wrong in something a person wrote: where exactly, and what to do.

use serde::{Deserialize, Serialize};
use std::ops::Range;

/// How much a finding weighs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// It runs, but probably not as meant.
    Warning,
    /// It does not run.
    Error,
}

/// One finding, ready to be shown by command line, API and console alike.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    pub severity: Severity,
    /// Stable name, e.g. `map::unknown-path`.
    pub code: String,
    /// Path of the file in the workspace.
    pub file: String,
    /// Line and column of the place, both from 1; columns count characters.
    pub line: u32,
    pub column: u32,
    /// Characters to underline, at least 1.
    pub length: u32,
    /// The line itself, for showing the place.
    pub source: String,
    /// One sentence.
    pub says: String,
    /// What to do next, where there is something to say.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub help: Option<String>,
    /// Why the file lets this warning stand.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub accepted: Option<String>,
}

impl Finding {
    /// A finding at the bytes `span` of `text`, the content of `file`.
    #[must_use]
    pub fn at(severity: Severity, code: &str, file: &str, text: &str, span: Range<usize>, says: impl Into<String>) -> Self {
        let start = floor(text, span.start);
        let before = &text[..start];
        let line_start = before.rfind('\n').map_or(0, |at| at + 1);
        let line_end = text[start..].find('\n').map_or(text.len(), |at| start + at);
        let end = floor(text, span.end).clamp(start, line_end);
        Self {
            severity,
            code: code.to_owned(),
            file: file.to_owned(),
            line: before.matches('\n').count() as u32 + 1,
            column: text[line_start..start].chars().count() as u32 + 1,
            length: (text[start..end].chars().count() as u32).max(1),
            source: text[line_start..line_end].trim_end().to_owned(),
            says: says.into(),
            help: None,
            accepted: None,
        }
    }

    /// The same with advice.
    #[must_use]
    pub fn help(mut self, help: impl Into<String>) -> Self {
        self.help = Some(help.into());
        self
    }
}

fn floor(text: &str, mut at: usize) -> usize {
    at = at.min(text.len());
    while !text.is_char_boundary(at) {
        at -= 1;
    }
    at
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_count_characters_and_stay_on_one_line() {
        let text = "a = 1\nü = \"wrong\nnext\"\n";
        let at = text.find("wrong").unwrap();
        let finding = Finding::at(Severity::Error, "x", "f.toml", text, at..text.len(), "no");
        assert_eq!((finding.line, finding.column, finding.length, finding.source.as_str()), (2, 6, 5, "ü = \"wrong"));
    }
}
