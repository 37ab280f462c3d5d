//! Errors of the database, in the few kinds that callers distinguish.

use sea_orm::{DbErr, RuntimeErr, SqlxError};
use wirewatch_engine::Down;

/// A failure of the journal.
#[derive(Debug, thiserror::Error)]
pub enum JournalError {
    /// No connection, or it was lost: trying again may help.
    #[error("the database cannot be reached: {0}")]
    Away(String),
    /// The database rejects the statement: a retry does not help.
    #[error("the database refused: {0}")]
    Refused(String),
    /// A text contains a NUL character, which PostgreSQL does not store.
    #[error("a text holds a character that the database cannot store: {0}")]
    Unstorable(String),
    /// Another process has taken over this one's work: this process must not write any more.
    #[error("another process has taken over the work of this one")]
    Fenced,
    /// The tables were made by another version: nothing is read or written.
    #[error(
        "the database has tables of another version of Wire Watch ({0}): use a new database, or the version that made this one"
    )]
    OtherVersion(String),
    /// A stored record cannot be read.
    #[error("a stored record cannot be read: {0}")]
    Damaged(String),
}

impl From<DbErr> for JournalError {
    fn from(error: DbErr) -> Self {
        let (DbErr::Exec(RuntimeErr::SqlxError(inner)) | DbErr::Query(RuntimeErr::SqlxError(inner))) = &error else {
            return Self::Away(error.to_string());
        };
        match inner.as_database_error() {
            Some(database) => refused_or_away(database.code().as_deref().unwrap_or_default(), database.message()),
            None => Self::Away(error.to_string()),
        }
    }
}

impl JournalError {
    /// Classifies the error of the first connection at a start. A wrong address, name or password is [`Self::Refused`] here,
    /// since waiting does not help. Later the same error is [`Self::Away`]: it says nothing about the records waiting to be
    /// stored, and a person may correct the cause meanwhile.
    pub(crate) fn at_start(error: DbErr) -> Self {
        let DbErr::Conn(RuntimeErr::SqlxError(inner)) = &error else { return error.into() };
        match (inner.as_database_error(), &**inner) {
            (Some(database), _) => refused_or_away(database.code().as_deref().unwrap_or_default(), database.message()),
            (None, SqlxError::Configuration(says)) => Self::Refused(says.to_string()),
            (None, _) => error.into(),
        }
    }
}

/// Classifies by SQLSTATE class: connection, resources, operator intervention, serialization and read-only errors pass; others do
/// not.
fn refused_or_away(code: &str, message: &str) -> JournalError {
    let passing = ["08", "53", "57", "58", "40", "55"].iter().any(|class| code.starts_with(class)) || code == "25006";
    let says = format!("{message} ({code})");
    // character_not_in_repertoire, untranslatable_character
    let unstorable = ["22021", "22P05"].contains(&code);
    match (passing, unstorable) {
        (true, _) => JournalError::Away(says),
        (false, true) => JournalError::Unstorable(says),
        (false, false) => JournalError::Refused(says),
    }
}

impl From<JournalError> for Down {
    fn from(error: JournalError) -> Self {
        Self(error.to_string())
    }
}

impl From<serde_json::Error> for JournalError {
    fn from(error: serde_json::Error) -> Self {
        Self::Damaged(error.to_string())
    }
}

impl From<std::io::Error> for JournalError {
    fn from(error: std::io::Error) -> Self {
        Self::Damaged(error.to_string())
    }
}
