//! Bytes as stored: compressed from 512 bytes on, where that makes them smaller.

use crate::load::PIECE;
use std::cell::RefCell;
use wirewatch_engine::Piece;
use zstd::bulk::Compressor;

thread_local! {
    /// Creating a compressor costs as much as compressing some kilobytes.
    static COMPRESSOR: RefCell<Compressor<'static>> =
        RefCell::new(Compressor::new(1).expect("level 1 needs nothing but memory"));
}

/// Below this, compression costs more than it saves.
const WORTH: usize = 512;

/// A body in pieces, each as it is stored.
#[must_use]
pub fn pieces(body: &[u8]) -> Vec<Piece> {
    let piece = |bytes| {
        let (packed, bytes) = pack(bytes);
        Piece { packed, bytes }
    };
    body.chunks(PIECE).map(piece).collect()
}

/// The bytes to store, and whether they are compressed.
#[must_use]
pub fn pack(bytes: &[u8]) -> (bool, Vec<u8>) {
    if bytes.len() >= WORTH
        && let Ok(packed) = COMPRESSOR.with_borrow_mut(|compressor| compressor.compress(bytes))
        && packed.len() < bytes.len()
    {
        return (true, packed);
    }
    (false, bytes.to_vec())
}

/// The bytes as they were.
///
/// # Errors
/// When stored bytes are damaged.
pub fn unpack(packed: bool, bytes: Vec<u8>) -> std::io::Result<Vec<u8>> {
    if packed { zstd::stream::decode_all(&bytes[..]) } else { Ok(bytes) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_packed_comes_back() {
        for length in [0, 1, 511, 512, 5000] {
            let bytes: Vec<u8> = (0..length).map(|n| (n % 7) as u8).collect();
            let (packed, stored) = pack(&bytes);
            assert_eq!(packed, length >= 512);
            assert_eq!(unpack(packed, stored).unwrap(), bytes);
        }
    }
}
