//! Expressions: small, pure, total over their documents.
//!
//! ```text
//! expr    = "if" expr "then" first "else" expr | first { "else" first }       x else y: y where x is missing or empty
//! first   = all { "or" all }        all = not { "and" not }        not = "not" not | joined [ ("="|"!="|"<"|"<="|">"|">=") joined ]
//! joined  = sum { "&" sum }         sum = product { ("+"|"-") product }       product = sign { ("*"|"/") sign }
//! sign    = "-" sign | path         path = primary { "." (name | 'text' | two digits) | "[" expr "]" }
//! primary = number | 'text' | "true" | "false" | "null" | "it" | "$" name | name "(" [ expr { "," expr } ] ")" | name | "0" digit | "(" expr ")"
//! ```
//!
//! A name reads a field of `it`, in quotes behind a dot where it is no plain word: `it.'reorder at'`; over a transaction set it is a reference designator (`BEG03`) or names
//! the loops and segments of that id (`N1`). `[…]` keeps the items for which it is true, or takes the n-th from 1.
//! `$name` reads what a step kept, or in a named function what it is given; `$doc` is the whole document, `$meta` what is known about its arrival.

mod check;
mod eval;
mod functions;
mod lex;
mod library;
mod parse;
mod reads;
mod template;

pub use check::{Gives, Shape, check, item_shape};
pub(crate) use eval::split_designator;
pub use eval::{EvalError, Given, Item, Scope, Work};
pub(crate) use functions::is_built_in;
pub use library::{Library, NamedFunction};
pub use parse::{parse, path_text};
pub use reads::Reads;
pub(crate) use reads::{PRODUCT_ID, segment_path};
pub use template::Template;

use std::ops::Range;

/// Byte range of a node in its expression's text.
pub type Span = Range<usize>;

/// Deepest nesting of an expression.
pub const DEPTH: usize = 64;
/// Longest text of one, in bytes.
pub const LENGTH: usize = 64 << 10;

/// A parsed expression with the text it came from.
#[derive(Debug, Clone, PartialEq)]
pub struct Expr {
    pub text: String,
    pub(crate) root: Node,
}

impl Expr {
    /// The value over `scope`.
    ///
    /// # Errors
    /// [`EvalError`] with the place in the expression: a text that is no number, a date that is none, a code not in its table.
    pub fn eval<'a>(&'a self, scope: &Scope<'a>) -> Result<Item<'a>, EvalError> {
        eval::eval(&self.root, scope)
    }
}

/// Text that is no expression, or an expression that cannot mean anything.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ExprError {
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
}

#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Kind {
    Literal(serde_json::Value),
    /// The document at hand.
    It,
    /// `$name`.
    Kept(String),
    /// A field of `it`, or a reference designator.
    Name(String),
    /// Element `n` of the segment at hand.
    Element(u8),
    Field(Box<Node>, String),
    FieldElement(Box<Node>, u8),
    Filter(Box<Node>, Box<Node>),
    Call(String, Vec<Node>),
    Minus(Box<Node>),
    Not(Box<Node>),
    Binary(Operator, Box<Node>, Box<Node>),
    If(Box<Node>, Box<Node>, Box<Node>),
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
