//! Builds a runnable message from its stored form.

use crate::beside;
use crate::dispatcher::Entered;
use crate::journal::{Damaged, Down, Journal, Stored};
use crate::releases::Releases;
use std::sync::Arc;
use wirewatch_core::Document;
use wirewatch_core::machine::{LogEntry, Logic, Logics, Machine, Origin};
use wirewatch_core::reason::ReasonCode;
use wirewatch_core::workspace::Workspace;

/// A message that cannot run: its log does not fit its logic, or its document cannot be read.
#[derive(Debug)]
pub struct Broken {
    pub origin: Arc<Origin>,
    pub logged: u32,
    /// `damaged` where a record of it is, `diverged` where it does not fit its logic.
    pub code: ReasonCode,
    pub says: String,
}

/// Makes the machine of a stored message: begun, or rebuilt from its log.
pub async fn enter<J: Journal>(stored: Stored, releases: &Releases, journal: &J) -> Result<Result<Entered, Broken>, Down> {
    enter_read(stored, None, releases, journal).await
}

/// As [`enter`], for a message whose document may have been read already.
pub async fn enter_read<J: Journal>(
    stored: Stored,
    read: Option<Document>,
    releases: &Releases,
    journal: &J,
) -> Result<Result<Entered, Broken>, Down> {
    let Stored { origin, document, log, damaged } = stored;
    if let Some(Damaged { says, logged }) = damaged {
        return Ok(Err(Broken { origin, logged, code: ReasonCode::Damaged, says: format!("damaged: {says}") }));
    }
    let logged = log.len() as u32;
    let broken = |says: String| Broken { origin: origin.clone(), logged, code: ReasonCode::Diverged, says };
    let (workspace, logics) = match logics(&origin, &log, releases, journal).await? {
        Ok(found) => found,
        Err(says) => return Ok(Err(broken(says))),
    };
    Ok(beside(document.len(), || {
        let read = read.map_or_else(|| workspace.document(&origin.form, &document), Ok);
        let document = read.map_err(|unreadable| broken(unreadable.to_string()))?;
        if log.is_empty() {
            let (machine, turn) = Machine::begin(logics.first().clone(), origin.clone(), document);
            return Ok(Entered { machine, began: Some(turn), logged });
        }
        let machine = Machine::rebuild(logics, origin.clone(), document, &log, false);
        let machine = machine.map_err(|diverged| broken(diverged.to_string()))?;
        Ok(Entered { machine, began: None, logged })
    }))
}

/// Returns the release that a message arrived under, and the logic of every release that it has run; or why one is missing.
///
/// # Errors
/// [`Down`] when the journal cannot be read.
pub async fn logics<J: Journal>(
    origin: &Origin,
    log: &[LogEntry],
    releases: &Releases,
    journal: &J,
) -> Result<Result<(Arc<Workspace>, Logics), String>, Down> {
    let mut found = Vec::new();
    for no in std::iter::once(origin.release).chain(Logics::chosen_in(log).into_iter().filter(|no| *no != origin.release)) {
        let Some(workspace) = releases.get(no, journal).await? else {
            return Ok(Err(format!("release {no} is not in the journal")));
        };
        let Some(logic) = Logic::of(&workspace, &origin.flow) else {
            return Ok(Err(format!("release {no} has no flow `{}`", origin.flow)));
        };
        found.push((no, workspace, logic));
    }
    let mut found = found.into_iter();
    let (_, workspace, first) = found.next().expect("the release of the origin is the first");
    let mut logics = Logics::from(first);
    found.for_each(|(no, _, logic)| logics.add(no, logic));
    Ok(Ok((workspace, logics)))
}
