//! Short content hashes: the first 128 bits of BLAKE3.

use serde::{Deserialize, Deserializer, Serialize, Serializer, de::Error};
use std::fmt;

/// A 128-bit digest of some content.
#[derive(Clone, Copy, Default, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Digest(pub [u8; 16]);

impl Digest {
    /// The digest of `parts`, each set off by its length, so that `["ab","c"]` and `["a","bc"]` differ.
    #[must_use]
    pub fn of(parts: &[&[u8]]) -> Self {
        let mut hasher = blake3::Hasher::new();
        for part in parts {
            hasher.update(&(part.len() as u64).to_le_bytes());
            hasher.update(part);
        }
        Self::from_hasher(&hasher)
    }

    /// Returns the digest of a hasher, for content that is fed in pieces.
    #[must_use]
    pub fn from_hasher(hasher: &blake3::Hasher) -> Self {
        let mut short = [0; 16];
        short.copy_from_slice(&hasher.finalize().as_bytes()[..16]);
        Self(short)
    }

    /// The first 63 bits as a positive number, for keys that are stored as `bigint`.
    #[must_use]
    pub fn short(&self) -> i64 {
        let mut eight = [0; 8];
        eight.copy_from_slice(&self.0[..8]);
        i64::from_be_bytes(eight) & i64::MAX
    }

    /// Reads the 32 hex digits that `Display` writes.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let mut bytes = [0; 16];
        if text.len() != 32 {
            return None;
        }
        for (byte, two) in bytes.iter_mut().zip(text.as_bytes().chunks(2)) {
            *byte = u8::from_str_radix(std::str::from_utf8(two).ok()?, 16).ok()?;
        }
        Some(Self(bytes))
    }
}

impl fmt::Display for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut text = [0; 32];
        hex::encode_to_slice(self.0, &mut text).map_err(|_| fmt::Error)?;
        f.write_str(std::str::from_utf8(&text).map_err(|_| fmt::Error)?)
    }
}

impl fmt::Debug for Digest {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Digest({self})")
    }
}

impl Serialize for Digest {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Digest {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        Self::parse(&text).ok_or_else(|| D::Error::custom("expected 32 hexadecimal digits"))
    }
}
