//! Sorts rows, stably.

use churn_core::ColumnId;
use churn_core::readable::plural;
use churn_expr::Bound;

use crate::operator::{FilterBelow, Operator, Pruning};

/// Sorts, stably.
#[derive(Clone)]
pub struct Sort {
    /// What rows are sorted by, the first key first.
    pub keys: Vec<SortKey>,
    /// Only the first so many rows are wanted.
    pub keep: Option<usize>,
}

/// A key to sort by.
#[derive(Clone)]
pub struct SortKey {
    /// The value that rows are sorted by.
    pub by: Bound,
    /// Whether the largest come first.
    pub descending: bool,
    /// Whether nulls come before all values.
    pub nulls_first: bool,
}

impl Sort {
    /// All rows, by these keys.
    pub fn by(keys: Vec<SortKey>) -> Sort {
        Sort { keys, keep: None }
    }
}

impl Operator for Sort {
    fn prune(&mut self, mut needed: Vec<ColumnId>, _: &mut Pruning) -> Vec<ColumnId> {
        self.keys.iter().for_each(|key| key.by.columns(&mut needed));
        needed
    }

    fn takes_all(&self) -> bool {
        true
    }

    fn filter_below(&self, _: &Bound, _: &[ColumnId]) -> FilterBelow {
        let moves = self.keep.is_none() && self.keys.iter().all(|key| key.by.is_infallible());
        if moves { FilterBelow::Moves } else { FilterBelow::Stays }
    }

    fn explain(&self) -> Vec<String> {
        vec![match self.keep {
            Some(keep) => format!("holds about {}", plural(keep as u64, "row")),
            None => "holds all rows".into(),
        }]
    }
}
