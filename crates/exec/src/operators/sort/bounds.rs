//! Bounds between ranges of keys, by which rows are partitioned while they are read.
//!
//! The keys of the first rows tell where the bounds are. Where later rows are spread otherwise, as in a file that is in
//! some order already, nothing is partitioned: such rows are cheap to put in order.

use churn_kernels::search;

use super::sort_keys::SortKeys;

/// Rows of a part from which on its keys tell how those of all are spread.
pub(super) const TELLING: usize = 1 << 12;

/// Ranges: of twenty million short rows each has then about a megabyte, which is near while it is sorted.
const RANGES: usize = 1 << 10;

/// Ranges of codes of keys, lowest first, each up to a bound.
#[derive(Debug, PartialEq, Eq)]
pub(super) struct RangeBounds(search::Bounds);

/// How rows are partitioned.
pub(super) struct RangePartitions {
    /// The range of each row.
    pub(super) ranges: Vec<u32>,
    /// The rows, range by range.
    pub(super) order: Vec<u32>,
    /// Where each range starts, and where the last one ends.
    pub(super) starts: Vec<usize>,
}

impl RangeBounds {
    /// Bounds of ranges that each have about as many of these rows. A code that would fill a range has one of its own.
    pub(super) fn new(keys: &SortKeys, rows: usize) -> RangeBounds {
        let mut sample = Vec::with_capacity(rows);
        keys.each_code(rows, |code| sample.push(code));
        sample.sort_unstable();
        RangeBounds::between(&sample, RANGES)
    }

    /// Bounds of so many ranges that each have about as many of these codes, which are in order.
    pub(super) fn between(sorted: &[u128], ranges: usize) -> RangeBounds {
        let mut bounds: Vec<u128> = Vec::with_capacity(ranges);
        for range in 1..ranges {
            let Some(code) = sorted.get(range * sorted.len() / ranges).copied() else { break };
            match bounds.last() {
                Some(last) if *last > code => {}
                Some(last) if *last == code => bounds.extend(code.checked_add(1)),
                _ => bounds.push(code),
            }
        }
        RangeBounds(search::Bounds::new(bounds))
    }

    /// How many ranges there are.
    pub(super) fn ranges(&self) -> usize {
        self.0.all().len() + 1
    }

    /// The bounds, in order: a range's codes are less than its bound, and not less than the one before.
    pub(super) fn iter(&self) -> impl Iterator<Item = u128> {
        self.0.all().iter().copied()
    }

    /// Whether a range has a single code.
    fn has_one(&self, range: usize) -> bool {
        let bound = |range: usize| self.0.all().get(range).copied();
        range.checked_sub(1).and_then(bound).zip(bound(range)).is_some_and(|(from, to)| to - from == 1)
    }

    /// Partitions rows with these keys by the ranges, those of a range in the order they have; `None` where many come
    /// together that are not alike.
    pub(super) fn partitioned(&self, keys: &SortKeys, rows: usize) -> Option<RangePartitions> {
        let mut starts = vec![0; self.ranges() + 1];
        let mut ranges: Vec<u32> = Vec::with_capacity(rows);
        keys.each_code(rows, |code| {
            let range = self.0.place(code);
            ranges.push(range as u32);
            if let Some(count) = starts.get_mut(range + 1) {
                *count += 1;
            }
        });
        let is_crowded = |(range, count): (usize, &usize)| *count > rows / 4 && !self.has_one(range);
        if starts.iter().skip(1).enumerate().any(is_crowded) {
            return None;
        }
        let mut sum = 0;
        for start in &mut starts {
            sum += *start;
            *start = sum;
        }
        let mut next = starts.clone();
        let mut order = vec![0; ranges.len()];
        for (row, range) in (0u32..).zip(&ranges) {
            let Some(next) = next.get_mut(*range as usize) else { continue };
            if let Some(slot) = order.get_mut(*next) {
                *slot = row;
            }
            *next += 1;
        }
        Some(RangePartitions { ranges, order, starts })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::operators::sort::words::Words;
    use proptest::prelude::*;

    fn keys(values: Vec<u64>) -> (SortKeys, usize) {
        let rows = values.len();
        (SortKeys::Words(vec![Words { values, ..Words::default() }]), rows)
    }

    fn bounds(values: impl IntoIterator<Item = u64>) -> RangeBounds {
        let (keys, rows) = keys(values.into_iter().collect());
        RangeBounds::new(&keys, rows)
    }

    proptest! {
        #[test]
        fn rows_are_partitioned_by_their_keys(values in prop::collection::vec(0u64..50, 1..300), sample in prop::collection::vec(0u64..50, 0..40)) {
            let bounds = bounds(sample);
            prop_assert!(bounds.iter().is_sorted_by(|a, b| a < b));
            let (keys, rows) = keys(values);
            let Some(RangePartitions { ranges, order, starts }) = bounds.partitioned(&keys, rows) else { return Ok(()) };
            let mut all = order.clone();
            all.sort_unstable();
            prop_assert!(all.into_iter().eq(0..rows as u32));
            for (range, ends) in starts.windows(2).enumerate() {
                let rows = &order[ends[0]..ends[1]];
                let is_of_range = |row: &u32| {
                    let row = *row as usize;
                    ranges[row] as usize == range && bounds.0.place(keys.code(row)) == range
                };
                prop_assert!(rows.iter().all(is_of_range));
                prop_assert!(rows.is_sorted());
            }
        }
    }

    #[test]
    fn a_frequent_key_has_a_range_of_its_own() {
        let values = || (0..10_000).chain(std::iter::repeat_n(777, 20_000));
        let bounds = bounds(values());
        let (keys, rows) = keys(values().collect());
        assert!(bounds.has_one(bounds.0.place(keys.code(777))));
        assert!(bounds.partitioned(&keys, rows).is_some());
    }

    #[test]
    fn keys_spread_otherwise_are_not_partitioned() {
        let (keys, rows) = keys((5_000..15_000).collect());
        assert!(bounds(0..10_000).partitioned(&keys, rows).is_none());
    }
}
