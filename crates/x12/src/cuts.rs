//! Finds the positions of element separators and segment terminators in a range of bytes.
//!
//! Separators occur every five bytes or so; a search that stops at each is slower than comparing all bytes, sixteen at a time,
//! and taking the positions from a bit mask.

use wide::u8x16;

const LANES: usize = 16;
/// Bytes compared before positions are extracted: one bit of a mask each.
const BLOCK: usize = 64;
/// Positions extracted at a time, wanted or not: quicker than testing each.
const AT_ONCE: usize = 16;
/// Bytes compared before room is made for more positions.
const PIECE: usize = 4 << 10;

/// Terminators extracted at a time, wanted or not.
const TERMINATORS_AT_ONCE: usize = 4;

/// Numbers written in place: the first `count` of the room are valid.
#[derive(Debug, Default, Clone)]
struct Places {
    room: Vec<u32>,
    count: usize,
}

impl Places {
    #[inline]
    fn taken(&self) -> &[u32] {
        &self.room[..self.count]
    }

    fn make_room(&mut self, more: usize) {
        if self.room.len() < self.count + more {
            self.room.resize((self.count + more).max(self.room.len() * 2), 0);
        }
    }

    fn push(&mut self, place: u32) {
        self.make_room(1);
        self.room[self.count] = place;
        self.count += 1;
    }

    /// Drops the first `gone`.
    fn forget(&mut self, gone: usize) {
        self.room.copy_within(gone..self.count, 0);
        self.count -= gone;
    }

    fn lower(&mut self, by: u32) {
        self.room[..self.count].iter_mut().for_each(|place| *place -= by);
    }

    fn into_vec(mut self) -> Vec<u32> {
        self.room.truncate(self.count);
        self.room
    }
}

/// The places found.
#[derive(Debug, Default, Clone)]
pub(crate) struct Cuts {
    ends: Places,
    terminators: Places,
}

impl Cuts {
    /// Ends of ids, elements and segments, ascending.
    #[inline]
    pub fn ends(&self) -> &[u32] {
        self.ends.taken()
    }

    /// Which of the ends end a segment, ascending.
    #[inline]
    pub fn terminators(&self) -> &[u32] {
        self.terminators.taken()
    }

    /// Forgets all places; the room for them stays.
    pub fn clear(&mut self) {
        (self.ends.count, self.terminators.count) = (0, 0);
    }

    /// Drops the first `gone` ends; returns the number of terminators among them.
    pub fn forget(&mut self, gone: usize) -> usize {
        self.ends.forget(gone);
        let used = self.terminators().partition_point(|terminator| (*terminator as usize) < gone);
        self.terminators.forget(used);
        self.terminators.lower(gone as u32);
        used
    }

    /// Counts every place from `by` bytes further on.
    pub fn rebase(&mut self, by: u32) {
        self.ends.lower(by);
    }

    /// Returns the ends and terminators after the search.
    pub fn into_parts(self) -> (Vec<u32>, Vec<u32>) {
        (self.ends.into_vec(), self.terminators.into_vec())
    }

    /// Appends the position of every byte of `bytes` that is `element` or `segment`, `base` added.
    pub fn find(&mut self, bytes: &[u8], mut base: u32, element: u8, segment: u8) {
        let arch = pulp::Arch::new();
        for piece in bytes.chunks(PIECE) {
            self.ends.make_room(piece.len() + AT_ONCE);
            self.terminators.make_room(piece.len() + TERMINATORS_AT_ONCE);
            arch.dispatch(InPiece { cuts: self, bytes: piece, base, element, segment });
            base = base.wrapping_add(piece.len() as u32);
        }
    }

    /// As [`find`](Self::find), with room for a position at each byte and for as many more as are extracted at once.
    #[inline(always)]
    fn find_in_piece(&mut self, bytes: &[u8], base: u32, element: u8, segment: u8) {
        let (elements, segments) = (u8x16::splat(element), u8x16::splat(segment));
        let (blocks, rest) = bytes.as_chunks::<BLOCK>();
        let (ends, mut filled) = (self.ends.room.as_mut_slice(), self.ends.count);
        let (terminators, mut ended) = (self.terminators.room.as_mut_slice(), self.terminators.count);
        let mut at = base;
        for block in blocks {
            let (mut all, mut last) = (0u64, 0u64);
            for (n, lane) in block.as_chunks::<LANES>().0.iter().enumerate() {
                let lane = u8x16::new(*lane);
                let is_segment = lane.simd_eq(segments);
                last |= u64::from(is_segment.to_bitmask()) << (n * LANES);
                all |= u64::from((lane.simd_eq(elements) | is_segment).to_bitmask()) << (n * LANES);
            }
            let (whole, count) = (all, last.count_ones() as usize);
            for places in
                terminators[ended..].as_chunks_mut::<TERMINATORS_AT_ONCE>().0.iter_mut().take(count.div_ceil(TERMINATORS_AT_ONCE))
            {
                for place in places {
                    // The number of the block's ends before it.
                    let before = (last & last.wrapping_neg()).wrapping_sub(1);
                    *place = filled as u32 + (whole & before).count_ones();
                    last &= last.wrapping_sub(1);
                }
            }
            ended += count;
            let count = all.count_ones() as usize;
            for places in ends[filled..].as_chunks_mut::<AT_ONCE>().0.iter_mut().take(count.div_ceil(AT_ONCE)) {
                for place in places {
                    *place = at.wrapping_add(all.trailing_zeros());
                    all &= all.wrapping_sub(1);
                }
            }
            filled += count;
            at = at.wrapping_add(BLOCK as u32);
        }
        for (byte, at) in rest.iter().zip(at..) {
            if *byte == segment {
                terminators[ended] = filled as u32;
                ended += 1;
            }
            if *byte == segment || *byte == element {
                ends[filled] = at;
                filled += 1;
            }
        }
        (self.ends.count, self.terminators.count) = (filled, ended);
    }

    /// Moves one of the ends forward to `at`: the bytes between do not belong to the segment.
    pub fn end_earlier(&mut self, end: usize, at: u32) {
        self.ends.room[end] = at;
    }

    /// Takes the end of the input for the end of its last segment.
    pub fn end_at(&mut self, at: u32) {
        self.terminators.push(self.ends.count as u32);
        self.ends.push(at);
    }
}

/// [`Cuts::find_in_piece`] with the machine's own instructions. A closure would be compiled for any machine, which takes nearly
/// half as long again.
struct InPiece<'a> {
    cuts: &'a mut Cuts,
    bytes: &'a [u8],
    base: u32,
    element: u8,
    segment: u8,
}

impl pulp::WithSimd for InPiece<'_> {
    type Output = ();

    #[inline(always)]
    fn with_simd<S: pulp::Simd>(self, _: S) {
        self.cuts.find_in_piece(self.bytes, self.base, self.element, self.segment);
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
            prop_assert_eq!(cuts.ends(), &expected);
            let ended: Vec<u32> = cuts.terminators().iter().map(|n| cuts.ends()[*n as usize]).collect();
            let expected: Vec<u32> = bytes.iter().zip(7..).filter(|(byte, _)| **byte == b'~').map(|(_, at)| at).collect();
            prop_assert_eq!(ended, expected);
        }
    }
}
