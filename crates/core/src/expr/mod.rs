//! Expressions: small, pure, total over their documents.
//!
//! ```text
//! expr    = "if" expr "then" first "else" expr | first { "else" first }       x else y: y where x is missing or empty
//! first   = all { "or" all }        all = not { "and" not }        not = "not" not | joined [ ("="|"!="|"<"|"<="|">"|">=") joined ]
//! joined  = sum { "&" sum }         sum = product { ("+"|"-") product }       product = sign { ("*"|"/") sign }
//! sign    = "-" sign | path         path = primary { "." (name | 'text' | two digits) | "[" expr "]" }
//! primary = number | 'text' | "true" | "false" | "null" | "it" | "$" name | name "(" [ expr { "," expr } ] ")" | name | "0" digit | "(" expr ")"
//!         | "[" [ expr { "," expr } ] "]"
//! ```
//!
//! A name reads a field of `it`, in quotes behind a dot where it is no plain word: `it.'reorder at'`; over a transaction set it is a reference designator (`BEG03`) or names
//! the loops and segments of that id (`N1`). Behind a path `[…]` keeps the items for which it is true, or takes the n-th from 1; elsewhere it is a list.
//! `$name` reads a variable that a step has set, or in a named function what it is given; `$doc` is the whole document, `$meta` what is known about its arrival,
//! `$position` which item of its list the item at hand is.
//!
//! What each value gives at each place is one table in `docs/values.md`; [`Item`] enforces it.

mod check;
mod eval;
mod functions;
mod item;
mod lex;
mod library;
mod parse;
mod path;
mod reads;
mod template;

pub use check::{Checked, Gives, Shape, Types, check, check_condition, check_one, item_shape};
pub(crate) use eval::POSITION;
pub use eval::{EvalError, Given, Scope, Work};
pub(crate) use functions::is_built_in;
pub use item::Item;
pub use library::{Library, NamedFunction};
pub use parse::{parse, path_text};
pub(crate) use path::split_designator;
pub use reads::Reads;
pub(crate) use reads::{PRODUCT_ID, segment_path};
pub use template::Template;

use crate::Severity;
use serde_json::Value;
use std::borrow::Cow;
use std::ops::Range;

/// Byte range of a node in its expression's text.
pub type Span = Range<usize>;

/// Deepest nesting of an expression, as it is written.
pub const DEPTH: usize = 64;
/// Deepest tree that an expression makes: each operator of a chain and each step of a path is a level.
pub const LEVELS: u16 = 256;
/// Longest text of one, in bytes.
pub const LENGTH: usize = 64 << 10;

/// A parsed expression with its text.
#[derive(Debug, Clone, PartialEq)]
pub struct Expr {
    pub text: String,
    pub(crate) root: Node,
}

impl Expr {
    /// Evaluates it over `scope`.
    ///
    /// # Errors
    /// [`EvalError`] with the place in the expression: a text that is not a number or date, a code that is not in its table,
    /// several values where one is needed.
    pub fn eval<'a>(&'a self, scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
        eval::eval(&self.root, scope)
    }

    /// The value as JSON, a selection of several as a list; `None` where it is missing.
    ///
    /// # Errors
    /// As [`Self::eval`].
    pub fn value<'a>(&'a self, scope: &Scope<'a>) -> Result<Option<Cow<'a, Value>>, EvalError> {
        Ok(self.eval(scope)?.value())
    }

    /// The one value; a list of the document stays a list. `None` where it is missing.
    ///
    /// # Errors
    /// As [`Self::eval`], and where a path selects several values that differ.
    pub fn one<'a>(&'a self, scope: &Scope<'a>) -> Result<Option<Cow<'a, Value>>, EvalError> {
        match self.eval(scope)? {
            many @ Item::Many(_) => Ok(eval::one(&self.root, many)?.value()),
            other => Ok(other.value()),
        }
    }

    /// Evaluates it to one value that is not a list; `None` if missing.
    ///
    /// # Errors
    /// As [`Self::eval`], and for several values that differ.
    pub fn single<'a>(&'a self, scope: &Scope<'a>) -> Result<Option<Cow<'a, Value>>, EvalError> {
        Ok(eval::single(&self.root, scope)?.value())
    }

    /// The one text that the value is; `None` of nothing.
    ///
    /// # Errors
    /// As [`Self::single`], and where the value is an object, a segment or a loop.
    pub fn text(&self, scope: &Scope<'_>) -> Result<Option<String>, EvalError> {
        let item = self.eval(scope)?;
        Ok(eval::text(&self.root, &item)?.map(Cow::into_owned))
    }

    /// Evaluates it as a condition.
    ///
    /// # Errors
    /// As [`Self::eval`], and for several values that differ.
    pub fn holds(&self, scope: &Scope<'_>) -> Result<bool, EvalError> {
        eval::holds(&self.root, scope)
    }
}

/// A text that is not an expression, an expression without meaning, or one that may fail over some documents.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ExprError {
    /// A warning where the expression can be right over some documents.
    pub severity: Severity,
    pub span: Span,
    /// Stable name, e.g. `expr::unknown-function`.
    pub code: &'static str,
    pub says: String,
    pub help: Option<String>,
}

/// A node of the syntax tree.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Node {
    pub kind: Kind,
    pub span: Span,
    /// Depth of its nodes, itself included.
    pub levels: u16,
}

impl Node {
    /// A short text of it for people: a path as it is written, a call by its name.
    pub fn shown(&self) -> String {
        let join = |of: &Self, name: &str| format!("{}.{name}", of.shown());
        match &self.kind {
            Kind::It => "it".to_owned(),
            Kind::Variable(name) => format!("${name}"),
            Kind::Name(name) => name.clone(),
            Kind::Element(n) => format!("{n:02}"),
            Kind::Field(of, name) => join(of, name),
            Kind::FieldElement(of, n) => join(of, &format!("{n:02}")),
            Kind::Filter(of, by) => format!("{}[{}]", of.shown(), by.shown()),
            Kind::List(_) => "[…]".to_owned(),
            Kind::Call(called, arguments) => match arguments.first() {
                Some(first) => format!("{}({}{})", called.name(), first.shown(), if arguments.len() > 1 { ", …" } else { "" }),
                None => format!("{}()", called.name()),
            },
            Kind::Literal(value) => match value {
                Value::String(text) => format!("'{}'", eval::shorten(text)),
                other => other.to_string(),
            },
            Kind::Minus(_) | Kind::Not(_) | Kind::Binary(..) | Kind::If(..) => "(…)".to_owned(),
        }
    }

    /// The nodes directly below.
    pub fn children(&self) -> Vec<&Self> {
        match &self.kind {
            Kind::Literal(_) | Kind::It | Kind::Variable(_) | Kind::Name(_) | Kind::Element(_) => Vec::new(),
            Kind::Field(of, _) | Kind::FieldElement(of, _) | Kind::Minus(of) | Kind::Not(of) => vec![of],
            Kind::Filter(of, by) | Kind::Binary(_, of, by) => vec![of, by],
            Kind::If(test, yes, no) => vec![test, yes, no],
            Kind::List(nodes) | Kind::Call(_, nodes) => nodes.iter().collect(),
        }
    }
}

#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Kind {
    Literal(Value),
    /// The current document.
    It,
    /// `$name`.
    Variable(String),
    /// A field of `it`, or a reference designator.
    Name(String),
    /// Element `n` of the current segment.
    Element(u8),
    Field(Box<Node>, String),
    FieldElement(Box<Node>, u8),
    Filter(Box<Node>, Box<Node>),
    /// `[a, b]`: the items of each, in one list.
    List(Vec<Node>),
    Call(Called, Vec<Node>),
    Minus(Box<Node>),
    Not(Box<Node>),
    Binary(Operator, Box<Node>, Box<Node>),
    If(Box<Node>, Box<Node>, Box<Node>),
}

/// Target of a call.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Called {
    BuiltIn(&'static functions::Function),
    /// A function of the workspace, or one that there is not.
    Own(String),
}

impl Called {
    pub fn of(name: String) -> Self {
        functions::function(&name).map_or(Self::Own(name), Self::BuiltIn)
    }

    pub fn name(&self) -> &str {
        match self {
            Self::BuiltIn(function) => function.name,
            Self::Own(name) => name,
        }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Operator {
    Add,
    Subtract,
    Multiply,
    Divide,
    Join,
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
    And,
    Or,
    Else,
}
