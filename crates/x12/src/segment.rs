//! A segment, borrowed from the bytes it was read from.

use crate::Delimiters;
use crate::cuts::Cuts;

/// A segment without its terminator. Elements are found by their positions; nothing is copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Segment<'a> {
    /// The bytes from the segment id to before the terminator.
    pub bytes: &'a [u8],
    /// The separators of its interchange.
    pub delimiters: Delimiters,
    /// Offset of the first byte, counted from the start of the input.
    pub offset: u64,
    /// Offset after the terminator.
    pub end: u64,
    /// Which segment of the input it is, from 1.
    pub number: u64,
    /// The bytes with the segment, and its start in them: the id and each element end at `ends`, counted alike.
    held: &'a [u8],
    start: u32,
    ends: &'a [u32],
}

impl<'a> Segment<'a> {
    /// Returns the segment of `held` from `start`, whose id and elements end at `ends`.
    #[inline]
    pub(crate) fn new(held: &'a [u8], start: u32, ends: &'a [u32], delimiters: Delimiters, place: Place) -> Self {
        let Place { offset, end, number } = place;
        let until = ends.last().map_or(start, |last| *last) as usize;
        let bytes = held.get(start as usize..until).unwrap_or_else(nothing);
        Self { bytes, delimiters, offset, end, number, held, start, ends }
    }

    /// The segment id, e.g. `PO1`. Empty when the segment starts with a separator.
    #[must_use]
    #[inline]
    pub fn id(&self) -> &'a [u8] {
        self.element(0)
    }

    /// Element `n`, counted from 1 as the standard does; an absent one is empty, 0 is the id.
    #[must_use]
    #[inline]
    pub fn element(&self, n: usize) -> &'a [u8] {
        let Some(&end) = self.ends.get(n) else { return &[] };
        let start = if n == 0 { self.start } else { self.ends[n - 1] + 1 };
        self.held.get(start as usize..end as usize).unwrap_or_else(nothing)
    }

    /// Returns the number of elements, empty ones at the end included.
    #[must_use]
    #[inline]
    pub fn count(&self) -> usize {
        self.ends.len().saturating_sub(1)
    }

    /// Returns element `n` as text without the padding of fixed-length elements; invalid UTF-8 is replaced.
    #[must_use]
    pub fn text(&self, n: usize) -> String {
        String::from_utf8_lossy(self.element(n)).trim().to_owned()
    }

    /// The id, then every element in order.
    #[inline]
    pub fn elements(&self) -> impl Iterator<Item = &'a [u8]> + use<'a> {
        let (held, mut start) = (self.held, self.start as usize);
        self.ends.iter().map(move |end| {
            let end = *end as usize;
            held.get(std::mem::replace(&mut start, end + 1)..end).unwrap_or_else(nothing)
        })
    }

    /// Returns the span of element `n` in the input.
    #[must_use]
    pub fn span(&self, n: usize) -> std::ops::Range<u64> {
        let within = |at: u32| self.offset + u64::from((at - self.start).min(self.bytes.len() as u32));
        match self.ends.get(n) {
            Some(&end) if n == 0 => self.offset..within(end),
            Some(&end) => within(self.ends[n - 1] + 1).min(within(end))..within(end),
            None => self.offset + self.bytes.len() as u64..self.offset + self.bytes.len() as u64,
        }
    }
}

/// Returns the bytes for ends out of order, which the scanner never gives. A call, so that the compiler makes a branch that is
/// never taken; a conditional value would cost a fifth of the speed.
#[cold]
#[inline(never)]
fn nothing<'a>() -> &'a [u8] {
    &[]
}

/// Place of a segment in its input; see [`Segment`].
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Place {
    pub offset: u64,
    pub end: u64,
    pub number: u64,
}

/// Bytes in memory, cut into segments. Blanks and line ends around segments are passed over; the last terminator may be
/// missing.
#[derive(Debug, Clone)]
pub struct Tokens<B> {
    bytes: B,
    delimiters: Delimiters,
    /// Ends of ids and elements, all segments one after another.
    ends: Vec<u32>,
    segments: Vec<Token>,
}

/// A segment of [`Tokens`].
#[derive(Debug, Clone, Copy)]
struct Token {
    start: u32,
    /// Behind the terminator.
    next: u32,
    /// Part of `ends`.
    from: u32,
    to: u32,
}

impl<B: AsRef<[u8]>> Tokens<B> {
    /// Cuts `bytes`. Offsets of segments count from their start.
    ///
    /// # Panics
    /// With 4 GiB or more: positions have 32 bits.
    #[must_use]
    pub fn new(bytes: B, delimiters: Delimiters) -> Self {
        let all = bytes.as_ref();
        assert!(all.len() < u32::MAX as usize, "what is cut in memory has less than 4 GiB");
        let mut cuts = Cuts::default();
        cuts.find(all, 0, delimiters.element, delimiters.segment);
        if all.last().is_some_and(|last| *last != delimiters.segment) {
            cuts.end_at(all.len() as u32);
        }
        let (mut ends, terminators) = cuts.into_parts();
        let mut segments = Vec::with_capacity(terminators.len());
        let (mut at, mut from) = (0usize, 0u32);
        for &terminator in &terminators {
            let cut = ends[terminator as usize] as usize;
            let (mut start, mut end) = (at, cut);
            while start < end && all[start].is_ascii_whitespace() {
                start += 1;
            }
            while end > start && matches!(all[end - 1], b'\r' | b'\n') {
                end -= 1;
            }
            ends[terminator as usize] = end as u32;
            let next = (cut + 1).min(all.len());
            if start < end {
                segments.push(Token { start: start as u32, next: next as u32, from, to: terminator + 1 });
            }
            (at, from) = (next, terminator + 1);
        }
        Self { bytes, delimiters, ends, segments }
    }

    /// The bytes that were cut.
    #[must_use]
    pub fn bytes(&self) -> &[u8] {
        self.bytes.as_ref()
    }

    /// The separators they were cut by.
    #[must_use]
    pub fn delimiters(&self) -> Delimiters {
        self.delimiters
    }

    /// Returns the number of segments.
    #[must_use]
    pub fn len(&self) -> usize {
        self.segments.len()
    }

    /// Returns whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.segments.is_empty()
    }

    /// Returns segment `n`, from 0.
    ///
    /// # Panics
    /// When `n` is out of range.
    #[must_use]
    pub fn segment(&self, n: usize) -> Segment<'_> {
        let token = self.segments[n];
        let place = Place { offset: u64::from(token.start), end: u64::from(token.next), number: n as u64 + 1 };
        let ends = &self.ends[token.from as usize..token.to as usize];
        Segment::new(self.bytes.as_ref(), token.start, ends, self.delimiters, place)
    }

    /// Every segment in order.
    pub fn iter(&self) -> impl Iterator<Item = Segment<'_>> {
        (0..self.len()).map(|n| self.segment(n))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn elements_are_found_by_position_and_absent_ones_are_empty() {
        let tokens = Tokens::new(b"ST*850*0001~\r\n N1**Clover~X~\n\nSE".as_slice(), Delimiters::default());
        let lines: Vec<String> = tokens
            .iter()
            .map(|s| {
                format!(
                    "{} {}..{} {:?}",
                    s.number,
                    s.offset,
                    s.end,
                    s.elements().map(String::from_utf8_lossy).collect::<Vec<_>>()
                )
            })
            .collect();
        let expected =
            [r#"1 0..12 ["ST", "850", "0001"]"#, r#"2 15..26 ["N1", "", "Clover"]"#, r#"3 26..28 ["X"]"#, r#"4 30..32 ["SE"]"#];
        assert_eq!(lines, expected);
        let n1 = tokens.segment(1);
        assert_eq!((n1.count(), n1.element(9), n1.span(2), n1.span(1), n1.span(9)), (2, &[][..], 19..25, 18..18, 25..25));
    }
}
