//! Sets of values, which grow only where values differ.

use churn_kernels::numbering::Numbering;
use churn_kernels::word_set::WordSet;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use super::super::AggregateState;

/// A set of values that are a few bytes each.
pub(super) trait Set: Clone + Default + Send + 'static {
    type Value: Copy + Default + Send + Serialize + DeserializeOwned + 'static;
    fn insert(&mut self, value: Self::Value);
    fn extend(&mut self, values: &[Self::Value]);
    fn merge(&mut self, other: Self);
    fn len(&self) -> usize;
    fn values(self) -> Vec<Self::Value>;
    fn memory(&self) -> usize;
    /// Whether most values that are added take no more memory.
    fn is_compact(&self) -> bool;
}

impl Set for WordSet {
    type Value = u64;

    fn insert(&mut self, value: u64) {
        WordSet::insert(self, value);
    }

    fn extend(&mut self, values: &[u64]) {
        WordSet::extend(self, values);
    }

    fn merge(&mut self, other: WordSet) {
        WordSet::merge(self, other);
    }

    fn len(&self) -> usize {
        WordSet::len(self)
    }

    fn values(self) -> Vec<u64> {
        let mut values = Vec::with_capacity(WordSet::len(&self));
        self.each(|value| values.push(value));
        values
    }

    fn memory(&self) -> usize {
        WordSet::memory(self)
    }

    fn is_compact(&self) -> bool {
        self.has_bitmap()
    }
}

impl Set for Numbering {
    type Value = u128;

    fn insert(&mut self, value: u128) {
        Numbering::insert(self, value);
    }

    fn extend(&mut self, values: &[u128]) {
        self.number(values, &mut Vec::new());
    }

    fn merge(&mut self, other: Numbering) {
        if self.keys().is_empty() {
            *self = other;
        } else {
            self.extend(other.keys());
        }
    }

    fn len(&self) -> usize {
        self.keys().len()
    }

    fn values(self) -> Vec<u128> {
        self.into_keys()
    }

    fn memory(&self) -> usize {
        Numbering::memory(self)
    }

    fn is_compact(&self) -> bool {
        false
    }
}

/// Values of which a set is made; made only when the first comes.
#[derive(Clone, Default, Serialize, Deserialize)]
#[serde(into = "Vec<S::Value>", from = "Vec<S::Value>", bound = "")]
pub(super) struct DistinctSet<S: Set>(pub(super) Option<Box<SetValues<S>>>);

/// A set, and values that are to be added to it yet, equal ones among them.
#[derive(Clone, Default)]
pub(super) struct SetValues<S: Set> {
    pub(super) set: S,
    pub(super) pending: Vec<S::Value>,
    /// How many values were added to the set.
    added: usize,
}

/// Values after which it is seen whether equal ones are among them.
const ENOUGH: usize = 1 << 13;

/// Values that are pending at most.
const PENDING: usize = 1 << 16;

impl<S: Set> SetValues<S> {
    /// Adds many values. Where most are different they stay pending, to be added once to the set that this one is merged
    /// into.
    pub(super) fn extend(&mut self, values: &[S::Value]) {
        if self.added < ENOUGH || self.set.is_compact() || self.set.len() * 2 <= self.added {
            self.added += values.len();
            self.set.extend(values);
            return;
        }
        self.pending.extend_from_slice(values);
        if self.pending.len() >= PENDING {
            self.settle();
        }
    }

    /// Bytes in use.
    pub(super) fn memory(&self) -> usize {
        // A table that grows holds its old places beside the new ones for a moment.
        self.set.memory() / 2 * 3 + self.pending.capacity() * size_of::<S::Value>()
    }

    /// Adds what is pending to the set.
    pub(super) fn settle(&mut self) {
        let pending = std::mem::take(&mut self.pending);
        self.added += pending.len();
        self.set.extend(&pending);
    }
}

impl<S: Set> DistinctSet<S> {
    pub(super) fn insert(&mut self, value: S::Value) {
        self.0.get_or_insert_default().set.insert(value);
    }

    pub(super) fn extend(&mut self, values: &[S::Value]) {
        if !values.is_empty() {
            self.0.get_or_insert_default().extend(values);
        }
    }

    /// How many different values there are.
    pub(super) fn count(&mut self) -> usize {
        self.0.as_mut().map_or(0, |values| {
            values.settle();
            values.set.len()
        })
    }

    /// All different values, and none left.
    pub(super) fn take(&mut self) -> Vec<S::Value> {
        self.0.take().map_or_else(Vec::new, |mut values| {
            values.settle();
            values.set.values()
        })
    }
}

impl<S: Set> From<DistinctSet<S>> for Vec<S::Value> {
    fn from(mut distinct: DistinctSet<S>) -> Self {
        distinct.take()
    }
}

impl<S: Set> From<Vec<S::Value>> for DistinctSet<S> {
    fn from(values: Vec<S::Value>) -> Self {
        let mut distinct = DistinctSet::default();
        distinct.extend(&values);
        distinct
    }
}

impl<S: Set> AggregateState for DistinctSet<S> {
    fn merge(&mut self, later: &mut Self) {
        match (&mut self.0, later.0.take()) {
            (Some(ours), Some(theirs)) => {
                let SetValues { set, pending, .. } = *theirs;
                ours.settle();
                ours.set.merge(set);
                ours.set.extend(&pending);
            }
            (None, theirs) => self.0 = theirs,
            (Some(_), None) => {}
        }
    }

    fn heap(&self) -> usize {
        self.0.as_ref().map_or(0, |values| size_of::<SetValues<S>>() + values.memory())
    }

    fn part(&mut self, most: usize) -> Option<Self> {
        let values = self.0.as_mut().filter(|values| values.set.len() + values.pending.len() > most)?;
        values.settle();
        if values.set.len() > 0 {
            values.pending = std::mem::take(&mut values.set).values();
        }
        let rest = values.pending.len().checked_sub(most).filter(|rest| *rest > 0)?;
        Some(DistinctSet::from(values.pending.split_off(rest)))
    }
}
