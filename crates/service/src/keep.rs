//! Small files of the state folder: whole or as before, and for their owner's eyes only.

use std::io::{self, Read, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

/// Writes a file under a temporary name, syncs it, and renames it.
///
/// # Errors
/// The system's, with the path of the file. The file is unchanged then.
pub fn write(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let part = path.with_extension("part");
    let put = || {
        let mut file = std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&part)?;
        file.write_all(bytes)?;
        file.sync_all()?;
        std::fs::rename(&part, path)
    };
    put().map_err(|error: io::Error| io::Error::new(error.kind(), format!("{} cannot be written: {error}", path.display())))
}

/// Bytes from the system that nobody can guess.
pub fn random<const N: usize>() -> io::Result<[u8; N]> {
    let mut bytes = [0; N];
    std::fs::File::open("/dev/urandom")?.read_exact(&mut bytes)?;
    Ok(bytes)
}
