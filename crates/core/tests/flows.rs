//! The examples of docs/flows.md do what stands below them.

mod common;

use std::fmt::Write as _;
use std::sync::Arc;
use wirewatch_core::document::Form;
use wirewatch_core::machine::{Effect, End, Logic, Machine, Next, Origin};
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{Document, Id};

const PAGE: &str = include_str!("../../../docs/flows.md");

/// The fenced blocks of a text with their languages.
fn blocks(text: &str) -> Vec<(&str, &str)> {
    let mut found = Vec::new();
    let mut rest = text;
    while let Some((_, after)) = rest.split_once("```") {
        let (language, after) = after.split_once('\n').unwrap();
        let (block, after) = after.split_once("```").unwrap();
        found.push((language, block.trim_end()));
        rest = after;
    }
    found
}

/// What comes of a message at its first effect, or at its end.
fn told(workspace: &Arc<Workspace>, document: &str) -> String {
    let logic = Logic::of(workspace, "example").unwrap();
    let document = Document::read(&Form::Json, document.as_bytes()).unwrap();
    let origin = Origin {
        id: Id(7),
        arrival: Id(1),
        body: Id(1),
        slice: 0..0,
        flow: "example".into(),
        release: 1,
        form: Form::Json,
        meta: serde_json::Map::new(),
    };
    let machine = Machine::rebuild(logic, Arc::new(origin), document, &[], true).unwrap();
    let mut text = String::new();
    for note in machine.trace().iter().map(|trace| &trace.note).filter(|note| !note.is_empty()) {
        writeln!(text, "note: {note}").unwrap();
    }
    match machine.next() {
        Next::End(End::Done) => {
            text.push_str("done");
            if let Some(after) = machine.trace().iter().rev().find_map(|trace| trace.after.as_ref()) {
                write!(text, " with {}", String::from_utf8(after.to_bytes()).unwrap()).unwrap();
            }
        }
        Next::End(End::Skipped(because)) => write!(text, "skipped: {because}").unwrap(),
        Next::End(End::Aside(reason)) => write!(text, "aside at {} ({}): {}", reason.step, reason.code, reason.says).unwrap(),
        Next::Perform(work) => {
            let verb = if matches!(work.effect, Effect::Call { .. }) { "call" } else { "send" };
            write!(text, "{verb} {}: {}", work.effect.connection(), work.effect.line()).unwrap();
            work.effect.properties().iter().for_each(|(name, value)| write!(text, "\n{name}: {value}").unwrap());
        }
        other => panic!("{other:?}"),
    }
    text
}

#[test]
fn every_example_does_what_stands_below_it() {
    let (opening, sections) = PAGE.split_once("\n## ").unwrap();
    let opening = blocks(opening);
    let [("json", document), ("toml", beginning)] = opening[..] else { panic!("a document and a beginning") };
    let mut verbs = Vec::new();
    for section in sections.split("\n## ") {
        let (title, _) = section.split_once('\n').unwrap();
        let blocks = blocks(section);
        let [("toml", steps), ("text", expected)] = blocks[..] else { panic!("{title}: steps and what comes of them") };
        let mut files = common::files();
        files.insert("flows/example.toml".to_owned(), format!("{beginning}\n\n{steps}\n"));
        let workspace = common::workspace(&files);
        assert!(Workspace::read(&files).findings.is_empty(), "{title}");
        verbs.extend(workspace.flows["example"].steps.iter().map(|step| step.verb.name()));
        assert_eq!(told(&workspace, document), expected, "{title}");
    }
    verbs.sort_unstable();
    verbs.dedup();
    assert_eq!(verbs, ["call", "check", "map", "note", "only", "send", "set"], "every verb has an example");
}
