//! Rows that are longer than a word has bits: their cells are placed by a list of all separators.
//!
//! The places of the separators are listed for the whole block. A row that has as many as it should starts so many places
//! behind the row before it, so that one look at the list says whether it has, and one more where a cell stands. A separator
//! costs as much whether its cell is wanted or not, about a nanosecond; `borders` is faster for short rows.

use crate::borders::QuoteRule;
use crate::chunk::CHUNK;
use crate::masks::Way;

/// Bytes of a row, with its line end, above which the mean row of a block is long.
pub(crate) const LONG: usize = 60;

/// Places that are written together.
const TOGETHER: usize = 8;

/// The places of all separators of a block, rising.
#[derive(Clone, Debug, Default)]
pub(crate) struct Separators {
    /// Those of the block, and behind them what larger blocks left.
    places: Vec<u32>,
    count: usize,
}

impl Separators {
    /// Lists the bits of words, in place of what was there.
    pub(crate) fn list(&mut self, words: &[u64]) {
        let count = words.iter().map(|word| word.count_ones() as usize).sum::<usize>();
        // The last ones are written together with some that are not there.
        if self.places.len() < count + TOGETHER {
            self.places.resize(count + TOGETHER, 0);
        }
        self.count = count;
        match Way::choose() {
            // SAFETY: a way is chosen only where the processor has it.
            #[cfg(target_arch = "x86_64")]
            Way::Avx512(_) | Way::Avx2(_) => unsafe { list_bmi(words, &mut self.places) },
            Way::Portable => list(words, &mut self.places),
        }
    }

    /// The place of a separator; behind the last, none that a block has.
    #[inline(always)]
    fn at(&self, number: usize) -> u32 {
        self.places.get(number).copied().filter(|_| number < self.count).unwrap_or(u32::MAX)
    }
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "bmi1,bmi2,popcnt")]
fn list_bmi(words: &[u64], places: &mut [u32]) {
    list(words, places);
}

/// Writes the places of the bits of words, eight at a time: most words have no more.
#[inline(always)]
fn list(words: &[u64], places: &mut [u32]) {
    let (mut next, mut from) = (0, 0u32);
    for word in words {
        let (mut bits, end) = (*word, next + word.count_ones() as usize);
        let mut at = next;
        while at < end {
            let Some(eight) = places.get_mut(at..at + TOGETHER) else { return };
            for place in eight {
                *place = from + bits.trailing_zeros();
                bits &= bits.wrapping_sub(1);
            }
            at += TOGETHER;
        }
        next = end;
        from = from.wrapping_add(64);
    }
}

/// What a line is.
pub(crate) enum Line {
    Row,
    /// With so many cells, which are not as many as they should be.
    Ragged(usize),
    /// Blank, or a comment.
    NoRow,
}

/// Rows whose cells are to be placed.
pub(crate) struct LongRows {
    /// Of each row its first separator, where it starts, and where it ends.
    first: [usize; CHUNK],
    starts: [u32; CHUNK],
    ends: [u32; CHUNK],
    pub(crate) count: usize,
    /// The next separator.
    next: usize,
}

impl Default for LongRows {
    fn default() -> LongRows {
        LongRows { first: [0; CHUNK], starts: [0; CHUNK], ends: [0; CHUNK], count: 0, next: 0 }
    }
}

impl LongRows {
    /// Takes the line between two places; there is room for a row.
    #[inline(always)]
    pub(crate) fn take(
        &mut self,
        bytes: &[u8],
        separators: &Separators,
        rule: QuoteRule,
        (start, end): (u32, u32),
    ) -> Line {
        let first = self.next;
        let behind = first + rule.width - 1;
        let is_even = separators.at(behind) >= end && (rule.width == 1 || separators.at(behind - 1) < end);
        if is_even && rule.comment.is_none() {
            self.next = behind;
        } else {
            while separators.at(self.next) < end {
                self.next += 1;
            }
            let line = bytes.get(start as usize..end as usize).unwrap_or_default();
            match self.next - first + 1 {
                _ if rule.is_no_row(line) => return Line::NoRow,
                cells if cells != rule.width => return Line::Ragged(cells),
                _ => {}
            }
        }
        (self.first[self.count], self.starts[self.count], self.ends[self.count]) = (first, start, end);
        self.count += 1;
        Line::Row
    }

    /// Places the wanted cells of the rows that were taken in the first places, and gives those that are left.
    #[inline(always)]
    pub(crate) fn place<'p>(
        &mut self,
        separators: &Separators,
        width: usize,
        wanted: &[u32],
        places: &'p mut [[u32; CHUNK]],
    ) -> &'p mut [[u32; CHUNK]] {
        let Some((places, left)) = places.split_at_mut_checked(2 * wanted.len()) else { return &mut [] };
        for (cell, places) in wanted.iter().map(|cell| *cell as usize).zip(places.chunks_exact_mut(2)) {
            let [starts, lengths] = places else { continue };
            for row in 0..self.count {
                let separator = self.first[row] + cell;
                let start = if cell == 0 { self.starts[row] } else { separators.at(separator - 1) + 1 };
                let end = if cell + 1 == width { self.ends[row] } else { separators.at(separator) };
                (starts[row], lengths[row]) = (start, end - start);
            }
        }
        self.count = 0;
        left
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn all_bits_are_listed(words in prop::collection::vec(prop_oneof![any::<u64>(), Just(0), Just(u64::MAX), (0u32..64).prop_map(|bit| 1 << bit)], 0..20)) {
            let expected: Vec<u32> =
                (0..words.len() as u32 * 64).filter(|bit| words[*bit as usize / 64] >> (bit % 64) & 1 == 1).collect();
            let mut separators = Separators::default();
            separators.list(&[u64::MAX; 3]);
            separators.list(&words);
            prop_assert_eq!(&separators.places[..separators.count], &expected);
            prop_assert_eq!(separators.at(expected.len()), u32::MAX);
            list(&words, &mut separators.places);
            prop_assert_eq!(&separators.places[..separators.count], &expected);
        }
    }
}
