use super::input::{self, Left, TermsArgs};
use crate::error::CommandError;
use crate::local;
use crate::terminal::outln;
use crate::ui::{self, paint};
use serde_json::json;
use std::path::PathBuf;
use wirewatch_core::edi::{Difference, differences};
use wirewatch_core::x12::Reading;

/// Compare two X12 files by content: separators, padding, line ends and control numbers do not count
///
/// Compares parties, usage and versions, then sets in their order, then what has no tree: sets that are not defined, and bytes
/// that are not X12. Exit code 1 when they differ.
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
    let mut all: Vec<(String, Vec<Difference>)> = envelopes(&old, &new);
    let old = input::parts(&terms, before, &before_bytes, &old)?;
    let new = input::parts(&terms, after, &after_bytes, &new)?;
    all.push(("parts that cannot be read".to_owned(), lefts(&old.left, &new.left)));
    let (old, new) = (old.found, new.found);
    for (file, found) in [(before, &old), (after, &new)] {
        if found.is_empty() && all.iter().all(|(_, found)| found.is_empty()) {
            return Err(CommandError::Failed(format!("{}: it has nothing to compare", file.display())));
        }
    }
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
            outln!("{}", paint(ui::BOLD, name));
            for one in found {
                outln!("  {}  {}", one.at, paint(ui::DIM, &one.name));
                let side = |style, sign: &str, text: &Option<String>| {
                    if let Some(text) = text {
                        outln!("    {}", paint(style, format!("{sign} {text}")));
                    }
                };
                side(ui::BAD, "-", &one.before);
                side(ui::GOOD, "+", &one.after);
            }
        }
        if let Some(extra) = &extra {
            outln!("{extra}");
        }
        if same {
            outln!("no differences");
        }
    }
    if same { Ok(()) } else { Err(CommandError::Found) }
}

/// Returns the differences of the envelopes, in their order: parties, usage and versions.
fn envelopes(before: &Reading, after: &Reading) -> Vec<(String, Vec<Difference>)> {
    let mut all = Vec::new();
    let (old, new) = (&before.interchanges, &after.interchanges);
    for n in 0..old.len().max(new.len()) {
        let fields = |reading: &Reading| {
            let Some(interchange) = reading.interchanges.get(n) else { return Vec::new() };
            let header = &interchange.header;
            let mut fields = vec![
                ("ISA05".to_owned(), "Sender qualifier", header.sender.qualifier.clone()),
                ("ISA06".to_owned(), "Sender", header.sender.id.clone()),
                ("ISA07".to_owned(), "Receiver qualifier", header.receiver.qualifier.clone()),
                ("ISA08".to_owned(), "Receiver", header.receiver.id.clone()),
                ("ISA12".to_owned(), "Version of the controls", header.version.clone()),
                ("ISA15".to_owned(), "Usage", header.usage.clone()),
            ];
            for (g, group) in interchange.groups.iter().enumerate() {
                fields.push((format!("GS[{}]/GS01", g + 1), "Functional identifier", group.functional_id.clone()));
                fields.push((format!("GS[{}]/GS08", g + 1), "Version", group.version.clone()));
            }
            fields
        };
        let (old, new) = (fields(before), fields(after));
        let value = |side: &[(String, &'static str, String)], at: &str| {
            side.iter().find(|(known, ..)| known == at).map(|(.., value)| value.clone())
        };
        let mut found: Vec<Difference> = Vec::new();
        for (at, name, _) in old.iter().chain(&new) {
            let (before, after) = (value(&old, at), value(&new, at));
            if before != after && !found.iter().any(|known| known.at == *at) {
                found.push(Difference { at: at.clone(), name: (*name).to_owned(), before, after });
            }
        }
        all.push((format!("interchange {}", n + 1), found));
    }
    all
}

/// Returns the parts without a tree that only one file has.
fn lefts(before: &[Left], after: &[Left]) -> Vec<Difference> {
    let only = |these: &[Left], those: &[Left], first: bool| {
        let alone = these.iter().filter(|one| those.iter().all(|other| other.text.trim() != one.text.trim()));
        let listed = alone.map(|left| {
            let text = Some(left.text.trim().to_owned());
            let (before, after) = if first { (text, None) } else { (None, text) };
            Difference { at: format!("bytes {} to {}", left.from, left.to), name: left.says.clone(), before, after }
        });
        listed.collect::<Vec<_>>()
    };
    let mut all = only(before, after, true);
    all.extend(only(after, before, false));
    all
}
