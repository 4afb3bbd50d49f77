//! Slots of a large table of keys: each holds a part of its key's hash beside the number.
//!
//! A look at a slot nearly always says whether it is the key's, so that memory is waited for once for a key that is new and
//! twice for one that is known; and a table grows from front to back, without a look at the keys. Twice as large as numbers
//! alone, which is why a table that fits in the cache has those.

use super::{CHUNK, others_of};
use crate::hash::Seed;
use crate::prefetch;

/// Slots in order of the lowest bits of their tags: the tag of a key above one more than its number, or 0.
#[derive(Clone, Debug)]
pub(super) struct TaggedSlots {
    slots: Vec<u64>,
}

/// The part of a key's hash that stands in its slot; the lowest bits of it say where that is.
#[inline(always)]
fn tag_of(key: u128, seed: Seed) -> u32 {
    (seed.of_key(key) >> 32) as u32
}

#[inline(always)]
fn tag(slot: u64) -> u32 {
    (slot >> 32) as u32
}

#[inline(always)]
fn number(slot: u64) -> u32 {
    (slot as u32).wrapping_sub(1)
}

impl TaggedSlots {
    /// So many slots, a power of two, for these keys, which are all different.
    pub(super) fn of(keys: &[u128], slots: usize) -> TaggedSlots {
        let mut table = TaggedSlots { slots: vec![0; slots] };
        let seed = Seed::of_process();
        for (number, key) in (0u32..).zip(keys) {
            table.put(tag_of(*key, seed), number);
        }
        table
    }

    /// How many slots there are.
    pub(super) fn len(&self) -> usize {
        self.slots.len()
    }

    /// Twice as many slots or more.
    pub(super) fn grow(&mut self, slots: usize) {
        let before = std::mem::replace(&mut self.slots, vec![0; slots]);
        for slot in before.into_iter().filter(|slot| *slot != 0) {
            self.put(tag(slot), number(slot));
        }
    }

    /// Puts a number in the first free slot of its tag.
    #[inline]
    fn put(&mut self, tag: u32, number: u32) {
        let mask = self.slots.len() - 1;
        let mut at = tag as usize & mask;
        while self.slots[at] != 0 {
            at = (at + 1) & mask;
        }
        self.slots[at] = u64::from(tag) << 32 | u64::from(number + 1);
    }

    /// Looks keys up, up to the first slot that is free or has their tag: all slots first, then the keys that have them.
    /// Gives how many have another key there or none, which is `u32::MAX`, and lists them.
    #[inline(always)]
    pub(super) fn look(
        &self,
        own: &[u128],
        keys: &[u128],
        numbers: &mut [u32; CHUNK],
        others: &mut [u8; CHUNK],
    ) -> usize {
        let mask = self.slots.len() - 1;
        let seed = Seed::of_process();
        for (place, key) in numbers.iter_mut().zip(keys) {
            *place = tag_of(*key, seed);
            prefetch::near(&self.slots, *place as usize & mask);
        }
        for place in numbers.iter_mut().take(keys.len()) {
            let mut at = *place as usize & mask;
            let mut slot = self.slots[at];
            while slot != 0 && tag(slot) != *place {
                at = (at + 1) & mask;
                slot = self.slots[at];
            }
            *place = number(slot);
            prefetch::near(own, *place as usize);
        }
        others_of(own, keys, numbers, others)
    }

    /// The number of a key, if it has one.
    #[inline]
    pub(super) fn find(&self, own: &[u128], key: u128) -> Option<u32> {
        let (mask, tag_of_key) = (self.slots.len() - 1, tag_of(key, Seed::of_process()));
        let mut at = tag_of_key as usize & mask;
        loop {
            match self.slots[at] {
                0 => return None,
                slot if tag(slot) == tag_of_key && own[number(slot) as usize] == key => {
                    return Some(number(slot));
                }
                _ => at = (at + 1) & mask,
            }
        }
    }

    /// Adds a key that has no number yet; there is a free slot.
    #[inline]
    pub(super) fn add(&mut self, key: u128, number: u32) {
        self.put(tag_of(key, Seed::of_process()), number);
    }
}
