//! The examples of docs/flows.md give the results written below them.

mod common;

use std::sync::Arc;
use wirewatch_core::document::Form;
use wirewatch_core::flow::Retry;
use wirewatch_core::machine::{Effect, End, LogEntry, Logic, Machine, Next, Origin, Outcome};
use wirewatch_core::workspace::Workspace;
use wirewatch_core::{Document, Id, Timestamp};

const PAGE: &str = include_str!("../../../docs/flows.md");
/// 2026-11-23, noon UTC.
const NOON: Timestamp = Timestamp(1_795_435_200_000_000);

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

/// Runs a message to its end, with every call answered; each branch is listed before its parent continues.
fn reported(workspace: &Arc<Workspace>, document: &str) -> String {
    let logic = Logic::of(workspace, "example").unwrap();
    let document = Document::json(document.as_bytes()).unwrap();
    let origin = Origin {
        id: Id::first_of(NOON),
        arrival: Id(1),
        body: Id(1),
        slice: 0..0,
        flow: "example".into(),
        release: 1,
        form: Form::Json,
        meta: serde_json::Map::new(),
    };
    let mut lines = Vec::new();
    follow(Machine::begin(logic, Arc::new(origin), document).0, "", &mut lines);
    lines.join("\n")
}

fn follow(mut machine: Machine, way: &str, lines: &mut Vec<String>) {
    let mut now = NOON;
    let (logic, origin, document) = (machine.logic().clone(), machine.origin().clone(), machine.source().clone());
    let mut log: Vec<LogEntry> = Vec::new();
    loop {
        // Rebuilt each time: the story is the log's, not the moment's.
        let traced = Machine::rebuild(logic.clone(), origin.clone(), document.clone(), &log, true).unwrap();
        let mut tell = |text: String| lines.push(format!("{way}{text}"));
        let turn = match machine.next().clone() {
            Next::End(end) => {
                let notes = traced.trace().iter().filter(|trace| trace.verb == "note");
                notes.for_each(|trace| tell(format!("note: {}", trace.note)));
                tell(match end {
                    End::Done => match traced.trace().iter().rev().find_map(|trace| trace.after.as_ref()) {
                        Some(after) => format!("done with {}", String::from_utf8(after.to_bytes()).unwrap()),
                        None => "done".to_owned(),
                    },
                    End::Skipped(because) => format!("skipped: {because}"),
                    End::Failed(reason) => format!("failed at {} ({}): {}", reason.step, reason.code, reason.says),
                    End::Discarded => "discarded".to_owned(),
                });
                return;
            }
            Next::Perform(work) => {
                let verb = if matches!(work.effect, Effect::Call { .. }) { "call" } else { "send" };
                tell(format!("{verb} {}: {}", work.effect.connection(), work.effect.line()));
                work.effect.properties().iter().for_each(|(name, value)| tell(format!("  {name}: {value}")));
                if let (Effect::Call { .. }, Some(body)) = (&work.effect, work.effect.body()) {
                    tell(format!("  {}", body.text()));
                }
                machine.outcome(Outcome::Answer { status: 200, body: "{}".into() }, &Retry::default(), now)
            }
            Next::Pause(until) => {
                tell(format!("waits until {until}"));
                now = until;
                machine.woken(now)
            }
            Next::Part(ways) => {
                for (n, way) in ways.iter().enumerate() {
                    let (origin, document) = machine.part(way, Id(machine.origin().id.0 + 1 + n as i64));
                    let part = Machine::begin(machine.logic().clone(), origin, document).0;
                    follow(part, &format!("{}: ", way.name), lines);
                }
                machine.parted(now)
            }
            Next::WaitUntil(_) | Next::WaitFor(_) => unreachable!("every call is answered"),
        };
        log.extend(turn.entry);
    }
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
        assert_eq!(reported(&workspace, document), expected, "{title}");
    }
    verbs.sort_unstable();
    verbs.dedup();
    assert_eq!(
        verbs,
        ["also", "call", "check", "choose", "map", "note", "notify", "only", "pause", "send", "set"],
        "every verb has an example"
    );
}
