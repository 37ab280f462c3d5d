//! A set of short codes, which is looked up for nearly every element read.

/// Codes of at most eight bytes, as an open hash table of numbers: most lookups need one probe.
#[derive(Debug, Clone, Default)]
pub(crate) struct CodeSet {
    /// A power of two of slots, 0 for a free one; none without codes.
    slots: Box<[u64]>,
}

impl CodeSet {
    /// The set of these codes. Longer ones than eight bytes are left out: no element has them.
    pub fn new<'c>(codes: impl Iterator<Item = &'c str>) -> Self {
        let packed: Vec<u64> = codes.filter_map(|code| pack(code.as_bytes())).collect();
        if packed.is_empty() {
            return Self::default();
        }
        let mut slots = vec![0; (packed.len() * 4).next_power_of_two()].into_boxed_slice();
        for code in packed {
            let mut at = place(code, slots.len());
            while slots[at] != 0 && slots[at] != code {
                at = (at + 1) % slots.len();
            }
            slots[at] = code;
        }
        Self { slots }
    }

    /// Returns whether the set is empty.
    #[inline]
    pub fn is_empty(&self) -> bool {
        self.slots.is_empty()
    }

    /// Returns whether the code is in the set.
    #[inline]
    pub fn contains(&self, code: &[u8]) -> bool {
        let Some(code) = pack(code).filter(|_| !self.slots.is_empty()) else { return false };
        let mut at = place(code, self.slots.len());
        while self.slots[at] != 0 {
            if self.slots[at] == code {
                return true;
            }
            at = (at + 1) & (self.slots.len() - 1);
        }
        false
    }
}

/// Returns the first slot of a code among `size` slots. Multiplying by an odd number near 2^64
///
/// φ spreads codes that differ in their last letter only.
#[inline]
fn place(code: u64, size: usize) -> usize {
    (code.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 40) as usize & (size - 1)
}

/// A code of at most eight bytes as a number that is the same for the same code alone; never 0.
#[inline]
pub(crate) fn pack(code: &[u8]) -> Option<u64> {
    if code.len() > 8 || code.is_empty() {
        return None;
    }
    Some(code.iter().fold(0u64, |packed, byte| (packed << 8) | u64::from(*byte))).filter(|packed| *packed != 0)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn every_code_is_found_and_no_other() {
        let codes: BTreeSet<String> =
            (0..300).step_by(3).map(|n| format!("{n:02}")).chain((b'A'..b'M').map(|c| format!("Z{}", char::from(c)))).collect();
        let set = CodeSet::new(codes.iter().map(String::as_str));
        for n in 0..400 {
            let code = format!("{n:02}");
            assert_eq!(set.contains(code.as_bytes()), codes.contains(&code), "{code}");
        }
        assert!(set.contains(b"ZA") && !set.contains(b"ZZ") && !set.contains(b"") && !set.contains(b"far too long"));
        assert!(CodeSet::new(std::iter::empty()).is_empty() && !CodeSet::default().contains(b"A"));
    }
}
