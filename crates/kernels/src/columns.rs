//! Element-wise loops over one or two columns.
//!
//! An operand is a column or one value for every row. The closures are generic, so that each use compiles to
//! a loop of its own that the compiler turns into vector instructions.

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
    let mut words = Vec::with_capacity(values.len().div_ceil(64));
    for chunk in values.chunks(64) {
        let mut word = 0u64;
        for (bit, value) in chunk.iter().enumerate() {
            word |= u64::from(f(*value)) << bit;
        }
        words.push(word);
    }
    words
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
