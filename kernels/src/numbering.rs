//! Keys of 16 bytes numbered in order of first appearance.
//!
//! A table of numbers with the keys beside it, in order: one look at each for a key that is known. While it fits
//! in the cache most places are empty, so that a second look is rare; a large one is a quarter to half full.

use crate::hash;

/// Keys and their numbers.
#[derive(Clone, Debug, Default)]
pub struct Numbering {
    keys: Vec<u128>,
    /// One more than the number of the key that has its place here; 0 where there is none.
    slots: Vec<u32>,
}

impl Numbering {
    /// The keys, in order of their numbers.
    pub fn keys(&self) -> &[u128] {
        &self.keys
    }

    /// The keys alone.
    pub fn into_keys(self) -> Vec<u128> {
        self.keys
    }

    /// Bytes in use.
    pub fn memory(&self) -> usize {
        self.keys.capacity() * 16 + self.slots.capacity() * 4
    }

    /// Makes room for so many keys.
    pub fn reserve(&mut self, keys: usize) {
        self.keys.reserve(keys.saturating_sub(self.keys.len()));
        if room_for(keys) > self.slots.len() {
            self.rebuild(room_for(keys));
        }
    }

    /// Appends the number of each key; new ones get the next numbers.
    ///
    /// At most `u32::MAX - 1` keys.
    pub fn number(&mut self, keys: &[u128], into: &mut Vec<u32>) {
        into.reserve(keys.len());
        for some in keys.chunks(256) {
            // Room for all of them, so that the loop need not look for it.
            let wanted = self.keys.len() + some.len();
            if wanted * 2 > self.slots.len() {
                self.rebuild(room_for(wanted));
            }
            let mask = self.slots.len() - 1;
            into.extend(some.iter().map(|key| {
                let mut at = hash::of_key(*key) as usize & mask;
                loop {
                    // The slots are a power of two of them, so that a masked place is one.
                    let number = self.slots[at];
                    if number == 0 {
                        self.keys.push(*key);
                        self.slots[at] = self.keys.len() as u32;
                        return self.keys.len() as u32 - 1;
                    }
                    if self.keys[number as usize - 1] == *key {
                        return number - 1;
                    }
                    at = (at + 1) & mask;
                }
            }));
        }
    }

    fn rebuild(&mut self, slots: usize) {
        let slots = slots.max(16);
        self.slots = vec![0; slots];
        for (number, key) in (1u32..).zip(&self.keys) {
            let mut at = hash::of_key(*key) as usize & (slots - 1);
            while self.slots[at] != 0 {
                at = (at + 1) & (slots - 1);
            }
            self.slots[at] = number;
        }
    }
}

/// The places that a table of so many keys has.
fn room_for(keys: usize) -> usize {
    let spare = if keys < 1 << 14 { 8 } else { 4 };
    (keys * spare).next_power_of_two()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn numbers_are_by_first_appearance(keys in prop::collection::vec(0u128..60, 0..600), room in 0usize..100) {
            let mut numbering = Numbering::default();
            numbering.reserve(room);
            let mut numbers = Vec::new();
            numbering.number(&keys, &mut numbers);
            let mut seen: Vec<u128> = Vec::new();
            for (key, number) in keys.iter().zip(&numbers) {
                if !seen.contains(key) {
                    seen.push(*key);
                }
                prop_assert_eq!(seen.get(*number as usize), Some(key));
            }
            prop_assert_eq!(numbering.into_keys(), seen);
        }
    }
}
