//! Aggregates whose states are the values themselves, where those do not fit in memory: they are taken out of the
//! states, sorted by group and value on disk, and the results are found as they pass by in that order.

use arrow_array::ArrayRef;
use churn_core::{Result, Type};

/// Results that are found from sorted values.
pub trait FromSorted {
    /// Adds values by group and value; of equal ones those that were taken out first come first. `is_new` says where
    /// group or value differ from the row before.
    fn add(&mut self, groups: &[usize], is_new: &[bool], columns: &[ArrayRef]) -> Result<()>;

    /// The results, one a group.
    fn finish(self: Box<Self>) -> Result<ArrayRef>;
}

/// How the values of states are taken out of them.
pub(super) trait ExternalValues<S>: Send + Sync {
    /// The type that values are sorted as.
    fn kind(&self) -> Type;

    /// Takes all values out of a state: columns, the values themselves first.
    fn drain(&self, state: &mut S) -> Vec<ArrayRef>;

    /// Finds results, where each group has so many rows of values.
    fn sorted(&self, rows: &[u64]) -> Box<dyn FromSorted>;
}
