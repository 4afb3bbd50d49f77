//! The different values of a column and how often each occurs: exactly while they are few, else about.
//!
//! Up to so many values are counted each. Past twice that the most frequent of them stay: what the next one
//! was counted is taken off every count, and those that are left with nothing go (Misra and Gries, *Finding
//! repeated elements*, 1982). A count is then too low by at most what was taken off in all. From there on the
//! number of values is estimated, and values are counted by buckets.

use arrow_array::{Array, ArrayRef};
use churn_core::{Result, Type};
use churn_kernels::distinct::Distinct;
use churn_kernels::hash::Seed;
use churn_kernels::known::known;

use super::buckets::{Buckets, Scale};
use super::measure;
use crate::keys::KeyTable;

/// How much the values of one column may take.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Limits {
    /// Values that are counted exactly.
    most: usize,
    /// Bytes of them; long texts reach this first.
    bytes: usize,
}

impl Limits {
    /// What each of so many columns may take, so that all together stay about the same.
    pub(crate) fn of_columns(columns: usize) -> Limits {
        let share = |all: usize, least: usize| all.checked_div(columns).unwrap_or(all).max(least);
        Limits { most: share(200_000, 64).min(10_000), bytes: share(64 << 20, 1 << 16).min(8 << 20) }
    }
}

/// The values of a column.
pub struct ValueCounts {
    kind: Type,
    limits: Limits,
    keys: KeyTable,
    counts: Vec<u64>,
    /// By how much a count may be too low.
    lost: u64,
    /// Once values are too many.
    sketch: Option<Sketch>,
}

struct Sketch {
    distinct: Distinct,
    buckets: Buckets,
}

impl ValueCounts {
    pub(crate) fn new(kind: &Type, limits: Limits) -> Result<ValueCounts> {
        let keys = KeyTable::new(vec![kind.clone()]);
        Ok(ValueCounts { kind: kind.clone(), limits, keys, counts: Vec::new(), lost: 0, sketch: None })
    }

    /// Counts the values of a batch, none of which is null; `measures` has the measure of each.
    pub(crate) fn update(&mut self, array: &ArrayRef, measures: &[f64]) -> Result<()> {
        let known = self.keys.len();
        let mut numbers = Vec::new();
        self.keys.numbers(std::slice::from_ref(array), array.len(), &mut numbers)?;
        self.count(numbers.iter().map(|number| (*number, 1)));
        self.sketch_new(known)?;
        if let Some(sketch) = &mut self.sketch {
            measures.iter().for_each(|x| sketch.buckets.add(*x, 1));
        }
        self.prune()
    }

    /// Adds the values of later rows.
    pub(crate) fn merge(&mut self, other: ValueCounts) -> Result<()> {
        if other.sketch.is_some() {
            self.start_sketch()?;
        }
        if let Some(sketch) = &mut self.sketch {
            match &other.sketch {
                Some(theirs) => {
                    sketch.distinct.merge(&theirs.distinct);
                    sketch.buckets.merge(&theirs.buckets);
                }
                None => other.measured()?.into_iter().for_each(|(x, times)| sketch.buckets.add(x, times)),
            }
        }
        let known = self.keys.len();
        let mut numbers = Vec::new();
        for (list, _) in other.keys.partition(1)? {
            self.keys.absorb(&list, &mut numbers)?;
        }
        self.count(numbers.into_iter().zip(other.counts));
        self.sketch_new(known)?;
        self.lost += other.lost;
        self.prune()
    }

    fn count(&mut self, numbers: impl Iterator<Item = (u32, u64)>) {
        self.counts.resize(self.keys.len(), 0);
        for (number, times) in numbers {
            if let Some(count) = self.counts.get_mut(number as usize) {
                *count += times;
            }
        }
    }

    /// Shows the sketch the values that are new to the table.
    fn sketch_new(&mut self, known: usize) -> Result<()> {
        if let Some(sketch) = &mut self.sketch {
            self.keys.hashes(known, Seed::FIXED)?.into_iter().for_each(|hash| sketch.distinct.insert(hash));
        }
        Ok(())
    }

    /// The measure of each value, with its count.
    fn measured(&self) -> Result<Vec<(f64, u64)>> {
        let all: Vec<u32> = (0..self.keys.len() as u32).collect();
        let columns = self.keys.arrays(&all)?;
        let measures = columns.first().map(|column| measure::of(column, &self.kind)).unwrap_or_default();
        Ok(measures.into_iter().zip(self.counts.iter().copied()).collect())
    }

    /// From here on the values are too many to be counted each.
    fn start_sketch(&mut self) -> Result<()> {
        if self.sketch.is_none() {
            let scale = if self.kind.is_temporal() { Scale::Whole } else { Scale::Relative };
            let mut buckets = Buckets::new(scale);
            self.measured()?.into_iter().for_each(|(x, times)| buckets.add(x, times));
            self.sketch = Some(Sketch { distinct: Distinct::default(), buckets });
            self.sketch_new(0)?;
        }
        Ok(())
    }

    /// Leaves the most frequent values where there are too many.
    fn prune(&mut self) -> Result<()> {
        let values = self.keys.len();
        let Limits { most, bytes } = self.limits;
        if values <= 2 * most && self.keys.memory() <= bytes {
            return Ok(());
        }
        self.start_sketch()?;
        let keep = most.min(values / 2);
        let mut counts = self.counts.clone();
        let taken = *counts.select_nth_unstable_by(keep, |a, b| b.cmp(a)).1;
        let stays = |count: &u64| *count > taken;
        let kept: Vec<u32> = (0u32..).zip(&self.counts).filter(|(_, c)| stays(c)).map(|(n, _)| n).collect();
        let mut keys = KeyTable::new(vec![self.kind.clone()]);
        keys.numbers(&self.keys.arrays(&kept)?, kept.len(), &mut Vec::new())?;
        self.keys = keys;
        self.counts.retain(stays);
        self.counts.iter_mut().for_each(|count| *count -= taken);
        self.lost += taken;
        Ok(())
    }

    /// How many different values there are; whether that is exact.
    pub fn distinct(&self) -> (u64, bool) {
        match &self.sketch {
            None => (self.keys.len() as u64, true),
            Some(sketch) => (sketch.distinct.estimate().round() as u64, false),
        }
    }

    /// The measures of the values, rising, each with the number of its rows; exact, or those of buckets.
    pub fn spread(&self) -> Result<Vec<(f64, u64)>> {
        if let Some(sketch) = &self.sketch {
            return Ok(sketch.buckets.middles().collect());
        }
        let mut measured = self.measured()?;
        measured.retain(|(x, _)| x.is_finite());
        measured.sort_by(|(a, _), (b, _)| a.total_cmp(b));
        Ok(measured)
    }

    /// The most frequent values, with counts that are too low by at most the number given beside them; only such as
    /// are known to occur at least half as often as they may.
    pub fn frequent(&self, most: usize) -> Result<(ArrayRef, Vec<u64>, u64)> {
        let mut numbers: Vec<u32> =
            (0u32..).zip(&self.counts).filter(|(_, c)| **c > self.lost).map(|(n, _)| n).collect();
        let count = |number: &u32| known(&self.counts, *number as usize);
        numbers.sort_by_key(|number| std::cmp::Reverse(count(number)));
        numbers.truncate(most);
        let counts = numbers.iter().map(count).collect();
        let values = self.keys.arrays(&numbers)?.pop();
        Ok((values.unwrap_or_else(|| arrow_array::new_empty_array(&self.kind.arrow())), counts, self.lost))
    }
}
