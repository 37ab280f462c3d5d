//! Finds where things end: the positions of element separators and segment terminators in a stretch of bytes.
//!
//! Separators come every five bytes or so, so a search that stops at each costs more than looking at all bytes alike,
//! sixteen at a time, and taking the places out of a bit mask.

use wide::u8x16;

const LANES: usize = 16;
/// Bytes looked at before places are taken out: one bit of a mask each.
const BLOCK: usize = 64;
/// Places taken out at a time, wanted or not: that is quicker than asking after each.
const AT_ONCE: usize = 8;

/// The places found.
#[derive(Debug, Default, Clone)]
pub(crate) struct Cuts {
    /// Where ids, elements and segments end, ascending.
    pub ends: Vec<u32>,
    /// Which of `ends` end a segment, ascending.
    pub terminators: Vec<u32>,
}

impl Cuts {
    /// Forgets all places; the room for them stays.
    pub fn clear(&mut self) {
        self.ends.clear();
        self.terminators.clear();
    }

    /// Appends the position of every byte of `bytes` that is `element` or `segment`, `base` added.
    pub fn find(&mut self, bytes: &[u8], base: u32, element: u8, segment: u8) {
        let (elements, terminators) = (u8x16::splat(element), u8x16::splat(segment));
        let mut found = [0u32; BLOCK + AT_ONCE];
        let (blocks, rest) = bytes.as_chunks::<BLOCK>();
        let mut at = base;
        for block in blocks {
            let (mut all, mut ended) = (0u64, 0u64);
            for (n, lane) in block.as_chunks::<LANES>().0.iter().enumerate() {
                let lane = u8x16::new(*lane);
                let terminator = lane.simd_eq(terminators);
                ended |= u64::from(terminator.to_bitmask()) << (n * LANES);
                all |= u64::from((lane.simd_eq(elements) | terminator).to_bitmask()) << (n * LANES);
            }
            let before = self.ends.len() as u32;
            while ended != 0 {
                let first = ended & ended.wrapping_neg();
                self.terminators.push(before + (all & (first - 1)).count_ones());
                ended &= ended - 1;
            }
            let count = all.count_ones() as usize;
            let mut taken = 0;
            while taken < count {
                for place in &mut found[taken..taken + AT_ONCE] {
                    *place = at + all.trailing_zeros();
                    all &= all.wrapping_sub(1);
                }
                taken += AT_ONCE;
            }
            self.ends.extend_from_slice(&found[..count]);
            at += BLOCK as u32;
        }
        for (byte, at) in rest.iter().zip(at..) {
            if *byte == segment {
                self.terminators.push(self.ends.len() as u32);
            }
            if *byte == segment || *byte == element {
                self.ends.push(at);
            }
        }
    }

    /// Takes the end of the input for the end of its last segment.
    pub fn end_at(&mut self, at: u32) {
        self.terminators.push(self.ends.len() as u32);
        self.ends.push(at);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn every_separator_is_found_and_nothing_else(bytes in prop::collection::vec(prop_oneof![Just(b'*'), Just(b'~'), any::<u8>()], 0..300)) {
            let mut cuts = Cuts::default();
            cuts.find(&bytes, 7, b'*', b'~');
            let expected: Vec<u32> = bytes.iter().zip(7..).filter(|(byte, _)| matches!(byte, b'*' | b'~')).map(|(_, at)| at).collect();
            prop_assert_eq!(&cuts.ends, &expected);
            let ended: Vec<u32> = cuts.terminators.iter().map(|n| cuts.ends[*n as usize]).collect();
            let expected: Vec<u32> = bytes.iter().zip(7..).filter(|(byte, _)| **byte == b'~').map(|(_, at)| at).collect();
            prop_assert_eq!(ended, expected);
        }
    }
}
