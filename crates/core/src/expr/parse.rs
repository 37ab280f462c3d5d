//! Tokens to a syntax tree, by recursive descent.

use super::lex::{Token, tokens};
use super::{Called, DEPTH, Expr, ExprError, Kind, LENGTH, LEVELS, Node, Operator, Span};
use crate::Severity;
use serde_json::Value;

/// Reads an expression.
///
/// # Errors
/// [`ExprError`] at the first place that cannot be read.
pub fn parse(text: &str) -> Result<Expr, ExprError> {
    if text.len() > LENGTH {
        return Err(error(
            0..1,
            &format!("an expression has at most {} KB; move parts of it to functions or tables", LENGTH / 1024),
        ));
    }
    let mut parser = Parser { tokens: tokens(text)?, at: 0, end: text.len(), depth: 0 };
    let root = parser.expr()?;
    match parser.tokens.get(parser.at) {
        None => Ok(Expr { text: text.to_owned(), root }),
        Some((_, span)) => Err(error(span.clone(), "expected the end of the expression")),
    }
}

/// Writes a path as an expression: names that are not plain words are quoted, `it.'reorder at'`.
#[must_use]
pub fn path_text(path: &[String]) -> String {
    const WORDS: [&str; 11] = ["if", "then", "else", "and", "or", "not", "true", "false", "null", "it", "doc"];
    let plain = |name: &str| {
        name.starts_with(|c: char| c.is_alphabetic() || c == '_') && name.chars().all(|c| c.is_alphanumeric() || c == '_')
    };
    let mut text = String::new();
    for name in path {
        match (text.is_empty(), plain(name)) {
            (true, true) if !WORDS.contains(&name.as_str()) => {}
            (true, _) => text.push_str("it."),
            (false, _) => text.push('.'),
        }
        match plain(name) {
            true => text.push_str(name),
            false => text.push_str(&format!("'{}'", name.replace('\'', "''"))),
        }
    }
    text
}

struct Parser {
    tokens: Vec<(Token, Span)>,
    at: usize,
    end: usize,
    depth: usize,
}

/// Binary operators by how tightly they bind, loosest first.
const BINARY: [&[(&str, Operator)]; 6] = [
    &[("or", Operator::Or)],
    &[("and", Operator::And)],
    &[
        ("=", Operator::Equal),
        ("!=", Operator::NotEqual),
        ("<=", Operator::LessOrEqual),
        (">=", Operator::GreaterOrEqual),
        ("<", Operator::Less),
        (">", Operator::Greater),
    ],
    &[("&", Operator::Join)],
    &[("+", Operator::Add), ("-", Operator::Subtract)],
    &[("*", Operator::Multiply), ("/", Operator::Divide)],
];
const COMPARISON: usize = 2;

impl Parser {
    fn expr(&mut self) -> Result<Node, ExprError> {
        self.depth += 1;
        if self.depth > DEPTH {
            return Err(error(self.here(), "the expression is nested too deeply"));
        }
        let node = if self.word("if") { self.conditional()? } else { self.alternatives()? };
        self.depth -= 1;
        Ok(node)
    }

    fn conditional(&mut self) -> Result<Node, ExprError> {
        let start = self.before();
        let test = self.expr()?;
        self.expect("then")?;
        let yes = self.level(0)?;
        self.expect("else")?;
        let no = self.expr()?;
        let span = start..no.span.end;
        node(Kind::If(test.into(), yes.into(), no.into()), span)
    }

    fn alternatives(&mut self) -> Result<Node, ExprError> {
        let mut left = self.level(0)?;
        while self.word("else") {
            let right = self.level(0)?;
            left = binary(Operator::Else, left, right)?;
        }
        Ok(left)
    }

    fn level(&mut self, level: usize) -> Result<Node, ExprError> {
        let Some(operators) = BINARY.get(level) else { return self.sign() };
        if level == COMPARISON && self.word("not") {
            let start = self.before();
            let inner = self.deeper(|parser| parser.level(level))?;
            let span = start..inner.span.end;
            return node(Kind::Not(inner.into()), span);
        }
        let mut left = self.level(level + 1)?;
        while let Some(&(_, operator)) = operators.iter().find(|(word, _)| self.peek_is(word)) {
            self.at += 1;
            let right = self.level(level + 1)?;
            left = binary(operator, left, right)?;
            if level == COMPARISON {
                break;
            }
        }
        Ok(left)
    }

    fn sign(&mut self) -> Result<Node, ExprError> {
        if !self.symbol("-") {
            return self.path();
        }
        let start = self.before();
        let inner = self.deeper(Self::sign)?;
        let span = start..inner.span.end;
        node(Kind::Minus(inner.into()), span)
    }

    fn path(&mut self) -> Result<Node, ExprError> {
        let mut of = self.primary()?;
        loop {
            if self.symbol(".") {
                let here = self.here();
                let start = of.span.start;
                of = match self.next() {
                    Some((Token::Name(name) | Token::Text(name), span)) => node(Kind::Field(of.into(), name), start..span.end)?,
                    Some((Token::Number(digits), span)) if digits.len() == 2 => {
                        let element = digits.parse().unwrap_or(0);
                        node(Kind::FieldElement(of.into(), element), start..span.end)?
                    }
                    _ => return Err(error(here, "expected a field name or a two-digit element after the dot")),
                };
            } else if self.symbol("[") {
                let inner = self.expr()?;
                let end = self.here().end;
                self.expect("]")?;
                let span = of.span.start..end;
                of = node(Kind::Filter(of.into(), inner.into()), span)?;
            } else {
                return Ok(of);
            }
        }
    }

    fn primary(&mut self) -> Result<Node, ExprError> {
        let here = self.here();
        let Some((token, span)) = self.next() else {
            return Err(error(here, "expected a value"));
        };
        let kind = match token {
            Token::Text(text) => Kind::Literal(Value::String(text)),
            Token::Number(digits) if digits.len() == 2 && digits.starts_with('0') => Kind::Element(digits.parse().unwrap_or(0)),
            Token::Number(digits) => match serde_json::from_str(&digits) {
                Ok(number) => Kind::Literal(number),
                Err(_) => return Err(error(span, "a number cannot have leading zeros")),
            },
            Token::Variable(name) => Kind::Variable(name),
            Token::Name(name) => match name.as_str() {
                "true" => Kind::Literal(Value::Bool(true)),
                "false" => Kind::Literal(Value::Bool(false)),
                "null" => Kind::Literal(Value::Null),
                "it" => Kind::It,
                "if" | "then" | "else" | "and" | "or" | "not" => {
                    return Err(error(span, &format!("expected a value before `{name}`")));
                }
                _ if self.symbol("(") => {
                    let arguments = self.separated(")")?;
                    let span = span.start..self.before_end();
                    return node(Kind::Call(Called::of(name), arguments), span);
                }
                _ => Kind::Name(name),
            },
            Token::Symbol("(") => {
                let inner = self.expr()?;
                self.expect(")")?;
                return Ok(inner);
            }
            Token::Symbol("[") => {
                let items = self.separated("]")?;
                let span = span.start..self.before_end();
                return node(Kind::List(items), span);
            }
            Token::Symbol(symbol) => return Err(error(span, &format!("expected a value before `{symbol}`"))),
        };
        node(kind, span)
    }

    /// Expressions with commas between them, up to the symbol that closes them.
    fn separated(&mut self, close: &'static str) -> Result<Vec<Node>, ExprError> {
        let mut all = Vec::new();
        if self.symbol(close) {
            return Ok(all);
        }
        loop {
            all.push(self.expr()?);
            if self.symbol(close) {
                return Ok(all);
            }
            self.expect(",")?;
        }
    }

    fn deeper(&mut self, read: impl FnOnce(&mut Self) -> Result<Node, ExprError>) -> Result<Node, ExprError> {
        self.depth += 1;
        if self.depth > DEPTH {
            return Err(error(self.here(), "the expression is nested too deeply"));
        }
        let node = read(self)?;
        self.depth -= 1;
        Ok(node)
    }

    fn next(&mut self) -> Option<(Token, Span)> {
        let token = self.tokens.get(self.at).cloned();
        self.at += usize::from(token.is_some());
        token
    }

    fn peek_is(&self, word: &str) -> bool {
        match self.tokens.get(self.at) {
            Some((Token::Symbol(symbol), _)) => *symbol == word,
            Some((Token::Name(name), _)) => name == word,
            _ => false,
        }
    }

    fn symbol(&mut self, symbol: &str) -> bool {
        let found = matches!(self.tokens.get(self.at), Some((Token::Symbol(own), _)) if *own == symbol);
        self.at += usize::from(found);
        found
    }

    fn word(&mut self, word: &str) -> bool {
        let found = matches!(self.tokens.get(self.at), Some((Token::Name(own), _)) if own == word);
        self.at += usize::from(found);
        found
    }

    fn expect(&mut self, what: &str) -> Result<(), ExprError> {
        if self.peek_is(what) {
            self.at += 1;
            return Ok(());
        }
        Err(error(self.here(), &format!("expected `{what}`")))
    }

    /// Returns the place of the next token, or the end of the text.
    fn here(&self) -> Span {
        self.tokens.get(self.at).map_or(self.end.saturating_sub(1)..self.end, |(_, span)| span.clone())
    }

    /// Returns the start of the token just read.
    fn before(&self) -> usize {
        self.tokens[self.at - 1].1.start
    }

    fn before_end(&self) -> usize {
        self.tokens[self.at - 1].1.end
    }
}

fn binary(operator: Operator, left: Node, right: Node) -> Result<Node, ExprError> {
    let span = left.span.start..right.span.end;
    node(Kind::Binary(operator, left.into(), right.into()), span)
}

/// A node, unless its tree would be too deep for those who walk it.
fn node(kind: Kind, span: Span) -> Result<Node, ExprError> {
    let mut made = Node { kind, span, levels: 1 };
    made.levels += made.children().into_iter().map(|child| child.levels).max().unwrap_or(0);
    if made.levels > LEVELS {
        return Err(error(made.span, &format!("the expression has more than {LEVELS} nested operators or path steps")));
    }
    Ok(made)
}

fn error(span: Span, says: &str) -> ExprError {
    ExprError { severity: Severity::Error, span, code: "expr::syntax", says: says.to_owned(), help: None }
}
