//! The four separators of an interchange, read from the fixed positions of its ISA.

use serde::{Deserialize, Serialize};

/// Length of an ISA segment with its terminator: X12.5, interchange control header, all elements fixed.
pub const ISA_LENGTH: usize = 106;

/// Ends of the sixteen ISA elements: offsets of the separators after `ISA` and ISA01 to ISA15.
const ISA_SEPARATORS: [usize; 16] = [3, 6, 17, 20, 31, 34, 50, 53, 69, 76, 81, 83, 89, 99, 101, 103];

/// The separators of one interchange.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Delimiters {
    /// Between the elements of a segment; ISA position 4.
    pub element: u8,
    /// Between the components of a composite; ISA16.
    pub component: u8,
    /// Between repetitions of an element; ISA11 from version 00402 on, otherwise none.
    pub repetition: Option<u8>,
    /// After each segment; the byte that follows ISA16.
    pub segment: u8,
}

impl Default for Delimiters {
    fn default() -> Self {
        Self { element: b'*', component: b'>', repetition: None, segment: b'~' }
    }
}

impl Delimiters {
    /// Reads the separators from the first [`ISA_LENGTH`] bytes of an interchange.
    ///
    /// `None` when `bytes` is shorter, does not start with `ISA`, or its sixteen separators are not where X12.5 fixes them: such
    /// bytes are not an interchange header.
    #[must_use]
    pub fn of_isa(bytes: &[u8]) -> Option<Self> {
        let isa = bytes.get(..ISA_LENGTH)?;
        let element = isa[3];
        if !isa.starts_with(b"ISA") || element.is_ascii_alphanumeric() || element == b' ' {
            return None;
        }
        if ISA_SEPARATORS.iter().any(|&at| isa[at] != element) {
            return None;
        }
        let (component, segment) = (isa[104], isa[105]);
        if segment == element || segment == component || component == element || segment.is_ascii_alphanumeric() {
            return None;
        }
        let eleven = isa[82];
        // A repetition separator that is also another separator is a fault of the header, and separates nothing.
        let taken = eleven == element || eleven == component || eleven == segment;
        let repeats = &isa[84..89] >= b"00402".as_slice() && !eleven.is_ascii_alphanumeric() && eleven != b' ' && !taken;
        Some(Self { element, component, repetition: repeats.then_some(eleven), segment })
    }

    /// Returns the same with another component separator if this one is a letter, digit or space: values written with it would
    /// not read back.
    #[must_use]
    pub fn usable(self) -> Self {
        let cannot = |byte: u8| byte.is_ascii_alphanumeric() || byte == b' ';
        let free = |byte: &u8| *byte != self.element && *byte != self.segment && Some(*byte) != self.repetition;
        let other = || *b">:<^".iter().find(|byte| free(byte)).expect("three of four are taken at most");
        Self { component: if cannot(self.component) { other() } else { self.component }, ..self }
    }

    /// Returns whether `byte` is a separator, and so cannot be part of a value.
    #[must_use]
    pub fn contains(&self, byte: u8) -> bool {
        byte == self.element || byte == self.component || byte == self.segment || Some(byte) == self.repetition
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const ISA: &[u8; 106] =
        b"ISA*00*          *00*          *ZZ*MARROWFIELD    *ZZ*QUILLHAVEN     *261123*0700*U*00401*000000001*0*T*>~";

    #[test]
    fn a_letter_between_components_is_answered_with_a_sign() {
        let letter = Delimiters { component: b'S', segment: b'>', ..Delimiters::default() };
        assert_eq!(letter.usable().component, b':');
        assert_eq!(Delimiters::default().usable(), Delimiters::default());
    }

    #[test]
    fn the_fixed_positions_give_the_separators() {
        let found = Delimiters::of_isa(ISA).unwrap();
        assert_eq!(found, Delimiters { element: b'*', component: b'>', repetition: None, segment: b'~' });
    }

    #[test]
    fn repetition_is_read_from_00402_on_only() {
        let mut isa = *ISA;
        isa[82] = b'^';
        assert_eq!(Delimiters::of_isa(&isa).unwrap().repetition, None);
        isa[84..89].copy_from_slice(b"00501");
        assert_eq!(Delimiters::of_isa(&isa).unwrap().repetition, Some(b'^'));
    }

    #[test]
    fn a_shifted_header_is_no_header() {
        let mut isa = *ISA;
        isa[17] = b' ';
        assert_eq!(Delimiters::of_isa(&isa), None);
        assert_eq!(Delimiters::of_isa(&ISA[..105]), None);
    }
}
