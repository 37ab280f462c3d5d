//! Shards decide which process works on which messages.
//!
//! Each message belongs to one of [`SHARDS`] shards, and each shard to one process. A message in a lane belongs to the shard of
//! its key, any other to that of its id, which the creating process chooses among its own shards.

use std::fmt;
use wirewatch_core::{Digest, MessageId};

/// Number of shards.
pub const SHARDS: u16 = 64;

/// A set of shards.
#[derive(Clone, Copy, Default, PartialEq, Eq)]
pub struct Shards(u64);

impl Shards {
    pub const NONE: Self = Self(0);
    pub const ALL: Self = Self(u64::MAX);

    /// Returns whether the shard is in the set.
    #[must_use]
    pub const fn has(self, shard: u16) -> bool {
        self.0 & (1 << (shard % SHARDS)) != 0
    }

    /// Returns whether the set is empty.
    #[must_use]
    pub const fn is_empty(self) -> bool {
        self.0 == 0
    }

    /// Returns the number of shards in the set.
    #[must_use]
    pub const fn len(self) -> u32 {
        self.0.count_ones()
    }

    /// Returns the union.
    #[must_use]
    pub const fn with(self, others: Self) -> Self {
        Self(self.0 | others.0)
    }

    /// Returns the shards that are not in `others`.
    #[must_use]
    pub const fn without(self, others: Self) -> Self {
        Self(self.0 & !others.0)
    }

    /// Each, in order.
    pub fn iter(self) -> impl Iterator<Item = u16> {
        (0..SHARDS).filter(move |shard| self.has(*shard))
    }
}

impl FromIterator<u16> for Shards {
    fn from_iter<I: IntoIterator<Item = u16>>(shards: I) -> Self {
        Self(shards.into_iter().fold(0, |all, shard| all | 1 << (shard % SHARDS)))
    }
}

impl fmt::Debug for Shards {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(self.iter()).finish()
    }
}

/// The shard of a message; `order_key` is empty where its flow has no order.
#[must_use]
pub fn shard_of(id: MessageId, flow: &str, order_key: &str) -> u16 {
    let of = match order_key {
        "" => id.0,
        key => Digest::of(&[flow.as_bytes(), key.as_bytes()]).short(),
    };
    (of & i64::from(SHARDS - 1)) as u16
}

/// Returns which of `writers` should own a shard. When a process joins or leaves, only the shards that it gains or gives up move.
#[must_use]
pub fn home_of(shard: u16, writers: &[i16]) -> Option<i16> {
    writers.iter().copied().max_by_key(|writer| Digest::of(&[&shard.to_be_bytes(), &writer.to_be_bytes()]).short())
}

#[cfg(test)]
mod tests {
    use super::*;
    use wirewatch_core::Id;

    #[test]
    fn a_set_gives_back_what_was_put_into_it() {
        let some: Shards = [3, 63, 0, 3].into_iter().collect();
        assert_eq!((some.iter().collect::<Vec<_>>(), some.len()), (vec![0, 3, 63], 3));
        assert_eq!(Shards::ALL.without(some).len(), 61);
        assert_eq!(some.without(some), Shards::NONE);
        assert!(some.with(Shards::ALL).has(17) && !some.has(17));
    }

    #[test]
    fn messages_with_the_same_key_share_a_shard_whatever_their_ids() {
        let shards: Shards = (0..500).map(|id| shard_of(Id(id), "picks", "bee")).collect();
        assert_eq!(shards.len(), 1);
        assert_eq!((0..500).map(|id| shard_of(Id(id), "picks", "")).collect::<Shards>(), Shards::ALL);
    }

    #[test]
    fn only_the_shards_of_who_comes_or_goes_move() {
        let before: Vec<_> = (0..SHARDS).map(|shard| home_of(shard, &[1, 2, 3])).collect();
        for (shard, before) in (0..SHARDS).zip(before) {
            let without = home_of(shard, &[1, 3]);
            assert!(before == without || before == Some(2), "{shard} moved from {before:?} to {without:?}");
        }
        let of_two = (0..SHARDS).filter(|shard| home_of(*shard, &[1, 2, 3]) == Some(2)).count();
        assert!((10..40).contains(&of_two), "a third or so: {of_two}");
        assert_eq!(home_of(5, &[]), None);
    }
}
