use super::input::{self, TermsArgs};
use crate::error::CommandError;
use crate::local;
use crate::terminal::document;
use crate::terminal::errln;
use serde_json::Value;
use std::path::PathBuf;
use wirewatch_core::edi::tree::from_json;
use wirewatch_core::edi::write::{Numbering, Outgoing, interchanges};

/// Write trees as X12 to a partner, with the separators, envelopes and line ends of its profile
///
/// Reads the output of `edi tree --json`, or one entry of it. The interchange is written to standard output and checked as if it
/// had been received; exit code 1 when the partner would reject it.
#[derive(Debug, clap::Args)]
pub struct WriteArgs {
    /// The trees; - for standard input
    file: PathBuf,
    #[command(flatten)]
    by: TermsArgs,
    /// The first control number of interchange and group
    #[arg(long, default_value_t = 1, value_name = "N", value_parser = clap::value_parser!(u32).range(1..1_000_000_000))]
    control: u32,
    /// Meant, not a test: ISA15 is P
    #[arg(long)]
    production: bool,
}

pub fn run(args: &WriteArgs) -> Result<(), CommandError> {
    let file = args.file.display();
    let (Some(partner), terms) = args.by.find()? else {
        return Err(CommandError::Usage("--partner NAME is needed: it names the receiver".to_owned()));
    };
    let given: Value = serde_json::from_slice(&local::bytes(&args.file)?)
        .map_err(|error| CommandError::Failed(format!("{file}: not JSON: {error}")))?;
    let one = std::slice::from_ref(&given);
    let entries = given.as_array().map_or(one, Vec::as_slice);
    let mut sets = Vec::with_capacity(entries.len());
    for (n, entry) in entries.iter().enumerate() {
        let text = |key: &str| entry.get(key).and_then(Value::as_str);
        let Some(set) = text("set") else {
            return Err(CommandError::Failed(format!("{file}: entry {n} has no `set`, e.g. \"850\"")));
        };
        let version = text("version").unwrap_or("004010");
        let Some(definition) = partner.definitions.find(version, set) else {
            return Err(CommandError::Failed(format!("{file}: entry {n}: {version} {set} is not defined")));
        };
        let tree = entry.get("tree").unwrap_or(&Value::Null);
        let nodes = from_json(tree).map_err(|error| CommandError::Failed(format!("{file}: entry {n}: {error}")))?;
        sets.push(Outgoing { definition: definition.clone(), nodes });
    }
    let now = jiff::Zoned::now();
    let numbering = Numbering {
        interchange: args.control,
        group: args.control,
        date: now.strftime("%Y%m%d").to_string(),
        time: now.strftime("%H%M").to_string(),
        usage: if args.production { "P" } else { "T" }.to_owned(),
    };
    let written = interchanges(&partner, &sets, &numbering).map_err(|error| CommandError::Failed(format!("{file}: {error}")))?;
    let bytes = written.concat();
    document(&bytes)?;
    let reading = input::read(&terms, &bytes);
    let groups = reading.interchanges.iter().flat_map(|one| &one.groups);
    let faults: Vec<_> =
        groups.flat_map(|group| group.faults.iter().chain(group.sets.iter().flat_map(|set| &set.faults))).collect();
    for fault in faults.iter().filter(|fault| fault.rejects()) {
        errln!("segment {}: {}", fault.position, fault.says);
    }
    if faults.iter().any(|fault| fault.rejects()) { Err(CommandError::Found) } else { Ok(()) }
}
