//! What expressions of a workspace share: code tables and functions of its own.

use super::{Expr, Gives, Kind, Node};
use std::collections::BTreeMap;
use std::sync::Arc;

/// Code tables and named functions.
#[derive(Debug, Clone, Default)]
pub struct Library {
    /// By name; a table maps a code to its row's second column.
    pub tables: BTreeMap<String, BTreeMap<String, String>>,
    pub functions: BTreeMap<String, Arc<NamedFunction>>,
}

/// A function that a workspace defines. It sees the values it is given, as `$name`, and nothing else.
#[derive(Debug, Clone)]
pub struct NamedFunction {
    pub name: String,
    /// Names of the values it takes, in order.
    pub takes: Vec<String>,
    pub gives: Expr,
    /// What kind of value that is.
    pub kind: Option<Gives>,
    /// One sentence for people; may be empty.
    pub says: String,
}

impl NamedFunction {
    /// How it is called, for help.
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
            if let Kind::Call(name, _) = &node.kind {
                names.push(name.as_str());
            }
        });
        names
    }

    /// The names behind a `$` that it reads.
    #[must_use]
    pub fn kept(&self) -> Vec<&str> {
        let mut names = Vec::new();
        each(&self.root, &mut |node| {
            if let Kind::Kept(name) = &node.kind {
                names.push(name.as_str());
            }
        });
        names
    }
}

fn each<'e>(node: &'e Node, tell: &mut impl FnMut(&'e Node)) {
    tell(node);
    match &node.kind {
        Kind::Literal(_) | Kind::It | Kind::Kept(_) | Kind::Name(_) | Kind::Element(_) => {}
        Kind::Field(of, _) | Kind::FieldElement(of, _) | Kind::Minus(of) | Kind::Not(of) => each(of, tell),
        Kind::Filter(of, by) | Kind::Binary(_, of, by) => {
            each(of, tell);
            each(by, tell);
        }
        Kind::If(test, yes, no) => {
            each(test, tell);
            each(yes, tell);
            each(no, tell);
        }
        Kind::Call(_, arguments) => arguments.iter().for_each(|one| each(one, tell)),
    }
}
