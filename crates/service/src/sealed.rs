//! The restore guard: the numbers given out are also written to a file of the state folder. A database behind that file was
//! restored from a backup and would give the same numbers out again.

use crate::error::ServeError;
use crate::keep;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use wirewatch_journal::{Counters, PgJournal};

/// Name of the file in the state folder.
const FILE: &str = "sealed.json";
/// Numbers have nine digits and begin again after the last: further apart than this, the smaller one is the later.
const HALF: i64 = 500_000_000;

/// Compares the database with the file, and writes every number to the file before it is used.
///
/// # Errors
/// [`ServeError::Restored`] when the database is behind and `accept` is false; with `accept` the numbers continue after those in
/// the file.
pub async fn guard(journal: &PgJournal, folder: &Path, accept: bool) -> Result<(), ServeError> {
    let path = folder.join(FILE);
    let failed = |source| ServeError::File { path: path.clone(), source };
    let given = read(&path).map_err(failed)?;
    let known = journal.counters().await?;
    if let Some((scope, database, given_out)) = behind(&given, &known) {
        if !accept {
            return Err(ServeError::Restored { scope, database, given_out, file: path });
        }
        tracing::warn!(
            scope,
            database,
            given_out,
            "the database is older than what was sent; numbers continue after the last one used"
        );
        let ahead = given.iter().filter(|(scope, number)| is_behind(known.get(*scope), **number));
        journal.set_counters(&ahead.map(|(scope, number)| (scope.clone(), *number)).collect()).await?;
    }
    let file = File { path, counters: Mutex::new(given) };
    journal.on_sealed(move |counters| file.add(counters));
    Ok(())
}

fn is_behind(database: Option<&i64>, given_out: i64) -> bool {
    (1..HALF).contains(&(given_out - database.copied().unwrap_or(0)))
}

/// The first counter of which the database knows less than was given out.
fn behind(given: &Counters, known: &Counters) -> Option<(String, i64, i64)> {
    let (scope, number) = given.iter().find(|(scope, number)| is_behind(known.get(*scope), **number))?;
    Some((scope.clone(), known.get(scope).copied().unwrap_or(0), *number))
}

fn read(path: &Path) -> io::Result<Counters> {
    match std::fs::read(path) {
        Ok(bytes) => serde_json::from_slice(&bytes).map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Counters::new()),
        Err(error) => Err(error),
    }
}

struct File {
    path: PathBuf,
    counters: Mutex<Counters>,
}

impl File {
    fn add(&self, counters: &Counters) {
        let mut all = self.counters.lock().expect("no holder panics");
        all.extend(counters.iter().map(|(scope, number)| (scope.clone(), *number)));
        if let Err(error) = write(&self.path, &all) {
            // The numbers are safe in the database; only the guard against an old backup is weaker.
            tracing::error!(%error, path = %self.path.display(), "the numbers used could not be recorded");
        }
    }
}

fn write(path: &Path, counters: &Counters) -> io::Result<()> {
    keep::write(path, &serde_json::to_vec_pretty(counters)?)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn counters(all: &[(&str, i64)]) -> Counters {
        all.iter().map(|(scope, number)| ((*scope).to_owned(), *number)).collect()
    }

    #[test]
    fn a_database_behind_the_file_is_reported() {
        let given = counters(&[("a", 7), ("b", 9)]);
        assert_eq!(behind(&given, &counters(&[("a", 7), ("b", 9)])), None);
        assert_eq!(behind(&given, &counters(&[("a", 8), ("b", 9)])), None, "the file may be one behind after a crash");
        assert_eq!(behind(&given, &counters(&[("a", 7), ("b", 3)])), Some(("b".to_owned(), 3, 9)));
        assert_eq!(behind(&given, &counters(&[("a", 7)])), Some(("b".to_owned(), 0, 9)));
    }

    #[test]
    fn numbers_that_began_again_are_not_behind() {
        assert_eq!(behind(&counters(&[("a", 999_999_999)]), &counters(&[("a", 1)])), None);
        assert_eq!(behind(&counters(&[("a", 2)]), &counters(&[("a", 999_999_999)])), None);
    }

    #[test]
    fn what_is_noted_is_read_back_and_a_damaged_file_is_reported() {
        let folder = tempfile::tempdir().unwrap();
        let file = File { path: folder.path().join(FILE), counters: Mutex::new(counters(&[("a", 1)])) };
        file.add(&counters(&[("b", 5)]));
        file.add(&counters(&[("a", 2)]));
        assert_eq!(read(&file.path).unwrap(), counters(&[("a", 2), ("b", 5)]));
        std::fs::write(&file.path, "{").unwrap();
        assert_eq!(read(&file.path).unwrap_err().kind(), io::ErrorKind::InvalidData);
    }
}
