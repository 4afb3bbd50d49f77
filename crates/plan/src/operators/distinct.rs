//! The first of rows that are equal in some columns.

use churn_core::ColumnId;

use crate::operator::{Operator, Pruning, add};

/// The first of rows that are equal in these columns.
#[derive(Clone)]
pub struct Distinct {
    /// The columns.
    pub by: Vec<ColumnId>,
}

impl Operator for Distinct {
    fn prune(&mut self, mut needed: Vec<ColumnId>, _: &mut Pruning) -> Vec<ColumnId> {
        add(&mut needed, self.by.iter().copied());
        needed
    }

    fn explain(&self) -> Vec<String> {
        vec!["holds the keys of the rows that stay".into()]
    }
}
