//! The last rows, of the table or of each group.

use churn_core::ColumnId;
use churn_core::readable::plural;

use crate::operator::{Operator, Pruning, add};

/// The last rows.
#[derive(Clone)]
pub struct Last {
    /// So many rows.
    pub count: usize,
    /// The columns whose values make a group; none for the whole table.
    pub per: Vec<ColumnId>,
}

impl Operator for Last {
    fn prune(&mut self, mut needed: Vec<ColumnId>, _: &mut Pruning) -> Vec<ColumnId> {
        add(&mut needed, self.per.iter().copied());
        needed
    }

    fn takes_all(&self) -> bool {
        true
    }

    fn counts_all(&self) -> bool {
        self.per.is_empty()
    }

    fn explain(&self) -> Vec<String> {
        vec![match self.per.as_slice() {
            [] => format!("holds {}", plural(self.count as u64, "row")),
            _ => "holds all rows".into(),
        }]
    }
}
