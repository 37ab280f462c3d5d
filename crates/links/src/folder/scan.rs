//! Finds the complete files of a folder.
//!
//! A file is complete when it has been unchanged for the connection's `settle`. Earlier only if two things show it: it ends with
//! the IEA of an interchange, and its writer has closed it or moved it here. An IEA alone proves nothing: a writer may append the
//! next interchange. Where the system does not report closing, such as on a network drive, `settle` decides.

use super::intake::Folder;
use notify::event::{AccessKind, AccessMode, ModifyKind, RenameMode};
use notify::{Event, EventKind, RecursiveMode, Watcher};
use std::collections::HashSet;
use std::fs::Metadata;
use std::io::{self, Read, Seek, SeekFrom};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};
use std::time::{Duration, SystemTime};
use tokio::sync::Notify;
use wirewatch_core::x12::Delimiters;

/// A file that is whole.
#[derive(Debug)]
pub struct Whole {
    pub path: PathBuf,
    pub name: String,
    pub fingerprint: String,
}

/// Events of a watched folder.
#[derive(Debug, Default)]
pub struct Notices {
    /// Something changed.
    pub changed: Notify,
    /// Names of files that were closed after writing, or moved here, and not written since.
    closed: Mutex<HashSet<PathBuf>>,
}

impl Notices {
    fn take(&self, event: &Event) {
        let mut closed = self.closed.lock().expect("no holder panics");
        let mut names = event.paths.iter().filter_map(|path| path.file_name().map(PathBuf::from));
        match event.kind {
            EventKind::Access(AccessKind::Close(AccessMode::Write)) | EventKind::Modify(ModifyKind::Name(RenameMode::To)) => {
                closed.extend(names);
            }
            EventKind::Modify(ModifyKind::Name(RenameMode::Both)) => {
                names.next().map(|from| closed.remove(&from));
                closed.extend(names);
            }
            EventKind::Modify(ModifyKind::Data(_) | ModifyKind::Name(_)) | EventKind::Create(_) | EventKind::Remove(_) => {
                for name in names {
                    closed.remove(&name);
                }
            }
            // Our own reads are reported too and must not cause the next scan.
            EventKind::Access(_) => return,
            EventKind::Modify(_) | EventKind::Any | EventKind::Other => {}
        }
        self.changed.notify_one();
    }

    fn is_closed(&self, name: &str) -> bool {
        self.closed.lock().expect("no holder panics").contains(Path::new(name))
    }
}

/// Watches a folder until what is returned is dropped; `None` where the system does not.
pub fn watch(path: &Path, notices: Arc<Notices>) -> Option<notify::RecommendedWatcher> {
    let on_event = move |event: notify::Result<Event>| match event {
        Ok(event) => notices.take(&event),
        Err(_) => notices.changed.notify_one(),
    };
    let mut watcher = notify::recommended_watcher(on_event).ok()?;
    watcher.watch(path, RecursiveMode::NonRecursive).ok()?;
    Some(watcher)
}

/// The whole files, oldest first, and whether others are still being written.
pub fn scan(folder: &Folder, notices: &Notices) -> io::Result<(Vec<Whole>, bool)> {
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
        if unchanged >= folder.settle || (notices.is_closed(&name) && ends_with_trailer(&entry.path())) {
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

pub fn fingerprint(name: &str, metadata: &Metadata) -> String {
    format!("{}:{}:{}:{}.{:09}:{name}", metadata.dev(), metadata.ino(), metadata.size(), metadata.mtime(), metadata.mtime_nsec())
}

/// Returns whether the file begins with an ISA and ends with the IEA with the same control number.
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

#[cfg(test)]
mod tests {
    use super::*;
    use notify::event::{CreateKind, DataChange};

    const ISA: &str =
        "ISA*00*          *00*          *ZZ*MARROWFIELD    *ZZ*QUILLHAVEN     *261123*0700*U*00401*000000001*0*T*>~";

    #[test]
    fn only_whole_files_are_seen() {
        let folder = tempfile::tempdir().unwrap();
        let put = |name: &str, text: &str| std::fs::write(folder.path().join(name), text).unwrap();
        put("whole.edi", &format!("{ISA}\nIEA*0*000000001~\n"));
        put("open.edi", &format!("{ISA}\nIEA*0*000000001~\n"));
        put("half.edi", &format!("{ISA}\nGS*PO*A*B"));
        put("other.txt", "not X12");
        put(".hidden", "x");
        put("growing.part", "x");
        std::fs::create_dir(folder.path().join("archive")).unwrap();
        let notices = Notices::default();
        notices.closed.lock().unwrap().extend(["whole.edi", "half.edi", "other.txt"].map(PathBuf::from));
        let look = |settle| {
            let folder = Folder { connection: "drop".into(), path: folder.path().to_owned(), settle };
            let (files, later) = scan(&folder, &notices).unwrap();
            let mut names: Vec<String> = files.into_iter().map(|file| file.name).collect();
            names.sort();
            (names, later)
        };
        assert_eq!(look(Duration::from_secs(60)), (vec!["whole.edi".to_owned()], true));
        let all = ["half.edi", "open.edi", "other.txt", "whole.edi"].map(str::to_owned).to_vec();
        assert_eq!(look(Duration::ZERO), (all, false));
    }

    #[test]
    fn a_file_is_closed_until_somebody_writes_again() {
        let notices = Notices::default();
        let tell = |kind, names: &[&str]| {
            let paths = names.iter().map(|name| Path::new("/drop").join(name)).collect();
            notices.take(&Event { kind, paths, attrs: Default::default() });
        };
        let written = EventKind::Modify(ModifyKind::Data(DataChange::Any));
        let closed = EventKind::Access(AccessKind::Close(AccessMode::Write));
        tell(EventKind::Create(CreateKind::File), &["a"]);
        tell(written, &["a"]);
        assert!(!notices.is_closed("a"));
        tell(closed, &["a"]);
        assert!(notices.is_closed("a"));
        tell(EventKind::Access(AccessKind::Read), &["a"]);
        assert!(notices.is_closed("a"), "reading changes nothing");
        tell(written, &["a"]);
        assert!(!notices.is_closed("a"));
        tell(EventKind::Modify(ModifyKind::Name(RenameMode::To)), &["b"]);
        tell(EventKind::Modify(ModifyKind::Name(RenameMode::Both)), &["c.part", "c"]);
        assert_eq!(["b", "c", "c.part"].map(|name| notices.is_closed(name)), [true, true, false]);
        tell(EventKind::Modify(ModifyKind::Name(RenameMode::From)), &["x"]);
        tell(EventKind::Remove(notify::event::RemoveKind::File), &["b"]);
        assert!(!notices.is_closed("b"));
    }
}
