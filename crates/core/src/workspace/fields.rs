//! Reads TOML tables field by field, with a finding at the exact place of each fault.

use super::renamed;
use crate::expr::{Expr, ExprError, Template, parse};
use crate::finding::{self, Finding, Severity};
use crate::nearest::nearest;
use std::cell::RefCell;
use std::ops::Range;
use std::time::Duration;
use toml_edit::{Item, TableLike, Value};

/// A file being read, and the receiver of its findings.
pub(super) struct File<'a> {
    pub path: &'a str,
    pub text: &'a str,
    pub findings: &'a RefCell<Vec<Finding>>,
}

impl File<'_> {
    pub fn error(&self, span: Range<usize>, code: &str, says: impl Into<String>, help: Option<String>) {
        self.push(Severity::Error, span, code, says, help);
    }

    pub fn warning(&self, span: Range<usize>, code: &str, says: impl Into<String>, help: Option<String>) {
        self.push(Severity::Warning, span, code, says, help);
    }

    fn push(&self, severity: Severity, span: Range<usize>, code: &str, says: impl Into<String>, help: Option<String>) {
        let make = || Finding { help, ..Finding::at(severity, code, self.path, self.text, span, says) };
        finding::add(&mut self.findings.borrow_mut(), self.path, severity, make);
    }

    /// Reports what is wrong inside an expression that starts at `start` in the file.
    pub fn expr_error(&self, start: usize, error: ExprError) {
        let span = start + error.span.start..start + error.span.end;
        self.push(error.severity, span, error.code, error.says, error.help);
    }

    /// The line at an offset, from 1.
    pub fn line(&self, at: usize) -> u32 {
        self.text[..at].matches('\n').count() as u32 + 1
    }

    /// Returns where the text inside a quoted value starts.
    pub fn inside(&self, span: &Range<usize>) -> usize {
        let raw = &self.text[span.start..];
        let quotes = if raw.starts_with("\"\"\"") || raw.starts_with("'''") { 3 } else { 1 };
        span.start + quotes
    }
}

/// A table whose known keys are read one by one; [`done`](Self::done) reports the rest.
pub(super) struct Fields<'a> {
    file: &'a File<'a>,
    table: &'a dyn TableLike,
    /// Place of the table, for what is missing in it.
    pub span: Range<usize>,
    known: RefCell<Vec<&'static str>>,
}

/// A text with the place of the value.
pub(super) struct Text {
    pub value: String,
    pub span: Range<usize>,
}

impl<'a> Fields<'a> {
    pub fn new(file: &'a File<'a>, table: &'a dyn TableLike, span: Range<usize>) -> Self {
        Self { file, table, span, known: RefCell::new(Vec::new()) }
    }

    fn item(&self, key: &'static str) -> Option<(&'a Item, Range<usize>)> {
        self.known.borrow_mut().push(key);
        let (name, item) = self.table.get_key_value(key)?;
        let span = item.span().or_else(|| name.span()).unwrap_or(self.span.clone());
        Some((item, span))
    }

    fn wrong(&self, key: &str, span: Range<usize>, expected: &str) {
        self.file.error(span, "file::wrong-kind", format!("`{key}` must be {expected}"), None);
    }

    /// Returns the place of a key's value; the table's place if it is missing.
    pub fn span_of(&self, key: &str) -> Range<usize> {
        self.table.get(key).and_then(Item::span).unwrap_or(self.span.clone())
    }

    /// Returns whether the key is present, without counting it as known.
    pub fn has(&self, key: &str) -> bool {
        self.table.contains_key(key)
    }

    pub fn text(&self, key: &'static str) -> Option<Text> {
        let (item, span) = self.item(key)?;
        match item.as_str() {
            Some(value) => Some(Text { value: value.to_owned(), span }),
            None => {
                self.wrong(key, span, "a text in quotes");
                None
            }
        }
    }

    pub fn needed_text(&self, key: &'static str) -> Option<Text> {
        if !self.has(key) {
            self.known.borrow_mut().push(key);
            self.missing(key);
            return None;
        }
        self.text(key)
    }

    /// Texts of a list; none when absent.
    pub fn texts(&self, key: &'static str) -> Vec<Text> {
        let Some((item, span)) = self.item(key) else { return Vec::new() };
        let texts = item.as_array().map(|array| array.iter().map(|value| Some((value.as_str()?, value.span()))));
        let texts: Option<Vec<_>> = texts.and_then(Iterator::collect);
        let Some(texts) = texts else {
            self.wrong(key, span, "a list of texts in quotes");
            return Vec::new();
        };
        let text = |(value, at): (&str, Option<Range<usize>>)| Text { value: value.to_owned(), span: at.unwrap_or(span.clone()) };
        texts.into_iter().map(text).collect()
    }

    /// Returns the file of the table.
    pub fn file(&self) -> &'a File<'a> {
        self.file
    }

    pub fn missing(&self, key: &str) {
        let first_line = self.span.start..self.span.end.min(self.span.start + 1);
        self.file.error(first_line, "file::missing", format!("`{key}` is missing here"), None);
    }

    pub fn whole(&self, key: &'static str, range: Range<i64>) -> Option<i64> {
        let (item, span) = self.item(key)?;
        match item.as_integer().filter(|value| range.contains(value)) {
            Some(value) => Some(value),
            None => {
                self.wrong(key, span, &format!("a whole number from {} to {}", range.start, range.end - 1));
                None
            }
        }
    }

    /// A value of any kind, as JSON; dates and times are texts.
    pub fn value(&self, key: &'static str) -> Option<serde_json::Value> {
        let (item, _) = self.item(key)?;
        item.as_value().map(json_of)
    }

    /// The values of a list, as JSON.
    pub fn values(&self, key: &'static str) -> Vec<serde_json::Value> {
        match self.value(key) {
            None => Vec::new(),
            Some(serde_json::Value::Array(values)) => values,
            Some(_) => {
                self.wrong(key, self.span_of(key), "a list");
                Vec::new()
            }
        }
    }

    pub fn flag(&self, key: &'static str) -> Option<bool> {
        let (item, span) = self.item(key)?;
        let found = item.as_bool();
        if found.is_none() {
            self.wrong(key, span, "true or false");
        }
        found
    }

    pub fn duration(&self, key: &'static str) -> Option<Duration> {
        let text = self.text(key)?;
        let found = crate::duration::parse(&text.value);
        if found.is_none() {
            self.wrong(key, text.span, "a duration such as \"250ms\", \"2s\", \"5m\", \"1h\" or \"7d\"");
        }
        found
    }

    /// Reads one of several words.
    pub fn word<T: Copy>(&self, key: &'static str, words: &[(&'static str, T)]) -> Option<T> {
        let text = self.text(key)?;
        let found = words.iter().find(|(word, _)| *word == text.value).map(|(_, value)| *value);
        if found.is_none() {
            let known: Vec<&str> = words.iter().map(|(word, _)| *word).collect();
            self.one_of(key, &text, &known);
        }
        found
    }

    /// Reports a value of `key` that is not one of the `known` words.
    pub fn one_of(&self, key: &str, text: &Text, known: &[&str]) {
        if known.contains(&text.value.as_str()) {
            return;
        }
        if let Some(new) = renamed::value(&text.value, known) {
            self.file.error(text.span.clone(), "file::renamed", format!("\"{}\" was renamed to \"{new}\"", text.value), None);
            return;
        }
        let help = nearest(&text.value, known.iter().copied()).map(|near| format!("did you mean \"{near}\"?"));
        let says = format!("`{key}` must be one of {}, not \"{}\"", known.join(", "), text.value);
        self.file.error(text.span.clone(), "file::unknown-word", says, help);
    }

    pub fn expr(&self, key: &'static str) -> Option<(Expr, usize)> {
        let text = self.text(key)?;
        let start = self.file.inside(&text.span);
        match parse(&text.value) {
            Ok(expr) => Some((expr, start)),
            Err(error) => {
                self.file.expr_error(start, error);
                None
            }
        }
    }

    pub fn template(&self, key: &'static str) -> Option<(Template, usize)> {
        let text = self.needed_text(key)?;
        let start = self.file.inside(&text.span);
        match Template::parse(&text.value) {
            Ok(template) => Some((template, start)),
            Err(error) => {
                self.file.expr_error(start, error);
                None
            }
        }
    }

    pub fn table(&self, key: &'static str) -> Option<Fields<'a>> {
        let (item, span) = self.item(key)?;
        match item.as_table_like() {
            Some(table) => Some(Fields::new(self.file, table, span)),
            None => {
                self.wrong(key, span, "a table");
                None
            }
        }
    }

    /// The tables of `[[key]]`, in order; none when absent.
    pub fn tables(&self, key: &'static str) -> Vec<Fields<'a>> {
        let Some((item, span)) = self.item(key) else { return Vec::new() };
        match item {
            Item::ArrayOfTables(tables) => {
                let all = tables.iter().map(|table| Fields::new(self.file, table, table.span().unwrap_or(span.clone())));
                all.collect()
            }
            // The same within a line: key = [{ … }, { … }].
            Item::Value(Value::Array(values)) if values.iter().all(Value::is_inline_table) => {
                let tables = values.iter().filter_map(|value| Some((value.as_inline_table()?, value.span())));
                tables.map(|(table, at)| Fields::new(self.file, table, at.unwrap_or(span.clone()))).collect()
            }
            _ => {
                self.wrong(key, span, &format!("a list of tables, written [[{key}]]"));
                Vec::new()
            }
        }
    }

    /// Every entry of a table with its key as it is written, in the order written.
    pub fn pairs(&self, key: &'static str) -> Vec<(Text, Text)> {
        let Some((item, span)) = self.item(key) else { return Vec::new() };
        let Some(table) = item.as_table_like() else {
            self.wrong(key, span, "a table");
            return Vec::new();
        };
        let mut pairs = Vec::new();
        for (name, item) in table.iter() {
            let at = table.get_key_value(name).and_then(|(key, _)| key.span()).unwrap_or(span.clone());
            match item.as_str() {
                Some(text) => pairs.push((
                    Text { value: name.to_owned(), span: at },
                    Text { value: text.to_owned(), span: item.span().unwrap_or(span.clone()) },
                )),
                None => self.wrong(name, item.span().unwrap_or(at), "a text in quotes; quote names with dots or * too"),
            }
        }
        pairs
    }

    /// Every entry as dotted target and text value, in the order written; nested tables are followed.
    pub fn assignments(&self, key: &'static str) -> Vec<(Vec<String>, Range<usize>, Text)> {
        let mut found = Vec::new();
        if let Some((item, span)) = self.item(key) {
            match item.as_table_like() {
                Some(table) => self.collect(table, &[], &mut found),
                None => self.wrong(key, span, "a table of target = \"expression\""),
            }
        }
        found.sort_by_key(|(_, span, _)| span.start);
        found
    }

    fn collect(&self, table: &dyn TableLike, above: &[String], found: &mut Vec<(Vec<String>, Range<usize>, Text)>) {
        for (name, item) in table.iter() {
            let key_span = table.key(name).and_then(toml_edit::Key::span).unwrap_or(self.span.clone());
            let target: Vec<String> = above.iter().cloned().chain([name.to_owned()]).collect();
            let span = item.span().unwrap_or(key_span.clone());
            match item {
                Item::Value(Value::String(text)) => found.push((target, key_span, Text { value: text.value().clone(), span })),
                Item::Table(inner) => self.collect(inner, &target, found),
                Item::Value(Value::InlineTable(inner)) => self.collect(inner, &target, found),
                _ => {
                    let help = Some("write numbers and words as expressions too: \"1\", \"'text'\"".to_owned());
                    self.file.error(span, "file::wrong-kind", format!("`{name}` must be an expression in quotes"), help);
                }
            }
        }
    }

    /// Every key with its place; each counts as known.
    pub fn keys(&self) -> Vec<(String, Range<usize>)> {
        let place = |name: &str| self.table.key(name).and_then(toml_edit::Key::span).unwrap_or(self.span.clone());
        self.table.iter().map(|(name, _)| (name.to_owned(), place(name))).collect()
    }

    /// Reads every entry as a text, whatever the keys are.
    pub fn all_texts(&self) -> Vec<(String, Text)> {
        let mut found = Vec::new();
        for (name, item) in self.table.iter() {
            let span = item.span().unwrap_or(self.span.clone());
            match item.as_str() {
                Some(value) => found.push((name.to_owned(), Text { value: value.to_owned(), span })),
                None => self.wrong(name, span, "a text in quotes"),
            }
        }
        found
    }

    /// Reports every key that was never read.
    pub fn done(self) {
        let known = self.known.borrow();
        for (name, item) in self.table.iter().filter(|(name, _)| !known.contains(name)) {
            let span = self.table.key(name).and_then(toml_edit::Key::span).or_else(|| item.span()).unwrap_or(self.span.clone());
            if let Some(new) = renamed::key(name, &known) {
                self.file.error(span, "file::renamed", format!("`{name}` was renamed to `{new}`"), None);
                continue;
            }
            let help = match nearest(name, known.iter().copied()) {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("known keys: {}", known.join(", ")),
            };
            self.file.error(span, "file::unknown-key", format!("unknown key `{name}`"), Some(help));
        }
    }
}

fn json_of(value: &Value) -> serde_json::Value {
    match value {
        Value::String(text) => text.value().as_str().into(),
        Value::Boolean(yes) => (*yes.value()).into(),
        // The digits as they are written.
        Value::Integer(_) | Value::Float(_) => {
            let digits = value.to_string().trim().replace('_', "");
            serde_json::from_str(&digits).unwrap_or_else(|_| digits.into())
        }
        Value::Datetime(date) => date.value().to_string().into(),
        Value::Array(items) => items.iter().map(json_of).collect(),
        Value::InlineTable(fields) => fields.iter().map(|(name, value)| (name.to_owned(), json_of(value))).collect(),
    }
}
