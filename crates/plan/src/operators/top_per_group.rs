//! The first rows of each group in an order.

use churn_core::ColumnId;
use churn_core::readable::plural;

use super::SortKey;
use crate::operator::{Operator, Pruning, add};

/// Sorts, stably, and gives of each group the first rows only.
#[derive(Clone)]
pub struct TopPerGroup {
    /// What rows are sorted by, the first key first.
    pub keys: Vec<SortKey>,
    /// So many rows of each group at most.
    pub count: usize,
    /// The columns whose values make a group.
    pub per: Vec<ColumnId>,
}

impl Operator for TopPerGroup {
    fn prune(&mut self, mut needed: Vec<ColumnId>, _: &mut Pruning) -> Vec<ColumnId> {
        self.keys.iter().for_each(|key| key.by.columns(&mut needed));
        add(&mut needed, self.per.iter().copied());
        needed
    }

    fn takes_all(&self) -> bool {
        true
    }

    fn explain(&self) -> Vec<String> {
        vec![format!("holds about {} of each group", plural(self.count as u64, "row"))]
    }
}
