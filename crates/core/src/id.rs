//! Time-ordered 64-bit ids, shown as 13 base-32 characters.
//!
//! 41 bits of milliseconds since 2025-01-01, 10 bits of writer, 12 bits of counter; always positive, so
//! they order as `bigint` does, and a range of days is a range of ids.

use crate::Timestamp;
use serde::{Deserialize, Deserializer, Serialize, Serializer, de::Error};
use std::fmt;
use std::str::FromStr;

/// 2025-01-01 00:00:00 UTC in milliseconds since 1970.
const EPOCH_MS: i64 = 1_735_689_600_000;
const WRITER_BITS: u32 = 10;
const COUNTER_BITS: u32 = 12;
/// Crockford's alphabet in lower case: no i, l, o, u.
const ALPHABET: &[u8; 32] = b"0123456789abcdefghjkmnpqrstvwxyz";

/// An id as stored.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Id(pub i64);

/// The id of a message.
pub type MessageId = Id;
/// The id of an arrival.
pub type ArrivalId = Id;

impl Id {
    /// The smallest id made at or after `at`: the border of a range of days.
    ///
    /// Times before 2025 give the first id there is, times after the year 2094 the last millisecond's.
    #[must_use]
    pub fn first_of(at: Timestamp) -> Self {
        let longest = i64::MAX >> (WRITER_BITS + COUNTER_BITS);
        Self((at.millis() - EPOCH_MS).clamp(0, longest) << (WRITER_BITS + COUNTER_BITS))
    }

    /// Returns when the id was made, in milliseconds.
    #[must_use]
    pub fn made(self) -> Timestamp {
        Timestamp::from_millis((self.0 >> (WRITER_BITS + COUNTER_BITS)) + EPOCH_MS)
    }
}

impl fmt::Display for Id {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let digits: String =
            (0..13).rev().map(|place| char::from(ALPHABET[(self.0 as u64 >> (place * 5)) as usize & 31])).collect();
        f.write_str(&digits)
    }
}

/// A text that is not an id.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not an id: an id has 13 letters and digits, as `wirewatch messages` shows them")]
pub struct NoId(pub String);

impl FromStr for Id {
    type Err = NoId;

    fn from_str(text: &str) -> Result<Self, NoId> {
        let wrong = || NoId(text.chars().take(40).collect());
        if text.len() != 13 {
            return Err(wrong());
        }
        let mut value: u64 = 0;
        for byte in text.bytes() {
            let digit = ALPHABET.iter().position(|&known| known == byte.to_ascii_lowercase()).ok_or_else(wrong)?;
            value = value.checked_mul(32).and_then(|value| value.checked_add(digit as u64)).ok_or_else(wrong)?;
        }
        i64::try_from(value).map(Self).map_err(|_| wrong())
    }
}

impl Serialize for Id {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Id {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(D::Error::custom)
    }
}

/// Makes ids for one writer, strictly increasing even when the clock stops or goes back.
#[derive(Debug)]
pub struct IdMint {
    writer: i64,
    last: i64,
}

impl IdMint {
    /// A mint for `writer`, 0 to 1023; no two processes may share one at a time.
    #[must_use]
    pub fn new(writer: u16) -> Self {
        Self { writer: i64::from(writer) & ((1 << WRITER_BITS) - 1), last: -1 }
    }

    /// The next id. More than 4096 in a millisecond borrow from the next one.
    pub fn next(&mut self, now: Timestamp) -> Id {
        let fresh = Id::first_of(now).0 | self.writer << COUNTER_BITS;
        let next = if fresh > self.last {
            fresh
        } else if self.last & ((1 << COUNTER_BITS) - 1) == (1 << COUNTER_BITS) - 1 {
            let ms = (self.last >> (WRITER_BITS + COUNTER_BITS)) + 1;
            ms << (WRITER_BITS + COUNTER_BITS) | self.writer << COUNTER_BITS
        } else {
            self.last + 1
        };
        self.last = next;
        Id(next)
    }

    /// Returns the next id with the remainder `rest` modulo `by`, a power of two well below the number of ids in a millisecond.
    pub fn next_in(&mut self, now: Timestamp, by: u16, rest: u16) -> Id {
        let mask = (1 << COUNTER_BITS) - 1;
        let Id(next) = self.next(now);
        let ahead = (i64::from(rest) - next).rem_euclid(i64::from(by));
        self.last = if (next & mask) + ahead <= mask {
            next + ahead
        } else {
            let ms = (next >> (WRITER_BITS + COUNTER_BITS)) + 1;
            ms << (WRITER_BITS + COUNTER_BITS) | self.writer << COUNTER_BITS | i64::from(rest)
        };
        Id(self.last)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn ids_grow_though_the_clock_goes_back() {
        let mut mint = IdMint::new(5);
        let times = [2_000_000_000_000, 2_000_000_000_000, 1_999_999_999_000, 2_000_000_000_001].map(Timestamp::from_millis);
        let ids: Vec<i64> = times.into_iter().cycle().take(20_000).map(|now| mint.next(now).0).collect();
        assert!(ids.windows(2).all(|two| two[0] < two[1]));
        assert!(ids.iter().all(|id| id >> COUNTER_BITS & 1023 == 5), "every id keeps its writer");
    }

    #[test]
    fn ids_with_a_rest_grow_and_keep_it_though_a_millisecond_is_full() {
        let mut mint = IdMint::new(5);
        let now = Timestamp::from_millis(2_000_000_000_000);
        let rests = (0..30_000u32).map(|n| (n * 7 % 64) as u16);
        let ids: Vec<(u16, i64)> = rests.map(|rest| (rest, mint.next_in(now, 64, rest).0)).collect();
        assert!(ids.windows(2).all(|two| two[0].1 < two[1].1));
        assert!(ids.iter().all(|(rest, id)| id & 63 == i64::from(*rest) && id >> COUNTER_BITS & 1023 == 5));
    }

    proptest! {
        #[test]
        fn borders_stand_in_the_order_of_their_times(a: i64, b: i64) {
            let (first, second) = (Timestamp(a.min(b)), Timestamp(a.max(b)));
            prop_assert!(Id::first_of(first) <= Id::first_of(second));
            prop_assert!(Id::first_of(first).0 >= 0);
        }

        #[test]
        fn text_reads_back_and_orders_alike(a in 0..i64::MAX, b in 0..i64::MAX) {
            prop_assert_eq!(Id(a).to_string().parse(), Ok(Id(a)));
            prop_assert_eq!(Id(a) < Id(b), Id(a).to_string() < Id(b).to_string());
        }
    }
}
