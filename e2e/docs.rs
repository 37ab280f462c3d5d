//! The example commands of the docs: each one is run and must print the output that the page shows.

use crate::scene::root;
use std::path::Path;
use std::process::Command;

/// A command of a page and its output.
#[derive(Debug, PartialEq)]
struct Shown {
    command: String,
    output: Vec<String>,
}

/// Returns the commands of a page: lines that begin with `$ ` in its code blocks, each with the lines after it.
fn examples(page: &str) -> Vec<Shown> {
    let mut all: Vec<Shown> = Vec::new();
    for block in page.split("```").skip(1).step_by(2) {
        let mut open = false;
        for line in block.lines().skip(1) {
            match line.strip_prefix("$ ") {
                Some(command) => {
                    all.push(Shown { command: command.to_owned(), output: Vec::new() });
                    open = true;
                }
                None if open => all.last_mut().expect("a command is open").output.push(line.to_owned()),
                None => {}
            }
        }
    }
    for one in &mut all {
        while one.output.last().is_some_and(String::is_empty) {
            one.output.pop();
        }
    }
    all
}

/// Returns whether lines are those of a page, where a line `…` stands for any number of lines.
fn same(shown: &[String], printed: &[&str]) -> bool {
    match shown.split_first() {
        None => printed.is_empty(),
        Some((line, rest)) if line.trim() == "…" => (0..=printed.len()).any(|left_out| same(rest, &printed[left_out..])),
        Some((line, rest)) => printed.split_first().is_some_and(|(first, others)| first == line && same(rest, others)),
    }
}

/// Runs the commands of a page one after another in `folder`; returns how many there are.
fn prints_what_it_shows(page: &str, folder: &Path) -> usize {
    let text = std::fs::read_to_string(root().join("docs").join(page)).expect("the page");
    let program = Path::new(env!("CARGO_BIN_EXE_wirewatch")).parent().expect("a folder");
    let path = format!("{}:{}", program.display(), std::env::var("PATH").unwrap_or_default());
    let all = examples(&text);
    for Shown { command, output } in &all {
        let mut shell = Command::new("sh");
        shell.args(["-c", &format!("{{ {command}; }} 2>&1")]).current_dir(folder).env("PATH", &path).env("TZ", "UTC");
        let done = shell.output().expect("a shell");
        let printed = String::from_utf8(done.stdout).expect("text");
        let lines: Vec<&str> = printed.trim_end().lines().map(str::trim_end).collect();
        let shown: Vec<String> = output.iter().map(|line| line.trim_end().to_owned()).collect();
        assert!(same(&shown, &lines), "{page}: `{command}` prints\n{printed}\nand the page shows\n{}", output.join("\n"));
    }
    all.len()
}

fn copy(from: &Path, to: &Path) {
    std::fs::create_dir_all(to).expect("a folder");
    for entry in std::fs::read_dir(from).expect("a folder") {
        let path = entry.expect("an entry").path();
        let target = to.join(path.file_name().expect("a name"));
        if path.is_dir() {
            copy(&path, &target);
        } else {
            std::fs::copy(&path, target).expect("copied");
        }
    }
}

#[test]
fn every_example_of_the_docs_prints_the_output_that_is_shown() {
    let folder = tempfile::tempdir().expect("a folder");
    copy(&root().join("demo/workspace"), &folder.path().join("demo/workspace"));
    copy(&root().join("demo/samples"), &folder.path().join("demo/samples"));
    assert!(prints_what_it_shows("edi.md", folder.path()) >= 2);
    assert!(prints_what_it_shows("mapping.md", &folder.path().join("demo/workspace")) >= 10);
}

#[test]
fn commands_and_their_output_are_found_in_a_page() {
    let page = "Text\n```\nnot shown\n$ one\na\n\n$ two\n```\n`$ inline`\n```sh\n$ three\nb\n…\nc\n```\n";
    let shown = |command: &str, output: &[&str]| Shown {
        command: command.to_owned(),
        output: output.iter().map(|line| (*line).to_owned()).collect(),
    };
    assert_eq!(examples(page), [shown("one", &["a"]), shown("two", &[]), shown("three", &["b", "…", "c"])]);
    let three = shown("three", &["b", "…", "c"]).output;
    assert!(same(&three, &["b", "x", "y", "c"]) && same(&three, &["b", "c"]));
    assert!(!same(&three, &["b", "x"]) && !same(&three, &["c"]) && !same(&[], &["b"]));
}
