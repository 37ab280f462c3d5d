//! The password of a private server, stored in its folder.

use std::fs;
use std::io::{self, Read, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

/// The password in the folder, made at the first start.
pub fn password(folder: &Path) -> io::Result<String> {
    let path = folder.join("password");
    if let Ok(known) = fs::read_to_string(&path) {
        return Ok(known.trim().to_owned());
    }
    let mut bytes = [0; 16];
    fs::File::open("/dev/urandom")?.read_exact(&mut bytes)?;
    let password: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
    fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&path)?.write_all(password.as_bytes())?;
    Ok(password)
}
