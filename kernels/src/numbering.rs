//! Keys of 16 bytes numbered in order of first appearance.
//!
//! A table of numbers with the keys beside it, in order: one look at each for a key that is known. While it fits
//! in the cache most places are empty, so that a second look is rare; a large one is up to half full.

use crate::few::Few;
use crate::hash;
use crate::prefetch;

/// Keys that are looked up together.
const CHUNK: usize = 128;

/// Slots of a table that is near in any case.
const NEAR: usize = 1 << 12;

/// Keys and their numbers.
#[derive(Clone, Debug, Default)]
pub struct Numbering {
    keys: Vec<u128>,
    /// One more than the number of the key that has its place here; 0 where there is none.
    slots: Vec<u32>,
    /// A table of its own while the keys are few.
    few: Option<Few>,
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
        for some in keys.chunks(CHUNK) {
            let mut numbers = [0; CHUNK];
            if self.few.as_ref().is_some_and(|few| few.find(some, &mut numbers)) {
                into.extend_from_slice(&numbers[..some.len()]);
                continue;
            }
            let before = self.keys.len();
            // Room for all of them, so that the loops need not look for it.
            let wanted = self.keys.len() + some.len();
            if wanted * 2 > self.slots.len() {
                self.rebuild(room_for(wanted));
            }
            let mask = self.slots.len() - 1;
            // First all looks at the table, then all at the keys: none waits for another.
            let places = self.places(some, mask);
            for ((key, at), slot) in some.iter().zip(&places).zip(&mut numbers) {
                // The slots are a power of two of them, so that a masked place is one.
                let number = self.slots[*at as usize];
                *slot = match self.keys.get((number as usize).wrapping_sub(1)) {
                    Some(found) if found == key => number - 1,
                    _ => self.find_or_add(*key, *at as usize),
                };
            }
            into.extend_from_slice(&numbers[..some.len()]);
            if self.keys.len() > before {
                self.few = Few::new(&self.keys);
            }
        }
    }

    /// The slots of some keys, brought near with the keys whose numbers stand there: none waits for another.
    #[inline(always)]
    fn places(&self, keys: &[u128], mask: usize) -> [u32; CHUNK] {
        let mut places = [0u32; CHUNK];
        for (place, key) in places.iter_mut().zip(keys) {
            *place = (hash::of_key(*key) as usize & mask) as u32;
        }
        if self.slots.len() <= NEAR {
            return places;
        }
        for place in places.iter().take(keys.len()) {
            prefetch::near(&self.slots, *place as usize);
        }
        for place in places.iter().take(keys.len()) {
            let number = self.slots.get(*place as usize).copied().unwrap_or(0);
            prefetch::near(&self.keys, (number as usize).wrapping_sub(1));
        }
        places
    }

    /// The number of a key, looked for from a slot on.
    #[inline(never)]
    fn find_or_add(&mut self, key: u128, mut at: usize) -> u32 {
        let mask = self.slots.len() - 1;
        loop {
            match self.slots[at] {
                0 => {
                    self.keys.push(key);
                    self.slots[at] = self.keys.len() as u32;
                    return self.keys.len() as u32 - 1;
                }
                number if self.keys[number as usize - 1] == key => return number - 1,
                _ => at = (at + 1) & mask,
            }
        }
    }

    /// The number of a key that is known.
    #[inline(never)]
    pub fn find(&self, key: u128) -> Option<u32> {
        let mask = self.slots.len().checked_sub(1)?;
        let mut at = hash::of_key(key) as usize & mask;
        loop {
            match self.slots[at] {
                0 => return None,
                number if self.keys[number as usize - 1] == key => return Some(number - 1),
                _ => at = (at + 1) & mask,
            }
        }
    }

    /// Appends the number of each key, or `u32::MAX` for one that is not known.
    pub fn find_all(&self, keys: &[u128], into: &mut Vec<u32>) {
        into.reserve(keys.len());
        let Some(mask) = self.slots.len().checked_sub(1) else {
            into.extend(std::iter::repeat_n(u32::MAX, keys.len()));
            return;
        };
        for some in keys.chunks(CHUNK) {
            let places = self.places(some, mask);
            let mut numbers = [0; CHUNK];
            for ((key, at), slot) in some.iter().zip(&places).zip(&mut numbers) {
                let number = self.slots[*at as usize];
                *slot = match self.keys.get((number as usize).wrapping_sub(1)) {
                    Some(found) if found == key => number - 1,
                    None => u32::MAX,
                    Some(_) => self.find(*key).unwrap_or(u32::MAX),
                };
            }
            into.extend_from_slice(&numbers[..some.len()]);
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
    let spare = if keys < 1 << 14 { 4 } else { 2 };
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
                prop_assert_eq!(numbering.find(*key), Some(*number));
            }
            prop_assert_eq!(numbering.find(99), None);
            prop_assert_eq!(numbering.into_keys(), seen);
        }
    }
}
