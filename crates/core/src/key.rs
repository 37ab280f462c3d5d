//! Keys as they are stored: an indexed value has a bounded length, whatever a document contains.

use crate::Digest;

/// Longest key that is stored unchanged, in bytes: an index row holds some 2,700 bytes, including the names beside the key.
pub const LONGEST: usize = 1000;
/// Readable part of a longer key, in bytes.
const READABLE: usize = 900;

/// Returns the stored form of a key: the key itself, or if it is longer than [`LONGEST`] its beginning and a digest of all of it,
/// so that it stays distinct and can be found by the whole text.
#[must_use]
pub fn stored(key: String) -> String {
    if key.len() <= LONGEST {
        return key;
    }
    format!("{}… {}", &key[..key.floor_char_boundary(READABLE)], Digest::of(&[key.as_bytes()]))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_long_key_is_bounded_and_still_its_own() {
        let long = |end: &str| format!("{}{end}", "ü".repeat(2000));
        assert_eq!(stored("MF-1".to_owned()), "MF-1");
        assert_eq!(stored("x".repeat(LONGEST)), "x".repeat(LONGEST));
        let (a, b) = (stored(long("a")), stored(long("b")));
        assert!(a.len() <= LONGEST && a.starts_with("üüü") && a != b, "{a}");
        assert_eq!((stored(long("a")), stored(a.clone())), (a.clone(), a));
    }
}
