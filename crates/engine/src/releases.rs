//! The releases whose logic messages run, and the current one.

use crate::journal::{Down, Journal};
use std::collections::BTreeMap;
use std::sync::{Arc, RwLock};
use wirewatch_core::workspace::Workspace;

/// Older releases in memory for messages that are loaded. A message in memory holds its logic itself.
const MAX_OLDER: usize = 16;

/// Releases in memory. Older ones are read again from the journal when a message still runs them.
#[derive(Debug)]
pub struct Releases {
    inner: RwLock<Inner>,
}

#[derive(Debug)]
struct Inner {
    current: (i64, Arc<Workspace>),
    older: BTreeMap<i64, Arc<Workspace>>,
}

impl Inner {
    /// Keeps a release in memory and drops the oldest of the others, so that one just requested is available for the next
    /// message.
    fn keep(&mut self, no: i64, workspace: Arc<Workspace>) {
        while self.older.len() >= MAX_OLDER {
            self.older.pop_first();
        }
        self.older.insert(no, workspace);
    }
}

impl Releases {
    /// Begins with the current release.
    #[must_use]
    pub fn new(no: i64, workspace: Arc<Workspace>) -> Self {
        Self { inner: RwLock::new(Inner { current: (no, workspace), older: BTreeMap::new() }) }
    }

    /// The current release and its number.
    #[must_use]
    pub fn current(&self) -> (i64, Arc<Workspace>) {
        self.inner.read().expect("no holder panics").current.clone()
    }

    /// Makes a new release the current one.
    pub fn replace(&self, no: i64, workspace: Arc<Workspace>) {
        let mut inner = self.inner.write().expect("no holder panics");
        let (old, before) = std::mem::replace(&mut inner.current, (no, workspace));
        inner.keep(old, before);
    }

    /// A release by number; `None` when it is not in the journal or can no longer be read.
    pub async fn get<J: Journal>(&self, no: i64, journal: &J) -> Result<Option<Arc<Workspace>>, Down> {
        {
            let inner = self.inner.read().expect("no holder panics");
            if inner.current.0 == no {
                return Ok(Some(inner.current.1.clone()));
            }
            if let Some(known) = inner.older.get(&no) {
                return Ok(Some(known.clone()));
            }
        }
        let Some(files) = journal.release(no).await? else { return Ok(None) };
        // A release from before the environment was written runs as it ran then.
        let environment = self.current().1.environment.clone();
        let own = environment.and_then(|environment| Workspace::read_in(&files, Some(&environment.name)).workspace);
        let Some(workspace) = own.or_else(|| Workspace::read(&files).workspace) else { return Ok(None) };
        let workspace = Arc::new(workspace);
        self.inner.write().expect("no holder panics").keep(no, workspace.clone());
        Ok(Some(workspace))
    }
}
