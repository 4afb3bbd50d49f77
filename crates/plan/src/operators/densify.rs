//! Rows for combinations of keys, and steps of series, that do not occur.

use churn_core::readable::plural;
use churn_core::{ColumnId, Interval, Scalar};

use crate::operator::{Operator, Pruning, add};

/// Adds rows for combinations of key values that do not occur, behind the rows that do; other columns are null in them.
#[derive(Clone)]
pub struct Densify {
    /// The keys, each with its values.
    pub keys: Vec<DenseKey>,
    /// The columns whose values make a group, of which each has combinations of its own; none for the whole table.
    pub per: Vec<ColumnId>,
}

/// A key of a [`Densify`].
#[derive(Clone, Debug)]
pub struct DenseKey {
    /// The column.
    pub column: ColumnId,
    /// Its values are the steps of a series; without one, those that occur in the group.
    pub series: Option<Series>,
}

/// A series of values.
#[derive(Clone, Debug)]
pub struct Series {
    /// From one value to the next.
    pub step: SeriesStep,
    /// The first and the last value; the smallest and the largest of the group where none is told.
    pub from: Option<Scalar>,
    /// See `from`.
    pub to: Option<Scalar>,
}

/// How far it is from one value of a series to the next.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum SeriesStep {
    /// A whole number.
    Number(i64),
    /// A span of time.
    Time(Interval),
}

impl Operator for Densify {
    fn prune(&mut self, mut needed: Vec<ColumnId>, _: &mut Pruning) -> Vec<ColumnId> {
        add(&mut needed, self.keys.iter().map(|key| key.column).chain(self.per.iter().copied()));
        needed
    }

    fn explain(&self) -> Vec<String> {
        let keys = plural(self.keys.len() as u64, "key");
        vec![format!("holds the values of {keys}, to add the rows that lack behind the others")]
    }
}
