//! What the expressions of a workspace share: code tables and functions.

use super::{Expr, Gives, Kind, Node, Operator, Span};
use serde_json::Value;
use std::collections::BTreeMap;
use std::sync::Arc;

/// Code tables and named functions.
#[derive(Debug, Clone, Default)]
pub struct Library {
    /// By name; a table maps a code to the second column of its row.
    pub tables: BTreeMap<String, BTreeMap<String, String>>,
    pub functions: BTreeMap<String, Arc<NamedFunction>>,
}

/// A function that a workspace defines. It sees the values it is given, as `$name`, and nothing else.
#[derive(Debug, Clone)]
pub struct NamedFunction {
    pub name: String,
    /// Names of its arguments, in order.
    pub takes: Vec<String>,
    pub gives: Expr,
    /// Type of its value.
    pub kind: Option<Gives>,
    /// A sentence for people; may be empty.
    pub says: String,
}

impl NamedFunction {
    /// Returns its usage, for help texts.
    #[must_use]
    pub fn form(&self) -> String {
        format!("{}({})", self.name, self.takes.join(", "))
    }
}

impl Expr {
    /// The names of the functions that it calls.
    #[must_use]
    pub fn calls(&self) -> Vec<&str> {
        let mut names = Vec::new();
        each(&self.root, &mut |node| {
            if let Kind::Call(called, _) = &node.kind {
                names.push(called.name());
            }
        });
        names
    }

    /// The fixed values that it may give as they are, with their places.
    #[must_use]
    pub fn literals(&self) -> Vec<(&Value, Span)> {
        let mut all = Vec::new();
        let mut open = vec![&self.root];
        while let Some(node) = open.pop() {
            match &node.kind {
                Kind::Literal(value) if !value.is_null() => all.push((value, node.span.clone())),
                Kind::If(_, yes, no) | Kind::Binary(Operator::Else, yes, no) => {
                    open.push(no);
                    open.push(yes);
                }
                _ => {}
            }
        }
        all
    }

    /// Returns the names after `$` that it reads.
    #[must_use]
    pub fn variables(&self) -> Vec<&str> {
        let mut names = Vec::new();
        each(&self.root, &mut |node| {
            if let Kind::Variable(name) = &node.kind {
                names.push(name.as_str());
            }
        });
        names
    }
}

fn each<'e>(node: &'e Node, tell: &mut impl FnMut(&'e Node)) {
    tell(node);
    node.children().into_iter().for_each(|child| each(child, tell));
}
