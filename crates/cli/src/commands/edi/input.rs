//! Where documents come from, and what they are read by.

use crate::error::CommandError;
use crate::ui;
use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use wirewatch_core::Severity;
use wirewatch_core::partner::Partner;
use wirewatch_core::workspace::Workspace;
use wirewatch_core::x12::{Definitions, Interchange, Limits, Reader, Reading, SetReading, SetTree, Terms};
use wirewatch_service::read_workspace;

/// The partner whose rules count.
#[derive(Debug, clap::Args)]
pub struct PartnerArgs {
    /// Read it by the guides and the leniency of this partner
    #[arg(long, value_name = "NAME")]
    pub partner: Option<String>,
    /// The workspace that knows the partner
    #[arg(long, value_name = "DIR", default_value = ".")]
    pub workspace: PathBuf,
}

impl PartnerArgs {
    /// The partner; `None` when none is asked for.
    pub fn find(&self) -> Result<Option<Arc<Partner>>, CommandError> {
        let Some(name) = &self.partner else { return Ok(None) };
        let files = read_workspace(&self.workspace)
            .map_err(|error| CommandError::Failed(format!("{}: {error}", self.workspace.display())))?;
        let checked = Workspace::read(&files);
        let Some(workspace) = checked.workspace else {
            let errors: Vec<_> = checked.findings.into_iter().filter(|one| one.severity == Severity::Error).collect();
            ui::findings(&errors);
            return Err(CommandError::Failed(format!("the workspace {} has errors", self.workspace.display())));
        };
        match workspace.partners.get(name) {
            Some(partner) => Ok(Some(partner.clone())),
            None => {
                let near = wirewatch_core::nearest::nearest(name, workspace.partners.keys().map(String::as_str));
                let help = near.map_or(String::new(), |near| format!("; did you mean `{near}`?"));
                Err(CommandError::Usage(format!("{} has no partner `{name}`{help}", self.workspace.display())))
            }
        }
    }

    /// What to read by.
    pub fn terms(&self) -> Result<Terms, CommandError> {
        Ok(match self.find()? {
            Some(partner) => Terms { definitions: partner.definitions.clone(), tolerated: partner.tolerated.clone() },
            None => Terms { definitions: Definitions::standard().clone(), tolerated: [].into() },
        })
    }
}

/// All bytes of a file, or of standard input.
pub fn bytes(file: &Path) -> Result<Vec<u8>, CommandError> {
    let mut bytes = Vec::new();
    open(file)?.read_to_end(&mut bytes).map_err(|error| failed(file, &error))?;
    Ok(bytes)
}

/// A file, or standard input for `-`.
pub fn open(file: &Path) -> Result<Box<dyn Read>, CommandError> {
    if file.as_os_str() == "-" {
        return Ok(Box::new(std::io::stdin().lock()));
    }
    Ok(Box::new(File::open(file).map_err(|error| failed(file, &error))?))
}

pub fn failed(file: &Path, error: &std::io::Error) -> CommandError {
    CommandError::Failed(format!("{}: {error}", file.display()))
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

/// One set of an input as a tree, with where it stands.
pub struct Found<'r> {
    pub interchange: &'r Interchange,
    pub group: &'r str,
    pub set: &'r SetReading,
    pub tree: SetTree,
}

/// Every set of an input that is defined, as trees; an error when there is none.
pub fn trees<'r>(terms: &Terms, file: &Path, bytes: &[u8], reading: &'r Reading) -> Result<Vec<Found<'r>>, CommandError> {
    let mut found = Vec::new();
    let mut undefined = Vec::new();
    for interchange in &reading.interchanges {
        for group in &interchange.groups {
            for set in &group.sets {
                let Some(definition) = terms.definitions.find(&group.version, &set.set) else {
                    undefined.push(format!("{} {}", group.version, set.set));
                    continue;
                };
                let own = &bytes[set.bytes.start as usize..set.bytes.end as usize];
                let tree = SetTree::new(definition.clone(), own, interchange.header.delimiters)
                    .map_err(|error| CommandError::Failed(format!("{}: {} {}: {error}", file.display(), set.set, set.control)))?;
                found.push(Found { interchange, group: &group.control, set, tree });
            }
        }
    }
    if !found.is_empty() {
        return Ok(found);
    }
    let says = match undefined.first() {
        Some(set) => format!("no definition of {set}; a workspace may add one under standards/"),
        None => "no transaction set in it; `wirewatch edi check` says what is wrong".to_owned(),
    };
    Err(CommandError::Failed(format!("{}: {says}", file.display())))
}
