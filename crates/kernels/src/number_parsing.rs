//! Short numbers, 64 at a time: whole ones and decimal fractions without a sign, of at most eight characters.
//!
//! Nearly all numbers in tables are such. No loop in here branches on what a number looks like; one that is not of
//! this form, or that has a zero before its digits (`0042`, which a code may be), is told by a bit, and read again by
//! whoever asked. AVX-512 does eight at once, from loading the cells
//! to the quotient; elsewhere a plain form that compilers make vectors of.

use crate::chunk::{CHUNK, Chunk};
use crate::masks::Way;

/// Reads decimal fractions; gives a bit for each cell that is none of this form.
pub(crate) fn fractions(cells: Chunk<'_>, values: &mut [f64; CHUNK]) -> u64 {
    match Way::choose() {
        // SAFETY: a way is chosen only where the processor has it.
        #[cfg(target_arch = "x86_64")]
        Way::Avx512(_) => unsafe { avx512::fractions(cells, values) },
        // SAFETY: as above.
        #[cfg(target_arch = "x86_64")]
        Way::Avx2(_) => unsafe { fractions_avx2(cells, values) },
        Way::Portable => plain_fractions(cells, values),
    }
}

/// Reads whole numbers; gives a bit for each cell that is none of this form.
pub(crate) fn wholes(cells: Chunk<'_>, values: &mut [i64; CHUNK]) -> u64 {
    match Way::choose() {
        // SAFETY: a way is chosen only where the processor has it.
        #[cfg(target_arch = "x86_64")]
        Way::Avx512(_) => unsafe { avx512::wholes(cells, values) },
        // SAFETY: as above.
        #[cfg(target_arch = "x86_64")]
        Way::Avx2(_) => unsafe { wholes_avx2(cells, values) },
        Way::Portable => plain_wholes(cells, values),
    }
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2")]
fn fractions_avx2(cells: Chunk<'_>, values: &mut [f64; CHUNK]) -> u64 {
    plain_fractions(cells, values)
}

#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx2")]
fn wholes_avx2(cells: Chunk<'_>, values: &mut [i64; CHUNK]) -> u64 {
    plain_wholes(cells, values)
}

const TENS: [f64; 8] = [1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7];

/// The nearest numbers to their reciprocals.
const TENTHS: [f64; 8] = [1e0, 1e-1, 1e-2, 1e-3, 1e-4, 1e-5, 1e-6, 1e-7];

/// The number that the digits in the first `count` bytes of a word are, 0 to 8 of them, and bits where one is none.
#[inline(always)]
fn digits(text: u64, count: u64) -> (u64, u64) {
    const ZEROS: u64 = 0x3030_3030_3030_3030;
    // The digits go to the high bytes, and zeros before them; in two steps, since all eight may be missing.
    let missing = 4 * (8 - count.min(8));
    let filled = (text << missing << missing) | (ZEROS & !(u64::MAX << missing << missing));
    let values = filled ^ ZEROS;
    let bad = (values | values.wrapping_add(0x0606_0606_0606_0606)) & 0xf0f0_f0f0_f0f0_f0f0;
    let pairs = (values << 3).wrapping_add(values << 1).wrapping_add(values >> 8) & 0x00ff_00ff_00ff_00ff;
    let fours = pairs.wrapping_mul(100).wrapping_add(pairs >> 16) & 0x0000_ffff_0000_ffff;
    let eights = ((fours & 0xffff) * 10_000).wrapping_add(fours >> 32) & 0xffff_ffff;
    (eights, bad)
}

/// Whether a cell of at least two bytes starts with a zero before another digit; its first bytes are the low ones.
#[inline(always)]
fn has_leading_zero(word: u64, length: u64) -> u64 {
    let first = (word & 0xffff).wrapping_sub(0x3030);
    u64::from(length > 1) & u64::from(first & 0xff == 0) & u64::from(first <= 0x0900)
}

/// One bit for each cell with a bit in its word.
#[inline(always)]
fn told(bad: &[u64; CHUNK]) -> u64 {
    bad.iter().enumerate().fold(0, |bits, (i, bad)| bits | u64::from(*bad != 0) << i)
}

#[inline(always)]
fn plain_fractions(cells: Chunk<'_>, values: &mut [f64; CHUNK]) -> u64 {
    let (words, mut bad) = (cells.words(), [0; CHUNK]);
    for i in 0..CHUNK {
        let (length, word) = (u64::from(cells.lengths[i]), words[i]);
        // What follows the cell is cut off.
        let kept = 4 * (8 - length.min(8));
        let word = word << kept << kept >> kept >> kept;
        let differs = word ^ 0x2e2e_2e2e_2e2e_2e2e;
        let points = differs.wrapping_sub(0x0101_0101_0101_0101) & !differs & 0x8080_8080_8080_8080;
        // One bit in the byte of the first point; none, and all bytes before it, where there is no point.
        let point = (points & points.wrapping_neg()) >> 7;
        let before = point.wrapping_sub(1);
        let joined = (word & before) | ((word >> 8) & !before);
        let has_point = u64::from(point != 0);
        // The place of the point, by a multiplication that moves the byte with its number to the top.
        let place = point.wrapping_mul(0x0001_0203_0405_0607) >> 56;
        let after = (length.wrapping_sub(1).wrapping_sub(place)) * has_point;
        let (number, no_digit) = digits(joined, length - has_point.min(length));
        values[i] = f64::from(number as i32) / TENS[(after & 7) as usize];
        // A point needs digits before it, and a number at least one.
        let zero = has_leading_zero(words[i], length);
        bad[i] = no_digit | u64::from(length.wrapping_sub(1) >= 8) | (point & 1) | zero;
    }
    told(&bad)
}

#[inline(always)]
fn plain_wholes(cells: Chunk<'_>, values: &mut [i64; CHUNK]) -> u64 {
    let (words, mut bad) = (cells.words(), [0; CHUNK]);
    for i in 0..CHUNK {
        let length = u64::from(cells.lengths[i]);
        let (number, no_digit) = digits(words[i], length);
        values[i] = number.cast_signed();
        bad[i] = no_digit | u64::from(length.wrapping_sub(1) >= 8) | has_leading_zero(words[i], length);
    }
    told(&bad)
}

/// Eight cells at once.
#[cfg(target_arch = "x86_64")]
mod avx512 {
    #[allow(clippy::wildcard_imports)]
    use std::arch::x86_64::*;

    use super::{TENS, TENTHS, plain_fractions, plain_wholes};
    use crate::chunk::avx512::{all_have, cells_with, lengths, words};
    use crate::chunk::{CHUNK, Chunk};

    /// The digits of a number of eight, the most significant in the lowest byte, as a number.
    #[inline]
    #[target_feature(enable = "avx512f,avx512bw")]
    fn number(digits: __m512i) -> __m512i {
        let pairs = _mm512_maddubs_epi16(digits, _mm512_set1_epi16(0x010a));
        let fours = _mm512_madd_epi16(pairs, _mm512_set1_epi32(0x0001_0064));
        let high = _mm512_mul_epu32(fours, _mm512_set1_epi64(10_000));
        _mm512_add_epi64(high, _mm512_srli_epi64::<32>(fours))
    }

    /// Eight cells moved to the high bytes of their words.
    struct Eight {
        text: __m512i,
        /// A bit for each byte of a cell.
        there: __mmask64,
        /// A bit for each cell that is empty, longer than a word, or starts with a zero before another digit.
        bad: __mmask8,
    }

    /// Eight cells from the `i`th on.
    ///
    /// # Safety
    /// `i` is at most 56, and eight bytes follow the start of each cell.
    #[inline]
    #[target_feature(enable = "avx512f,avx512bw,avx512vl")]
    unsafe fn eight(cells: Chunk<'_>, i: usize) -> Eight {
        // SAFETY: as the caller promises.
        let words = unsafe { words(cells, i) };
        let lengths = _mm512_cvtepu32_epi64(lengths(cells, i));
        // A shift by 64 or more leaves nothing.
        let missing = _mm512_sub_epi64(_mm512_set1_epi64(64), _mm512_slli_epi64::<3>(lengths));
        let there = _mm512_sllv_epi64(_mm512_set1_epi64(-1), missing);
        let first =
            _mm512_sub_epi64(_mm512_and_si512(words, _mm512_set1_epi64(0xffff)), _mm512_set1_epi64(0x3030));
        let zero = _mm512_testn_epi64_mask(first, _mm512_set1_epi64(0xff))
            & _mm512_cmple_epu64_mask(first, _mm512_set1_epi64(0x0900))
            & _mm512_cmpgt_epu64_mask(lengths, _mm512_set1_epi64(1));
        Eight {
            text: _mm512_sllv_epi64(words, missing),
            there: _mm512_movepi8_mask(there),
            bad: _mm512_cmpgt_epu64_mask(
                _mm512_sub_epi64(lengths, _mm512_set1_epi64(1)),
                _mm512_set1_epi64(7),
            ) | zero,
        }
    }

    /// A bit for each byte that is no digit.
    #[inline]
    #[target_feature(enable = "avx512f,avx512bw")]
    fn no_digits(text: __m512i) -> __mmask64 {
        let values = _mm512_sub_epi8(text, _mm512_set1_epi8(b'0'.cast_signed()));
        _mm512_cmpgt_epu8_mask(values, _mm512_set1_epi8(9))
    }

    /// Quotients without a division, which takes several times as long: the product with the reciprocal, mended by what
    /// it leaves. To the bit those of a division for all whole numbers of eight digits by all powers of ten up to the
    /// seventh, which were all tried.
    #[inline]
    #[target_feature(enable = "avx512f")]
    fn quotient(number: __m512d, unit: __m512d, reciprocal: __m512d) -> __m512d {
        let about = _mm512_mul_pd(number, reciprocal);
        let left = _mm512_fnmadd_pd(about, unit, number);
        _mm512_fmadd_pd(left, reciprocal, about)
    }

    #[target_feature(enable = "avx512f,avx512bw,avx512dq,avx512cd,avx512vl")]
    pub(super) fn fractions(cells: Chunk<'_>, values: &mut [f64; CHUNK]) -> u64 {
        if !all_have(cells, 8) {
            return plain_fractions(cells, values);
        }
        let all = _mm512_set1_epi64(-1);
        let zero = _mm512_set1_epi8(b'0'.cast_signed());
        // SAFETY: eight numbers are loaded from arrays of eight.
        let (tens, tenths) = unsafe { (_mm512_loadu_pd(TENS.as_ptr()), _mm512_loadu_pd(TENTHS.as_ptr())) };
        let mut told = 0;
        for i in (0..CHUNK).step_by(8) {
            // SAFETY: `i` is a multiple of eight below 64, and eight bytes follow each start.
            let Eight { text, there, bad } = unsafe { eight(cells, i) };
            let is_point = _mm512_mask_cmpeq_epi8_mask(there, text, _mm512_set1_epi8(b'.'.cast_signed()));
            let points = _mm512_movm_epi8(is_point);
            // Eight times the digits behind the last point; 64 where there is none.
            let behind = _mm512_lzcnt_epi64(points);
            let from_point = _mm512_srlv_epi64(all, behind);
            let before = _mm512_srlv_epi64(all, _mm512_add_epi64(behind, _mm512_set1_epi64(8)));
            let joined = _mm512_or_si512(
                _mm512_andnot_si512(from_point, text),
                _mm512_slli_epi64::<8>(_mm512_and_si512(text, before)),
            );
            let number = number(_mm512_subs_epu8(joined, zero));
            let places = _mm512_srli_epi64::<3>(behind);
            let one = _mm512_set1_pd(1.0);
            let value = quotient(
                _mm512_cvtepi64_pd(number),
                _mm512_permutex2var_pd(tens, places, one),
                _mm512_permutex2var_pd(tenths, places, one),
            );
            // SAFETY: eight numbers fit behind `i`.
            unsafe { _mm512_storeu_pd(values.as_mut_ptr().add(i), value) };
            let second_point = _mm512_test_epi64_mask(points, before);
            // A point needs digits before it: bytes of the cell below the point.
            let digits_before = _mm512_and_si512(_mm512_movm_epi8(there), before);
            let has_none = _mm512_testn_epi64_mask(digits_before, digits_before)
                & _mm512_test_epi64_mask(points, points);
            let no_digit = cells_with(no_digits(text) & there & !is_point);
            told |= u64::from(bad | second_point | has_none | no_digit) << i;
        }
        told
    }

    #[target_feature(enable = "avx512f,avx512bw,avx512vl")]
    pub(super) fn wholes(cells: Chunk<'_>, values: &mut [i64; CHUNK]) -> u64 {
        if !all_have(cells, 8) {
            return plain_wholes(cells, values);
        }
        let mut told = 0;
        for i in (0..CHUNK).step_by(8) {
            // SAFETY: `i` is a multiple of eight below 64, and eight bytes follow each start.
            let Eight { text, there, bad } = unsafe { eight(cells, i) };
            let number = number(_mm512_subs_epu8(text, _mm512_set1_epi8(b'0'.cast_signed())));
            // SAFETY: eight numbers fit behind `i`.
            unsafe { _mm512_storeu_si512(values.as_mut_ptr().add(i).cast(), number) };
            told |= u64::from(bad | cells_with(no_digits(text) & there)) << i;
        }
        told
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn quotients_of_numbers_far_and_wide() {
        for first in (0..100_000_000u32).step_by(640 * 97) {
            let texts: Vec<String> = (first..)
                .step_by(10)
                .take(CHUNK)
                .map(|n| {
                    let digits = n.to_string();
                    let point = n as usize % digits.len().min(7) + 1;
                    format!("{}.{}", &digits[..point], &digits[point..]).chars().take(8).collect()
                })
                .collect();
            let (mut bytes, starts, lengths) = crate::chunk::in_a_row(&texts);
            bytes.extend_from_slice(b"12345678");
            let cells = Chunk { bytes: &bytes, starts: &starts, lengths: &lengths };
            let (mut fast, mut plain) = ([0.0; CHUNK], [0.0; CHUNK]);
            assert_eq!(fractions(cells, &mut fast), plain_fractions(cells, &mut plain));
            assert_eq!(fast, plain);
        }
    }

    proptest! {
        #[test]
        fn every_way_gives_the_same(texts in prop::collection::vec("[0-9.a]{0,9}|[0-9]{1,5}[.][0-9]{0,2}", CHUNK), more in 0usize..9) {
            let (mut bytes, starts, lengths) = crate::chunk::in_a_row(&texts);
            bytes.resize(bytes.len() + more, b'7');
            let cells = Chunk { bytes: &bytes, starts: &starts, lengths: &lengths };
            let (mut fast, mut plain) = ([0.0; CHUNK], [0.0; CHUNK]);
            let (bad, plain_bad) = (fractions(cells, &mut fast), plain_fractions(cells, &mut plain));
            let (mut fast_ints, mut plain_ints) = ([0; CHUNK], [0; CHUNK]);
            let (bad_ints, plain_bad_ints) = (wholes(cells, &mut fast_ints), plain_wholes(cells, &mut plain_ints));
            prop_assert_eq!((bad, bad_ints), (plain_bad, plain_bad_ints));
            for (i, text) in texts.iter().enumerate() {
                if bad >> i & 1 == 0 {
                    prop_assert_eq!(fast[i], plain[i], "{}", text);
                    prop_assert_eq!(Ok(fast[i]), text.parse());
                }
                if bad_ints >> i & 1 == 0 {
                    prop_assert_eq!(fast_ints[i], plain_ints[i]);
                    prop_assert_eq!(Ok(fast_ints[i]), text.parse());
                }
            }
        }
    }
}
