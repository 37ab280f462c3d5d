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
    #[error("the database may lose confirmed commits: {}. Turn it on, or start with --unsafe-database if losing messages is acceptable", list(.0))]
    UnsafeDatabase(Vec<Unsafe>),
    #[error(
        "the database is older than what was sent: its counter \"{scope}\" is at {database}, but {given_out} was used \
                ({file}). Probably it was restored from a backup, or it is another database. With --accept-restore, numbers continue \
                after {given_out}; first find out what else is missing"
    )]
    Restored { scope: String, database: i64, given_out: i64, file: PathBuf },
    #[error(
        "the database has secrets, but {file}, the key to read them, is missing: restore that file, or \
                write a new one with 64 hexadecimal digits and set every secret again"
    )]
    NoKey { file: PathBuf },
    #[error("a part of the service failed; see the line above. Stored messages are safe: start the service again")]
    Broken,
}

fn list(found: &[Unsafe]) -> String {
    found.iter().map(|one| format!("{} = {}", one.setting, one.value)).collect::<Vec<_>>().join(", ")
}
