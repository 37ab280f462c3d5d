//! One segment, borrowed from the bytes it was read from.

use crate::Delimiters;

/// A segment without its terminator. Elements are found when asked for; nothing is copied.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Segment<'a> {
    /// The bytes from the segment id to before the terminator.
    pub bytes: &'a [u8],
    /// The separators of the interchange it stands in.
    pub delimiters: Delimiters,
    /// Offset of the first byte, counted from the start of the input.
    pub offset: u64,
    /// Offset just behind the terminator.
    pub end: u64,
}

impl<'a> Segment<'a> {
    /// The segment id, e.g. `PO1`. Empty when the segment starts with a separator.
    #[must_use]
    pub fn id(&self) -> &'a [u8] {
        self.elements().next().unwrap_or_default()
    }

    /// Element `n`, counted from 1 as the standard does; an absent one is empty.
    #[must_use]
    pub fn element(&self, n: usize) -> &'a [u8] {
        self.elements().nth(n).unwrap_or_default()
    }

    /// Element `n` as text with the padding of fixed-length elements taken off; invalid UTF-8 is replaced.
    #[must_use]
    pub fn text(&self, n: usize) -> String {
        String::from_utf8_lossy(self.element(n)).trim().to_owned()
    }

    /// The id, then every element in order.
    pub fn elements(&self) -> impl Iterator<Item = &'a [u8]> + use<'a> {
        let separator = self.delimiters.element;
        self.bytes.split(move |&byte| byte == separator)
    }
}

/// Cuts bytes that are in memory into segments; blanks and line ends around them are passed over.
///
/// Offsets count from the start of `bytes`. The last terminator may be missing.
pub fn segments(bytes: &[u8], delimiters: Delimiters) -> impl Iterator<Item = Segment<'_>> {
    let mut at = 0;
    std::iter::from_fn(move || {
        while at < bytes.len() {
            let length = bytes[at..].iter().position(|&byte| byte == delimiters.segment).unwrap_or(bytes.len() - at);
            let (mut start, mut end) = (at, at + length);
            at = (end + 1).min(bytes.len());
            let next = at as u64;
            while start < end && bytes[start].is_ascii_whitespace() {
                start += 1;
            }
            while end > start && matches!(bytes[end - 1], b'\r' | b'\n') {
                end -= 1;
            }
            if start < end {
                return Some(Segment { bytes: &bytes[start..end], delimiters, offset: start as u64, end: next });
            }
        }
        None
    })
}
