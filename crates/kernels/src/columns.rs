//! Element-wise loops over one or two columns.
//!
//! An operand is a column or one value for every row. The closures are generic, so that each use compiles to
//! a loop of its own that the compiler turns into vector instructions.

use crate::masks::Way;

/// One side of an element-wise loop.
#[derive(Clone, Copy, Debug)]
pub enum Operand<'a, T> {
    /// A value a row.
    Column(&'a [T]),
    /// The same value in every row.
    Constant(T),
}

impl<T: Copy> Operand<'_, T> {
    /// The value in `row`.
    #[inline]
    pub fn get(&self, row: usize) -> Option<T> {
        match self {
            Operand::Column(values) => values.get(row).copied(),
            Operand::Constant(value) => Some(*value),
        }
    }
}

/// Applies `f` to every value.
#[inline]
pub fn map<T: Copy, R>(values: &[T], f: impl Fn(T) -> R) -> Vec<R> {
    values.iter().map(|v| f(*v)).collect()
}

/// Applies `f` to every pair of values; `rows` of them.
///
/// Two columns of different lengths give as many rows as the shorter.
#[inline]
pub fn map2<A: Copy, B: Copy, R: Clone>(
    a: Operand<'_, A>,
    b: Operand<'_, B>,
    rows: usize,
    f: impl Fn(A, B) -> R,
) -> Vec<R> {
    match (a, b) {
        (Operand::Column(a), Operand::Column(b)) => a.iter().zip(b).map(|(a, b)| f(*a, *b)).collect(),
        (Operand::Column(a), Operand::Constant(b)) => a.iter().map(|a| f(*a, b)).collect(),
        (Operand::Constant(a), Operand::Column(b)) => b.iter().map(|b| f(a, *b)).collect(),
        (Operand::Constant(a), Operand::Constant(b)) => vec![f(a, b); rows],
    }
}

/// The places of the values for which `f` holds, which most do, and those values.
#[inline]
pub fn places_where<T: Copy>(values: &[T], f: impl Fn(T) -> bool) -> (Vec<u32>, Vec<T>) {
    const TOGETHER: usize = 16;
    let (mut places, mut found) = (Vec::with_capacity(values.len()), Vec::with_capacity(values.len()));
    let mut start = 0;
    for some in values.chunks(TOGETHER) {
        let own = start..start + some.len() as u32;
        start = own.end;
        if some.iter().fold(true, |all, value| all & f(*value)) {
            places.extend(own);
            found.extend_from_slice(some);
            continue;
        }
        for (place, value) in own.zip(some).filter(|(_, value)| f(**value)) {
            places.push(place);
            found.push(*value);
        }
    }
    (places, found)
}

/// Tests every pair of values into a bit mask, lowest bit first, 64 rows a word.
#[inline]
pub fn test2<A: Copy, B: Copy>(
    a: Operand<'_, A>,
    b: Operand<'_, B>,
    rows: usize,
    f: impl Fn(A, B) -> bool,
) -> Vec<u64> {
    match (a, b) {
        (Operand::Column(a), Operand::Column(b)) => {
            pack(a.len().min(b.len()), |i| a.get(i).zip(b.get(i)).is_some_and(|(a, b)| f(*a, *b)))
        }
        (Operand::Column(a), Operand::Constant(b)) => test(a, |a| f(a, b)),
        (Operand::Constant(a), Operand::Column(b)) => test(b, |b| f(a, b)),
        (Operand::Constant(a), Operand::Constant(b)) => {
            let all = f(a, b);
            pack(rows, |_| all)
        }
    }
}

/// Tests every value into a bit mask, lowest bit first, 64 rows a word.
#[inline]
pub fn test<T: Copy>(values: &[T], f: impl Fn(T) -> bool) -> Vec<u64> {
    Way::run(
        #[inline(always)]
        || test_in_words(values, f),
    )
}

#[inline(always)]
fn test_in_words<T: Copy>(values: &[T], f: impl Fn(T) -> bool) -> Vec<u64> {
    let word = |some: &[T]| {
        some.iter().enumerate().fold(0u64, |word, (bit, value)| word | u64::from(f(*value)) << bit)
    };
    let (whole, rest) = values.as_chunks::<64>();
    let mut words = Vec::with_capacity(values.len().div_ceil(64));
    words.extend(whole.iter().map(|some| word(some)));
    words.extend((!rest.is_empty()).then(|| word(rest)));
    words
}

/// Which of some 16 bytes are these, as a bit mask, lowest bit first, 64 rows a word.
pub fn equal(values: &[u128], wanted: u128) -> Vec<u64> {
    #[cfg(target_arch = "x86_64")]
    if let Way::Avx512(_) = Way::choose() {
        let (whole, rest) = values.as_chunks::<64>();
        let mut words = Vec::with_capacity(values.len().div_ceil(64));
        // SAFETY: `detect` gives this way only where the processor has AVX-512 with these parts.
        words.extend(whole.iter().map(|some| unsafe { equal_avx512(some, wanted) }));
        words.extend(test_in_words(rest, |value| value == wanted));
        return words;
    }
    test_in_words(values, |value| value == wanted)
}

/// Which of 64 are these 16 bytes.
#[cfg(target_arch = "x86_64")]
#[target_feature(enable = "avx512f,avx512bw,bmi2")]
fn equal_avx512(values: &[u128; 64], wanted: u128) -> u64 {
    use std::arch::x86_64::{
        _mm_loadu_si128, _mm512_broadcast_i32x4, _mm512_cmpeq_epi64_mask, _mm512_loadu_si512, _pext_u64,
    };
    // SAFETY: the load is the 16 bytes of `wanted`; `loadu` needs no alignment.
    let wanted = _mm512_broadcast_i32x4(unsafe { _mm_loadu_si128((&raw const wanted).cast()) });
    let four = |i: usize| {
        // SAFETY: the load is four of the 64 values, of which `i` is the first.
        u64::from(_mm512_cmpeq_epi64_mask(
            unsafe { _mm512_loadu_si512(values.as_ptr().add(i).cast()) },
            wanted,
        ))
    };
    let mut word = 0;
    for part in (0..64).step_by(32) {
        // A bit for each half of a value.
        let halves = (0..8).fold(0, |halves, i| halves | four(part + 4 * i) << (8 * i));
        word |= _pext_u64(halves & halves >> 1, 0x5555_5555_5555_5555) << part;
    }
    word
}

fn pack(rows: usize, f: impl Fn(usize) -> bool) -> Vec<u64> {
    let mut words = vec![0u64; rows.div_ceil(64)];
    for (w, word) in words.iter_mut().enumerate() {
        for bit in 0..64.min(rows - w * 64) {
            *word |= u64::from(f(w * 64 + bit)) << bit;
        }
    }
    words
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    fn masks_agree_with_a_plain_loop(#[values(0, 1, 63, 64, 65, 200)] rows: usize) {
        let a: Vec<i64> = (0..rows as i64).map(|i| i * 7 % 13).collect();
        let b: Vec<i64> = (0..rows as i64).map(|i| i * 5 % 11).collect();
        let words = test2(Operand::Column(&a), Operand::Column(&b), rows, |a, b| a < b);
        assert_eq!(words.len(), rows.div_ceil(64));
        for i in 0..rows {
            assert_eq!(words[i / 64] >> (i % 64) & 1 == 1, a[i] < b[i], "row {i}");
        }
    }

    #[rstest]
    fn values_are_tested(#[values(0, 1, 63, 64, 65, 200)] rows: usize) {
        let values: Vec<f64> = (0..rows as u32).map(|i| f64::from(i * 7 % 13)).collect();
        let texts: Vec<u128> = (0..rows as u128).map(|i| (i * 7 % 3) | ((i * 5 % 3) << 64)).collect();
        let wanted = 1 | (2 << 64);
        let (small, same) = (test(&values, |v| v < 6.0), equal(&texts, wanted));
        assert_eq!((small.len(), same.len()), (rows.div_ceil(64), rows.div_ceil(64)));
        for i in 0..rows {
            assert_eq!(small[i / 64] >> (i % 64) & 1 == 1, values[i] < 6.0, "row {i}");
            assert_eq!(same[i / 64] >> (i % 64) & 1 == 1, texts[i] == wanted, "row {i}");
        }
    }

    #[rstest]
    #[case(&[], &[], &[])]
    #[case(&[9, 9], &[], &[])]
    #[case(&[4, 9, 2, 9, 0], &[0, 2, 4], &[4, 2, 0])]
    #[case(&[1; 17], &[0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16], &[1; 17])]
    fn places_are_those_where_it_holds(#[case] values: &[u8], #[case] places: &[u32], #[case] found: &[u8]) {
        assert_eq!(places_where(values, |value| value < 9), (places.to_vec(), found.to_vec()));
    }

    #[test]
    fn constants_fill_the_rows() {
        assert_eq!(map2(Operand::Constant(2), Operand::Constant(3), 3, |a, b| a + b), [5, 5, 5]);
        assert_eq!(map2(Operand::Constant(2), Operand::Column(&[1, 2]), 2, |a, b| a * b), [2, 4]);
    }
}
