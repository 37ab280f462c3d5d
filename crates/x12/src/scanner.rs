//! Cuts a stream of bytes into segments. What the segments mean is the [`Reader`](crate::Reader)'s.

use crate::{Delimiters, Segment, delimiters::ISA_LENGTH};

/// What bounds the scanner's memory.
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

/// What [`Scanner::next_item`] found.
#[derive(Debug, Clone, Copy)]
pub enum Item<'a> {
    /// A whole segment.
    Segment(Segment<'a>),
    /// The bytes `from..to` of the input were passed over.
    Unread { from: u64, to: u64, why: UnreadWhy },
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    /// Before a header; bytes of no meaning have been passed over since `junk`.
    Outside {
        junk: Option<u64>,
        why: UnreadWhy,
    },
    Inside(Delimiters),
}

/// Push parser from bytes to segments.
///
/// Call [`feed`](Self::feed) with bytes as they come, then [`next_item`](Self::next_item) until it
/// gives `None` (more bytes are needed), and [`finish`](Self::finish) after the last byte, again
/// followed by `next_item` until `None`. Memory is bounded by [`Limits::segment`] and the piece fed.
///
/// Line ends and spaces between segments, and a byte order mark, are passed over silently.
#[derive(Debug)]
pub struct Scanner {
    limits: Limits,
    held: Vec<u8>,
    /// Bytes of `held` already used up.
    at: usize,
    /// Offset of `held[0]` in the input.
    base: u64,
    /// Up to where `held` is known to contain no terminator.
    searched: usize,
    state: State,
    finished: bool,
}

impl Scanner {
    /// A scanner at the start of an input.
    #[must_use]
    pub fn new(limits: Limits) -> Self {
        Self {
            limits,
            held: Vec::new(),
            at: 0,
            base: 0,
            searched: 0,
            state: State::Outside { junk: None, why: UnreadWhy::NoHeader },
            finished: false,
        }
    }

    /// Adds the next bytes of the input.
    pub fn feed(&mut self, bytes: &[u8]) {
        self.base += self.at as u64;
        self.searched = self.searched.saturating_sub(self.at);
        self.held.drain(..self.at);
        self.at = 0;
        self.held.extend_from_slice(bytes);
    }

    /// Says that no more bytes come.
    pub fn finish(&mut self) {
        self.finished = true;
    }

    /// Bytes taken in so far.
    #[must_use]
    pub fn offset(&self) -> u64 {
        self.base + self.at as u64
    }

    /// The next segment or unread stretch; `None` when more bytes are needed or, after
    /// [`finish`](Self::finish), when all is read.
    pub fn next_item(&mut self) -> Option<Item<'_>> {
        match self.state {
            State::Outside { junk, why } => self.outside(junk, why),
            State::Inside(delimiters) => self.inside(delimiters),
        }
    }

    fn outside(&mut self, mut junk: Option<u64>, why: UnreadWhy) -> Option<Item<'_>> {
        loop {
            self.pass_blank();
            let rest = &self.held[self.at..];
            let here = self.offset();
            let header = Delimiters::of_isa(rest);
            if header.is_none() && !rest.is_empty() {
                let may_grow = rest.len() < ISA_LENGTH && b"ISA".starts_with(&rest[..rest.len().min(3)]);
                if may_grow && !self.finished {
                    self.state = State::Outside { junk, why };
                    return None;
                }
                // No header here: go on at the next place one could start.
                junk = junk.or(Some(here));
                self.at += match rest[1..].windows(3).position(|three| three == b"ISA") {
                    Some(skip) => 1 + skip,
                    None if self.finished => rest.len(),
                    // The last two bytes may be the start of `ISA`.
                    None => rest.len().saturating_sub(2).max(1),
                };
                continue;
            }
            self.searched = self.at;
            self.state = match header {
                Some(delimiters) => State::Inside(delimiters),
                None if self.finished => State::Outside { junk: None, why: UnreadWhy::NoHeader },
                None => {
                    self.state = State::Outside { junk, why };
                    return None;
                }
            };
            return match (junk, header) {
                (Some(from), _) => Some(Item::Unread { from, to: here, why }),
                (None, Some(delimiters)) => self.inside(delimiters),
                (None, None) => None,
            };
        }
    }

    fn inside(&mut self, delimiters: Delimiters) -> Option<Item<'_>> {
        self.pass_blank();
        let start = self.at;
        let from = self.searched.max(start);
        let end = match self.held[from..].iter().position(|&byte| byte == delimiters.segment) {
            Some(found) => from + found,
            None if self.held.len() - start > self.limits.segment => return Some(self.too_long(start)),
            None if self.finished && start < self.held.len() => self.held.len(),
            None => {
                self.searched = self.held.len();
                return None;
            }
        };
        if end - start > self.limits.segment {
            return Some(self.too_long(start));
        }
        // A header inside: the trailer before it is missing, and the separators may change.
        if self.held[start..].starts_with(b"ISA")
            && let Some(again) = Delimiters::of_isa(&self.held[start..])
        {
            self.state = State::Inside(again);
            if again != delimiters {
                self.searched = start;
                return self.inside(again);
            }
        }
        self.at = (end + 1).min(self.held.len());
        self.searched = self.at;
        let mut bytes = &self.held[start..end];
        while let [head @ .., b'\r' | b'\n'] = bytes {
            bytes = head;
        }
        if bytes.starts_with(b"IEA") {
            self.state = State::Outside { junk: None, why: UnreadWhy::NoHeader };
        }
        let (offset, end) = (self.base + start as u64, self.base + self.at as u64);
        Some(Item::Segment(Segment { bytes, delimiters, offset, end }))
    }

    fn too_long(&mut self, start: usize) -> Item<'static> {
        let from = self.base + start as u64;
        self.at = self.held.len().min(start + self.limits.segment);
        let to = self.offset();
        self.state = State::Outside { junk: None, why: UnreadWhy::AfterFault };
        Item::Unread { from, to, why: UnreadWhy::SegmentTooLong }
    }

    fn pass_blank(&mut self) {
        if self.offset() == 0 && self.held.starts_with(&[0xEF, 0xBB, 0xBF]) {
            self.at = 3;
        }
        while self.held.get(self.at).is_some_and(|byte| matches!(byte, b'\r' | b'\n' | b' ' | b'\t' | 0x1A)) {
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

    fn scan(input: &[u8], piece: usize, limits: Limits) -> Vec<String> {
        let mut scanner = Scanner::new(limits);
        let mut seen = Vec::new();
        let mut take = |scanner: &mut Scanner| {
            while let Some(item) = scanner.next_item() {
                seen.push(match item {
                    Item::Segment(s) => format!("{}..{} {}", s.offset, s.end, String::from_utf8_lossy(s.id())),
                    Item::Unread { from, to, why } => format!("{from}..{to} {why:?}"),
                });
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

    #[test]
    fn junk_around_an_interchange_is_told_with_its_range() {
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
            prop_assert_eq!(scan(input.as_bytes(), piece, limits), scan(input.as_bytes(), input.len(), limits));
        }
    }
}
