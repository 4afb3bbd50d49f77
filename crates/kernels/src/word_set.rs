//! A set of words of 64 bits: a bitmap where they stand close together, a hash table for the others.
//!
//! Numbers of records, days and counts stand close together: a bit each is a sixty-fourth of what a table needs, and in
//! order they are one cache line after the other. Whether a bitmap is made is decided when the table has to grow: it is if
//! all words that are there have their bits in no more bytes than the larger table would have.

use crate::hash::Seed;
use crate::prefetch;

/// Words that are looked up together.
const CHUNK: usize = 64;

/// Slots of a table that is worth a bitmap in place of it.
const LARGE: usize = 1 << 10;

/// Words of a block of a bitmap: 2^16 bits.
const BLOCK: usize = 1 << 10;

/// A set of words.
#[derive(Clone, Debug, Default)]
pub struct WordSet {
    /// The words that have no bit; 0 stands for a free slot.
    slots: Vec<u64>,
    /// How many slots are taken.
    taken: usize,
    has_zero: bool,
    bitmap: Option<Box<Bitmap>>,
}

/// Bits of the words of a range; blocks without one are not there.
#[derive(Clone, Debug, Default)]
struct Bitmap {
    /// The number of the first block.
    first: u64,
    blocks: Vec<Option<Box<[u64; BLOCK]>>>,
    /// How many blocks are there.
    present: usize,
}

/// Where a word stands among all words as signed numbers: those about zero are neighbours.
#[inline]
fn place(word: u64) -> u64 {
    word ^ 1 << 63
}

/// The block of a place.
#[inline]
fn block_of(place: u64) -> u64 {
    place >> 16
}

/// The word of a block that holds a place's bit, and the bit.
#[inline]
fn bit_of(place: u64) -> (usize, u64) {
    ((place >> 6) as usize % BLOCK, 1 << (place % 64))
}

impl Bitmap {
    /// The index of a word's block, if it is in the range.
    #[inline]
    fn index(&self, word: u64) -> Option<usize> {
        let index = block_of(place(word)).wrapping_sub(self.first);
        (index < self.blocks.len() as u64).then_some(index as usize)
    }

    /// Sets the bit of a word in the range, whose block has this index.
    #[inline]
    fn set(&mut self, index: usize, word: u64) {
        let slot = &mut self.blocks[index];
        let block = match slot {
            Some(block) => block,
            None => {
                self.present += 1;
                slot.insert(Box::new([0; BLOCK]))
            }
        };
        let (at, bit) = bit_of(place(word));
        block[at] |= bit;
    }

    /// How many words it has.
    fn len(&self) -> usize {
        let ones = |block: &[u64; BLOCK]| block.iter().map(|word| word.count_ones() as usize).sum::<usize>();
        self.blocks.iter().flatten().map(|block| ones(block)).sum()
    }

    /// Calls `f` with each word, in their order as signed numbers.
    fn each(&self, mut f: impl FnMut(u64)) {
        for (number, block) in (self.first..).zip(&self.blocks) {
            for (at, word) in block.iter().flat_map(|block| block.iter()).enumerate() {
                let mut rest = *word;
                while rest != 0 {
                    f(place(number << 16 | (at as u64) << 6 | u64::from(rest.trailing_zeros())));
                    rest &= rest - 1;
                }
            }
        }
    }
}

impl WordSet {
    /// How many words it has. With a bitmap this counts its bits.
    pub fn len(&self) -> usize {
        self.taken + usize::from(self.has_zero) + self.bitmap.as_ref().map_or(0, |bitmap| bitmap.len())
    }

    /// Whether it has none.
    pub fn is_empty(&self) -> bool {
        self.taken == 0 && !self.has_zero && self.bitmap.is_none()
    }

    /// Whether it has a bitmap, so that it does not grow with most words that are added.
    pub fn has_bitmap(&self) -> bool {
        self.bitmap.is_some()
    }

    /// Bytes in use.
    pub fn memory(&self) -> usize {
        let bitmap = self.bitmap.as_ref().map_or(0, |b| b.blocks.capacity() * 8 + b.present * BLOCK * 8);
        self.slots.capacity() * 8 + bitmap
    }

    /// Adds a word.
    pub fn insert(&mut self, word: u64) {
        self.make_room(1);
        self.add(word, Seed::of_process());
    }

    /// Adds words.
    pub fn extend(&mut self, words: &[u64]) {
        let seed = Seed::of_process();
        for some in words.chunks(CHUNK) {
            if self.bitmap.as_mut().is_some_and(|bitmap| bitmap.set_all(some)) {
                continue;
            }
            self.make_room(some.len());
            let mask = self.slots.len() - 1;
            some.iter().for_each(|word| prefetch::near(&self.slots, seed.of_u64(*word) as usize & mask));
            some.iter().for_each(|word| self.add(*word, seed));
        }
    }

    /// Adds the words of another set.
    pub fn merge(&mut self, other: WordSet) {
        if self.is_empty() {
            *self = other;
            return;
        }
        let mut words = Vec::with_capacity(1 << 12);
        other.each(|word| {
            words.push(word);
            if words.len() == 1 << 12 {
                self.extend(&words);
                words.clear();
            }
        });
        self.extend(&words);
    }

    /// Calls `f` with each word, in no order that means anything.
    pub fn each(&self, mut f: impl FnMut(u64)) {
        if self.has_zero {
            f(0);
        }
        self.slots.iter().filter(|word| **word != 0).for_each(|word| f(*word));
        if let Some(bitmap) = &self.bitmap {
            bitmap.each(f);
        }
    }

    /// Adds a word that there is room for.
    #[inline]
    fn add(&mut self, word: u64, seed: Seed) {
        if let Some(bitmap) = &mut self.bitmap
            && let Some(index) = bitmap.index(word)
        {
            bitmap.set(index, word);
            return;
        }
        if word == 0 {
            self.has_zero = true;
            return;
        }
        let mask = self.slots.len() - 1;
        let mut at = seed.of_u64(word) as usize & mask;
        while self.slots[at] != word {
            if self.slots[at] == 0 {
                self.slots[at] = word;
                self.taken += 1;
                return;
            }
            at = (at + 1) & mask;
        }
    }

    /// Makes room in the table for so many more words: at most five eighths of the slots are taken.
    fn make_room(&mut self, words: usize) {
        let wanted = self.taken + words;
        if wanted * 8 <= self.slots.len() * 5 {
            return;
        }
        let size = (wanted * 8 / 5 + 1).next_power_of_two().max(4);
        if size >= LARGE
            && let Some((first, blocks)) = self.close_blocks(size)
        {
            return self.cover(first, blocks);
        }
        let old = std::mem::replace(&mut self.slots, vec![0; size]);
        self.taken = 0;
        let seed = Seed::of_process();
        old.into_iter().filter(|word| *word != 0).for_each(|word| self.add(word, seed));
    }

    /// The first and the number of the blocks that hold the bits of all words, if they take no more bytes than a table of
    /// so many slots and the bitmap that is there.
    fn close_blocks(&self, slots: usize) -> Option<(u64, usize)> {
        let words = self.slots.iter().filter(|word| **word != 0).map(|word| block_of(place(*word)));
        let (mut least, mut most) = (u64::MAX, 0);
        words.chain(self.has_zero.then_some(block_of(place(0)))).for_each(|block| {
            least = least.min(block);
            most = most.max(block);
        });
        let mut bytes = slots * 8;
        if let Some(bitmap) = &self.bitmap {
            least = least.min(bitmap.first);
            most = most.max(bitmap.first + bitmap.blocks.len() as u64 - 1);
            bytes += bitmap.present * BLOCK * 8;
        }
        let blocks = most.checked_sub(least)?.saturating_add(1);
        (blocks <= (bytes / (BLOCK * 8)) as u64).then_some((least, blocks as usize))
    }

    /// Gives all words of these blocks bits, and those of as many blocks before and behind them.
    fn cover(&mut self, first: u64, blocks: usize) {
        let start = first.saturating_sub(blocks as u64);
        let last = (first + 2 * blocks as u64).min(block_of(u64::MAX) + 1);
        let mut bitmap = Bitmap { first: start, blocks: Vec::new(), present: 0 };
        bitmap.blocks.resize_with((last - start) as usize, || None);
        if let Some(old) = self.bitmap.take() {
            bitmap.present = old.present;
            let offset = (old.first - start) as usize;
            let slots = bitmap.blocks.iter_mut().skip(offset);
            slots.zip(old.blocks).for_each(|(slot, block)| *slot = block);
        }
        self.bitmap = Some(Box::new(bitmap));
        let words = std::mem::take(&mut self.slots);
        self.taken = 0;
        let has_zero = std::mem::take(&mut self.has_zero);
        self.slots = vec![0; 2 * CHUNK];
        let seed = Seed::of_process();
        words.into_iter().filter(|word| *word != 0).for_each(|word| self.add(word, seed));
        if has_zero {
            self.add(0, seed);
        }
    }
}

impl Bitmap {
    /// Sets the bits of words if all of them are in the range.
    fn set_all(&mut self, words: &[u64]) -> bool {
        let are_covered = words.iter().all(|word| self.index(*word).is_some());
        if are_covered {
            for word in words {
                if let Some(index) = self.index(*word) {
                    self.set(index, *word);
                }
            }
        }
        are_covered
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    fn words_of(set: &WordSet) -> BTreeSet<u64> {
        let mut words = BTreeSet::new();
        set.each(|word| assert!(words.insert(word), "{word} is there twice"));
        words
    }

    proptest! {
        /// Words in runs and far apart, at both ends and about zero, added in any way.
        #[test]
        fn has_each_word_once(
            runs in prop::collection::vec(
                (any::<u64>(), prop::sample::select(vec![0, 1, 3, 1000, 70_000, 1 << 40]), 1usize..4000), 1..6,
            ),
            centre in prop::sample::select(vec![0, u64::MAX, 1 << 63, i64::MAX as u64, 20_000_000]),
            cut in 0usize..10_000,
        ) {
            let words: Vec<u64> = runs.iter().flat_map(|(start, step, count)| {
                let start = if start % 2 == 0 { centre } else { *start };
                (0..*count as u64).map(move |i| start.wrapping_add(i.wrapping_mul(*step)))
            }).collect();
            let expected: BTreeSet<u64> = words.iter().copied().collect();
            let (first, second) = words.split_at(cut.min(words.len()));
            let (mut set, mut other, mut single) = (WordSet::default(), WordSet::default(), WordSet::default());
            set.extend(first);
            other.extend(second);
            set.merge(other);
            words.iter().for_each(|word| single.insert(*word));
            for set in [&set, &single] {
                prop_assert_eq!(set.len(), expected.len());
                prop_assert_eq!(&words_of(set), &expected);
            }
            set.extend(&words);
            prop_assert_eq!(set.len(), expected.len());
        }
    }

    #[test]
    fn numbers_in_a_row_take_a_bit_each() {
        let mut set = WordSet::default();
        let words: Vec<u64> = (10_000_000..11_000_000).collect();
        words.chunks(1000).rev().for_each(|some| set.extend(some));
        assert_eq!(set.len(), 1_000_000);
        assert!(set.memory() < 400_000, "{} bytes", set.memory());
    }

    #[test]
    fn words_far_apart_take_less_than_four_slots_each() {
        let mut set = WordSet::default();
        (0..100_000u64).for_each(|i| set.insert(i.wrapping_mul(0x9e37_79b9_7f4a_7c15)));
        assert_eq!(set.len(), 100_000);
        assert!(set.memory() < 100_000 * 32, "{} bytes", set.memory());
    }
}
