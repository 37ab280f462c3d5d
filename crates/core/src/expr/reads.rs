//! Which fields an expression reads, seen from its text alone.

use super::functions::Function;
use super::path::split_designator;
use super::{Called, Expr, Kind, Node};

/// Paths that expressions read. Items of a list have the path of the list; an element of a transaction set is `BEG.03`,
/// of the segment that opens a loop `N1.02`.
#[derive(Debug)]
pub struct Reads {
    paths: Vec<String>,
    /// Names are reference designators.
    x12: bool,
}

/// Appended to the path of a line whose product ids are read.
pub(crate) const PRODUCT_ID: &str = "#id";

impl Reads {
    /// Creates an empty record.
    #[must_use]
    pub fn new(x12: bool) -> Self {
        Self { paths: Vec::new(), x12 }
    }

    /// Adds what `expr` reads where `it` has the path `it`; gives the path of what it selects, where it selects something.
    pub fn add(&mut self, expr: &Expr, it: Option<&str>) -> Option<String> {
        self.walk(&expr.root, it)
    }

    /// Says that all below a path was read.
    pub fn read(&mut self, path: Option<String>) {
        self.paths.extend(path);
    }

    /// Returns whether the field at that path was read, by itself or within its parent.
    #[must_use]
    pub fn has(&self, path: &str) -> bool {
        self.paths.iter().any(|read| {
            let below = path.strip_prefix(read.as_str());
            below.is_some_and(|rest| rest.is_empty() || rest.starts_with('.') || read.is_empty())
        })
    }

    fn within(&self, of: &str, name: &str) -> String {
        if !self.x12 {
            return join(of, name);
        }
        match split_designator(name) {
            (id, Some(n)) => join(&segment_path(of, id), &format!("{n:02}")),
            (id, None) => segment_path(of, id),
        }
    }

    fn walk(&mut self, node: &Node, it: Option<&str>) -> Option<String> {
        match &node.kind {
            Kind::Literal(_) => None,
            Kind::It => it.map(str::to_owned),
            Kind::Variable(name) => (name == "doc").then(String::new),
            Kind::Name(name) => it.map(|it| self.within(it, name)),
            Kind::Element(n) => it.map(|it| join(it, &format!("{n:02}"))),
            Kind::Field(of, name) => self.walk(of, it).map(|of| self.within(&of, name)),
            Kind::FieldElement(of, n) => self.walk(of, it).map(|of| join(&of, &format!("{n:02}"))),
            Kind::Filter(of, by) => {
                let of = self.walk(of, it);
                let by = self.walk(by, of.as_deref());
                self.read(by);
                of
            }
            Kind::List(nodes) => self.all(&nodes.iter().collect::<Vec<_>>(), it),
            Kind::Call(called, arguments) => self.call(called, arguments, it),
            Kind::Minus(inner) | Kind::Not(inner) => {
                let inner = self.walk(inner, it);
                self.read(inner);
                None
            }
            Kind::If(test, yes, no) => self.all(&[test, yes, no], it),
            Kind::Binary(_, left, right) => self.all(&[left, right], it),
        }
    }

    fn all(&mut self, nodes: &[&Node], it: Option<&str>) -> Option<String> {
        for node in nodes {
            let path = self.walk(node, it);
            self.read(path);
        }
        None
    }

    fn call(&mut self, called: &Called, arguments: &[Node], it: Option<&str>) -> Option<String> {
        let built_in = |is: fn(&Function) -> bool| matches!(called, Called::BuiltIn(function) if is(function));
        if called.name() == "id" {
            self.read(it.map(|it| format!("{it}.{PRODUCT_ID}")));
            return None;
        }
        let (first, rest) = arguments.split_first()?;
        let of = self.walk(first, it);
        let inner = if built_in(Function::is_over_items) { of.clone() } else { it.map(str::to_owned) };
        for (n, argument) in rest.iter().enumerate() {
            let path = self.walk(argument, if n == 0 { inner.as_deref() } else { it });
            self.read(path);
        }
        match called.name() {
            // Counting or testing for existence does not read the content.
            "count" | "exists" => None,
            "all" | "any" | "of_each" if !rest.is_empty() => None,
            "first" | "last" => of,
            _ if built_in(Function::gives_items) => of,
            _ => {
                self.read(of);
                None
            }
        }
    }
}

fn join(of: &str, name: &str) -> String {
    if of.is_empty() { name.to_owned() } else { format!("{of}.{name}") }
}

/// A segment or loop below `of`; the segment that opens a loop is the loop itself.
pub(crate) fn segment_path(of: &str, id: &str) -> String {
    if of.rsplit('.').next() == Some(id) { of.to_owned() } else { join(of, id) }
}
