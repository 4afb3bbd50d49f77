//! Different values of 64 bits: numbers, days and times.

use std::sync::Arc;

use arrow_array::{Array, ArrayRef};
use churn_core::Result;
use churn_kernels::known::known;
use churn_kernels::numbering::Numbering;
use churn_kernels::word_set::WordSet;

use super::super::bits::bits_of;
use super::super::{States, at, column, each_valid};
use super::counted;
use super::external::ExternalDistinct;
use super::pairs::{PairSet, Sets};
use super::sets::{DistinctSet, Set, SetValues};

/// The bits of values.
pub(super) type DistinctWords = DistinctSet<WordSet>;

/// Groups whose values are gathered before they are added.
const GATHERED: usize = 16;

/// The values of many groups as words of 128 bits: the group above, the bits of the value below.
pub(super) type WordPairs = SetValues<Numbering>;

fn pair(group: u32, word: u64) -> u128 {
    u128::from(group) << 64 | u128::from(word)
}

fn group_of(pair: u128) -> usize {
    (pair >> 64) as usize
}

impl WordPairs {
    /// Calls `f` with all pairs, some of them more than once, many at a time.
    fn each(self, mut f: impl FnMut(&[u128])) {
        f(&self.pending);
        f(self.set.keys());
    }

    fn settled(mut self) -> Numbering {
        self.settle();
        self.set
    }
}

impl PairSet for WordPairs {
    type Set = DistinctWords;

    fn sets(states: Vec<DistinctWords>) -> Sets<Self> {
        let finish = |states: &mut [DistinctWords]| counted(states.iter_mut().map(DistinctSet::count));
        States { states, update: add, finish, external: Some(Arc::new(ExternalDistinct)) }
    }

    fn add(&mut self, groups: &[u32], column: &ArrayRef) {
        let mut pairs = Vec::with_capacity(groups.len());
        each_word(groups, column, |group, word| pairs.push(pair(group, word)));
        self.extend(&pairs);
    }

    fn add_set(&mut self, group: u32, mut set: DistinctWords) {
        let pairs = set.take().into_iter().map(|word| pair(group, word));
        self.extend(&pairs.collect::<Vec<_>>());
    }

    fn merge(&mut self, other: Self, ours: &[u32]) {
        self.settle();
        let renumbered = |theirs: &u128| pair(known(ours, group_of(*theirs)), *theirs as u64);
        other.each(|theirs| self.set.extend(&theirs.iter().map(renumbered).collect::<Vec<_>>()));
    }

    fn into_sets(self, groups: usize) -> Vec<DistinctWords> {
        let mut words: Vec<Vec<u64>> = vec![Vec::new(); groups];
        for pair in self.settled().keys() {
            if let Some(words) = words.get_mut(group_of(*pair)) {
                words.push(*pair as u64);
            }
        }
        words.into_iter().map(DistinctSet::from).collect()
    }

    fn partition(self, parts: usize, places: &[(usize, u32)]) -> Vec<Self> {
        let mut partitions: Vec<WordPairs> = (0..parts).map(|_| SetValues::default()).collect();
        self.each(|pairs| {
            for of in pairs {
                let (part, group) = known(places, group_of(*of));
                if let Some(values) = partitions.get_mut(part) {
                    values.pending.push(pair(group, *of as u64));
                }
            }
        });
        partitions
    }

    fn counts(self, groups: usize) -> Vec<usize> {
        let mut counts = vec![0; groups];
        for pair in self.settled().keys() {
            if let Some(count) = counts.get_mut(group_of(*pair)) {
                *count += 1;
            }
        }
        counts
    }

    fn memory(&self) -> usize {
        SetValues::memory(self)
    }
}

/// Calls `f` with the group and the bits of each value.
fn each_word(groups: &[u32], column: &ArrayRef, mut f: impl FnMut(u32, u64)) {
    let words = bits_of(column);
    match column.nulls().filter(|nulls| nulls.null_count() > 0) {
        None => groups.iter().zip(words).for_each(|(group, word)| f(*group, word)),
        Some(nulls) => {
            let rows = groups.iter().zip(words).zip(nulls);
            rows.filter(|(_, is_valid)| *is_valid).for_each(|((group, word), _)| f(*group, word));
        }
    }
}

fn add(states: &mut [DistinctWords], groups: &[u32], args: &[ArrayRef]) -> Result<()> {
    let array = column(args, 0)?;
    if states.len() > GATHERED {
        let bits = bits_of(array);
        each_valid(states, groups, &[array], |state, row| state.insert(at(&bits, row)));
        return Ok(());
    }
    let mut words = vec![Vec::new(); states.len()];
    each_word(groups, array, |group, word| {
        if let Some(words) = words.get_mut(group as usize) {
            words.push(word);
        }
    });
    states.iter_mut().zip(&words).for_each(|(state, words)| state.extend(words));
    Ok(())
}
