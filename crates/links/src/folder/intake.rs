//! Takes files in: read in place, committed, looked at again, then moved into the archive. Nothing is claimed by renaming.

use super::move_aside;
use notify::event::{AccessKind, AccessMode};
use notify::{EventKind, RecursiveMode, Watcher};
use std::collections::BTreeSet;
use std::fs::Metadata;
use std::io::{self, Read, Seek, SeekFrom};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::{Duration, SystemTime};
use tokio::io::AsyncReadExt;
use tokio::sync::Notify;
use wirewatch_core::intake::Came;
use wirewatch_core::x12::Delimiters;
use wirewatch_engine::{Clock, Down, Engine, Journal, Links, Ready, Row, Source, TakenReport};

/// The scan is the truth; change notices only make it sooner.
const SCAN: Duration = Duration::from_secs(2);
/// Below the folder: what was taken in.
const ARCHIVE: &str = "taken";

/// A folder that files are taken from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Folder {
    /// The connection's name.
    pub connection: String,
    pub path: PathBuf,
    /// How long a file must be unchanged when nothing else shows that it is whole.
    pub settle: Duration,
}

/// A file that is whole.
#[derive(Debug)]
struct Whole {
    path: PathBuf,
    name: String,
    fingerprint: String,
}

/// Takes files from `folder` until the task is dropped.
pub async fn run<J: Journal, L: Links, C: Clock + Clone>(engine: Engine<J, L, C>, folder: Folder) {
    let hint = Arc::new(Notify::new());
    let _watcher = watch(&folder.path, hint.clone());
    let mut complained = String::new();
    loop {
        let hinted = hint.notified();
        // Files stay where they are while a person holds the connection or there is work enough: they are still the
        // sender's.
        if engine.closed(&[&folder.connection]).is_some() {
            let _ = tokio::time::timeout(SCAN, hinted).await;
            continue;
        }
        let scanned = {
            let folder = folder.clone();
            tokio::task::spawn_blocking(move || scan(&folder)).await
        };
        let (files, later) = match scanned {
            Ok(Ok(found)) => found,
            Ok(Err(error)) => {
                complain(&mut complained, &folder, &error.to_string());
                (Vec::new(), false)
            }
            Err(_) => return,
        };
        let mut archives = BTreeSet::new();
        // What one scan finds comes in its order, or from the first that was not taken again with the next.
        let row = Row::default();
        let mut files = files.into_iter().peekable();
        while files.peek().is_some() {
            for (name, taken) in take_some(&engine, &folder, &row, &mut files).await {
                match taken {
                    Ok(archive) => archives.extend(archive),
                    Err(error) => complain(&mut complained, &folder, &format!("{name}: {error}")),
                }
            }
        }
        if let Err(error) = sync(&folder, archives).await {
            complain(&mut complained, &folder, &format!("the archive cannot be synced: {error}"));
        }
        // A file not whole yet may become so without any notice.
        let wait = if later { Duration::from_millis(250) } else { SCAN };
        let _ = tokio::time::timeout(wait, hinted).await;
    }
}

/// Says the same thing once.
fn complain(complained: &mut String, folder: &Folder, says: &str) {
    if complained != says {
        tracing::warn!(connection = folder.connection, %says, "files cannot be taken in");
        says.clone_into(complained);
    }
}

const CLOSED_AFTER_WRITING: EventKind = EventKind::Access(AccessKind::Close(AccessMode::Write));

fn watch(path: &Path, hint: Arc<Notify>) -> Option<notify::RecommendedWatcher> {
    // Our own reading is told too; hinting at that would make every scan the cause of the next.
    let told = move |event: notify::Result<notify::Event>| {
        let reading = event.as_ref().is_ok_and(|event| event.kind.is_access() && event.kind != CLOSED_AFTER_WRITING);
        if !reading {
            hint.notify_one();
        }
    };
    let mut watcher = notify::recommended_watcher(told).ok()?;
    watcher.watch(path, RecursiveMode::NonRecursive).ok()?;
    Some(watcher)
}

/// The whole files, oldest first, and whether others are still being written.
fn scan(folder: &Folder) -> io::Result<(Vec<Whole>, bool)> {
    let mut found: Vec<(SystemTime, Whole)> = Vec::new();
    let mut later = false;
    for entry in std::fs::read_dir(&folder.path)? {
        let entry = entry?;
        let name = entry.file_name().to_string_lossy().into_owned();
        // Gone between listing and looking: somebody else's business.
        let Ok(metadata) = entry.metadata() else { continue };
        if !metadata.is_file() || is_temporary(&name) {
            continue;
        }
        let modified = metadata.modified().unwrap_or(SystemTime::UNIX_EPOCH);
        let unchanged = modified.elapsed().unwrap_or(Duration::ZERO);
        if unchanged >= folder.settle || ends_with_trailer(&entry.path()) {
            let fingerprint = fingerprint(&name, &metadata);
            found.push((modified, Whole { path: entry.path(), name, fingerprint }));
        } else {
            later = true;
        }
    }
    found.sort_by(|a, b| (a.0, &a.1.name).cmp(&(b.0, &b.1.name)));
    Ok((found.into_iter().map(|(_, file)| file).collect(), later))
}

/// Names that writers use until a file is whole.
fn is_temporary(name: &str) -> bool {
    name.starts_with('.') || name.ends_with(".tmp") || name.ends_with(".part")
}

fn fingerprint(name: &str, metadata: &Metadata) -> String {
    format!("{}:{}:{}:{}.{:09}:{name}", metadata.dev(), metadata.ino(), metadata.size(), metadata.mtime(), metadata.mtime_nsec())
}

/// Whether the file begins with an ISA and ends with the IEA that carries its control number.
fn ends_with_trailer(path: &Path) -> bool {
    let look = || -> io::Result<bool> {
        let mut file = std::fs::File::open(path)?;
        let mut head = [0; 110];
        let read = file.read(&mut head)?;
        let start = head[..read].iter().position(|byte| !byte.is_ascii_whitespace()).unwrap_or(0);
        let Some(delimiters) = Delimiters::of_isa(&head[start..read]) else { return Ok(false) };
        let length = file.metadata()?.len();
        file.seek(SeekFrom::Start(length.saturating_sub(200)))?;
        let mut tail = Vec::new();
        file.take(200).read_to_end(&mut tail)?;
        let tail = tail.trim_ascii_end();
        let Some((last, rest)) = tail.split_last() else { return Ok(false) };
        let segment = rest.rsplit(|byte| *byte == delimiters.segment).next().unwrap_or_default().trim_ascii_start();
        Ok(*last == delimiters.segment && segment.starts_with(b"IEA") && segment.get(3) == Some(&delimiters.element))
    };
    look().unwrap_or(false)
}

/// Files and bytes that are taken in one commit, at most.
const TOGETHER: usize = 32;
const TOGETHER_BYTES: u64 = 512 << 10;

/// Takes the next few files; for each, the archive folder it was moved to.
async fn take_some<J: Journal, L: Links, C: Clock + Clone>(
    engine: &Engine<J, L, C>,
    folder: &Folder,
    row: &Row,
    files: &mut impl Iterator<Item = Whole>,
) -> Vec<(String, Result<Option<PathBuf>, TakeError>)> {
    let (mut read, mut batch, mut done, mut bytes) = (Vec::new(), Vec::new(), Vec::new(), 0);
    for file in files {
        match read_one(engine, folder, row, &file).await {
            Ok(ready) => {
                bytes += ready.size();
                batch.push(ready);
                read.push(file);
            }
            Err(error) => done.push((file.name, Err(error))),
        }
        if batch.len() == TOGETHER || bytes >= TOGETHER_BYTES {
            break;
        }
    }
    for (file, taken) in read.into_iter().zip(engine.take(batch).await) {
        let archived = taken.map_err(TakeError::from).and_then(|report| Ok(archive(folder, &file, &report)?));
        done.push((file.name, archived));
    }
    done
}

async fn read_one<J: Journal, L: Links, C: Clock + Clone>(
    engine: &Engine<J, L, C>,
    folder: &Folder,
    row: &Row,
    file: &Whole,
) -> Result<Ready, TakeError> {
    let came = Came { connection: folder.connection.clone(), name: file.name.clone(), ..Came::default() };
    let source = Source { came, fingerprint: file.fingerprint.clone(), row: row.clone(), ..Source::default() };
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

/// Makes all moves of a scan durable at once. One that a power cut undoes is no harm: the file's fingerprint is known,
/// and it is moved again.
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
fn archive(folder: &Folder, file: &Whole, report: &TakenReport) -> io::Result<Option<PathBuf>> {
    let now = std::fs::metadata(&file.path)?;
    if fingerprint(&file.name, &now) != file.fingerprint {
        return Ok(None);
    }
    let (day, _) = report.arrival.made().x12();
    let to = folder.path.join(ARCHIVE).join(day);
    std::fs::create_dir_all(&to)?;
    move_aside(&file.path, &to.join(format!("{}-{}", report.arrival, file.name)))?;
    Ok(Some(to))
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

    #[test]
    fn only_whole_files_are_seen() {
        let folder = tempfile::tempdir().unwrap();
        let put = |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
        let isa = "ISA*00*          *00*          *ZZ*MARROWFIELD    *ZZ*QUILLHAVEN     *261123*0700*U*00401*000000001*0*T*>~";
        put("whole.edi", &format!("{isa}\nIEA*0*000000001~\n"));
        put("half.edi", &format!("{isa}\nGS*PO*A*B"));
        put("other.txt", "not X12");
        put(".hidden", "x");
        put("growing.part", "x");
        std::fs::create_dir(folder.path().join("taken")).unwrap();
        let look = |settle| {
            let folder = Folder { connection: "drop".into(), path: folder.path().to_owned(), settle };
            let (files, later) = scan(&folder).unwrap();
            let mut names: Vec<String> = files.into_iter().map(|file| file.name).collect();
            names.sort();
            (names, later)
        };
        assert_eq!(look(Duration::from_secs(60)), (vec!["whole.edi".to_owned()], true));
        assert_eq!(look(Duration::ZERO), (vec!["half.edi".to_owned(), "other.txt".to_owned(), "whole.edi".to_owned()], false));
    }

    #[test]
    fn nothing_is_replaced_in_the_archive() {
        let folder = tempfile::tempdir().unwrap();
        let (a, b) = (folder.path().join("a"), folder.path().join("b"));
        std::fs::write(&a, "new").unwrap();
        std::fs::write(&b, "old").unwrap();
        assert_eq!(move_aside(&a, &b).unwrap_err().kind(), io::ErrorKind::AlreadyExists);
        assert_eq!(std::fs::read_to_string(&b).unwrap(), "old");
    }
}
