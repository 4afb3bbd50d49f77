//! Keys of 16 bytes numbered in order of first appearance.
//!
//! A table of numbers with the keys beside it, in order: one look at each for a key that is known. While it fits
//! in the cache most places are empty, so that a second look is rare; a large one is up to three quarters full, and its slots hold
//! a part of the hash as well (`tagged`).

mod tagged;

use crate::hash::Seed;
use crate::perfect_hash::PerfectHash;
use crate::prefetch;
use tagged::TaggedSlots;

/// Keys that are looked up together.
const CHUNK: usize = 128;

/// Slots above which a table is large.
const LARGE: usize = 1 << 16;

/// Keys and their numbers.
#[derive(Clone, Debug, Default)]
pub struct Numbering {
    keys: Vec<u128>,
    /// One more than the number of the key that has its place here; 0 where there is none.
    slots: Vec<u32>,
    /// The slots of a large table, in place of those.
    tagged: Option<TaggedSlots>,
    /// A table of its own while the keys are few.
    perfect_hash: Option<PerfectHash>,
}

impl Numbering {
    /// The numbering of keys that are all different, in this order.
    pub fn of_distinct(keys: Vec<u128>) -> Numbering {
        let mut numbering = Numbering { keys, ..Numbering::default() };
        numbering.rebuild(room_for(numbering.keys.len()));
        numbering
    }

    /// The keys, in order of their numbers.
    pub fn keys(&self) -> &[u128] {
        &self.keys
    }

    /// The keys alone.
    pub fn into_keys(self) -> Vec<u128> {
        self.keys
    }

    /// Gives up the tables that find keys, for one whose keys are only listed from now on.
    pub fn end(&mut self) {
        (self.slots, self.tagged, self.perfect_hash) = (Vec::new(), None, None);
    }

    /// Bytes in use.
    pub fn memory(&self) -> usize {
        let tagged = self.tagged.as_ref().map_or(0, |tagged| tagged.len() * 8);
        self.keys.capacity() * 16 + self.slots.capacity() * 4 + tagged
    }

    /// Makes room for so many keys.
    pub fn reserve(&mut self, keys: usize) {
        self.keys.reserve(keys.saturating_sub(self.keys.len()));
        let slots = self.tagged.as_ref().map_or(self.slots.len(), TaggedSlots::len);
        if room_for(keys) > slots {
            self.rebuild(room_for(keys));
        }
    }

    /// How many keys the slots are enough for.
    fn room(&self) -> usize {
        self.tagged.as_ref().map_or(self.slots.len() / 2, |tagged| tagged.len() / 4 * 3)
    }

    /// The number of a key, the next one if it is new: for a key that comes alone.
    pub fn insert(&mut self, key: u128) -> u32 {
        let wanted = self.keys.len() + 1;
        if wanted > self.room() {
            self.rebuild(room_for(wanted));
        }
        self.find_or_add(key)
    }

    /// Appends the number of each key; new ones get the next numbers.
    ///
    /// At most `u32::MAX - 1` keys.
    pub fn number(&mut self, keys: &[u128], into: &mut Vec<u32>) {
        into.reserve(keys.len());
        for some in keys.chunks(CHUNK) {
            let mut numbers = [0; CHUNK];
            if self.perfect_hash.as_ref().is_some_and(|few| few.find(some, &mut numbers)) {
                into.extend_from_slice(&numbers[..some.len()]);
                continue;
            }
            let before = self.keys.len();
            // Room for all of them, so that none finds the table full.
            let wanted = before + some.len();
            if wanted > self.room() {
                self.rebuild(room_for(wanted));
            }
            let mut others = [0; CHUNK];
            let count = self.look(some, &mut numbers, &mut others);
            for other in others.iter().take(count) {
                let key = some[usize::from(*other)];
                numbers[usize::from(*other)] = self.find_or_add(key);
            }
            into.extend_from_slice(&numbers[..some.len()]);
            if self.keys.len() > before {
                self.perfect_hash = PerfectHash::new(&self.keys);
            }
        }
    }

    /// Looks keys up, each at the first slot that it may have: first all looks at the slots, then all at the keys that
    /// have them, so that none waits for another. Gives how many have another key there or none, and lists them.
    #[inline(always)]
    fn look(&self, keys: &[u128], numbers: &mut [u32; CHUNK], others: &mut [u8; CHUNK]) -> usize {
        if let Some(tagged) = &self.tagged {
            return tagged.look(&self.keys, keys, numbers, others);
        }
        let (slots, own) = (self.slots.as_slice(), self.keys.as_slice());
        let mask = slots.len().wrapping_sub(1);
        let seed = Seed::of_process();
        for (slot, key) in numbers.iter_mut().zip(keys) {
            let at = seed.of_key(*key) as usize & mask;
            prefetch::near(slots, at);
            *slot = at as u32;
        }
        for slot in numbers.iter_mut().take(keys.len()) {
            // A table without keys has no slots: what is none less one is no key's number.
            *slot = slots.get(*slot as usize).copied().unwrap_or(0).wrapping_sub(1);
            prefetch::near(own, *slot as usize);
        }
        others_of(own, keys, numbers, others)
    }

    /// The number of a key, which gets the next one if it is new; the table has room for it.
    #[inline(never)]
    fn find_or_add(&mut self, key: u128) -> u32 {
        if let Some(tagged) = &mut self.tagged {
            return tagged.find(&self.keys, key).unwrap_or_else(|| {
                tagged.add(key, self.keys.len() as u32);
                self.keys.push(key);
                self.keys.len() as u32 - 1
            });
        }
        let mask = self.slots.len() - 1;
        let mut at = Seed::of_process().of_key(key) as usize & mask;
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
        if let Some(tagged) = &self.tagged {
            return tagged.find(&self.keys, key);
        }
        let mask = self.slots.len().checked_sub(1)?;
        let mut at = Seed::of_process().of_key(key) as usize & mask;
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
        let (mut numbers, mut others) = ([0; CHUNK], [0; CHUNK]);
        for some in keys.chunks(CHUNK) {
            let count = self.look(some, &mut numbers, &mut others);
            for other in others.iter().take(count) {
                let other = usize::from(*other);
                // An empty slot says that there is no such key.
                if numbers[other] != u32::MAX {
                    numbers[other] = self.find(some[other]).unwrap_or(u32::MAX);
                }
            }
            into.extend_from_slice(&numbers[..some.len()]);
        }
    }

    fn rebuild(&mut self, slots: usize) {
        let slots = slots.max(16);
        if let Some(tagged) = &mut self.tagged {
            return tagged.grow(slots);
        }
        if slots > LARGE {
            self.tagged = Some(TaggedSlots::of(&self.keys, slots));
            self.slots = Vec::new();
            return;
        }
        self.slots = vec![0; slots];
        let seed = Seed::of_process();
        for (number, key) in (1u32..).zip(&self.keys) {
            let mut at = seed.of_key(*key) as usize & (slots - 1);
            while self.slots[at] != 0 {
                at = (at + 1) & (slots - 1);
            }
            self.slots[at] = number;
        }
    }
}

/// Lists the keys that are not the table's own at the numbers found for them; gives how many they are.
#[inline(always)]
fn others_of(own: &[u128], keys: &[u128], numbers: &[u32; CHUNK], others: &mut [u8; CHUNK]) -> usize {
    let mut count = 0;
    for (row, (number, key)) in numbers.iter().zip(keys).enumerate() {
        let is_own = own.get(*number as usize).is_some_and(|own| own == key);
        others[count % CHUNK] = row as u8;
        count += usize::from(!is_own);
    }
    count
}

/// The slots that a table of so many keys has.
fn room_for(keys: usize) -> usize {
    if keys > LARGE / 2 {
        return (keys + keys.div_ceil(3)).next_power_of_two().max(2 * LARGE);
    }
    let spare = if keys < 1 << 14 { 4 } else { 2 };
    (keys * spare).next_power_of_two()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn numbers_are_by_first_appearance(keys in prop::collection::vec(0u128..60, 0..600), room in prop_oneof![0usize..100, Just(40_000)]) {
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
            let again = Numbering::of_distinct(seen.clone());
            prop_assert!((0u32..).zip(&seen).all(|(number, key)| again.find(*key) == Some(number)));
            let mut single = Numbering::default();
            prop_assert!(keys.iter().map(|key| single.insert(*key)).eq(numbers.iter().copied()));
            prop_assert_eq!(numbering.into_keys(), seen);
        }
    }

    /// A table that becomes large, and larger, knows what it knew.
    #[test]
    fn large_tables() {
        let keys: Vec<u128> =
            (0..100_000u128).map(|key| (key * 0x9e37_79b9_7f4a_7c15) << (key % 60)).collect();
        let mut numbering = Numbering::default();
        let (mut first, mut again) = (Vec::new(), Vec::new());
        for some in keys.chunks(999) {
            numbering.number(some, &mut first);
        }
        numbering.number(&keys, &mut again);
        assert_eq!(first, again);
        let distinct: std::collections::HashSet<&u128> = keys.iter().collect();
        assert_eq!(numbering.keys().len(), distinct.len());
        assert!(keys.iter().zip(&first).all(|(key, number)| numbering.keys()[*number as usize] == *key));
        let others: Vec<u128> = (1..1000).map(|key| key << 127 | key).collect();
        again.clear();
        numbering.find_all(&others, &mut again);
        assert!(
            others.iter().zip(&again).all(|(key, number)| *number == u32::MAX && !distinct.contains(key))
        );
    }
}
