//! Each row also for the totals that it is in.

use churn_core::{ColumnId, Field};
use churn_expr::Bound;

use crate::operator::{Operator, Pruning};

/// Each row four times: for its cell, for the total of its row, for that of its column, and for that of all; without a
/// total row only twice. A row that has no cell is there once.
#[derive(Clone)]
pub struct Totals {
    /// Which rows have a cell, where values of the keys are given.
    pub counted: Option<Bound>,
    /// Whether there is a total row.
    pub has_row: bool,
    /// The columns that tell the rows of the result apart.
    pub by: Vec<(Field, Bound)>,
    /// The values that become columns.
    pub keys: Vec<(Field, Bound)>,
    /// Whether a row stands for all keys, and whether it stands for all rows.
    pub of_keys: Field,
    /// The column that marks the total of rows.
    pub of_rows: Field,
}

impl Operator for Totals {
    fn made(&self) -> Vec<&Field> {
        let values = self.by.iter().chain(&self.keys).map(|(field, _)| field);
        values.chain([&self.of_keys, &self.of_rows]).collect()
    }

    fn prune(&mut self, mut needed: Vec<ColumnId>, _: &mut Pruning) -> Vec<ColumnId> {
        let values = self.by.iter().chain(&self.keys).map(|(_, by)| by);
        values.chain(&self.counted).for_each(|by| by.columns(&mut needed));
        needed
    }

    fn explain(&self) -> Vec<String> {
        vec!["counts each row for its totals, too".into()]
    }
}
