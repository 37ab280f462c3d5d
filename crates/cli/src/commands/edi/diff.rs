use super::input::{self, TermsArgs};
use crate::error::CommandError;
use crate::local;
use crate::ui::{self, paint};
use serde_json::json;
use std::path::PathBuf;
use wirewatch_core::edi::{Difference, differences};

/// Compare two X12 files by what they say: separators, padding, line ends and numbering do not count
///
/// Sets are compared in their order. Exit code 1 when they differ.
#[derive(Debug, clap::Args)]
pub struct DiffArgs {
    /// The file before; - for standard input
    before: PathBuf,
    /// The file after
    after: PathBuf,
    #[command(flatten)]
    by: TermsArgs,
    /// Print the differences as JSON
    #[arg(long)]
    json: bool,
}

pub fn run(args: &DiffArgs) -> Result<(), CommandError> {
    let terms = args.by.terms()?;
    let [one, other] = [&args.before, &args.after].map(|file| local::bytes(file).map(|bytes| (file, bytes)));
    let ((before, before_bytes), (after, after_bytes)) = (one?, other?);
    let (old, new) = (input::read(&terms, &before_bytes), input::read(&terms, &after_bytes));
    let old = input::trees(&terms, before, &before_bytes, &old)?;
    let new = input::trees(&terms, after, &after_bytes, &new)?;
    let mut all: Vec<(String, Vec<Difference>)> = Vec::new();
    for (old, new) in old.iter().zip(&new) {
        let name = format!("{} {}", old.set.set, old.set.control);
        let found = match old.set.set == new.set.set {
            true => differences(&old.tree, &new.tree),
            false => vec![Difference {
                at: "ST01".to_owned(),
                name: String::new(),
                before: Some(old.set.set.clone()),
                after: Some(new.set.set.clone()),
            }],
        };
        all.push((name, found));
    }
    let only = |name: &str, count: usize| format!("{} only in {name}", ui::count(count, "set"));
    let extra = match old.len().cmp(&new.len()) {
        std::cmp::Ordering::Greater => Some(only(&before.display().to_string(), old.len() - new.len())),
        std::cmp::Ordering::Less => Some(only(&after.display().to_string(), new.len() - old.len())),
        std::cmp::Ordering::Equal => None,
    };
    let same = extra.is_none() && all.iter().all(|(_, found)| found.is_empty());
    if args.json {
        let sets: Vec<_> = all.iter().map(|(name, found)| json!({ "set": name, "differences": found })).collect();
        ui::json(&json!({ "same": same, "sets": sets, "left_over": extra }));
    } else {
        for (name, found) in all.iter().filter(|(_, found)| !found.is_empty()) {
            anstream::println!("{}", paint(ui::BOLD, name));
            for one in found {
                anstream::println!("  {}  {}", one.at, paint(ui::DIM, &one.name));
                let side = |style, sign: &str, text: &Option<String>| {
                    if let Some(text) = text {
                        anstream::println!("    {}", paint(style, format!("{sign} {text}")));
                    }
                };
                side(ui::BAD, "-", &one.before);
                side(ui::GOOD, "+", &one.after);
            }
        }
        if let Some(extra) = &extra {
            println!("{extra}");
        }
        if same {
            println!("both say the same");
        }
    }
    if same { Ok(()) } else { Err(CommandError::Found) }
}
