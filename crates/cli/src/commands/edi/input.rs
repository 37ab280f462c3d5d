//! Reads the documents of the `edi` commands with the definitions of a partner or workspace.

use crate::error::CommandError;
use crate::local;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use wirewatch_core::partner::Partner;
use wirewatch_core::x12::{Definitions, Interchange, Limits, Reader, Reading, SetReading, SetTree, Terms};

/// The workspace and partner whose rules apply.
#[derive(Debug, clap::Args)]
pub struct TermsArgs {
    /// Read it by the guides and the leniency of this partner
    #[arg(long, value_name = "NAME")]
    partner: Option<String>,
    /// Workspace with the partner and further transaction sets; with --partner the current folder when left out
    #[arg(long, value_name = "DIR")]
    workspace: Option<PathBuf>,
}

impl TermsArgs {
    /// Returns the partner, if one is given, and the terms to read by.
    pub fn find(&self) -> Result<(Option<Arc<Partner>>, Terms), CommandError> {
        let standard = || Terms { definitions: Definitions::standard().clone(), tolerated: [].into() };
        let folder = match (&self.workspace, &self.partner) {
            (Some(folder), _) => folder.as_path(),
            (None, Some(_)) => Path::new("."),
            (None, None) => return Ok((None, standard())),
        };
        let workspace = local::workspace(folder)?;
        let Some(name) = &self.partner else {
            return Ok((None, Terms { definitions: workspace.definitions, ..standard() }));
        };
        let Some(partner) = workspace.partners.get(name) else {
            return Err(local::unknown(folder, "partner", name, workspace.partners.keys().map(String::as_str)));
        };
        Ok((Some(partner.clone()), partner.terms()))
    }

    /// Returns the terms to read by.
    pub fn terms(&self) -> Result<Terms, CommandError> {
        self.find().map(|(_, terms)| terms)
    }
}

/// A reader by the same terms for every interchange.
pub fn reader(terms: &Terms) -> Reader {
    let terms = terms.clone();
    Reader::choosing(move |_| terms.clone(), Limits::default())
}

/// Everything in `bytes`.
pub fn read(terms: &Terms, bytes: &[u8]) -> Reading {
    let mut reader = reader(terms);
    reader.feed(bytes);
    reader.finish()
}

/// A set of the input as a tree, with its place.
pub struct Found<'r> {
    pub interchange: &'r Interchange,
    pub group: &'r str,
    pub set: &'r SetReading,
    pub tree: SetTree,
}

/// A part of an input that has no tree: a set that is not defined, or bytes that could not be read.
#[derive(Debug, serde::Serialize)]
pub struct Left {
    /// Offsets of its first byte and of the byte after its last.
    pub from: u64,
    pub to: u64,
    /// Why it has none.
    pub says: String,
    /// Text; bytes that are not UTF-8 are replaced.
    pub text: String,
}

impl Left {
    /// Returns it as a line for people.
    pub fn line(&self) -> String {
        let text: String = self.text.trim().chars().take(120).collect();
        let more = if text.len() < self.text.trim().len() { "…" } else { "" };
        format!("bytes {} to {}: {}: {text}{more}", self.from, self.to, self.says)
    }
}

/// All of an input: its sets as trees, and what has none.
pub struct Parts<'r> {
    pub found: Vec<Found<'r>>,
    pub left: Vec<Left>,
}

/// Returns every defined set of the input as a tree, and the rest; an error when there is no tree.
pub fn trees<'r>(terms: &Terms, file: &Path, bytes: &[u8], reading: &'r Reading) -> Result<Parts<'r>, CommandError> {
    let parts = parts(terms, file, bytes, reading)?;
    if !parts.found.is_empty() {
        return Ok(parts);
    }
    let undefined = reading.interchanges.iter().flat_map(|one| &one.groups).find_map(|group| Some((group, group.sets.first()?)));
    let says = match undefined {
        Some((group, set)) => {
            let name = format!("{} {}", group.version, set.set);
            format!("no definition of {name}; a workspace may have one under standards/, see --workspace")
        }
        None => "it has no transaction set; `wirewatch edi check` shows why".to_owned(),
    };
    Err(CommandError::Failed(format!("{}: {says}", file.display())))
}

/// Every part of an input.
pub fn parts<'r>(terms: &Terms, file: &Path, bytes: &[u8], reading: &'r Reading) -> Result<Parts<'r>, CommandError> {
    let mut found = Vec::new();
    let text = |from: u64, to: u64| String::from_utf8_lossy(&bytes[from as usize..to as usize]).into_owned();
    let unread = reading.unread.iter().map(|one| (one.bytes.start, one.bytes.end, one.says.clone()));
    let mut left: Vec<Left> = unread.map(|(from, to, says)| Left { from, to, says, text: text(from, to) }).collect();
    for interchange in &reading.interchanges {
        for group in &interchange.groups {
            for set in &group.sets {
                let Some(definition) = terms.definitions.find(&group.version, &set.set) else {
                    let (from, to) = (set.bytes.start, set.bytes.end);
                    let says = format!("no definition of {} {}", group.version, set.set);
                    left.push(Left { from, to, says, text: text(from, to) });
                    continue;
                };
                let own = &bytes[set.bytes.start as usize..set.bytes.end as usize];
                let tree = SetTree::new(definition.clone(), own, interchange.header.delimiters)
                    .map_err(|error| CommandError::Failed(format!("{}: {} {}: {error}", file.display(), set.set, set.control)))?;
                found.push(Found { interchange, group: &group.control, set, tree });
            }
        }
    }
    left.sort_by_key(|left| left.from);
    Ok(Parts { found, left })
}
