//! Cuts a stream of bytes into segments. What the segments mean is the [`Reader`](crate::Reader)'s.

use crate::cuts::Cuts;
use crate::segment::Place;
use crate::{Delimiters, Segment, delimiters::ISA_LENGTH};

/// Bytes searched for separators at a time: enough to be quick, few enough for the nearest cache.
const BLOCK: usize = 16 << 10;

/// Limits of the scanner's memory.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// Longest segment in bytes; a longer one is passed over and reported.
    pub segment: usize,
}

impl Default for Limits {
    fn default() -> Self {
        Self { segment: 1 << 20 }
    }
}

/// Why a stretch of bytes was not read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum UnreadWhy {
    /// No interchange header starts there.
    NoHeader,
    /// A segment is longer than the limit.
    SegmentTooLong,
    /// The rest of an interchange after such a fault, up to the next header.
    AfterFault,
}

/// Item found by [`Scanner::next_item`].
#[derive(Debug, Clone, Copy)]
pub enum Item<'a> {
    /// A whole segment.
    Segment(Segment<'a>),
    /// The bytes `from..to` of the input were passed over.
    Unread { from: u64, to: u64, why: UnreadWhy },
}

/// An [`Item`] of which the segment is not lent yet: where it starts and ends, and which of the ends terminates it.
enum Found {
    Segment { start: usize, end: usize, terminator: usize },
    Unread { from: u64, to: u64, why: UnreadWhy },
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    /// Before a header; unreadable bytes have been skipped since `junk`.
    Outside {
        junk: Option<u64>,
        why: UnreadWhy,
    },
    Inside,
}

/// Parser from bytes to segments.
///
/// Bytes that come piece by piece are pushed: call [`feed`](Self::feed) with them, then [`next_item`](Self::next_item)
/// until it gives `None` (more bytes are needed), and [`finish`](Self::finish) after the last byte, again followed by
/// `next_item` until `None`. Memory is bounded by [`Limits::segment`] and the piece fed. An input that is in memory as a
/// whole is lent to [`over`](Self::over), and not copied.
///
/// Line ends and spaces between segments, and a byte order mark, are passed over silently.
#[derive(Debug)]
pub struct Scanner<H = Vec<u8>> {
    limits: Limits,
    held: H,
    /// Bytes of `held` that are used up.
    at: usize,
    /// Offset of `held[0]` in the input.
    base: u64,
    /// Ends of ids, elements and segments in `held`, up to `indexed`, for the last separators.
    cuts: Cuts,
    indexed: usize,
    index_for: Option<(u8, u8)>,
    /// The first of the ends that is not used up, and the first of the terminators.
    cursor: usize,
    next: usize,
    state: State,
    /// Separators of the current interchange.
    delimiters: Delimiters,
    finished: bool,
    /// Segments given so far.
    number: u64,
}

impl<'a> Scanner<&'a [u8]> {
    /// A scanner of an input that is in memory as a whole: only [`next_item`](Self::next_item) is called.
    ///
    /// # Panics
    /// With 4 GiB or more: positions have 32 bits.
    #[must_use]
    pub fn over(bytes: &'a [u8], limits: Limits) -> Self {
        assert!(bytes.len() < u32::MAX as usize, "what is scanned in memory has less than 4 GiB");
        Self { finished: true, ..Self::holding(bytes, limits) }
    }
}

impl Scanner {
    /// A scanner at the start of an input.
    #[must_use]
    pub fn new(limits: Limits) -> Self {
        Self::holding(Vec::new(), limits)
    }

    /// Adds the next bytes of the input: pieces of less than 2 GiB, best of some hundred kilobytes.
    pub fn feed(&mut self, bytes: &[u8]) {
        let used = self.at;
        self.base += used as u64;
        self.held.drain(..used);
        self.at = 0;
        self.forget(self.cuts.ends().partition_point(|end| (*end as usize) < used));
        self.cuts.rebase(used as u32);
        self.indexed = self.indexed.saturating_sub(used);
        self.held.extend_from_slice(bytes);
    }
}

impl<H: AsRef<[u8]>> Scanner<H> {
    fn holding(held: H, limits: Limits) -> Self {
        Self {
            limits,
            held,
            at: 0,
            base: 0,
            cuts: Cuts::default(),
            indexed: 0,
            index_for: None,
            cursor: 0,
            next: 0,
            state: State::Outside { junk: None, why: UnreadWhy::NoHeader },
            delimiters: Delimiters::default(),
            finished: false,
            number: 0,
        }
    }

    /// Says that no more bytes come.
    pub fn finish(&mut self) {
        self.finished = true;
    }

    /// Returns the number of bytes fed so far.
    #[must_use]
    pub fn offset(&self) -> u64 {
        self.base + self.at as u64
    }

    /// The next segment or unread stretch; `None` when more bytes are needed or, after
    /// [`finish`](Self::finish), when all is read.
    #[inline]
    pub fn next_item(&mut self) -> Option<Item<'_>> {
        let found = match self.state {
            State::Inside => self.at_hand(),
            State::Outside { .. } => None,
        };
        Some(match found.map_or_else(|| self.look(), Some)? {
            Found::Segment { start, end, terminator } => Item::Segment(self.give(start, end, terminator)),
            Found::Unread { from, to, why } => Item::Unread { from, to, why },
        })
    }

    /// Returns the next segment if it is held whole and is neither header nor trailer, as nearly always.
    #[inline]
    fn at_hand(&self) -> Option<Found> {
        let terminator = *self.cuts.terminators().get(self.next)? as usize;
        let mut start = self.at;
        while matches!(self.held.as_ref().get(start)?, b'\r' | b'\n') {
            start += 1;
        }
        let first = *self.cuts.ends().get(self.cursor)? as usize;
        let end = *self.cuts.ends().get(terminator)? as usize;
        let plain = !matches!(self.held.as_ref()[start], b'I' | b' ' | b'\t' | 0x1A | 0xEF);
        (plain && terminator >= self.cursor && first >= start && end - start <= self.limits.segment).then_some(Found::Segment {
            start,
            end,
            terminator,
        })
    }

    /// The segment from `start` to that of the ends; what follows it is next.
    #[inline]
    fn give(&mut self, start: usize, end: usize, terminator: usize) -> Segment<'_> {
        let first = std::mem::replace(&mut self.cursor, terminator + 1);
        self.next += 1;
        self.at = (end + 1).min(self.held.as_ref().len());
        self.number += 1;
        if let [.., b'\r' | b'\n'] = self.held.as_ref()[start..end] {
            let blank = self.held.as_ref()[start..end].iter().rev().take_while(|byte| matches!(byte, b'\r' | b'\n')).count();
            self.cuts.end_earlier(terminator, (end - blank) as u32);
        }
        let place = Place { offset: self.base + start as u64, end: self.base + self.at as u64, number: self.number };
        Segment::new(self.held.as_ref(), start as u32, &self.cuts.ends()[first..=terminator], self.delimiters, place)
    }

    fn look(&mut self) -> Option<Found> {
        match self.state {
            State::Outside { junk, why } => self.outside(junk, why),
            State::Inside => self.inside(),
        }
    }

    fn outside(&mut self, mut junk: Option<u64>, why: UnreadWhy) -> Option<Found> {
        loop {
            self.pass_blank();
            let rest = &self.held.as_ref()[self.at..];
            let here = self.offset();
            let header = Delimiters::of_isa(rest);
            if header.is_none() && !rest.is_empty() {
                let may_grow = rest.len() < ISA_LENGTH && b"ISA".starts_with(&rest[..rest.len().min(3)]);
                if may_grow && !self.finished {
                    self.state = State::Outside { junk, why };
                    return None;
                }
                // No header here: continue at the next possible start of one.
                junk = junk.or(Some(here));
                let skipped = match memchr::memmem::find(&rest[1..], b"ISA") {
                    Some(skip) => 1 + skip,
                    None if self.finished => rest.len(),
                    // The last two bytes may be the start of `ISA`.
                    None => rest.len().saturating_sub(2).max(1),
                };
                self.at += skipped;
                continue;
            }
            self.state = match header {
                Some(delimiters) => {
                    self.delimiters = delimiters;
                    State::Inside
                }
                None if self.finished => State::Outside { junk: None, why: UnreadWhy::NoHeader },
                None => {
                    self.state = State::Outside { junk, why };
                    return None;
                }
            };
            return match (junk, header) {
                (Some(from), _) => Some(Found::Unread { from, to: here, why }),
                (None, Some(_)) => self.inside(),
                (None, None) => None,
            };
        }
    }

    fn inside(&mut self) -> Option<Found> {
        self.pass_blank();
        let start = self.at;
        // A header inside: the trailer before it is missing, and the separators may change.
        let maybe_header = self.held.as_ref()[start..].starts_with(b"ISA");
        if maybe_header && self.held.as_ref().len() - start < ISA_LENGTH && !self.finished {
            // The fixed places decide, wherever the input was cut.
            return None;
        }
        if maybe_header
            && let Some(again) = Delimiters::of_isa(&self.held.as_ref()[start..])
            && again != self.delimiters
        {
            self.delimiters = again;
            return self.inside();
        }
        let Some(terminator) = self.terminator() else {
            if self.held.as_ref().len() - start > self.limits.segment {
                return Some(self.too_long(start));
            }
            if !self.finished || start == self.held.as_ref().len() {
                return None;
            }
            // The last terminator may be missing: the input's end replaces it.
            self.cuts.end_at(self.held.as_ref().len() as u32);
            return self.inside();
        };
        let end = self.cuts.ends()[terminator] as usize;
        if end - start > self.limits.segment {
            return Some(self.too_long(start));
        }
        if self.held.as_ref()[start..end].starts_with(b"IEA") {
            self.state = State::Outside { junk: None, why: UnreadWhy::NoHeader };
        }
        Some(Found::Segment { start, end, terminator })
    }

    /// Returns the index of the end of the segment that begins at `at`; `None` when that is not held yet.
    fn terminator(&mut self) -> Option<usize> {
        let separators = (self.delimiters.element, self.delimiters.segment);
        if self.index_for != Some(separators) || self.indexed < self.at {
            self.index_for = Some(separators);
            self.cuts.clear();
            (self.cursor, self.next, self.indexed) = (0, 0, self.at);
        }
        // Blanks that were passed over may have been separators.
        while self.cuts.ends().get(self.cursor).is_some_and(|end| (*end as usize) < self.at) {
            self.cursor += 1;
        }
        loop {
            while let Some(&terminator) = self.cuts.terminators().get(self.next) {
                if terminator as usize >= self.cursor {
                    return Some(terminator as usize);
                }
                self.next += 1;
            }
            if self.indexed == self.held.as_ref().len() {
                return None;
            }
            // Used-up entries are dropped once they are the larger part.
            if self.cursor > BLOCK / 4 && self.cursor * 2 > self.cuts.ends().len() {
                self.forget(self.cursor);
            }
            let to = self.held.as_ref().len().min(self.indexed + BLOCK);
            self.cuts.find(&self.held.as_ref()[self.indexed..to], self.indexed as u32, separators.0, separators.1);
            self.indexed = to;
        }
    }

    /// Drops the first `gone` ends.
    fn forget(&mut self, gone: usize) {
        let used = self.cuts.forget(gone);
        self.cursor = self.cursor.saturating_sub(gone);
        self.next = self.next.saturating_sub(used);
    }

    fn too_long(&mut self, start: usize) -> Found {
        let from = self.base + start as u64;
        self.at = self.held.as_ref().len().min(start + self.limits.segment);
        let to = self.offset();
        self.state = State::Outside { junk: None, why: UnreadWhy::AfterFault };
        Found::Unread { from, to, why: UnreadWhy::SegmentTooLong }
    }

    fn pass_blank(&mut self) {
        if self.offset() == 0 && self.held.as_ref().starts_with(&[0xEF, 0xBB, 0xBF]) {
            self.at = 3;
        }
        while self.held.as_ref().get(self.at).is_some_and(|byte| matches!(byte, b'\r' | b'\n' | b' ' | b'\t' | 0x1A)) {
            self.at += 1;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const ISA: &str =
        "ISA*00*          *00*          *ZZ*MARROWFIELD    *ZZ*QUILLHAVEN     *261123*0700*U*00401*000000001*0*T*>~";

    fn line_of(item: Item<'_>) -> String {
        match item {
            Item::Segment(s) => format!("{}..{} {}", s.offset, s.end, String::from_utf8_lossy(s.id())),
            Item::Unread { from, to, why } => format!("{from}..{to} {why:?}"),
        }
    }

    fn scan(input: &[u8], piece: usize, limits: Limits) -> Vec<String> {
        let mut scanner = Scanner::new(limits);
        let mut seen = Vec::new();
        let mut take = |scanner: &mut Scanner| {
            while let Some(item) = scanner.next_item() {
                seen.push(line_of(item));
            }
        };
        for bytes in input.chunks(piece.max(1)) {
            scanner.feed(bytes);
            take(&mut scanner);
        }
        scanner.finish();
        take(&mut scanner);
        seen
    }

    fn scan_whole(input: &[u8], limits: Limits) -> Vec<String> {
        let mut scanner = Scanner::over(input, limits);
        let mut seen = Vec::new();
        while let Some(item) = scanner.next_item() {
            seen.push(line_of(item));
        }
        seen
    }

    #[test]
    fn junk_around_an_interchange_is_reported_with_its_range() {
        let input = format!("hello\n{ISA}\r\n  GS*PO~\nIEA*1*1~\n  trailing ");
        assert_eq!(
            scan(input.as_bytes(), 7, Limits::default()),
            ["0..6 NoHeader", "6..112 ISA", "116..122 GS", "123..131 IEA", "134..143 NoHeader"]
        );
    }

    #[test]
    fn a_segment_beyond_the_limit_is_passed_over_and_reading_resumes_at_the_next_header() {
        let input = format!("{ISA}GS*{}~GE~{ISA}IEA~", "x".repeat(500));
        assert_eq!(
            scan(input.as_bytes(), 64, Limits { segment: 200 }),
            ["0..106 ISA", "106..306 SegmentTooLong", "306..613 AfterFault", "613..719 ISA", "719..723 IEA"]
        );
    }

    #[test]
    fn what_only_begins_like_a_header_is_a_segment_wherever_the_input_is_cut() {
        let input =
            format!("{ISA}ISA*0~XX~IEA*0*1~ and a good deal more than the length of a header behind it, so that it is seen{ISA}");
        let whole = scan_whole(input.as_bytes(), Limits::default());
        for piece in [1, 5, 106, 110] {
            assert_eq!(scan(input.as_bytes(), piece, Limits::default()), whole, "in pieces of {piece}");
        }
    }

    #[test]
    fn the_last_terminator_may_be_missing() {
        assert_eq!(scan(format!("{ISA}IEA*0*1").as_bytes(), 9, Limits::default()), ["0..106 ISA", "106..113 IEA"]);
    }

    #[test]
    fn nothing_gives_nothing() {
        assert!(scan(b"", 1, Limits::default()).is_empty());
        assert!(scan(b" \r\n", 1, Limits::default()).is_empty());
    }

    proptest! {
        #[test]
        fn how_the_bytes_are_cut_changes_nothing(
            parts in prop::collection::vec(prop_oneof![
                Just(ISA.to_owned()), "[A-Z]{2,3}(\\*[a-z0-9 ]{0,6}){0,4}~", "IEA\\*1\\*1~", "[ \n\r]{0,3}", "ISA", "[a-z~*]{0,9}"
            ], 0..12),
            piece in 1usize..150,
        ) {
            let input = parts.concat();
            let limits = Limits { segment: 300 };
            let whole = scan_whole(input.as_bytes(), limits);
            prop_assert_eq!(scan(input.as_bytes(), piece, limits), whole.clone());
            prop_assert_eq!(scan(input.as_bytes(), input.len(), limits), whole);
        }
    }
}
