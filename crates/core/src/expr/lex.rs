//! Text to tokens.

use super::{ExprError, Span};
use crate::Severity;

#[derive(Debug, Clone, PartialEq)]
pub(super) enum Token {
    Number(String),
    Text(String),
    Name(String),
    Variable(String),
    Symbol(&'static str),
}

const SYMBOLS: [&str; 17] = ["!=", "<=", ">=", "=", "<", ">", "+", "-", "*", "/", "&", "(", ")", "[", "]", ",", "."];

pub(super) fn tokens(text: &str) -> Result<Vec<(Token, Span)>, ExprError> {
    let mut found: Vec<(Token, Span)> = Vec::new();
    let mut at = 0;
    while let Some(c) = text[at..].chars().next() {
        let rest = &text[at..];
        let take = |test: fn(char) -> bool| rest.find(|c: char| !test(c)).unwrap_or(rest.len());
        if c.is_whitespace() {
            at += c.len_utf8();
            continue;
        }
        let (token, length) = if c == '\'' {
            quoted(text, at)?
        } else if c.is_ascii_digit() {
            // After a dot two digits are an element, never the start of a decimal.
            let after_dot = matches!(found.last(), Some((Token::Symbol("."), _)));
            let mut length = take(|c| c.is_ascii_digit());
            if !after_dot && rest[length..].starts_with('.') && rest[length + 1..].starts_with(|c: char| c.is_ascii_digit()) {
                let fraction = &rest[length + 1..];
                length += 1 + fraction.find(|c: char| !c.is_ascii_digit()).unwrap_or(fraction.len());
            }
            (Token::Number(rest[..length].to_owned()), length)
        } else if c.is_alphabetic() || c == '_' {
            let length = take(|c| c.is_alphanumeric() || c == '_');
            (Token::Name(rest[..length].to_owned()), length)
        } else if c == '$' {
            let name = &rest[1..];
            let length = name.find(|c: char| !c.is_alphanumeric() && c != '_').unwrap_or(name.len());
            if length == 0 {
                return Err(error(at..at + 1, "expected a name after `$`"));
            }
            (Token::Variable(name[..length].to_owned()), length + 1)
        } else if let Some(symbol) = SYMBOLS.iter().find(|symbol| rest.starts_with(**symbol)) {
            (Token::Symbol(symbol), symbol.len())
        } else {
            return Err(error(at..at + c.len_utf8(), &format!("unexpected `{c}`")));
        };
        found.push((token, at..at + length));
        at += length;
    }
    Ok(found)
}

/// Reads a text in single quotes; a doubled quote is one quote.
fn quoted(text: &str, at: usize) -> Result<(Token, usize), ExprError> {
    let mut value = String::new();
    let mut chars = text[at + 1..].char_indices().peekable();
    while let Some((offset, c)) = chars.next() {
        if c != '\'' {
            value.push(c);
        } else if chars.next_if(|(_, next)| *next == '\'').is_some() {
            value.push('\'');
        } else {
            return Ok((Token::Text(value), offset + 2));
        }
    }
    Err(error(at..text.len(), "this text has no closing quote"))
}

fn error(span: Span, says: &str) -> ExprError {
    ExprError { severity: Severity::Error, span, code: "expr::syntax", says: says.to_owned(), help: None }
}
