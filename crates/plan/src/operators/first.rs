//! The first rows, of the table or of each group.

use churn_core::{ColumnId, Counters, StepId};

use crate::operator::{Operator, Pruning, add};

/// The first rows after some.
#[derive(Clone)]
pub struct First {
    /// So many rows.
    pub count: usize,
    /// So many rows are left out before them.
    pub after: usize,
    /// The columns whose values make a group; none for the whole table.
    pub per: Vec<ColumnId>,
    /// Whether the input has no other rows: they are counted, and pass.
    pub is_settled: bool,
}

impl First {
    /// So many rows after some.
    pub fn rows(count: usize, after: usize) -> First {
        First { count, after, per: Vec::new(), is_settled: false }
    }
}

impl Operator for First {
    fn prune(&mut self, mut needed: Vec<ColumnId>, _: &mut Pruning) -> Vec<ColumnId> {
        add(&mut needed, self.per.iter().copied());
        needed
    }

    fn has_enough(&self, step: StepId, counters: &Counters) -> bool {
        self.per.is_empty() && counters.get(step).rows >= self.count as u64
    }

    fn explain(&self) -> Vec<String> {
        let how = match (self.per.is_empty(), self.is_settled) {
            (true, _) => "stops when it has them",
            (_, true) => "counts the rows that the sort keeps",
            (_, false) => "holds a number for each group",
        };
        vec![how.into()]
    }
}
