//! Keys of any length numbered in order of first appearance.
//!
//! As [`crate::numbering`], for keys that lie one behind the other in a buffer. A slot holds 32 bits of a key's hash beside
//! its number, so that most keys that are not equal are told apart without a look at their bytes, and so that a table that
//! grows needs no key again.

use crate::known::{known, known_part};
use crate::prefetch;

/// Keys that are looked up together.
const CHUNK: usize = 64;

/// Byte strings, one behind the other.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ByteKeys {
    bytes: Vec<u8>,
    /// Where each ends.
    ends: Vec<usize>,
}

impl ByteKeys {
    /// Room for so many keys of so many bytes together.
    pub fn with_capacity(keys: usize, bytes: usize) -> ByteKeys {
        ByteKeys { bytes: Vec::with_capacity(bytes), ends: Vec::with_capacity(keys) }
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.ends.is_empty()
    }

    /// The key with a number; none of a number that is not there.
    #[inline]
    pub fn get(&self, number: usize) -> &[u8] {
        let start = if number == 0 { 0 } else { known(&self.ends, number - 1) };
        known_part(&self.bytes, start..self.ends.get(number).copied().unwrap_or(start))
    }

    /// All keys, in order.
    pub fn iter(&self) -> impl ExactSizeIterator<Item = &[u8]> + Clone {
        (0..self.len()).map(|number| self.get(number))
    }

    /// Appends a key.
    #[inline]
    pub fn push(&mut self, key: &[u8]) {
        self.bytes.extend_from_slice(key);
        self.ends.push(self.bytes.len());
    }

    /// Appends a key that `write` appends to the buffer.
    #[inline]
    pub fn push_with(&mut self, write: impl FnOnce(&mut Vec<u8>)) {
        write(&mut self.bytes);
        self.ends.push(self.bytes.len());
    }

    /// Takes off the keys from a number on.
    pub fn split_off(&mut self, number: usize) -> ByteKeys {
        let start =
            if number == 0 { 0 } else { self.ends.get(number - 1).copied().unwrap_or(self.bytes.len()) };
        let bytes = self.bytes.split_off(start);
        let ends = self.ends.split_off(number.min(self.ends.len()));
        ByteKeys { bytes, ends: ends.into_iter().map(|end| end - start).collect() }
    }

    /// Bytes in use.
    pub fn memory(&self) -> usize {
        self.bytes.capacity() + self.ends.capacity() * 8
    }
}

/// Keys and their numbers.
#[derive(Clone, Debug, Default)]
pub struct ByteNumbering {
    keys: ByteKeys,
    /// The upper half of a key's hash, and below it one more than its number; 0 where there is none.
    slots: Vec<u64>,
}

/// The half of a hash that places a key and tells it from others.
#[inline]
fn tag(hash: u64) -> u32 {
    (hash >> 32) as u32
}

impl ByteNumbering {
    /// The keys, in order of their numbers.
    pub fn keys(&self) -> &ByteKeys {
        &self.keys
    }

    /// The keys alone.
    pub fn into_keys(self) -> ByteKeys {
        self.keys
    }

    /// Bytes in use.
    pub fn memory(&self) -> usize {
        self.keys.memory() + self.slots.capacity() * 8
    }

    /// Appends the number of each key; new ones get the next numbers. `hashes` has the hash of each.
    ///
    /// At most `u32::MAX - 1` keys.
    pub fn number(&mut self, keys: &ByteKeys, hashes: &[u64], into: &mut Vec<u32>) {
        into.reserve(keys.len());
        for from in (0..keys.len()).step_by(CHUNK) {
            let some = known_part(hashes, from..(from + CHUNK).min(keys.len()));
            // Room for all of them, so that none finds the table full.
            let wanted = self.keys.len() + some.len();
            if wanted * 2 > self.slots.len() {
                self.rebuild((wanted * 2).next_power_of_two().max(16));
            }
            self.bring_near(some);
            for (row, hash) in some.iter().enumerate() {
                into.push(self.find_or_add(keys.get(from + row), tag(*hash)));
            }
        }
    }

    /// The number of a key, the next one if it is new: for a key that comes alone.
    pub fn insert(&mut self, key: &[u8], hash: u64) -> u32 {
        let wanted = self.keys.len() + 1;
        if wanted * 2 > self.slots.len() {
            self.rebuild((wanted * 2).next_power_of_two().max(16));
        }
        self.find_or_add(key, tag(hash))
    }

    /// The number of a key that there is room for.
    #[inline]
    fn find_or_add(&mut self, key: &[u8], tag: u32) -> u32 {
        let (at, known) = self.look(key, tag);
        known.unwrap_or_else(|| {
            self.keys.push(key);
            let number = self.keys.len() as u32;
            self.slots[at] = u64::from(tag) << 32 | u64::from(number);
            number - 1
        })
    }

    /// Appends the number of each key, or `u32::MAX` for one that is not known.
    pub fn find_all(&self, keys: &ByteKeys, hashes: &[u64], into: &mut Vec<u32>) {
        into.reserve(keys.len());
        if self.slots.is_empty() {
            into.extend(std::iter::repeat_n(u32::MAX, keys.len()));
            return;
        }
        for from in (0..keys.len()).step_by(CHUNK) {
            let some = known_part(hashes, from..(from + CHUNK).min(keys.len()));
            self.bring_near(some);
            let number = |(row, hash): (usize, &u64)| self.look(keys.get(from + row), tag(*hash)).1;
            into.extend(some.iter().enumerate().map(|one| number(one).unwrap_or(u32::MAX)));
        }
    }

    /// Brings what the looks at these keys need near: first all slots, then where the keys lie, then their bytes.
    #[inline]
    fn bring_near(&self, hashes: &[u64]) {
        let mask = self.slots.len() - 1;
        for hash in hashes {
            prefetch::near(&self.slots, tag(*hash) as usize & mask);
        }
        let mut numbers = [0usize; CHUNK];
        for (number, hash) in numbers.iter_mut().zip(hashes) {
            let slot = self.slots[tag(*hash) as usize & mask];
            // Of another key nothing is needed.
            *number = if (slot >> 32) as u32 == tag(*hash) { slot as u32 as usize } else { 0 };
            prefetch::near(&self.keys.ends, number.wrapping_sub(1));
        }
        for number in numbers.iter().take(hashes.len()).filter(|number| **number > 1) {
            prefetch::near(&self.keys.bytes, self.keys.ends[*number - 2]);
        }
    }

    /// The slot of a key, and its number if it is known. There is a slot that is free.
    #[inline]
    fn look(&self, key: &[u8], tag: u32) -> (usize, Option<u32>) {
        let mask = self.slots.len() - 1;
        let mut at = tag as usize & mask;
        loop {
            let slot = self.slots[at];
            let number = slot as u32;
            if number == 0 {
                return (at, None);
            }
            if (slot >> 32) as u32 == tag && self.keys.get(number as usize - 1) == key {
                return (at, Some(number - 1));
            }
            at = (at + 1) & mask;
        }
    }

    fn rebuild(&mut self, size: usize) {
        let old = std::mem::replace(&mut self.slots, vec![0; size]);
        for slot in old.into_iter().filter(|slot| *slot != 0) {
            let mut at = (slot >> 32) as usize & (size - 1);
            while self.slots[at] != 0 {
                at = (at + 1) & (size - 1);
            }
            self.slots[at] = slot;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::hash::Seed;
    use proptest::prelude::*;

    proptest! {
        /// Whatever the hashes are: all apart, all equal, or equal in the half that places them.
        #[test]
        fn numbers_are_by_first_appearance(
            keys in prop::collection::vec("[ab]{0,3}|[a-c]{30,31}", 0..300),
            masked in prop::sample::select(vec![u64::MAX, 0, u64::from(u32::MAX), 3 << 32]),
        ) {
            let mut list = ByteKeys::with_capacity(keys.len(), 0);
            keys.iter().for_each(|key| list.push(key.as_bytes()));
            let hashes: Vec<u64> = list.iter().map(|key| Seed::FIXED.of_bytes(key) & masked).collect();
            let (mut numbering, mut numbers) = (ByteNumbering::default(), Vec::new());
            numbering.number(&list, &hashes, &mut numbers);
            let mut seen: Vec<&String> = Vec::new();
            for (key, number) in keys.iter().zip(&numbers) {
                if !seen.contains(&key) {
                    seen.push(key);
                }
                prop_assert_eq!(seen.get(*number as usize), Some(&key));
            }
            let mut found = Vec::new();
            numbering.find_all(&list, &hashes, &mut found);
            prop_assert_eq!(&found, &numbers);
            let mut other = ByteKeys::default();
            other.push(b"another");
            let mut found = Vec::new();
            numbering.find_all(&other, &[Seed::FIXED.of_bytes(b"another") & masked], &mut found);
            prop_assert_eq!(found, [u32::MAX]);
            let mut single = ByteNumbering::default();
            let again = list.iter().zip(&hashes).map(|(key, hash)| single.insert(key, *hash));
            prop_assert!(again.eq(numbers.iter().copied()));
            let mut first = numbering.into_keys();
            let rest = first.split_off(seen.len() / 2);
            prop_assert!(first.iter().chain(rest.iter()).eq(seen.iter().map(|key| key.as_bytes())));
        }
    }
}
