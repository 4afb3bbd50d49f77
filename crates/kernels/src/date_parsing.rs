//! Days, 64 at a time: `YYYY-MM-DD`.
//!
//! Digits are put together by multiply-and-add, the days before a month are looked up, and those before a year are
//! counted by arithmetic: no loop branches on what a cell looks like. One that is no day is told by a bit.

use crate::calendar::FIRST_DAY;
use crate::chunk::{CHUNK, Chunk, eight};
use crate::masks::Way;

/// For each month, from 1, how many days are before it in a year that is not leap, from bit 8 on, and how many it has.
const MONTHS: [i32; 16] = {
    let lengths = [31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];
    let mut table = [0; 16];
    let (mut month, mut before) = (0, 0);
    while month < 12 {
        table[month + 1] = before << 8 | lengths[month];
        before += lengths[month];
        month += 1;
    }
    table
};

/// Reads days; gives a bit for each cell that is none.
pub(crate) fn days(cells: Chunk<'_>, values: &mut [i32; CHUNK]) -> u64 {
    match Way::choose() {
        // SAFETY: a way is chosen only where the processor has it.
        #[cfg(target_arch = "x86_64")]
        Way::Avx512(_) => unsafe { avx512::days(cells, values) },
        _ => plain_days(cells, values),
    }
}

fn plain_days(cells: Chunk<'_>, values: &mut [i32; CHUNK]) -> u64 {
    let mut told = 0;
    for (i, value) in values.iter_mut().enumerate() {
        let start = cells.starts[i] as usize;
        // "YYYY-MM-", and "DD" behind it.
        let (text, rest) = (eight(cells.bytes, start), eight(cells.bytes, start + 8));
        let marks = text & 0xff00_00ff_0000_0000 != 0x2d00_002d_0000_0000;
        let digits = text & 0xffff_ffff | (text >> 8) & 0xffff_0000_0000 | rest << 48;
        let digits = digits ^ 0x3030_3030_3030_3030;
        let no_digit = (digits | digits.wrapping_add(0x0606_0606_0606_0606)) & 0xf0f0_f0f0_f0f0_f0f0 != 0;
        let pairs = digits.wrapping_mul(10).wrapping_add(digits >> 8);
        let pair = |at: u32| (pairs >> (16 * at) & 0xff) as i32;
        let (year, month, day) = (pair(0) * 100 + pair(1), pair(2), pair(3));
        let leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
        let months = MONTHS[(month & 15) as usize];
        let length = (months & 255) + i32::from(leap & (month == 2));
        let before = (months >> 8) + i32::from(leap & (month > 2));
        let past = year - 1;
        *value = FIRST_DAY - 1 + 365 * past + past / 4 - past / 100 + past / 400 + before + day;
        let bad = (month > 12) | (day > length) | (day == 0) | (year == 0);
        told |= u64::from(bad | marks | no_digit | (cells.lengths[i] != 10)) << i;
    }
    told
}

/// Eight cells at once.
#[cfg(target_arch = "x86_64")]
mod avx512 {
    #[allow(clippy::wildcard_imports)]
    use std::arch::x86_64::*;

    use super::{MONTHS, plain_days};
    use crate::calendar::FIRST_DAY;
    use crate::chunk::avx512::{all_have, cells_with, every_other, lengths};
    use crate::chunk::{CHUNK, Chunk};

    #[target_feature(enable = "avx512f,avx512bw,avx512vl,avx2")]
    pub(super) fn days(cells: Chunk<'_>, values: &mut [i32; CHUNK]) -> u64 {
        if !all_have(cells, 16) {
            return plain_days(cells, values);
        }
        let mut told = 0;
        for i in (0..CHUNK).step_by(8) {
            // SAFETY: `i` is a multiple of eight below 64, and sixteen bytes follow each start.
            let (even, odd) = unsafe { (every_other(cells, i), every_other(cells, i + 1)) };
            let (digits, marks) = digits(even, odd);
            let no_digit = _mm512_cmpgt_epu8_mask(digits, _mm512_set1_epi8(9));
            let (day, bad) = day(digits);
            // SAFETY: eight days fit behind `i`.
            unsafe { _mm256_storeu_si256(values.as_mut_ptr().add(i).cast(), day) };
            let length_is_bad = _mm256_cmpneq_epi32_mask(lengths(cells, i), _mm256_set1_epi32(10));
            told |= u64::from(marks | cells_with(no_digit) | bad | length_is_bad) << i;
        }
        told
    }

    /// The digits of eight texts of `YYYY-MM-DD`, and a bit for each without its two marks.
    #[inline]
    #[target_feature(enable = "avx512f,avx512bw")]
    fn digits(even: __m512i, odd: __m512i) -> (__m512i, __mmask8) {
        // The digits go to the low half, the marks to the high one.
        let order =
            _mm512_broadcast_i32x4(_mm_setr_epi8(0, 1, 2, 3, 5, 6, 8, 9, 4, 7, -1, -1, -1, -1, -1, -1));
        let (even, odd) = (_mm512_shuffle_epi8(even, order), _mm512_shuffle_epi8(odd, order));
        let marks = _mm512_unpackhi_epi64(even, odd);
        let marks = _mm512_cmpneq_epi64_mask(marks, _mm512_set1_epi64(0x2d2d));
        (_mm512_sub_epi8(_mm512_unpacklo_epi64(even, odd), _mm512_set1_epi8(b'0'.cast_signed())), marks)
    }

    /// The days of eight times eight digits, and a bit for each that is none.
    #[inline]
    #[target_feature(enable = "avx512f,avx512bw,avx512vl,avx2")]
    fn day(digits: __m512i) -> (__m256i, __mmask8) {
        let number = |n: i32| _mm256_set1_epi32(n);
        let pairs = _mm512_maddubs_epi16(digits, _mm512_set1_epi16(0x010a));
        // The year in the low half, and in the high one the month from its bit 8 on, and the day.
        let halves = _mm512_madd_epi16(pairs, _mm512_set1_epi64(1 << 48 | 256 << 32 | 1 << 16 | 100));
        let year = _mm512_cvtepi64_epi32(halves);
        let rest = _mm512_cvtepi64_epi32(_mm512_srli_epi64::<32>(halves));
        let (month, day) = (_mm256_srli_epi32::<8>(rest), _mm256_and_si256(rest, number(255)));
        // Right for all years of four digits.
        let hundreds = |years: __m256i| _mm256_srli_epi32::<19>(_mm256_mullo_epi32(years, number(5243)));
        let century = hundreds(year);
        let in_century = _mm256_sub_epi32(year, _mm256_mullo_epi32(century, number(100)));
        let leap = _mm256_testn_epi32_mask(year, number(3))
            & (_mm256_test_epi32_mask(in_century, in_century) | _mm256_testn_epi32_mask(century, number(3)));
        // SAFETY: eight numbers are loaded from each half of an array of sixteen.
        let (first, second) = unsafe {
            (_mm256_loadu_si256(MONTHS.as_ptr().cast()), _mm256_loadu_si256(MONTHS.as_ptr().add(8).cast()))
        };
        let months = _mm256_permutex2var_epi32(first, month, second);
        let (before, length) = (_mm256_srli_epi32::<8>(months), _mm256_and_si256(months, number(255)));
        let february = leap & _mm256_cmpeq_epi32_mask(month, number(2));
        let length = _mm256_mask_add_epi32(length, february, length, number(1));
        let behind_february = leap & _mm256_cmpgt_epi32_mask(month, number(2));
        let before = _mm256_mask_add_epi32(before, behind_february, before, number(1));
        let bad = _mm256_cmpgt_epu32_mask(month, number(12))
            | _mm256_cmpgt_epi32_mask(day, length)
            | _mm256_testn_epi32_mask(day, day)
            | _mm256_testn_epi32_mask(year, year);
        let past = _mm256_sub_epi32(year, number(1));
        let centuries = hundreds(past);
        let leaps = _mm256_add_epi32(
            _mm256_sub_epi32(_mm256_srli_epi32::<2>(past), centuries),
            _mm256_srli_epi32::<2>(centuries),
        );
        let years = _mm256_add_epi32(_mm256_mullo_epi32(past, number(365)), number(FIRST_DAY - 1));
        (_mm256_add_epi32(_mm256_add_epi32(years, leaps), _mm256_add_epi32(before, day)), bad)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::{Civil, parse_date, to_civil};
    use proptest::prelude::*;

    fn agree(texts: &[String]) {
        let (mut bytes, starts, lengths) = crate::chunk::in_a_row(texts);
        bytes.extend_from_slice(b"67890");
        let cells = Chunk { bytes: &bytes, starts: &starts, lengths: &lengths };
        let (mut fast, mut plain) = ([0; CHUNK], [0; CHUNK]);
        let (bad, plain_bad) = (days(cells, &mut fast), plain_days(cells, &mut plain));
        assert_eq!(bad, plain_bad);
        for (i, text) in texts.iter().enumerate() {
            let read = (bad >> i & 1 == 0).then_some((fast[i], plain[i]));
            assert_eq!(read, parse_date(text.as_bytes()).map(|day| (day, day)), "{text}");
        }
    }

    #[test]
    fn days_of_the_whole_calendar() {
        let every: Vec<i32> = (FIRST_DAY..=crate::calendar::LAST_DAY).step_by(5).collect();
        for some in every.chunks(CHUNK) {
            let text = |day: &i32| {
                let Civil { year, month, day } = to_civil(*day);
                format!("{year:04}-{month:02}-{day:02}")
            };
            agree(&some.iter().map(text).collect::<Vec<String>>());
        }
    }

    proptest! {
        #[test]
        fn every_way_gives_the_same(texts in prop::collection::vec(
            "[0-9]{4}-[0-9]{2}-[0-9]{2}|[02][01][0-9]{2}-[01][0-9]-[0-3][0-9]|[-0-9/:]{0,12}", CHUNK)) {
            agree(&texts);
        }
    }
}
