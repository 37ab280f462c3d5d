//! Why the service does not start.

use std::path::PathBuf;
use wirewatch_core::Finding;
use wirewatch_journal::{JournalError, Unsafe};

/// A start that failed; nothing runs then.
#[derive(Debug, thiserror::Error)]
pub enum ServeError {
    #[error("{listen}: {source}. Is another service running there? Choose another address with --listen")]
    Listen { listen: String, source: std::io::Error },
    #[error(transparent)]
    Journal(#[from] JournalError),
    #[error("the journal cannot be read: {0}")]
    Down(#[from] wirewatch_engine::Down),
    #[error("{path}: {source}")]
    File { path: PathBuf, source: std::io::Error },
    #[error("the workspace has errors and there is no earlier release to run")]
    Workspace(Vec<Finding>),
    #[error("there is no release in the database yet: give a workspace with --workspace DIR")]
    NothingToRun,
    #[error("the database may lose what it has confirmed: {}. Turn it on, or start with --unsafe-database if nothing depends on it", list(.0))]
    UnsafeDatabase(Vec<Unsafe>),
    #[error(
        "the database is older than what went out: it knows \"{scope}\" up to {database}, and {given_out} was given out \
         ({file}). It was probably restored from a backup, or is another one. Started with --accept-restore, numbers go on \
         behind {given_out}; look first what else it has forgotten"
    )]
    Restored { scope: String, database: i64, given_out: i64, file: PathBuf },
    #[error(
        "the database keeps secrets and {file} is not there, without which nobody can read them: bring that file back, or \
         start with an empty one of 64 hex digits and set every secret again"
    )]
    NoKey { file: PathBuf },
    #[error("a part of the service broke down; the line above says where. What is in the journal is safe: start it again")]
    Broken,
}

fn list(found: &[Unsafe]) -> String {
    found.iter().map(|one| format!("{} = {}", one.setting, one.value)).collect::<Vec<_>>().join(", ")
}
