use crate::error::CommandError;
use crate::local;
use crate::ui::{self, paint};
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use wirewatch_core::compare::{Difference, differences};

/// Compare two JSON documents field by field
///
/// The order of fields does not count; items of a list are found again where others were put in before them. For X12
/// there is `wirewatch edi diff`. Exit code 1 when they differ.
#[derive(Debug, clap::Args)]
pub struct CompareArgs {
    /// The document before; - for standard input
    before: PathBuf,
    /// The document after
    after: PathBuf,
    /// Print the differences as JSON
    #[arg(long)]
    json: bool,
}

pub fn run(args: &CompareArgs) -> Result<(), CommandError> {
    let found = differences(&read(&args.before)?, &read(&args.after)?);
    if args.json {
        ui::json(&json!({ "same": found.is_empty(), "differences": found }));
    } else if found.is_empty() {
        println!("both say the same");
    } else {
        show(&found, "");
    }
    if found.is_empty() { Ok(()) } else { Err(CommandError::Found) }
}

fn read(file: &Path) -> Result<Value, CommandError> {
    let bytes = local::bytes(file)?;
    serde_json::from_slice(&bytes).map_err(|error| {
        let help = if bytes.trim_ascii_start().starts_with(b"ISA") { "; `wirewatch edi diff` compares X12" } else { "" };
        CommandError::Failed(format!("{}: not JSON: {error}{help}", file.display()))
    })
}

/// Each field with what stood there and what stands there now.
pub fn show(found: &[Difference], indent: &str) {
    for one in found {
        let at = if one.at.is_empty() { "the whole document" } else { one.at.as_str() };
        anstream::println!("{indent}{}", paint(ui::BOLD, at));
        let side = |style, sign: &str, value: &Option<Value>| {
            for line in value.iter().flat_map(|value| {
                let text = serde_json::to_string_pretty(value).unwrap_or_default();
                text.lines().map(str::to_owned).collect::<Vec<_>>()
            }) {
                anstream::println!("{indent}  {}", paint(style, format!("{sign} {line}")));
            }
        };
        side(ui::BAD, "-", &one.before);
        side(ui::GOOD, "+", &one.after);
    }
}
