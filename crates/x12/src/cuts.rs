//! Finds where things end: the positions of element separators and segment terminators in a stretch of bytes.
//!
//! Separators come every five bytes or so, so a search that stops at each costs more than looking at all bytes alike,
//! sixteen at a time, and taking the places out of a bit mask.

use wide::u8x16;

const LANES: usize = 16;
/// Bytes looked at before places are taken out: one bit of a mask each.
const BLOCK: usize = 64;
/// Places taken out at a time, wanted or not: that is quicker than asking after each.
const AT_ONCE: usize = 16;
/// Bytes looked at before room is made for more places.
const PIECE: usize = 4 << 10;

/// The places found.
#[derive(Debug, Default, Clone)]
pub(crate) struct Cuts {
    /// Room for places, of which the first `count` are taken: places are written where they stay.
    room: Vec<u32>,
    count: usize,
    /// Which of the ends end a segment, ascending.
    pub terminators: Vec<u32>,
}

impl Cuts {
    /// Where ids, elements and segments end, ascending.
    #[inline]
    pub fn ends(&self) -> &[u32] {
        &self.room[..self.count]
    }

    /// Forgets all places; the room for them stays.
    pub fn clear(&mut self) {
        self.count = 0;
        self.terminators.clear();
    }

    /// Drops the first `gone` of the ends; how many of the terminators went with them.
    pub fn forget(&mut self, gone: usize) -> usize {
        self.room.copy_within(gone..self.count, 0);
        self.count -= gone;
        let used = self.terminators.partition_point(|terminator| (*terminator as usize) < gone);
        self.terminators.drain(..used);
        self.terminators.iter_mut().for_each(|terminator| *terminator -= gone as u32);
        used
    }

    /// Counts every place from `by` bytes further on.
    pub fn rebase(&mut self, by: u32) {
        self.room[..self.count].iter_mut().for_each(|end| *end -= by);
    }

    /// The ends and the terminators, when no more are looked for.
    pub fn into_parts(mut self) -> (Vec<u32>, Vec<u32>) {
        self.room.truncate(self.count);
        (self.room, self.terminators)
    }

    /// Appends the position of every byte of `bytes` that is `element` or `segment`, `base` added.
    pub fn find(&mut self, bytes: &[u8], mut base: u32, element: u8, segment: u8) {
        let arch = pulp::Arch::new();
        for piece in bytes.chunks(PIECE) {
            self.make_room(piece.len() + AT_ONCE);
            arch.dispatch(|| self.find_in_piece(piece, base, element, segment));
            base = base.wrapping_add(piece.len() as u32);
        }
    }

    /// As [`find`](Self::find), where there is room for a place at each byte and [`AT_ONCE`] more.
    #[inline(always)]
    fn find_in_piece(&mut self, bytes: &[u8], base: u32, element: u8, segment: u8) {
        let (elements, terminators) = (u8x16::splat(element), u8x16::splat(segment));
        let (blocks, rest) = bytes.as_chunks::<BLOCK>();
        let (room, mut filled) = (self.room.as_mut_slice(), self.count);
        let mut at = base;
        for block in blocks {
            let (mut all, mut ended) = (0u64, 0u64);
            for (n, lane) in block.as_chunks::<LANES>().0.iter().enumerate() {
                let lane = u8x16::new(*lane);
                let terminator = lane.simd_eq(terminators);
                ended |= u64::from(terminator.to_bitmask()) << (n * LANES);
                all |= u64::from((lane.simd_eq(elements) | terminator).to_bitmask()) << (n * LANES);
            }
            while ended != 0 {
                let first = ended & ended.wrapping_neg();
                self.terminators.push(filled as u32 + (all & (first - 1)).count_ones());
                ended &= ended - 1;
            }
            let count = all.count_ones() as usize;
            for places in room[filled..].as_chunks_mut::<AT_ONCE>().0.iter_mut().take(count.div_ceil(AT_ONCE)) {
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
                self.terminators.push(filled as u32);
            }
            if *byte == segment || *byte == element {
                room[filled] = at;
                filled += 1;
            }
        }
        self.count = filled;
    }

    /// Room for `more` places beyond those taken.
    fn make_room(&mut self, more: usize) {
        if self.room.len() < self.count + more {
            self.room.resize((self.count + more).max(self.room.len() * 2), 0);
        }
    }

    /// Moves one of the ends forward to `at`: what stands between does not belong to the segment.
    pub fn end_earlier(&mut self, end: usize, at: u32) {
        self.room[end] = at;
    }

    /// Takes the end of the input for the end of its last segment.
    pub fn end_at(&mut self, at: u32) {
        self.terminators.push(self.count as u32);
        self.make_room(1);
        self.room[self.count] = at;
        self.count += 1;
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
            let ended: Vec<u32> = cuts.terminators.iter().map(|n| cuts.ends()[*n as usize]).collect();
            let expected: Vec<u32> = bytes.iter().zip(7..).filter(|(byte, _)| **byte == b'~').map(|(_, at)| at).collect();
            prop_assert_eq!(ended, expected);
        }
    }
}
