use super::input::{self, Found, Parts, TermsArgs};
use crate::error::CommandError;
use crate::local;
use crate::terminal::{errln, out, outln};
use crate::ui::{self, paint};
use std::path::PathBuf;
use wirewatch_core::edi::{Summary, page};
use wirewatch_core::x12::ack::{AckKind, acknowledgments};
use wirewatch_core::x12::describe::describe;
use wirewatch_core::x12::{Item, Limits, Scanner};

/// Show an X12 document as a person reads it
///
/// Parties, lines with amounts, terms, totals. With --named every element with its name and meaning; with --raw one
/// segment a line, numbered; with --page a page to print, on standard output.
#[derive(Debug, clap::Args)]
pub struct ShowArgs {
    /// The file; - for standard input
    file: PathBuf,
    #[command(flatten)]
    by: TermsArgs,
    /// Every segment and element with its name
    #[arg(long, conflicts_with_all = ["raw", "page", "json"])]
    named: bool,
    /// One segment a line, numbered
    #[arg(long, conflicts_with_all = ["page", "json"])]
    raw: bool,
    /// A self-contained page to print
    #[arg(long, conflicts_with = "json")]
    page: bool,
    /// Print the content as JSON
    #[arg(long)]
    json: bool,
}

pub fn run(args: &ShowArgs) -> Result<(), CommandError> {
    let bytes = local::bytes(&args.file)?;
    if args.raw {
        return raw(&bytes);
    }
    let terms = args.by.terms()?;
    let reading = input::read(&terms, &bytes);
    // An interchange that only acknowledges another has no sets.
    let answers: Vec<_> = acknowledgments(&bytes).into_iter().filter(|one| one.kind == AckKind::Interchange).collect();
    let sets = reading.interchanges.iter().flat_map(|one| &one.groups).any(|group| !group.sets.is_empty());
    if !args.json && !args.page {
        answers.iter().flat_map(|one| one.sentences()).for_each(|says| outln!("{says}"));
        if !sets && !answers.is_empty() {
            return Ok(());
        }
    }
    let Parts { found, left } = input::trees(&terms, &args.file, &bytes, &reading)?;
    for left in &left {
        errln!("{}  {}", paint(ui::WAIT, "left"), left.line());
    }
    if args.named {
        found.iter().for_each(named);
        return Ok(());
    }
    let summaries: Vec<Summary> = found.iter().map(|found| Summary::of(&found.tree)).collect();
    if args.json {
        ui::json(&summaries);
    } else if args.page {
        out(&page::page(&summaries));
    } else {
        for (n, (found, summary)) in found.iter().zip(&summaries).enumerate() {
            if n > 0 {
                outln!();
            }
            outln!("{summary}");
            outln!("  {}", paint(ui::DIM, place(found)));
        }
    }
    Ok(())
}

/// Returns the interchange and group of a set.
fn place(found: &Found<'_>) -> String {
    let header = &found.interchange.header;
    let (set, control) = (&found.set.set, &found.set.control);
    format!(
        "{set} {control} in interchange {}, group {}, from {} to {}",
        header.control, found.group, header.sender.id, header.receiver.id
    )
}

fn raw(bytes: &[u8]) -> Result<(), CommandError> {
    let mut scanner = Scanner::over(bytes, Limits::default());
    let mut any = false;
    while let Some(item) = scanner.next_item() {
        match item {
            Item::Segment(segment) => {
                any = true;
                let text = String::from_utf8_lossy(segment.bytes);
                outln!("{}  {text}{}", paint(ui::DIM, format!("{:>5}", segment.number)), char::from(segment.delimiters.segment));
            }
            Item::Unread { from, to, .. } => {
                outln!("{}", paint(ui::WAIT, format!("       bytes {from} to {to} are not X12")));
            }
        }
    }
    if any {
        Ok(())
    } else {
        Err(CommandError::Failed("no interchange: expected `ISA` followed by its fixed-length elements".to_owned()))
    }
}

fn named(found: &Found<'_>) {
    outln!("{}", paint(ui::BOLD, place(found)));
    for (n, segment) in describe(&found.tree).iter().enumerate() {
        let indent = "  ".repeat(segment.depth);
        let number = paint(ui::DIM, format!("{:>5}", n + 1));
        outln!("{number}  {indent}{}  {}", paint(ui::BOLD, &segment.id), segment.name);
        for element in &segment.elements {
            let designator = format!("{}{:02}", segment.id, element.position);
            let meaning = if element.meaning.is_empty() { String::new() } else { format!("  {}", element.meaning) };
            let name = paint(ui::DIM, format!("{:<44}", element.name));
            outln!("       {indent}  {designator:<6} {name} {}{meaning}", element.value);
        }
    }
}
