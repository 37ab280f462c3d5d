//! Builds a runnable message from its stored form.

use crate::beside;
use crate::dispatcher::Entered;
use crate::journal::{Damaged, Down, Journal, Stored};
use crate::releases::Releases;
use std::sync::Arc;
use wirewatch_core::Document;
use wirewatch_core::machine::{Logic, Machine, Origin};
use wirewatch_core::reason::ReasonCode;

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
    let Some(workspace) = releases.get(origin.release, journal).await? else {
        return Ok(Err(broken(format!("release {} is not in the journal", origin.release))));
    };
    let Some(logic) = Logic::of(&workspace, &origin.flow) else {
        return Ok(Err(broken(format!("release {} has no flow `{}`", origin.release, origin.flow))));
    };
    Ok(beside(document.len(), || {
        let read = read.map_or_else(|| workspace.document(&origin.form, &document), Ok);
        let document = read.map_err(|unreadable| broken(unreadable.to_string()))?;
        if log.is_empty() {
            let (machine, turn) = Machine::begin(logic, origin.clone(), document);
            return Ok(Entered { machine, began: Some(turn), logged });
        }
        let machine = Machine::rebuild(logic, origin.clone(), document, &log, false);
        let machine = machine.map_err(|diverged| broken(diverged.to_string()))?;
        Ok(Entered { machine, began: None, logged })
    }))
}
