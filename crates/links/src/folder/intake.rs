//! Receives files: reads in place, commits, checks that the file is unchanged, then moves it into the archive. Nothing is claimed
//! by renaming.

use super::faults::Faults;
use super::move_away;
use super::scan::{Notices, Whole, fingerprint, scan, watch};
use std::collections::{BTreeSet, HashMap};
use std::io;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use tokio::io::AsyncReadExt;
use wirewatch_core::ArrivalId;
use wirewatch_core::intake::Provenance;
use wirewatch_engine::{Clock, Down, Engine, Journal, Links, Ready, Row, Source, TakenReport};

/// The scan is the truth; change notices only make it sooner.
const SCAN: Duration = Duration::from_secs(2);
/// Archive below the folder.
const ARCHIVE: &str = "archive";

/// A folder to receive files from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Folder {
    /// The connection's name.
    pub connection: String,
    pub path: PathBuf,
    /// How long a file must be unchanged when nothing else shows that it is complete.
    pub settle: Duration,
}

/// Takes files from `folder` until the task is dropped; what is in the way is shown in `faults`.
pub async fn run<J: Journal, L: Links, C: Clock + Clone>(engine: Engine<J, L, C>, folder: Folder, faults: Faults, clock: C) {
    let notices = Arc::new(Notices::default());
    let _watcher = watch(&folder.path, notices.clone());
    // Taken, and not archived: by fingerprint, the arrival that they became. They are not read again.
    let mut taken: HashMap<String, ArrivalId> = HashMap::new();
    loop {
        let hinted = notices.changed.notified();
        // Files stay in place while a person holds the connection or there is no room: they still belong to the sender.
        if engine.closed(&[&folder.connection]).is_some() {
            let _ = tokio::time::timeout(SCAN, hinted).await;
            continue;
        }
        let scanned = {
            let (folder, notices) = (folder.clone(), notices.clone());
            tokio::task::spawn_blocking(move || scan(&folder, &notices)).await
        };
        let mut found = Vec::new();
        let (files, later) = match scanned {
            Ok(Ok(scanned)) => scanned,
            Ok(Err(error)) => {
                found.push((
                    String::new(),
                    format!("the folder cannot be read: {error}. Check that it exists and that the service may read it"),
                ));
                (Vec::new(), false)
            }
            Err(panic) => std::panic::resume_unwind(panic.into_panic()),
        };
        let mut archives = BTreeSet::new();
        let mut archived = |file: &Whole, arrival: ArrivalId, taken: &mut HashMap<String, ArrivalId>| match archive(
            &folder, file, arrival,
        ) {
            Ok(archive) => {
                taken.remove(&file.fingerprint);
                archives.extend(archive);
            }
            Err(error) => {
                taken.insert(file.fingerprint.clone(), arrival);
                let says = format!(
                    "stored as arrival {arrival}, but it cannot be moved to {}: {error}. It is not read again; the move is tried \
                         again at every scan. Check that the folder exists and that the service may write to it",
                    archive_folder(&folder, arrival).display(),
                );
                found.push((file.name.clone(), says));
            }
        };
        taken.retain(|print, _| files.iter().any(|file| file.fingerprint == *print));
        let (again, fresh): (Vec<Whole>, Vec<Whole>) = files.into_iter().partition(|file| taken.contains_key(&file.fingerprint));
        for file in again {
            let arrival = taken[&file.fingerprint];
            archived(&file, arrival, &mut taken);
        }
        let mut unread = Vec::new();
        // Files of one scan are stored in their order, or again from the first that was not stored.
        let row = Row::default();
        let mut fresh = fresh.into_iter().peekable();
        while fresh.peek().is_some() {
            for (file, report) in take_some(&engine, &folder, &row, &mut fresh).await {
                match report {
                    Ok(report) => archived(&file, report.arrival, &mut taken),
                    Err(error) => unread.push((file.name, error.to_string())),
                }
            }
        }
        found.extend(unread);
        if let Err(error) = sync(&folder, archives).await {
            found.push((String::new(), format!("the archive cannot be synced: {error}")));
        }
        faults.found(&folder.connection, found, clock.now());
        // A file not whole yet may become so without any notice.
        let wait = if later { Duration::from_millis(250) } else { SCAN };
        let _ = tokio::time::timeout(wait, hinted).await;
    }
}

/// Most files and bytes stored in one commit.
const TOGETHER: usize = 32;
const TOGETHER_BYTES: u64 = 512 << 10;

/// Takes the next few files; for each, what it became.
async fn take_some<J: Journal, L: Links, C: Clock + Clone>(
    engine: &Engine<J, L, C>,
    folder: &Folder,
    row: &Row,
    files: &mut impl Iterator<Item = Whole>,
) -> Vec<(Whole, Result<TakenReport, TakeError>)> {
    let (mut read, mut batch, mut done, mut bytes) = (Vec::new(), Vec::new(), Vec::new(), 0);
    for file in files {
        match read_one(engine, folder, row, &file).await {
            Ok(ready) => {
                bytes += ready.size();
                batch.push(ready);
                read.push(file);
            }
            Err(error) => done.push((file, Err(error))),
        }
        if batch.len() == TOGETHER || bytes >= TOGETHER_BYTES {
            break;
        }
    }
    let reports = engine.take(batch).await.into_iter().map(|report| report.map_err(TakeError::from));
    done.extend(read.into_iter().zip(reports));
    done
}

async fn read_one<J: Journal, L: Links, C: Clock + Clone>(
    engine: &Engine<J, L, C>,
    folder: &Folder,
    row: &Row,
    file: &Whole,
) -> Result<Ready, TakeError> {
    let provenance = Provenance { connection: folder.connection.clone(), name: file.name.clone(), ..Provenance::default() };
    let source = Source { provenance, fingerprint: file.fingerprint.clone(), row: row.clone(), ..Source::default() };
    let mut taking = engine.read(source);
    let mut input = tokio::fs::File::open(&file.path).await?;
    let mut buffer = vec![0; 256 << 10];
    loop {
        let read = input.read(&mut buffer).await?;
        if read == 0 {
            return Ok(taking.ready().await?);
        }
        taking.feed(&buffer[..read]).await?;
    }
}

/// Makes all moves of a scan durable at once. A move undone by a power cut does no harm: the file's fingerprint is known, and it
/// is moved again.
async fn sync(folder: &Folder, archives: BTreeSet<PathBuf>) -> io::Result<()> {
    if archives.is_empty() {
        return Ok(());
    }
    let folders: Vec<PathBuf> = archives.into_iter().chain([folder.path.clone()]).collect();
    let synced =
        tokio::task::spawn_blocking(move || folders.iter().try_for_each(|folder| std::fs::File::open(folder)?.sync_all()));
    synced.await.map_err(io::Error::other)?
}

/// Moves the file away, unless it was changed while it was read: then it is another file, and its turn comes.
fn archive(folder: &Folder, file: &Whole, arrival: ArrivalId) -> io::Result<Option<PathBuf>> {
    let now = std::fs::metadata(&file.path)?;
    if fingerprint(&file.name, &now) != file.fingerprint {
        return Ok(None);
    }
    let to = archive_folder(folder, arrival);
    std::fs::create_dir_all(&to)?;
    move_away(&file.path, &to.join(archive_name(arrival, &file.name)))?;
    Ok(Some(to))
}

/// The folder in which the file of `arrival` is archived: one for each day.
fn archive_folder(folder: &Folder, arrival: ArrivalId) -> PathBuf {
    let (day, _) = arrival.made().x12();
    folder.path.join(ARCHIVE).join(day)
}

/// The name in the archive: the arrival, and what the file was called, its beginning cut where both together are too long.
fn archive_name(arrival: ArrivalId, name: &str) -> String {
    /// Bytes of a file name, at most, as almost every file system has it.
    const LONGEST: usize = 255;
    let id = arrival.to_string();
    let mut from = (id.len() + 1 + name.len()).saturating_sub(LONGEST);
    while !name.is_char_boundary(from) {
        from += 1;
    }
    format!("{id}-{}", &name[from..])
}

#[derive(Debug, thiserror::Error)]
enum TakeError {
    #[error(transparent)]
    File(#[from] io::Error),
    #[error(transparent)]
    Down(#[from] Down),
}

#[cfg(test)]
mod tests {
    use super::*;
    use wirewatch_core::Id;

    #[test]
    fn a_name_of_any_length_has_a_place_in_the_archive() {
        let id = Id(1_234_567_890_123);
        let long = format!("ä{}.edi", "x".repeat(250));
        for name in ["order.edi", &long, &"ä".repeat(127)] {
            let archived = archive_name(id, name);
            assert!(
                archived.len() <= 255
                    && archived.starts_with(&format!("{id}-"))
                    && name.ends_with(archived.split_once('-').unwrap().1),
                "{archived}"
            );
        }
        assert_eq!(archive_name(id, "order.edi"), format!("{id}-order.edi"));
    }

    #[test]
    fn nothing_is_replaced_in_the_archive() {
        let folder = tempfile::tempdir().unwrap();
        let (a, b) = (folder.path().join("a"), folder.path().join("b"));
        std::fs::write(&a, "new").unwrap();
        std::fs::write(&b, "old").unwrap();
        assert_eq!(move_away(&a, &b).unwrap_err().kind(), io::ErrorKind::AlreadyExists);
        assert_eq!(std::fs::read_to_string(&b).unwrap(), "old");
    }
}
