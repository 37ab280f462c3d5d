//! Workspace functions: `functions/NAME.toml` with arguments, result, and examples that must hold.

use super::Build;
use super::fields::{Fields, File};
use crate::expr::{Expr, Item, NamedFunction, POSITION, Scope, Shape, Types, Work, check, is_built_in, parse};
use crate::number;
use serde_json::Value;
use std::sync::Arc;

impl<'a> Build<'a> {
    /// First all are known by name, so that each can use the others.
    pub(super) fn function(&mut self, name: &str, file: &File<'a>) {
        let mut found = None;
        self.toml(file, |fields| found = read(name, file, fields));
        if let Some(function) = found {
            self.workspace.library.functions.insert(name.to_owned(), Arc::new(function));
        }
    }

    /// Then what each gives is checked, and its examples are tried.
    pub(super) fn function_holds(&mut self, name: &str, file: &File<'a>) {
        let Some(function) = self.workspace.library.functions.get(name).cloned() else { return };
        let Ok(document) = toml_edit::Document::parse(file.text) else { return };
        let fields = Fields::new(file, document.as_table(), 0..0);
        let Some(gives) = fields.text("gives") else { return };
        if let Some(round) = self.calls_itself(&function) {
            file.error(gives.span, "function::round", format!("`{name}` calls itself by way of {round}"), None);
            self.workspace.library.functions.remove(name);
            return;
        }
        let takes: Vec<(&str, Shape<'_>)> = function.takes.iter().map(|name| (name.as_str(), Shape::Any)).collect();
        let mut errors = Vec::new();
        let nothing = Shape::OneOf(Types::NULL);
        let checked = check(&function.gives, nothing, nothing, &takes, &self.workspace.library, &mut errors);
        let kind = match checked.shape {
            Shape::Value(kind) if !checked.several => Some(kind),
            _ => None,
        };
        if let Some(outside) =
            function.gives.variables().into_iter().find(|name| {
                ["doc", "meta"].contains(name) || *name == POSITION && !function.takes.iter().any(|own| own == POSITION)
            })
        {
            let says = format!("a function can use only its parameters, and ${outside} is not one of them");
            file.error(gives.span.clone(), "function::outside", says, None);
        }
        let broken = !errors.is_empty();
        let start = file.inside(&gives.span);
        errors.into_iter().for_each(|error| file.expr_error(start, error));
        if !broken {
            self.examples(file, &fields, &function);
        }
        self.workspace.library.functions.insert(name.to_owned(), Arc::new(NamedFunction { kind, ..(*function).clone() }));
    }

    /// Returns the function through which a function calls itself.
    fn calls_itself(&self, function: &NamedFunction) -> Option<String> {
        let own = |expr: &Expr| expr.calls().into_iter().map(str::to_owned).collect::<Vec<_>>();
        let mut open = own(&function.gives);
        let mut seen: Vec<String> = Vec::new();
        while let Some(next) = open.pop() {
            let Some(called) = self.workspace.library.functions.get(&next) else { continue };
            if called.gives.calls().contains(&function.name.as_str()) || next == function.name {
                return Some(next);
            }
            if !seen.contains(&next) {
                open.extend(own(&called.gives));
                seen.push(next);
            }
        }
        None
    }

    fn examples(&self, file: &File<'_>, fields: &Fields<'_>, function: &NamedFunction) {
        let examples = fields.tables("example");
        if examples.is_empty() {
            file.error(
                0..0,
                "function::example",
                format!("`{}` has no example", function.name),
                Some("write [[example]] with given = [\u{2026}] and gives = \u{2026}".to_owned()),
            );
        }
        for example in examples {
            let given = example.values("given");
            if given.len() != function.takes.len() {
                let says =
                    format!("`{}` takes {} values, but the example has {}", function.form(), function.takes.len(), given.len());
                file.error(example.span_of("given"), "function::example", says, None);
                continue;
            }
            let expected = example.value("gives");
            let span = example.span_of("gives");
            let variables = function.takes.iter().cloned().zip(given).collect();
            let library = &self.workspace.library;
            let scope = Scope {
                it: Item::Missing,
                doc: Item::Missing,
                variables: &variables,
                library,
                given: None,
                position: None,
                work: Work::default(),
            };
            let shown = |value: Option<&Value>| value.map_or_else(|| "nothing".to_owned(), ToString::to_string);
            match function.gives.value(&scope).map(|value| value.map(std::borrow::Cow::into_owned)) {
                Ok(actual) if same(actual.as_ref(), expected.as_ref()) => {}
                Ok(actual) => {
                    let says =
                        format!("the example fails: it gives {}, not {}", shown(actual.as_ref()), shown(expected.as_ref()));
                    file.error(span, "function::example", says, None);
                }
                Err(error) => file.error(span, "function::example", format!("the example fails: {error}"), None),
            }
        }
    }
}

fn read(name: &str, file: &File<'_>, fields: &Fields<'_>) -> Option<NamedFunction> {
    let says = fields.text("says").map(|text| text.value).unwrap_or_default();
    let takes: Vec<String> = fields.texts("takes").into_iter().map(|text| text.value).collect();
    let gives = fields.needed_text("gives");
    for example in fields.tables("example") {
        example.values("given");
        example.value("gives");
        example.done();
    }
    let plain = |name: &str| {
        name.starts_with(|c: char| c.is_ascii_lowercase()) && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
    };
    if is_built_in(name) || !plain(name) {
        let says = format!(
            "`{name}` cannot name a function: {}",
            if plain(name) { "there is a function of that name already" } else { "use lower-case letters, digits and _" }
        );
        file.error(0..0, "function::name", says, None);
        return None;
    }
    let gives = gives?;
    match parse(&gives.value) {
        Ok(gives) => Some(NamedFunction { name: name.to_owned(), takes, gives, kind: None, says }),
        Err(error) => {
            file.expr_error(file.inside(&gives.span), error);
            None
        }
    }
}

/// Compares results; numbers are equal whatever trailing zeros they have.
fn same(a: Option<&Value>, b: Option<&Value>) -> bool {
    match (a, b) {
        (Some(Value::Number(a)), Some(Value::Number(b))) => {
            number::compare(a.as_str(), b.as_str()) == Some(std::cmp::Ordering::Equal)
        }
        _ => a == b,
    }
}
