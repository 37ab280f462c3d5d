//! Secrets: sealed in the database under a key in the state folder, never shown again, never logged.
//!
//! XChaCha20-Poly1305 with a random nonce before each value and the secret's name as associated data, so that a value
//! moved under another name does not open.

use crate::error::ServeError;
use crate::keep;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use chacha20poly1305::{XChaCha20Poly1305, XNonce};
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::Path;
use std::sync::RwLock;
use std::time::Duration;
use wirewatch_core::Timestamp;
use wirewatch_journal::{JournalError, SecretRow, Store};

/// Name of the key file in the state folder: 64 hex digits.
const FILE: &str = "secrets.key";
/// Bytes of the nonce before each sealed value.
const NONCE: usize = 24;

/// The secrets, opened.
pub struct Secrets {
    cipher: XChaCha20Poly1305,
    store: Store,
    known: RwLock<BTreeMap<String, Secret>>,
}

/// A secret as it is known here.
#[derive(Clone, PartialEq, Eq)]
pub struct Secret {
    /// `None` when our key does not open it.
    value: Option<String>,
    /// The value before it, as good until then.
    before: Option<(String, Timestamp)>,
    pub set: Timestamp,
    pub by: String,
}

impl Secret {
    /// Until when the previous value is valid too.
    #[must_use]
    pub fn until(&self, now: Timestamp) -> Option<Timestamp> {
        self.before.as_ref().map(|(_, until)| *until).filter(|until| *until > now)
    }
}

impl std::fmt::Debug for Secrets {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Secrets").finish_non_exhaustive()
    }
}

impl std::fmt::Debug for Secret {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Secret").field("set", &self.set).field("by", &self.by).finish_non_exhaustive()
    }
}

impl Secrets {
    /// Opens the stored secrets; creates the key at the first start.
    ///
    /// # Errors
    /// [`ServeError::NoKey`] when there are secrets and no key: a new key could not decrypt them.
    pub async fn open(state: &Path, store: &Store) -> Result<Self, ServeError> {
        let path = state.join(FILE);
        let failed = |source| ServeError::File { path: path.clone(), source };
        let rows = store.secrets().await?;
        let key = match std::fs::read_to_string(&path) {
            Ok(text) => {
                key(&text).ok_or_else(|| failed(io::Error::new(io::ErrorKind::InvalidData, "expected 64 hexadecimal digits")))?
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound && rows.is_empty() => {
                let key = keep::random().map_err(failed)?;
                keep::write(&path, hex::encode(key).as_bytes()).map_err(failed)?;
                key
            }
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Err(ServeError::NoKey { file: path }),
            Err(error) => return Err(failed(error)),
        };
        let secrets = Self { cipher: XChaCha20Poly1305::new(&key.into()), store: store.clone(), known: RwLock::default() };
        secrets.learn(rows);
        Ok(secrets)
    }

    /// The values of a secret that are good now, the newest first; none when it is not set.
    #[must_use]
    pub fn good(&self, name: &str, now: Timestamp) -> Vec<String> {
        let known = self.known.read().expect("no holder panics");
        let Some(secret) = known.get(name) else { return Vec::new() };
        let before = secret.before.as_ref().filter(|(_, until)| *until > now).map(|(value, _)| value);
        secret.value.iter().chain(before).cloned().collect()
    }

    /// Every secret by name, without its value.
    #[must_use]
    pub fn all(&self) -> BTreeMap<String, Secret> {
        self.known.read().expect("no holder panics").clone()
    }

    /// Sets a secret; its previous value stays valid for `keep`. Returns what [`Self::read_again`] returns.
    ///
    /// # Errors
    /// [`JournalError`]; nothing is changed then.
    pub async fn set(
        &self,
        name: &str,
        value: &str,
        keep: Duration,
        by: &str,
        now: Timestamp,
    ) -> Result<Vec<String>, JournalError> {
        let sealed = self.seal(name, value)?;
        self.store.set_secret(name, &sealed, now.after(keep), now, by).await?;
        self.read_again().await
    }

    /// Removes a secret, where there is one; gives what [`Self::read_again`] gives.
    ///
    /// # Errors
    /// [`JournalError`]; nothing is changed then.
    pub async fn remove(&self, name: &str) -> Result<Vec<String>, JournalError> {
        self.store.remove_secret(name).await?;
        self.read_again().await
    }

    /// Reads the secrets as set by this process or another; returns the names of those that have changed, for
    /// [`App::secrets_changed`](crate::run::App).
    ///
    /// # Errors
    /// [`JournalError`]; the known values stay.
    pub async fn read_again(&self) -> Result<Vec<String>, JournalError> {
        Ok(self.learn(self.store.secrets().await?))
    }

    fn learn(&self, rows: Vec<SecretRow>) -> Vec<String> {
        let opened = rows.into_iter().map(|row| {
            let value = self.unseal(&row.name, &row.value);
            if value.is_none() {
                tracing::error!(secret = row.name, "our key cannot decrypt this secret: set it again");
            }
            let before = self.unseal(&row.name, &row.before).map(|before| (before, Timestamp(row.until)));
            (row.name, Secret { value, before, set: Timestamp(row.at), by: row.by_whom })
        });
        let opened: BTreeMap<String, Secret> = opened.collect();
        let mut known = self.known.write().expect("no holder panics");
        let value = |all: &BTreeMap<String, Secret>, name: &str| all.get(name).and_then(|secret| secret.value.clone());
        let names: BTreeSet<&String> = known.keys().chain(opened.keys()).collect();
        let changed = names.into_iter().filter(|name| value(&known, name) != value(&opened, name)).cloned().collect();
        *known = opened;
        changed
    }

    fn seal(&self, name: &str, value: &str) -> Result<Vec<u8>, JournalError> {
        let nonce: [u8; NONCE] = keep::random()?;
        let payload = Payload { msg: value.as_bytes(), aad: name.as_bytes() };
        let sealed = self.cipher.encrypt(&XNonce::from(nonce), payload).expect("a value of some kilobytes can be sealed");
        Ok([nonce.as_slice(), &sealed].concat())
    }

    fn unseal(&self, name: &str, sealed: &[u8]) -> Option<String> {
        let (nonce, sealed) = sealed.split_first_chunk::<NONCE>()?;
        let payload = Payload { msg: sealed, aad: name.as_bytes() };
        String::from_utf8(self.cipher.decrypt(&XNonce::from(*nonce), payload).ok()?).ok()
    }
}

impl wirewatch_links::Secrets for Secrets {
    fn newest(&self, name: &str) -> Option<String> {
        self.known.read().expect("no holder panics").get(name)?.value.clone()
    }
}

fn key(text: &str) -> Option<[u8; 32]> {
    hex::decode(text.trim()).ok()?.try_into().ok()
}

/// Generates a secret in the form of Standard Webhooks: base64 of 32 random bytes after `whsec_`.
///
/// # Errors
/// The system's.
pub fn generate() -> io::Result<String> {
    Ok(format!("whsec_{}", STANDARD.encode(keep::random::<32>()?)))
}
