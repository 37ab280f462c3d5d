//! Proposes the rules of a map: which source field fills which target field, why, and with which confidence.
//!
//! Names are compared word by word, with the trade's synonyms; examples, types and formats add to the score. Nothing is applied:
//! the result is a map file to read and edit.

mod file;
pub mod flow;
mod set;
mod trade;

use crate::expr::{Gives, Library, Shape, check, item_shape, parse, path_text};
use crate::map::edit::Within;
use crate::schema::{Leaf, Level, Schema, names_a_day};
use crate::workspace::Workspace;
use serde::Serialize;
use serde_json::Value;
use std::collections::BTreeSet;
use trade::{Words, of_format, words};

/// Below this a likeness is chance.
const LEAST: f64 = 0.35;
/// The same of two lists: their names' likeness and the part of the target's fields that one fills, together.
const LEAST_OF_LISTS: f64 = 0.5;

/// Confidence of a proposal.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Confidence {
    Maybe,
    Likely,
    Sure,
}

impl Confidence {
    fn of(score: f64) -> Option<Self> {
        match score {
            0.8.. => Some(Self::Sure),
            0.55.. => Some(Self::Likely),
            LEAST.. => Some(Self::Maybe),
            _ => None,
        }
    }

    /// Returns the word as shown.
    #[must_use]
    pub const fn as_str(self) -> &'static str {
        match self {
            Self::Maybe => "maybe",
            Self::Likely => "likely",
            Self::Sure => "sure",
        }
    }
}

/// The rules of one level.
#[derive(Debug, Clone, PartialEq, Default, Serialize)]
pub struct Proposal {
    pub rules: Vec<Proposed>,
    pub lists: Vec<ProposedList>,
    /// Targets for which nothing was found, and whether they are required.
    pub unfilled: Vec<(Vec<String>, bool)>,
}

/// A proposed rule.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Proposed {
    pub target: Vec<String>,
    pub expression: String,
    pub confidence: Confidence,
    pub because: String,
}

/// A list into a list.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct ProposedList {
    /// The expression that selects the items.
    pub of: String,
    pub into: Vec<String>,
    pub rules: Proposal,
}

/// A rule proposed for a field, with the lists it is in.
#[derive(Debug, Clone, PartialEq)]
pub struct ProposedRule {
    /// `rows[].item`.
    pub path: String,
    pub rule: Proposed,
    pub within: Vec<Within>,
}

impl Proposal {
    /// Returns every rule by itself, so that each can be accepted or not.
    #[must_use]
    pub fn each(&self) -> Vec<ProposedRule> {
        let mut all = Vec::new();
        self.collect("", &[], &mut all);
        all
    }

    fn collect(&self, at: &str, within: &[Within], all: &mut Vec<ProposedRule>) {
        for rule in &self.rules {
            let path = format!("{at}{}", rule.target.join("."));
            all.push(ProposedRule { path, rule: rule.clone(), within: within.to_vec() });
        }
        for list in &self.lists {
            let into = list.into.join(".");
            let own = Within { into: into.clone(), of: list.of.clone() };
            let within: Vec<Within> = within.iter().cloned().chain([own]).collect();
            list.rules.collect(&format!("{at}{into}[]."), &within, all);
        }
    }
}

/// A field of the source as an expression reads it.
struct Source {
    expression: String,
    /// Own name as written; empty if it has none.
    name: String,
    own: Words,
    /// Words of its parents.
    around: Words,
    /// Words of its title.
    title: Words,
    /// `string`, `number`, `boolean`, `list`; empty where that is not sure.
    kind: String,
    format: String,
    examples: Vec<Value>,
}

/// The fields of a level of the source, and the lists in it.
#[derive(Default)]
struct Sources {
    fields: Vec<Source>,
    lists: Vec<(String, Words, Sources)>,
}

/// Proposes a map from the schema `from` to the schema `to`.
///
/// # Errors
/// A sentence, if one of them does not exist, or the target is not an object or a set with order lines.
pub fn propose(workspace: &Workspace, from: &str, to: &str) -> Result<Proposal, String> {
    let unknown = |name: &str| format!("there is no schema {name}");
    let sources = match workspace.shape(from).ok_or_else(|| unknown(from))? {
        Shape::Json(schema, _) => of_level(&schema.level()),
        shape => of_set(shape, &workspace.library),
    };
    let target: &Schema = match workspace.shape(to).ok_or_else(|| unknown(to))? {
        Shape::Json(schema, _) => schema,
        Shape::Loop(definition, _) => {
            let says = || format!("{to} is not an order set: only 850 and 855 can be proposed");
            return set::into_set(&sources, definition).ok_or_else(says);
        }
        _ => return Err(unknown(to)),
    };
    let level = target.level();
    if level.lists.iter().any(|(path, _)| path.is_empty()) {
        return Err(format!("the schema {to} is a list; a map makes one object"));
    }
    Ok(level_rules(&sources, &level))
}

fn of_level(level: &Level) -> Sources {
    let field = |leaf: &Leaf| {
        let (own, around) =
            leaf.path.split_last().map(|(own, around)| (words(own), words(&around.join(" ")))).unwrap_or_default();
        Source {
            expression: path_text(&leaf.path),
            name: leaf.path.last().cloned().unwrap_or_default(),
            own: joined(&own, &of_format(&leaf.format)),
            around,
            title: words(&leaf.title),
            kind: if leaf.kind == "integer" { "number".to_owned() } else { leaf.kind.clone() },
            format: leaf.format.clone(),
            examples: leaf.examples.clone(),
        }
    };
    let lists = level.lists.iter().map(|(path, inner)| {
        let of = if path.is_empty() { "it".to_owned() } else { path_text(path) };
        (of, words(&path.join(" ")), of_level(inner))
    });
    Sources { fields: level.leaves.iter().map(field).collect(), lists: lists.collect() }
}

/// Returns the usual business fields of a transaction set, as far as this set has them.
fn of_set(shape: Shape<'_>, library: &Library) -> Sources {
    let gives = |text: &str, it: Shape<'_>| {
        let mut errors = Vec::new();
        let expr = parse(text).ok()?;
        let checked = check(&expr, it, shape, &[], library, &mut errors);
        let sound = errors.iter().all(|error| error.severity != crate::Severity::Error);
        sound.then_some(match checked.shape {
            Shape::Value(Gives::Number) => "number",
            _ => "string",
        })
    };
    let sources = |known: &[(&str, &str, &str)], it: Shape<'_>| {
        let found = known.iter().filter_map(|(expression, own, around)| {
            Some(Source {
                expression: (*expression).to_owned(),
                name: String::new(),
                own: words(own),
                around: words(around),
                title: Words::new(),
                kind: gives(expression, it)?.to_owned(),
                format: if expression.starts_with("date(") { "date".to_owned() } else { String::new() },
                examples: Vec::new(),
            })
        });
        found.collect::<Vec<_>>()
    };
    let mut all = Sources { fields: sources(&trade::HEADER, shape), lists: Vec::new() };
    let mut errors = Vec::new();
    if let Ok(lines) = parse("PO1") {
        let line = item_shape(check(&lines, shape, shape, &[], library, &mut errors).shape);
        if errors.is_empty() {
            let inner = Sources { fields: sources(&trade::LINE, line), lists: Vec::new() };
            all.lists.push(("PO1".to_owned(), words("lines"), inner));
        }
    }
    all
}

fn level_rules(sources: &Sources, target: &Level) -> Proposal {
    let mut proposal = Proposal::default();
    let mut found: Vec<(f64, String, &Source, &Leaf)> = Vec::new();
    for leaf in &target.leaves {
        let mut best: Option<(f64, String, &Source)> = None;
        for source in &sources.fields {
            let (score, because) = likeness(source, leaf);
            // Of equal scores the first wins: it is further out, or more usual.
            if best.as_ref().is_none_or(|(most, ..)| score > *most) {
                best = Some((score, because, source));
            }
        }
        found.extend(best.map(|(score, because, source)| (score, because, source, leaf)));
    }
    for (score, because, source, leaf) in &found {
        // A source field that fits another target better fills this one only with the confidence `sure`.
        let better = found.iter().any(|(other, _, from, _)| std::ptr::eq(*from, *source) && other > score);
        match Confidence::of(*score).filter(|confidence| !better || *confidence == Confidence::Sure) {
            Some(confidence) => {
                let (expression, changed) = fitted(source, leaf);
                let because = if changed.is_empty() { because.clone() } else { format!("{because}; {changed}") };
                proposal.rules.push(Proposed { target: leaf.path.clone(), expression, confidence, because });
            }
            None => proposal.unfilled.push((leaf.path.clone(), leaf.required)),
        }
    }
    for (into, inner) in &target.lists {
        let own = words(&into.join(" "));
        let alone = sources.lists.len() == 1 && target.lists.len() == 1;
        let tried = sources.lists.iter().map(|(of, name, within)| {
            let rules = level_rules(within, inner);
            let filled = rules.rules.len() as f64 / inner.leaves.len().max(1) as f64;
            (overlap(name, &own) + filled + f64::from(u8::from(alone)), of, rules)
        });
        match tried.max_by(|(a, ..), (b, ..)| a.total_cmp(b)).filter(|(score, ..)| *score >= LEAST_OF_LISTS) {
            Some((_, of, rules)) => proposal.lists.push(ProposedList { of: of.clone(), into: into.clone(), rules }),
            None => proposal.unfilled.push((into.clone(), false)),
        }
    }
    proposal
}

/// Returns the similarity of a source field and a target field, from 0 to 1, and its reason.
fn likeness(source: &Source, target: &Leaf) -> (f64, String) {
    let Some((own, around)) = target.path.split_last() else { return (0.0, String::new()) };
    let same = source.name == *own;
    let (own, around) = (joined(&words(own), &of_format(&target.format)), words(&around.join(" ")));
    if (source.kind == "list") != (target.kind == "list") {
        return (0.0, String::new());
    }
    let name = overlap(&source.own, &own);
    let beside = match (source.around.is_empty(), around.is_empty()) {
        (true, true) => 1.0,
        (false, false) => overlap(&source.around, &around),
        // `deliver_to` and `name` of one is `deliver_name` of the other.
        _ => overlap(&joined(&source.own, &source.around), &joined(&own, &around)),
    };
    // Words of a title count half as much as those of a name.
    let title = overlap(&joined(&source.title, &words(&target.title)), &joined(&own, &source.own)) / 2.0;
    let format = !target.format.is_empty() && target.format == source.format;
    let example = target.examples.iter().any(|example| source.examples.contains(example) && !is_small(example));
    // Fields whose parents alone are similar are not the same, unless the same values were seen.
    let by_name = if name > 0.0 { (0.7 * name + 0.3 * beside).max(title) + if format { 0.1 } else { 0.0 } } else { 0.0 };
    let score = if example { by_name.max(0.8) } else { by_name };
    let alike = match (same, source.own == own) {
        (true, _) => "the same name",
        (false, true) => "a synonym",
        (false, false) => "similar words",
    };
    let mut because = if name > 0.0 { alike.to_owned() } else { String::new() };
    for (yes, words) in [(example, "the same values seen"), (format, "the same format")] {
        if yes {
            because += if because.is_empty() { "" } else { ", " };
            because += words;
        }
    }
    (score.min(1.0), because)
}

/// Returns whether a value is too common to identify a field.
fn is_small(value: &Value) -> bool {
    match value {
        Value::String(text) => text.len() < 4,
        Value::Number(number) => number.as_f64().is_some_and(|number| number.abs() < 1000.0),
        _ => true,
    }
}

/// The source as the target's type needs it, and what was changed for that.
fn fitted(source: &Source, target: &Leaf) -> (String, &'static str) {
    let of = &source.expression;
    let number = matches!(target.kind.as_str(), "number" | "integer");
    match (source.kind.as_str(), target.kind.as_str()) {
        ("string", _) if number => (format!("number({of})"), "converted to a number"),
        ("number" | "boolean", "string") => (format!("text({of})"), "converted to a text"),
        ("string", "string") if source.format == "date-time" && is_day(target) => {
            (format!("date(left({of}, 10))"), "shortened to the day")
        }
        _ => (of.clone(), ""),
    }
}

/// Returns whether a target is a day and not a moment, by its format or its name.
fn is_day(target: &Leaf) -> bool {
    let name = target.path.last().map_or("", String::as_str);
    target.format == "date" || target.format.is_empty() && names_a_day(name)
}

fn joined(a: &Words, b: &Words) -> Words {
    a.union(b).copied().collect()
}

/// Returns the share of all words that both have.
fn overlap(a: &Words, b: &Words) -> f64 {
    let all: BTreeSet<_> = a.union(b).collect();
    if all.is_empty() { 0.0 } else { a.intersection(b).count() as f64 / all.len() as f64 }
}
