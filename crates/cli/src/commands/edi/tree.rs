use super::input::{self, Parts, TermsArgs};
use crate::error::CommandError;
use crate::local;
use crate::terminal::outln;
use crate::ui::{self, paint};
use serde_json::json;
use std::path::PathBuf;
use wirewatch_core::edi::tree::to_json;
use wirewatch_core::x12::{Child, LoopRef};

/// Show the sets of an X12 file as trees, by their loops
///
/// With --json a list with one entry for each set, which `wirewatch edi write` writes back. Parts without a tree (sets that are
/// not defined, bytes that are not X12) are shown after them.
#[derive(Debug, clap::Args)]
pub struct TreeArgs {
    /// The file; - for standard input
    file: PathBuf,
    #[command(flatten)]
    by: TermsArgs,
    /// Print the trees as JSON
    #[arg(long)]
    json: bool,
}

pub fn run(args: &TreeArgs) -> Result<(), CommandError> {
    let terms = args.by.terms()?;
    let bytes = local::bytes(&args.file)?;
    let reading = input::read(&terms, &bytes);
    let Parts { found, left } = input::trees(&terms, &args.file, &bytes, &reading)?;
    if args.json {
        let trees = found.iter().map(|found| {
            json!({
                "set": found.set.set, "control": found.set.control, "interchange": found.interchange.header.control,
                "group": found.group, "version": found.tree.definition().version, "tree": to_json(&found.tree),
            })
        });
        let left = left.iter().map(|left| json!({ "left": left }));
        ui::json(&trees.chain(left).collect::<Vec<_>>());
        return Ok(());
    }
    for found in &found {
        outln!("{} {}  {}", found.set.set, paint(ui::BOLD, &found.set.control), found.tree.definition().name);
        show(found.tree.root(), 1);
    }
    for left in &left {
        outln!("{}  {}", paint(ui::WAIT, "left"), left.line());
    }
    Ok(())
}

fn show(within: LoopRef<'_>, depth: usize) {
    for child in within.children() {
        match child {
            Child::Segment(segment) => outln!("{}{}", "  ".repeat(depth), String::from_utf8_lossy(segment.bytes)),
            Child::Loop(inner) => {
                outln!("{}{}", "  ".repeat(depth), paint(ui::DIM, format!("loop {}", inner.name())));
                show(inner, depth + 1);
            }
        }
    }
}
