//! The borders of a row's cells as bits of a word, and the places of cells from them.
//!
//! Eight lines are looked at together, and the cells of 64 rows are placed together. With AVX-512 eight rows are worked
//! on at once: the lowest borders of eight words are taken off until those asked for are the lowest. Elsewhere the
//! nth border is found without a loop (a deposit of one bit, BMI2), or with one.

use std::ops::Range;

use crate::chunk::CHUNK;
use crate::masks::Way;

/// What a row is held against.
#[derive(Clone, Copy)]
pub(crate) struct QuoteRule {
    /// How many cells a row has.
    pub(crate) width: usize,
    /// The byte with which lines start that are no rows.
    pub(crate) comment: Option<u8>,
}

/// Lines that are looked at together.
pub(crate) const EIGHT: usize = 8;

/// Rows whose cells are to be placed, 64 at a time; some more may wait behind them.
pub(crate) struct RowBorders {
    /// For each row a bit for each border of its cells: one as if a separator stood before the row, those of its
    /// separators, and one at its end.
    pub(crate) borders: [u64; CHUNK + EIGHT],
    pub(crate) starts: [u32; CHUNK + EIGHT],
    pub(crate) count: usize,
    /// Rows whose borders do not fit in a word, and their numbers here.
    pub(crate) long: Vec<(usize, Range<usize>)>,
}

impl Default for RowBorders {
    fn default() -> Self {
        RowBorders { borders: [0; CHUNK + EIGHT], starts: [0; CHUNK + EIGHT], count: 0, long: Vec::new() }
    }
}

/// The length below which a row's borders fit in a word.
const SHORT: usize = 63;

impl QuoteRule {
    /// How many cells a row has whose borders do not fit or are not as many as they should be; `None` if the line is no
    /// row, but blank or a comment.
    #[inline(never)]
    pub(crate) fn seldom(self, bytes: &[u8], words: &[u64], row: &Range<usize>) -> Option<usize> {
        let line = bytes.get(row.clone()).unwrap_or_default();
        (!self.is_no_row(line)).then(|| count(words, row.start, row.end) + 1)
    }

    /// Whether a line is blank or a comment.
    #[inline(always)]
    pub(crate) fn is_no_row(self, line: &[u8]) -> bool {
        let is_comment = self.comment.is_some() && line.first().copied() == self.comment;
        is_comment || (self.width > 1 && matches!(line, [] | [b'\r']))
    }
}

impl RowBorders {
    /// Places the cells of 64 rows, or of those that there are, in the first places, and gives those that are left.
    pub(crate) fn place<'p>(
        &mut self,
        words: &[u64],
        wanted: &[u32],
        places: &'p mut [[u32; CHUNK]],
        way: Way,
    ) -> &'p mut [[u32; CHUNK]] {
        let Some((places, left)) = places.split_at_mut_checked(2 * wanted.len()) else { return &mut [] };
        match way {
            // SAFETY: a way is chosen only where the processor has it.
            #[cfg(target_arch = "x86_64")]
            Way::Avx512(_) => unsafe { self.place_avx512(wanted, places) },
            // SAFETY: as above.
            #[cfg(target_arch = "x86_64")]
            Way::Avx2(_) => unsafe { self.place_bmi2(wanted, places) },
            Way::Portable => self.place_with(wanted, places, nth_bit),
        }
        for (at, row) in self.long.extract_if(.., |(at, _)| *at < CHUNK) {
            place_long(words, row, wanted, |number, start, length| {
                if let Some([starts, lengths]) = places.get_mut(2 * number..2 * number + 2) {
                    (starts[at], lengths[at]) = (start as u32, length as u32);
                }
            });
        }
        self.long.iter_mut().for_each(|(at, _)| *at -= CHUNK);
        self.borders.copy_within(CHUNK.., 0);
        self.starts.copy_within(CHUNK.., 0);
        self.count = self.count.saturating_sub(CHUNK);
        left
    }

    #[inline(always)]
    fn place_with(&self, wanted: &[u32], places: &mut [[u32; CHUNK]], nth: impl Fn(u64, u32) -> (u32, u32)) {
        for (cell, places) in wanted.iter().zip(places.chunks_exact_mut(2)) {
            let [starts, lengths] = places else { continue };
            for i in 0..self.count.min(CHUNK) {
                let (from, to) = nth(self.borders[i], *cell);
                starts[i] = self.starts[i] + from;
                lengths[i] = to.wrapping_sub(from + 1);
            }
        }
    }

    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "bmi1,bmi2")]
    fn place_bmi2(&self, wanted: &[u32], places: &mut [[u32; CHUNK]]) {
        self.place_with(
            wanted,
            places,
            #[inline(always)]
            |bits, n| {
                let bit = std::arch::x86_64::_pdep_u64(1 << (n & 63), bits);
                let behind = bits & !(bit ^ bit.wrapping_sub(1));
                (bit.trailing_zeros(), behind.trailing_zeros())
            },
        );
    }

    /// The same for eight rows at once: the lowest border of each is taken off until the one asked for is the lowest.
    #[cfg(target_arch = "x86_64")]
    #[target_feature(enable = "avx512f,avx512cd,avx512vl,avx2")]
    fn place_avx512(&self, wanted: &[u32], places: &mut [[u32; CHUNK]]) {
        #[allow(clippy::wildcard_imports)]
        use std::arch::x86_64::*;
        let one = _mm512_set1_epi64(1);
        let without_lowest = |bits| _mm512_and_si512(bits, _mm512_sub_epi64(bits, one));
        let lowest = |bits| {
            let bit = _mm512_and_si512(bits, _mm512_sub_epi64(_mm512_setzero_si512(), bits));
            _mm512_cvtepi64_epi32(_mm512_sub_epi64(_mm512_set1_epi64(63), _mm512_lzcnt_epi64(bit)))
        };
        for i in (0..self.count.min(CHUNK)).step_by(EIGHT) {
            // SAFETY: eight numbers stand behind `i`, which is a multiple of eight below 64, in both arrays.
            let (mut borders, starts) = unsafe {
                (
                    _mm512_loadu_si512(self.borders.as_ptr().add(i).cast()),
                    _mm256_loadu_si256(self.starts.as_ptr().add(i).cast()),
                )
            };
            let mut at = 0;
            for (cell, places) in wanted.iter().zip(places.chunks_exact_mut(2)) {
                while at < *cell {
                    borders = without_lowest(borders);
                    at += 1;
                }
                let from = lowest(borders);
                let to = lowest(without_lowest(borders));
                let length = _mm256_sub_epi32(_mm256_sub_epi32(to, from), _mm256_set1_epi32(1));
                let [to_starts, to_lengths] = places else { continue };
                // SAFETY: as above, in these arrays.
                unsafe {
                    let start = _mm256_add_epi32(starts, from);
                    _mm256_storeu_si256(to_starts.as_mut_ptr().add(i).cast(), start);
                    _mm256_storeu_si256(to_lengths.as_mut_ptr().add(i).cast(), length);
                }
            }
        }
    }
}

/// Finds the borders of the cells of eight rows, each between two edges, and where they start, behind the rows that
/// are there; gives a bit for each row that has another number of cells or whose borders do not fit in a word.
#[inline(always)]
pub(crate) fn plain_borders(
    rule: QuoteRule,
    words: &[u64],
    edges: &[u32; EIGHT + 1],
    rows: &mut RowBorders,
) -> u8 {
    let mut odd = 0;
    let at = rows.borders.iter_mut().zip(&mut rows.starts).skip(rows.count);
    for (lane, (borders, start)) in at.take(EIGHT).enumerate() {
        *start = edges[lane].wrapping_add(1);
        let length = edges[lane + 1].wrapping_sub(*start) as usize;
        let separators = window(words, *start as usize) & ((1 << (length & 63)) - 1);
        let is_even = length < SHORT && separators.count_ones() as usize + 1 == rule.width;
        *borders = separators << 1 | 1 | 2 << (length & 63);
        odd |= u8::from(!is_even || rule.comment.is_some()) << lane;
    }
    odd
}

#[cfg(target_arch = "x86_64")]
#[inline]
#[target_feature(enable = "avx512f,avx512bw,avx512vl,avx2")]
pub(crate) fn borders_avx512(
    rule: QuoteRule,
    words: &[u64],
    edges: &[u32; EIGHT + 1],
    rows: &mut RowBorders,
) -> u8 {
    #[allow(clippy::wildcard_imports)]
    use std::arch::x86_64::*;

    use crate::chunk::avx512::eight_words;

    let (Some(borders), Some(starts)) = (
        rows.borders.get_mut(rows.count..rows.count + EIGHT),
        rows.starts.get_mut(rows.count..rows.count + EIGHT),
    ) else {
        return u8::MAX;
    };
    // The greatest start is the last.
    if edges[EIGHT - 1].wrapping_add(1) as usize / 8 + 16 > words.len() * 8 {
        return plain_borders(rule, words, edges, rows);
    }
    let load = |behind: usize| {
        let bytes = words.as_ptr().cast::<u8>();
        // SAFETY: sixteen bytes follow the greatest of these places in the words, as was looked at.
        unsafe { eight_words(|lane| bytes.add(edges[lane].wrapping_add(1) as usize / 8 + behind)) }
    };
    let number = |n: i64| _mm512_set1_epi64(n);
    // SAFETY: eight numbers are loaded from the first and from the last of nine.
    let (before, ends) = unsafe {
        (_mm256_loadu_si256(edges.as_ptr().cast()), _mm256_loadu_si256(edges.as_ptr().add(1).cast()))
    };
    let first = _mm256_add_epi32(before, _mm256_set1_epi32(1));
    let shift = _mm512_and_si512(_mm512_cvtepu32_epi64(first), number(7));
    let low = _mm512_srlv_epi64(load(0), shift);
    let bits = _mm512_or_si512(low, _mm512_sllv_epi64(load(8), _mm512_sub_epi64(number(64), shift)));
    let length = _mm512_cvtepu32_epi64(_mm256_sub_epi32(ends, first));
    let there = _mm512_srlv_epi64(number(-1), _mm512_sub_epi64(number(64), length));
    let separators = _mm512_and_si512(bits, there);
    // The bits of each half byte are looked up, and those of each word added.
    let table = _mm512_broadcast_i32x4(_mm_setr_epi8(0, 1, 1, 2, 1, 2, 2, 3, 1, 2, 2, 3, 2, 3, 3, 4));
    let half = |bits: __m512i| _mm512_shuffle_epi8(table, _mm512_and_si512(bits, _mm512_set1_epi8(15)));
    let halves = _mm512_add_epi8(half(separators), half(_mm512_srli_epi64::<4>(separators)));
    let cells = _mm512_sad_epu8(halves, _mm512_setzero_si512());
    let behind = _mm512_sllv_epi64(number(2), length);
    let all = _mm512_or_si512(_mm512_or_si512(_mm512_slli_epi64::<1>(separators), number(1)), behind);
    // SAFETY: both are eight numbers long.
    unsafe {
        _mm512_storeu_si512(borders.as_mut_ptr().cast(), all);
        _mm256_storeu_si256(starts.as_mut_ptr().cast(), first);
    }
    _mm512_cmpneq_epi64_mask(cells, number(rule.width as i64 - 1))
        | _mm512_cmpge_epu64_mask(length, number(SHORT as i64))
}

/// The place of the nth set bit, lowest first and from 0, and that of the next; 64 for what there is not.
#[inline(always)]
fn nth_bit(mut bits: u64, n: u32) -> (u32, u32) {
    for _ in 0..n {
        bits &= bits.wrapping_sub(1);
    }
    (bits.trailing_zeros(), (bits & bits.wrapping_sub(1)).trailing_zeros())
}

/// The bits of 64 bytes from one on.
#[inline(always)]
fn window(words: &[u64], at: usize) -> u64 {
    let (word, shift) = (at / 64, at % 64);
    let low = words.get(word).copied().unwrap_or(0) >> shift;
    // Shifted in two steps, so that a shift of 64 is not asked for.
    low | words.get(word + 1).copied().unwrap_or(0) << 1 << (63 - shift)
}

/// How many bits are set between two bytes.
#[inline(always)]
fn count(words: &[u64], start: usize, end: usize) -> usize {
    let whole = words.get(start / 64..end / 64).unwrap_or_default();
    let ones: usize = whole.iter().map(|word| word.count_ones() as usize).sum();
    let below = |at: usize| {
        let word = words.get(at / 64).copied().unwrap_or(0) & ((1 << (at % 64)) - 1);
        word.count_ones() as usize
    };
    ones + below(end) - below(start)
}

/// Places the cells of a row of several words, which has them.
fn place_long(words: &[u64], row: Range<usize>, wanted: &[u32], mut put: impl FnMut(usize, usize, usize)) {
    let mut wanted = wanted.iter().copied().enumerate().peekable();
    let (mut from, mut start, mut cell) = (row.start, row.start, 0);
    while from < row.end && wanted.peek().is_some() {
        let mut bits = window(words, from);
        while bits != 0 {
            let end = from + bits.trailing_zeros() as usize;
            if end >= row.end {
                break;
            }
            if let Some((number, _)) = wanted.next_if(|(_, wanted)| *wanted == cell) {
                put(number, start, end - start);
            }
            (start, cell) = (end + 1, cell + 1);
            bits &= bits - 1;
        }
        from += 64;
    }
    if let Some((number, _)) = wanted.next() {
        put(number, start, row.end - start);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn every_way_gives_the_same(borders in prop::collection::vec(any::<u64>(), CHUNK), wanted in prop::sample::subsequence((0..9).collect::<Vec<u32>>(), 1..5)) {
            let mut rows = RowBorders { starts: [7; CHUNK + EIGHT], count: CHUNK, ..RowBorders::default() };
            // Ten borders at least.
            rows.borders.iter_mut().zip(borders).for_each(|(to, bits)| *to = bits | 0x3ff << 40);
            let (mut fast, mut plain) = (vec![[0; CHUNK]; 2 * wanted.len()], vec![[0; CHUNK]; 2 * wanted.len()]);
            rows.place_with(&wanted, &mut plain, nth_bit);
            #[cfg(target_arch = "x86_64")]
            if std::arch::is_x86_feature_detected!("bmi2") {
                // SAFETY: the processor has it.
                unsafe { rows.place_bmi2(&wanted, &mut fast) };
                prop_assert_eq!(&fast, &plain);
            }
            rows.place(&[], &wanted, &mut fast, Way::choose());
            prop_assert_eq!(fast, plain);
        }

        #[test]
        fn borders_in_every_way(words in prop::collection::vec(any::<u64>(), 24), lengths in prop::collection::vec(0u32..70, EIGHT), width in 1usize..40) {
            let mut edges = [u32::MAX; EIGHT + 1];
            for (i, length) in lengths.iter().enumerate() {
                edges[i + 1] = edges[i].wrapping_add(1) + length;
            }
            let rule = QuoteRule { width, comment: None };
            let (mut fast, mut plain) = (RowBorders::default(), RowBorders::default());
            let odd = plain_borders(rule, &words, &edges, &mut plain);
            #[cfg(target_arch = "x86_64")]
            if let Way::Avx512(_) = Way::choose() {
                // SAFETY: the way is chosen only where the processor has it.
                prop_assert_eq!(unsafe { borders_avx512(rule, &words, &edges, &mut fast) }, odd);
                prop_assert_eq!(fast.starts, plain.starts);
                for lane in (0..EIGHT).filter(|lane| odd >> lane & 1 == 0) {
                    prop_assert_eq!(fast.borders[lane], plain.borders[lane]);
                }
            }
        }
    }
}
