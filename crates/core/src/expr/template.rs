//! Text with expressions in braces: `/orders/{number}`.

use super::{EvalError, Expr, ExprError, Scope, parse};
use crate::Severity;

/// A parsed template. Doubled braces stand for one brace.
#[derive(Debug, Clone, PartialEq)]
pub struct Template {
    text: String,
    parts: Vec<Part>,
}

#[derive(Debug, Clone, PartialEq)]
enum Part {
    Text(String),
    /// The expression and where it starts in the template.
    Value(Expr, usize),
}

impl Template {
    /// Reads a template.
    ///
    /// # Errors
    /// [`ExprError`] with the place in the template's text.
    pub fn parse(text: &str) -> Result<Self, ExprError> {
        let mut parts = Vec::new();
        let mut plain = String::new();
        let mut at = 0;
        while let Some(offset) = text[at..].find(['{', '}']) {
            let brace = at + offset;
            plain.push_str(&text[at..brace]);
            let (open, doubled) = (text[brace..].starts_with('{'), text[brace + 1..].starts_with(&text[brace..=brace]));
            if doubled {
                plain.push_str(&text[brace..=brace]);
                at = brace + 2;
                continue;
            }
            let error = |says: &str| ExprError {
                severity: Severity::Error,
                span: brace..brace + 1,
                code: "expr::syntax",
                says: says.to_owned(),
                help: None,
            };
            if !open {
                return Err(error("unexpected `}`; write `}}` for a brace in the text"));
            }
            let end = closing(&text[brace..])
                .ok_or_else(|| error("this brace is not closed; write `{{` for a brace in the text"))?
                + brace;
            let start = brace + 1;
            let expr = parse(&text[start..end])
                .map_err(|error| ExprError { span: error.span.start + start..error.span.end + start, ..error })?;
            if !plain.is_empty() {
                parts.push(Part::Text(std::mem::take(&mut plain)));
            }
            parts.push(Part::Value(expr, start));
            at = end + 1;
        }
        plain.push_str(&text[at..]);
        if !plain.is_empty() {
            parts.push(Part::Text(plain));
        }
        Ok(Self { text: text.to_owned(), parts })
    }

    /// Returns the text of the template.
    #[must_use]
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The expressions with their offsets in the template, for checking.
    pub fn expressions(&self) -> impl Iterator<Item = (&Expr, usize)> {
        self.parts.iter().filter_map(|part| match part {
            Part::Value(expr, at) => Some((expr, *at)),
            Part::Text(_) => None,
        })
    }

    /// The text with `value` in the place of every expression.
    #[must_use]
    pub fn with_each_value(&self, value: &str) -> String {
        let mut text = String::new();
        for part in &self.parts {
            text.push_str(match part {
                Part::Text(plain) => plain,
                Part::Value(..) => value,
            });
        }
        text
    }

    /// Evaluates every expression in the text; each value passes `clean` first, which may refuse it with a sentence.
    ///
    /// # Errors
    /// [`EvalError`] when an expression fails or is missing: half a path or key is never sent.
    pub fn render(&self, scope: &Scope<'_>, clean: fn(&str) -> Result<String, String>) -> Result<String, EvalError> {
        let mut text = String::new();
        for part in &self.parts {
            match part {
                Part::Text(plain) => text.push_str(plain),
                Part::Value(expr, _) => match expr.text(scope)?.filter(|value| !value.is_empty()) {
                    Some(value) => match clean(&value) {
                        Ok(value) => text.push_str(&value),
                        Err(says) => {
                            return Err(EvalError { span: 0..expr.text.len(), says: format!("`{}`: {says}", expr.text) });
                        }
                    },
                    None => {
                        let says = format!("`{}` gives no value", expr.text);
                        return Err(EvalError { span: 0..expr.text.len(), says });
                    }
                },
            }
        }
        Ok(text)
    }
}

/// Returns where the brace closes that `text` begins with; braces in quoted texts of the expression do not count.
fn closing(text: &str) -> Option<usize> {
    let mut quoted = false;
    text.char_indices().find_map(|(at, c)| {
        quoted ^= c == '\'';
        (c == '}' && !quoted).then_some(at)
    })
}
