use super::input::{self, TermsArgs};
use crate::error::CommandError;
use crate::local;
use crate::terminal::outln;
use crate::ui::{self, paint};
use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use wirewatch_core::edi::Report;
use wirewatch_core::x12::ack::{GroupAck, is_acknowledged};
use wirewatch_core::x12::{Fault, Reading, SetAck, Weight};

/// Check an X12 file: every finding with its place, and the acknowledgment codes
///
/// Exit code 1 when a set would be rejected or an interchange is broken. A file of any size is checked in little memory.
#[derive(Debug, clap::Args)]
pub struct CheckArgs {
    /// The file; - for standard input
    file: PathBuf,
    #[command(flatten)]
    by: TermsArgs,
    /// Print the verdicts as JSON
    #[arg(long)]
    json: bool,
}

/// Findings shown; a file with thousands of them has one cause.
const SHOWN: usize = 200;
/// Bytes read at a time.
const PIECE: usize = 256 << 10;

pub fn run(args: &CheckArgs) -> Result<(), CommandError> {
    let terms = args.by.terms()?;
    let mut reader = input::reader(&terms);
    if !args.json {
        reader = reader.keeping_faulty();
    }
    let mut source = local::open(&args.file)?;
    // Standard input cannot be read again to show a place.
    let mut copy = (args.file.as_os_str() == "-").then(Vec::new);
    let mut piece = vec![0; PIECE];
    loop {
        let length = source.read(&mut piece).map_err(|error| local::failed(&args.file, &error))?;
        if length == 0 {
            break;
        }
        reader.feed(&piece[..length]);
        if let Some(copy) = &mut copy {
            copy.extend_from_slice(&piece[..length]);
        }
    }
    let reading = reader.finish();
    let report = Report::of(&reading);
    if args.json {
        ui::json(&report);
    } else {
        let place = match copy {
            Some(bytes) => Places::Memory(bytes),
            None => Places::File(File::open(&args.file).map_err(|error| local::failed(&args.file, &error))?),
        };
        print(&args.file, &reading, &report, place);
    }
    if report.valid { Ok(()) } else { Err(CommandError::Found) }
}

/// Where the bytes of a finding are read from.
enum Places {
    Memory(Vec<u8>),
    File(File),
}

impl Places {
    /// The bytes from `from` on, `length` of them or what there is.
    fn bytes(&mut self, from: u64, length: usize) -> Vec<u8> {
        match self {
            Self::Memory(all) => all.iter().skip(from as usize).take(length).copied().collect(),
            Self::File(file) => {
                let mut bytes = Vec::new();
                let read = file.seek(SeekFrom::Start(from)).and_then(|_| file.take(length as u64).read_to_end(&mut bytes));
                read.map_or_else(|_| Vec::new(), |_| bytes)
            }
        }
    }
}

fn print(file: &Path, reading: &Reading, report: &Report, mut places: Places) {
    let mut shown = 0;
    for error in &report.errors {
        outln!("{}  {}: {}", paint(ui::BAD, "error"), file.display(), error.says);
    }
    for unread in &report.unread {
        outln!("{}  bytes {} to {}: {}", paint(ui::WAIT, "passed over"), unread.from, unread.to, unread.says);
    }
    for interchange in &reading.interchanges {
        let header = &interchange.header;
        let party = |party: &wirewatch_core::x12::Party| format!("{}/{}", party.qualifier, party.id);
        let usage = if header.usage == "T" { "  test" } else { "" };
        let (from, to) = (party(&header.sender), party(&header.receiver));
        outln!("interchange {}  {from} to {to}{}", paint(ui::BOLD, &header.control), paint(ui::DIM, usage));
        for fault in &interchange.faults {
            finding(fault, header.delimiters, &mut places, &mut shown);
        }
        for group in &interchange.groups {
            let (style, word) = match GroupAck::of(group) {
                GroupAck::Accepted => (ui::GOOD, "accepted"),
                GroupAck::Noted => (ui::WAIT, "accepted with errors"),
                GroupAck::Partly => (ui::BAD, "partly accepted"),
                GroupAck::Rejected => (ui::BAD, "rejected"),
            };
            let (accepted, received) = (group.accepted_count(), group.received);
            let name = format!("group {} {}  {}", group.functional_id, group.control, group.version);
            outln!("  {name}  {}  {accepted} of {}", paint(style, word), ui::count(received as usize, "set"));
            for fault in &group.faults {
                finding(fault, header.delimiters, &mut places, &mut shown);
            }
            for set in group.sets.iter().filter(|set| !set.faults.is_empty()) {
                let (style, word) = match set.ack() {
                    _ if !is_acknowledged(group) => (ui::DIM, "not acknowledged"),
                    SetAck::Accepted => (ui::GOOD, "accepted"),
                    SetAck::Noted => (ui::WAIT, "accepted with errors"),
                    SetAck::Rejected => (ui::BAD, "rejected"),
                };
                outln!("    {} {}  {}", set.set, paint(ui::BOLD, &set.control), paint(style, word));
                for fault in &set.faults {
                    finding(fault, header.delimiters, &mut places, &mut shown);
                }
            }
        }
    }
    if shown > SHOWN {
        outln!("{}", paint(ui::DIM, format!("and {} more; --json lists them all", shown - SHOWN)));
    }
    let (rejected, received) = report.rejected();
    let broken = reading.interchanges.iter().filter(|one| !one.faults.is_empty()).count();
    let broken = if broken > 0 { format!(", {} broken", ui::count(broken, "interchange")) } else { String::new() };
    outln!("{}: {} rejected{broken}", ui::count(received as usize, "set"), rejected);
}

/// A finding, and the segment it is in with a mark under the place.
fn finding(fault: &Fault, d: wirewatch_core::x12::Delimiters, places: &mut Places, shown: &mut usize) {
    *shown += 1;
    if *shown > SHOWN {
        return;
    }
    let (style, word) = match fault.weight {
        Weight::Error => (ui::BAD, "error"),
        Weight::Tolerated => (ui::WAIT, "let pass"),
        Weight::Note => (ui::DIM, "note"),
    };
    let place = if fault.position == 0 { String::new() } else { format!("segment {}, ", fault.position) };
    let code = if fault.code.is_empty() { String::new() } else { format!("  {} {}", fault.level.as_str(), fault.code) };
    outln!("      {}  {place}{}{}", paint(style, word), fault.says, paint(ui::DIM, code));
    // The segment from its start to its terminator.
    let bytes = places.bytes(fault.offset, 400);
    let end = bytes.iter().position(|byte| *byte == d.segment).unwrap_or(bytes.len());
    let text = String::from_utf8_lossy(&bytes[..end]).replace(['\r', '\n'], " ");
    if text.is_empty() {
        return;
    }
    let from = (fault.at.start.saturating_sub(fault.offset) as usize).min(end);
    let to = (fault.at.end.saturating_sub(fault.offset) as usize).clamp(from, end);
    let before = String::from_utf8_lossy(&bytes[..from]).chars().count();
    let length = String::from_utf8_lossy(&bytes[from..to]).chars().count().max(1);
    let room = ui::terminal_width().unwrap_or(160).saturating_sub(10).max(40);
    // A long segment is shown from shortly before the place.
    let skip = if before + length > room { before.saturating_sub(20) } else { 0 };
    let line: String = text.chars().skip(skip).take(room).collect();
    outln!("        {}", paint(ui::DIM, line));
    outln!("        {}{}", " ".repeat(before - skip), paint(style, "^".repeat(length.min(room))));
}
