//! Keys as they are kept: what is looked up by an index has a bounded length, whatever a document says.

use crate::Digest;

/// Longest key that is kept as it is, in bytes: an index takes some 2,700 bytes in one row, names beside it among them.
pub const LONGEST: usize = 1000;
/// How much of a longer one stays readable, in bytes.
const READABLE: usize = 900;

/// The key itself; of one that is longer than [`LONGEST`] its beginning and a digest of all of it, so that it is told apart from
/// every other and found again by the whole text.
#[must_use]
pub fn kept(key: String) -> String {
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
        assert_eq!(kept("MF-1".to_owned()), "MF-1");
        assert_eq!(kept("x".repeat(LONGEST)), "x".repeat(LONGEST));
        let (a, b) = (kept(long("a")), kept(long("b")));
        assert!(a.len() <= LONGEST && a.starts_with("üüü") && a != b, "{a}");
        assert_eq!((kept(long("a")), kept(a.clone())), (a.clone(), a));
    }
}
