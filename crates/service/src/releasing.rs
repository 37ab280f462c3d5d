//! Releases a workspace: checks it, compares it with the current release, and refuses it where it would take back newer changes.

use crate::error::ServeError;
use crate::folder::{read_folder, read_workspace};
use crate::run::{App, Config};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::Ordering;
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};
use wirewatch_core::connection::{Connection, ConnectionKind};
use wirewatch_core::finding::{Finding, Severity};
use wirewatch_core::guard::guarded;
use wirewatch_core::workspace::changes::{FileChange, changes, taken_back};
use wirewatch_core::workspace::{Checked, Files, Workspace, digest, has_folder, known};
use wirewatch_engine::{Clock, SystemClock};
use wirewatch_journal::{JournalError, ReleaseRow, Store};

/// Earlier releases that are searched for stale files.
const LOOKED_THROUGH: u32 = 50;
/// How long a read of the folder counts as its present content.
const FRESH: Duration = Duration::from_secs(5);

/// A workspace to release.
#[derive(Debug, Clone)]
pub struct Proposal<'a> {
    pub files: &'a Files,
    pub by: &'a str,
    /// Description for the list of releases.
    pub says: &'a str,
    /// Take back what releases since have changed, where the files say so.
    pub take_back: bool,
    /// Report what would happen, and change nothing.
    pub only_tell: bool,
    /// Refuse it unless this release runs.
    pub only_after: Option<i64>,
}

/// Result of a proposal.
#[derive(Debug)]
pub struct Released {
    pub how: How,
    pub findings: Vec<Finding>,
    /// Files that differ from the current release.
    pub changes: Vec<FileChange>,
}

/// Outcome of a proposal.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum How {
    /// The files are those of the current release, of that number.
    Same(i64),
    New(i64),
    /// A preview: it would become the release after this number.
    Would(i64),
    /// Not released: it has errors, or would take back newer changes.
    Refused,
}

impl App {
    /// Makes `files` the current release, unless they have errors or are older than it.
    pub async fn release(&self, proposal: Proposal<'_>) -> Result<Released, JournalError> {
        let Proposal { files, by, says, take_back, only_tell, only_after } = proposal;
        // Only files of known kinds are stored, whatever a caller sends.
        let (files, left_out) = &known(files);
        let _one = self.releasing.lock().await;
        if self.journal.is_together() {
            self.catch_up().await?;
        }
        let Checked { workspace, mut findings } = Workspace::read_in(files, self.environment.as_deref());
        findings.extend(workspace.iter().flat_map(|workspace| outside(|path| self.outside.folder(path), workspace, files)));
        let (no, current) = self.engine.releases().current();
        let before = self.store.releases(no, LOOKED_THROUGH).await?;
        findings.splice(0..0, left_out.clone());
        let running = before.last().and_then(|release| release.files.clone()).unwrap_or_default();
        let changes = changes(&running, files);
        let released = |how, findings| Ok(Released { how, findings, changes: changes.clone() });
        if !take_back {
            findings.extend(stale(&before, files));
        }
        if only_after.is_some_and(|expected| expected != no) {
            let says = format!("release {no} was deployed in the meantime");
            findings.push(Finding::at(Severity::Error, "release::stale", "workspace.toml", "", 0..0, says).help("try it again"));
        }
        let Some(workspace) = workspace.filter(|_| findings.iter().all(|one| one.severity != Severity::Error)).map(Arc::new)
        else {
            return released(How::Refused, findings);
        };
        if current.digest == workspace.digest {
            return released(How::Same(no), findings);
        }
        if only_tell {
            return released(How::Would(no), findings);
        }
        let no = self.store.add_release(&workspace.digest.to_string(), files, by, says, SystemClock.now()).await?;
        self.engine.release(no, workspace.clone());
        self.follow_intakes(&workspace);
        tracing::info!(release = no, by, "released");
        released(How::New(no), findings)
    }

    pub(crate) fn follow_intakes(&self, workspace: &Workspace) {
        if self.draining.load(Ordering::Relaxed) {
            return;
        }
        self.intakes.lock().expect("no holder panics").follow(&self.engine, &self.outside, workspace);
    }
}

/// Returns an error for each file whose copy is older than the current release.
fn stale(before: &[ReleaseRow], files: &Files) -> Vec<Finding> {
    let all: Vec<(i64, Files)> = before.iter().filter_map(|release| Some((release.no, release.files.clone()?))).collect();
    let by = |no: i64| before.iter().find(|release| release.no == no).map_or("", |release| release.by.as_str());
    let finding = |back: wirewatch_core::workspace::changes::TakenBack| {
        let text = files.get(&back.file).map_or("", String::as_str);
        let absent = if files.contains_key(&back.file) { "unchanged" } else { "missing, as" };
        let says = format!(
            "this is {absent} in release {}: it would undo what {} changed in release {}",
            back.as_in,
            by(back.changed_by),
            back.changed_by
        );
        Finding::at(Severity::Error, "release::stale", &back.file, text, 0..0, says)
            .help("fetch the newer copy first; or confirm with: wirewatch deploy --take-back")
    };
    taken_back(&all, files).into_iter().map(finding).collect()
}

/// Returns an error for each connection whose folder is outside the allowed folders.
fn outside(folder: impl Fn(&str) -> Result<PathBuf, String>, workspace: &Workspace, files: &Files) -> Vec<Finding> {
    let finding = |connection: &Connection| {
        let ConnectionKind::Folder { path, .. } = &connection.kind else { return None };
        let says = folder(path).err()?;
        let file = format!("connections/{}.toml", connection.name);
        let text = files.get(&file).map_or("", String::as_str);
        let at = text.find(path.as_str()).unwrap_or(0);
        Some(Finding::at(Severity::Error, "connection::folder", &file, text, at..at + path.len(), says))
    };
    workspace.connections.values().filter_map(|connection| finding(connection)).collect()
}

/// The workspace to run at the start.
pub struct Start {
    pub release: i64,
    pub workspace: Arc<Workspace>,
    pub findings: Vec<Finding>,
    pub continued: bool,
}

/// The folder given, released if it is new and sound; otherwise the newest release.
pub async fn first_release(config: &Config, store: &Store) -> Result<Start, ServeError> {
    let environment = config.environment.as_deref();
    let before = store.releases(i64::MAX, LOOKED_THROUGH).await?;
    let given = match &config.workspace {
        Some(path) => {
            let read = read_folder(path).and_then(|read| apart(path, &config.state).map(|()| read));
            Some(read.map_err(|source| ServeError::File { path: path.clone(), source })?)
        }
        None => None,
    };
    // A release that cannot be read or run is skipped and reported: the service continues with the last good one.
    let newest = |mut findings: Vec<Finding>, continued| {
        let mut errors = Vec::new();
        for ReleaseRow { no, files, .. } in before.iter().rev() {
            let checked = files.as_ref().map(|files| guarded(|| Workspace::read_in(files, environment)));
            let passed_over = match checked {
                Some(Ok(Checked { workspace: Some(workspace), .. })) => {
                    return Ok(Start { release: *no, workspace: Arc::new(workspace), findings, continued });
                }
                Some(Ok(Checked { findings: own, .. })) => {
                    errors.extend(own);
                    format!("release {no} has errors in this version of Wire Watch")
                }
                Some(Err(says)) => format!("release {no} cannot be read: {says}"),
                None => format!("the record of release {no} is damaged"),
            };
            let says = format!("{passed_over}; the release before it runs instead. Deploy the workspace again");
            findings.push(Finding::at(Severity::Warning, "release::passed-over", "", "", 0..0, says));
        }
        match (before.is_empty() && findings.is_empty(), errors.is_empty()) {
            (true, _) => Err(ServeError::NothingToRun),
            (false, true) => Err(ServeError::Workspace(findings)),
            (false, false) => Err(ServeError::Workspace(errors)),
        }
    };
    let Some((files, left_out)) = given else { return newest(Vec::new(), false) };
    let Checked { workspace, mut findings } = Workspace::read_in(&files, environment);
    findings.splice(0..0, left_out);
    let known = before.last().is_some_and(|release| release.digest == digest(&files).to_string());
    findings.extend(stale(&before, &files));
    let folders = config.folders();
    findings.extend(workspace.iter().flat_map(|workspace| outside(|path| folders.folder(path), workspace, &files)));
    match workspace.filter(|_| findings.iter().all(|one| one.severity != Severity::Error)).map(Arc::new) {
        Some(workspace) if known => {
            Ok(Start { release: before.last().map_or(0, |release| release.no), workspace, findings, continued: false })
        }
        Some(workspace) => {
            let release = store.add_release(&workspace.digest.to_string(), &files, "start", "", SystemClock.now()).await?;
            Ok(Start { release, workspace, findings, continued: false })
        }
        None => newest(findings, true),
    }
}

/// Fails if the state folder is inside a folder of the workspace, whose files are released.
fn apart(workspace: &Path, state: &Path) -> io::Result<()> {
    let (workspace, state) = (workspace.canonicalize()?, state.canonicalize()?);
    let inside = state.strip_prefix(&workspace).ok().and_then(|rest| rest.components().next());
    match inside.map(|first| first.as_os_str().to_string_lossy().into_owned()) {
        Some(first) if has_folder(&first) => {
            let says =
                format!("the state folder {} is inside {first}/ of the workspace; choose another with --state", state.display());
            Err(io::Error::new(io::ErrorKind::InvalidInput, says))
        }
        None if workspace == state => Err(io::Error::new(
            io::ErrorKind::InvalidInput,
            "the state folder is the workspace itself; choose another with --state",
        )),
        _ => Ok(()),
    }
}

/// The folder that the service was started with, read again from time to time.
#[derive(Debug)]
pub struct Folder {
    path: PathBuf,
    read: Mutex<Option<(Instant, Result<Files, String>)>>,
}

impl Folder {
    pub(crate) fn new(path: PathBuf) -> Self {
        Self { path, read: Mutex::default() }
    }

    /// Returns a sentence if the current release differs from the folder.
    pub fn differs(&self, running: &Workspace, release: i64) -> Option<String> {
        let mut read = self.read.lock().expect("no holder panics");
        if read.as_ref().is_none_or(|(at, _)| at.elapsed() > FRESH) {
            *read = Some((Instant::now(), read_workspace(&self.path).map_err(|error| error.to_string())));
        }
        let folder = self.path.display();
        match &read.as_ref()?.1 {
            Ok(files) if digest(files) == running.digest => None,
            Ok(_) => Some(format!(
                "{folder} differs from the running release {release}: `wirewatch deploy --check {folder}` shows the differences"
            )),
            Err(error) => Some(format!("cannot compare {folder} with the running release: {error}")),
        }
    }
}
