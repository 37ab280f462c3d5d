//! Findings in files and documents that people wrote: the exact place, and what to do.

use serde::{Deserialize, Serialize};
use std::ops::Range;

/// Severity of a finding.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Runs, but probably not as intended.
    Warning,
    /// Does not run.
    Error,
}

/// A finding, shown alike by command line, API and console.
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
    /// The line itself, for showing the place; empty where it is too long to be shown.
    pub source: String,
    /// One sentence.
    pub says: String,
    /// Next action; empty when there is none to name.
    #[serde(default)]
    pub help: Option<String>,
    /// Why the file accepts this warning.
    #[serde(default)]
    pub accepted: Option<String>,
}

/// Bytes of a line that is shown. A file without line ends must not be copied into each of its findings.
const LINE: usize = 2000;
/// Most findings of one file or document; beyond, one says that there are more.
pub const MOST: usize = 200;

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
            source: if line_end - line_start > LINE { String::new() } else { text[line_start..line_end].trim_end().to_owned() },
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

/// Adds the finding that `make` builds for `file`, unless there are enough of that file: then the last one says so, and becomes
/// an error once an error was left out.
pub fn add(findings: &mut Vec<Finding>, file: &str, severity: Severity, make: impl FnOnce() -> Finding) {
    const MORE: &str = "finding::more";
    let own = findings.iter().filter(|one| one.file == file).count();
    match own {
        0..MOST => findings.push(make()),
        MOST => {
            let says = format!("there are more findings than these {MOST}; correct these first");
            findings.push(Finding { code: MORE.to_owned(), says, help: None, severity, ..make() });
        }
        _ => {
            let last = findings.iter_mut().rfind(|one| one.file == file && one.code == MORE);
            if let Some(last) = last.filter(|_| severity == Severity::Error) {
                last.severity = severity;
            }
        }
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

    #[test]
    fn a_line_of_megabytes_is_not_copied_into_each_finding() {
        let text = format!("a = \"{}\"", "x".repeat(1 << 20));
        let finding = Finding::at(Severity::Error, "x", "f.toml", &text, 5..9, "no");
        assert_eq!((finding.line, finding.column, finding.source.as_str()), (1, 6, ""));
    }

    #[test]
    fn enough_findings_of_a_file_are_followed_by_one_that_says_so() {
        let mut findings = Vec::new();
        let mut tell = |file: &str, severity: Severity| {
            add(&mut findings, file, severity, || Finding::at(severity, "x", file, "", 0..0, "no"));
        };
        (0..MOST + 5).for_each(|_| tell("a.toml", Severity::Warning));
        tell("b.toml", Severity::Warning);
        tell("a.toml", Severity::Error);
        let of = |file: &str| findings.iter().filter(|one| one.file == file).collect::<Vec<_>>();
        assert_eq!((of("a.toml").len(), of("b.toml").len()), (MOST + 1, 1));
        let last = of("a.toml")[MOST];
        assert_eq!((last.code.as_str(), last.severity), ("finding::more", Severity::Error), "one that was left out is an error");
    }
}
