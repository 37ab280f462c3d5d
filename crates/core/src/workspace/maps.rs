//! Map files: read, and checked against both schemas.

use super::Build;
use super::fields::{Fields, File, Text};
use super::targets::{Targets, carried, patterns};
use crate::document::Validate;
use crate::expr::{Checked, POSITION, Shape, Types, check, check_condition, check_one, parse};
use crate::map::{AsIs, Assignment, Each, Map, Pattern, Place, Rules};
use crate::schema::{Schema, Written};
use std::sync::Arc;

impl<'a> Build<'a> {
    /// Every map, those that make items for others before them.
    pub(super) fn maps(&mut self) {
        let mut waiting: Vec<(&'a str, &'a str, &'a str)> = self.files_of("maps").collect();
        while !waiting.is_empty() {
            let names: Vec<&str> = waiting.iter().map(|(name, ..)| *name).collect();
            let free = |text: &str| !uses(text).iter().any(|used| names.contains(&used.as_str()));
            // Maps that use each other in a circle are read all the same; the first reports that it does not know the other.
            let at = waiting.iter().position(|(_, _, text)| free(text)).unwrap_or(0);
            let (name, path, text) = waiting.remove(at);
            self.map(name, &self.file(path, text));
        }
    }

    fn map(&mut self, name: &str, file: &File<'a>) {
        let mut found = None;
        self.toml(file, |fields| found = self.read_map(name, file, fields));
        if let Some(map) = found {
            self.workspace.maps.insert(name.to_owned(), Arc::new(map));
        }
    }

    fn read_map(&self, name: &str, file: &File<'a>, fields: &Fields<'_>) -> Option<Map> {
        let from = fields.needed_text("from");
        let to = fields.needed_text("to");
        let source = from.as_ref().and_then(|from| {
            let shape = self.workspace.shape(&from.value);
            if shape.is_none() {
                self.unknown(file, from.span.clone(), "schema", &from.value, self.schema_names().iter().map(String::as_str));
            }
            shape
        });
        let target = to.as_ref().and_then(|to| {
            let shape = self.workspace.shape(&to.value);
            if shape.is_none() {
                self.unknown(file, to.span.clone(), "schema", &to.value, self.schema_names().iter().map(String::as_str));
            }
            shape
        });
        let set = match target {
            Some(Shape::Loop(set, _)) => self.workspace.definitions.find(&set.version, &set.set).cloned(),
            _ => None,
        };
        let source = source.unwrap_or(Shape::Any);
        let with = self.with(file, fields);
        let variables: Vec<(&str, Shape<'_>)> = with
            .iter()
            .map(|(name, schema)| {
                (name.as_str(), schema.as_ref().and_then(|schema| self.workspace.shape(schema)).unwrap_or(Shape::Any))
            })
            .collect();
        let begin = self.begin(file, fields, source, target, &variables);
        let carried = match (&begin, source) {
            (Some(begin), Shape::Json(schema, node)) => carried(file, fields, begin, schema, node, target),
            _ => Vec::new(),
        };
        let level = Level { it: source, doc: source, target, variables: &variables, carried: &carried };
        let rules = self.level(file, fields, &level);
        let written = self.written(file, fields, to.as_ref());
        let validate = fields.word("validate", &Validate::WORDS).unwrap_or_default();
        if fields.has("validate") && set.is_some() {
            let says = "a transaction set is checked against its definition, and has no schema";
            file.error(fields.span_of("validate"), "map::validate", says, None);
        }
        let validator = to.as_ref().and_then(|to| self.workspace.validators.get(&to.value));
        let fits = validator.map(|validator| (validate, validator.clone()));
        Some(Map { name: name.to_owned(), from: from?.value, to: to?.value, set, written, fits, with, begin, rules })
    }

    /// Reads `[with]`: further documents that the map reads, each with a schema, or with nothing for any document.
    fn with(&self, file: &File<'a>, fields: &Fields<'_>) -> Vec<(String, Option<String>)> {
        let mut with = Vec::new();
        for (path, span, schema) in fields.assignments("with") {
            if !schema.value.is_empty() && self.workspace.shape(&schema.value).is_none() {
                self.unknown(file, schema.span, "schema", &schema.value, self.schema_names().iter().map(String::as_str));
            }
            match path.as_slice() {
                [name] if !["doc", "meta", POSITION].contains(&name.as_str()) => {
                    with.push((name.clone(), Some(schema.value).filter(|schema| !schema.is_empty())));
                }
                _ => file.error(span, "map::with", "a document beside the source needs one plain name", None),
            }
        }
        with
    }

    /// `begin = "as-is"` with what is changed, dropped and renamed then.
    fn begin(
        &self,
        file: &File<'a>,
        fields: &Fields<'_>,
        source: Shape<'_>,
        target: Option<Shape<'_>>,
        variables: &[(&str, Shape<'_>)],
    ) -> Option<AsIs> {
        let begins = fields.word("begin", &[("as-is", ())]).is_some();
        let pattern = |text: &Text| {
            let read = Pattern::parse(&text.value);
            read.map_err(|says| file.error(text.span.clone(), "map::pattern", says, None)).ok()
        };
        let drop = fields.texts("drop");
        let rename = fields.pairs("rename");
        let change = fields.pairs("change");
        if !begins {
            if let Some(key) = ["drop", "rename", "change"].into_iter().find(|key| fields.has(key)) {
                let help = Some("write begin = \"as-is\"".to_owned());
                file.error(fields.span_of(key), "map::begin", format!("`{key}` needs `begin = \"as-is\"`"), help);
            }
            return None;
        }
        if matches!(source, Shape::Loop(..)) || matches!(target, Some(Shape::Loop(..))) {
            let says = "a transaction set is built field by field; `begin = \"as-is\"` needs a schema";
            file.error(fields.span_of("begin"), "map::begin", says, None);
        }
        if source.types().is_some_and(|types| !types.meets(Types::OBJECT)) {
            let says = "the source is not an object; `begin = \"as-is\"` needs an object";
            file.error(fields.span_of("begin"), "map::begin", says, None);
        }
        let line = file.line(fields.span_of("begin").start);
        let mut begin = AsIs { drop: drop.iter().filter_map(pattern).collect(), line, ..AsIs::default() };
        for (key, name) in rename {
            if name.value.is_empty() || name.value.contains('.') || name.value.matches('*').count() > 1 {
                file.error(
                    name.span.clone(),
                    "map::pattern",
                    "a field gets one new name, in which * stands for the matched part",
                    None,
                );
            }
            begin.rename.extend(pattern(&key).map(|pattern| (pattern, name.value)));
        }
        for (key, text) in change {
            let start = file.inside(&text.span);
            match parse(&text.value) {
                Ok(expr) => {
                    self.check_expr(file, start, &expr, Need::One, Shape::Any, source, variables);
                    let line = file.line(text.span.start);
                    begin.change.extend(pattern(&key).map(|pattern| (pattern, expr, line)));
                }
                Err(error) => file.expr_error(start, error),
            }
        }
        if let Shape::Json(schema, node) = source {
            patterns(file, fields, &begin, schema, node);
        }
        Some(begin)
    }

    /// Reads the written form of the target.
    fn written(&self, file: &File<'a>, fields: &Fields<'_>, to: Option<&Text>) -> Option<(Written, Arc<Schema>)> {
        let written = fields.word("written", &Written::WORDS)?;
        let span = fields.span_of("written");
        let Some(schema) = to.and_then(|to| self.workspace.schemas.get(&to.value)) else {
            file.error(span, "map::written", "`written` needs a schema: X12 and text have one form only", None);
            return None;
        };
        self.writes(file, span, written, &schema.name);
        Some((written, schema.clone()))
    }

    fn schema_names(&self) -> Vec<String> {
        let own = self.workspace.schemas.keys().cloned();
        let sets = self.workspace.definitions.all().map(|set| format!("x12/{}/{}", set.version, set.set));
        own.chain(sets).collect()
    }

    fn level(&self, file: &File<'a>, fields: &Fields<'_>, level: &Level<'_>) -> Rules {
        let mut rules = Rules::default();
        let mut filled = Targets::new(level.carried, matches!(level.target, Some(Shape::Loop(..))));
        for (target, key_span, text) in fields.assignments("set") {
            let start = file.inside(&text.span);
            let wanted = self.check_target(file, key_span.clone(), &target, level);
            filled.add(file, key_span.clone(), &target);
            match parse(&text.value) {
                Ok(value) => {
                    let given = self.check_expr(file, start, &value, Need::Any, level.it, level.doc, level.variables);
                    let place = self.place(file, start, &target, wanted.as_ref(), &given, &value);
                    let line = file.line(key_span.start);
                    rules.set.push(Assignment { target, value, line, place });
                }
                Err(error) => file.expr_error(start, error),
            }
        }
        for each in fields.tables("each") {
            rules.each.extend(self.items(file, each, level, &mut filled));
        }
        self.unfilled(file, fields, level, &filled);
        rules
    }

    /// Reads one `[[each]]` of a level.
    fn items(&self, file: &File<'a>, each: Fields<'_>, level: &Level<'_>, filled: &mut Targets) -> Option<Each> {
        let of = each.expr("of");
        if of.is_none() && !each.has("of") {
            each.missing("of");
        }
        let into = each.needed_text("into");
        let shape = match &of {
            Some((of, start)) => self.check_expr(file, *start, of, Need::Any, level.it, level.doc, level.variables).shape,
            None => Shape::Any,
        };
        let target: Vec<String> =
            into.as_ref().map(|into| into.value.split('.').map(str::to_owned).collect()).unwrap_or_default();
        let mut inner_target = None;
        let mut one = false;
        if let Some(into) = &into {
            filled.add(file, into.span.clone(), &target);
            inner_target = match self.check_target(file, into.span.clone(), &target, level) {
                Some(place @ Shape::Json(schema, node)) => match schema.item(node) {
                    Some(item) => Some(Shape::Json(schema, item)),
                    None => {
                        // An object that one item makes.
                        one = place.types().is_some_and(|types| types.without(Types::NULL) == Types::OBJECT);
                        if place.types().is_some_and(|types| !types.meets(Types::OBJECT.and(Types::LIST))) {
                            let says = format!("`{}` is neither a list nor an object, so it cannot have items", into.value);
                            file.error(into.span.clone(), "map::type", says, None);
                        }
                        one.then_some(place)
                    }
                },
                other => other,
            };
        }
        let it = crate::expr::item_shape(shape);
        let inner = Level { it, doc: level.doc, target: inner_target, variables: level.variables, carried: &[] };
        let by = each.text("by");
        let rules = match &by {
            Some(by) => self.other_map(file, &each, by, &inner),
            None => self.level(file, &each, &inner),
        };
        each.done();
        let ((of, start), _) = of.zip(into)?;
        Some(Each { of, into: target, one, by: by.map(|by| by.value), line: file.line(start), rules })
    }

    /// The rules of another map, which makes each item.
    fn other_map(&self, file: &File<'a>, each: &Fields<'_>, by: &Text, level: &Level<'_>) -> Rules {
        if each.has("set") || each.has("each") {
            file.error(by.span.clone(), "map::by", "another map makes these items; remove the rules here", None);
        }
        let Some(other) = self.workspace.maps.get(&by.value) else {
            let known = self.workspace.maps.keys().map(String::as_str);
            self.unknown(file, by.span.clone(), "map (one that does not use this map again)", &by.value, known);
            return Rules::default();
        };
        if other.begin.is_some() || other.written.is_some() || other.set.is_some() {
            let says =
                format!("`{}` has `begin = \"as-is\"` or does not give a plain document, so it cannot make items", other.name);
            file.error(by.span.clone(), "map::by", says, None);
        }
        for (name, _) in other.with.iter().filter(|(name, _)| !level.variables.iter().any(|(known, _)| known == name)) {
            file.error(
                by.span.clone(),
                "map::with",
                format!("`{}` reads ${name}, which is not in [with] of this map", other.name),
                None,
            );
        }
        self.other_rules(file, each, by, &other.name, &other.rules, level);
        other.rules.clone()
    }

    /// Checks the rules of another map, which were checked with their own schemas, with the schemas here.
    fn other_rules(&self, file: &File<'a>, each: &Fields<'_>, by: &Text, name: &str, rules: &Rules, level: &Level<'_>) {
        let mut filled = Targets::new(&[], false);
        let fits = |expr: &crate::expr::Expr, line: u32| {
            let mut errors = Vec::new();
            let checked = check(expr, level.it, level.doc, level.variables, &self.workspace.library, &mut errors);
            if let Some(error) = errors.into_iter().next() {
                let says = format!("`{name}` cannot be used here: {} (its line {line})", error.says);
                file.error(by.span.clone(), "map::by", says, error.help);
            }
            checked.shape
        };
        for rule in &rules.set {
            self.check_target(file, by.span.clone(), &rule.target, level);
            filled.add(file, by.span.clone(), &rule.target);
            fits(&rule.value, rule.line);
        }
        for list in &rules.each {
            let it = crate::expr::item_shape(fits(&list.of, list.line));
            filled.add(file, by.span.clone(), &list.into);
            let target = match self.check_target(file, by.span.clone(), &list.into, level) {
                Some(place @ Shape::Json(schema, node)) => match schema.item(node) {
                    Some(_) if list.one => {
                        let says = format!("`{name}` fills `{}` as an object, but it is a list here", list.into.join("."));
                        file.error(by.span.clone(), "map::by", says, None);
                        None
                    }
                    Some(item) => Some(Shape::Json(schema, item)),
                    None => list.one.then_some(place),
                },
                other => other,
            };
            let inner = Level { it, doc: level.doc, target, variables: level.variables, carried: &[] };
            self.other_rules(file, each, by, name, &list.rules, &inner);
        }
        self.unfilled(file, each, level, &filled);
    }
}

/// The maps that a map's file names for making items.
fn uses(text: &str) -> Vec<String> {
    fn walk(table: &dyn toml_edit::TableLike, found: &mut Vec<String>) {
        for (key, item) in table.iter() {
            match item {
                _ if key == "by" => found.extend(item.as_str().map(str::to_owned)),
                toml_edit::Item::ArrayOfTables(all) => all.iter().for_each(|inner| walk(inner, found)),
                _ => {}
            }
        }
    }
    let mut found = Vec::new();
    // Invalid TOML is reported where the file is read.
    if text.contains("by")
        && let Ok(document) = toml_edit::Document::parse(text)
    {
        walk(document.as_table(), &mut found);
    }
    found
}

pub(super) struct Level<'t> {
    pub it: Shape<'t>,
    pub doc: Shape<'t>,
    pub target: Option<Shape<'t>>,
    /// Values that can be read as `$name`.
    pub variables: &'t [(&'t str, Shape<'t>)],
    /// Fields of the target that a copied source fills, with their shapes.
    pub carried: &'t [(String, Shape<'t>)],
}

/// Required result of an expression.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Need {
    /// Anything: its use decides.
    Any,
    /// One value.
    One,
    /// A condition.
    Condition,
}

impl<'a> Build<'a> {
    /// Checks an expression that starts at `start` in the file; gives what is known of its value.
    #[expect(clippy::too_many_arguments, reason = "what an expression can see, and where it stands")]
    pub(super) fn check_expr<'s>(
        &self,
        file: &File<'_>,
        start: usize,
        expr: &crate::expr::Expr,
        need: Need,
        it: Shape<'s>,
        doc: Shape<'s>,
        variables: &[(&str, Shape<'s>)],
    ) -> Checked<'s> {
        let mut errors = Vec::new();
        let library = &self.workspace.library;
        let checked = match need {
            Need::Any => check(expr, it, doc, variables, library, &mut errors),
            Need::One => {
                let shape = check_one(expr, it, doc, variables, library, &mut errors);
                Checked { shape, several: false, repeats: false }
            }
            Need::Condition => {
                check_condition(expr, it, doc, variables, library, &mut errors);
                Checked { shape: Shape::Value(crate::expr::Gives::Truth), several: false, repeats: false }
            }
        };
        for error in errors {
            file.expr_error(start, error);
        }
        checked
    }

    /// Returns what the target takes, and checks the rule's result.
    fn place(
        &self,
        file: &File<'_>,
        start: usize,
        target: &[String],
        wanted: Option<&Shape<'_>>,
        given: &Checked<'_>,
        value: &crate::expr::Expr,
    ) -> Place {
        let span = start..start + value.text.len();
        if let Some(wanted) = wanted
            && !super::targets::mismatch(file, span, &target.join("."), wanted, given)
            && let Shape::Json(schema, node) = wanted
        {
            super::targets::literals(file, start, &target.join("."), schema, node, value);
        }
        match wanted.and_then(Shape::types) {
            None => Place::Unknown,
            Some(types) if !types.meets(Types::LIST) => Place::One,
            Some(types) if types.without(Types::NULL) == Types::LIST => Place::List,
            Some(_) => Place::Unknown,
        }
    }
}
