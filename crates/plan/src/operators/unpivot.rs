//! Wide to long: columns become rows.

use churn_core::readable::plural;
use churn_core::{ColumnId, Field};
use churn_expr::Bound;

use crate::operator::{Operator, Pruning, retain_marked};

/// Columns become rows: each row gives one for each of `rows`.
#[derive(Clone)]
pub struct Unpivot {
    /// Columns that are repeated.
    pub kept: Vec<ColumnId>,
    /// Columns that take parts of old names, and those that take values.
    pub names: Vec<Field>,
    /// The columns that hold the values.
    pub values: Vec<Field>,
    /// The rows that each input row gives.
    pub rows: Vec<Cells>,
    /// Whether rows without any value are left out.
    pub skip_nulls: bool,
}

/// What one of the rows that a row becomes holds: a text for each name, an expression for each value.
#[derive(Clone)]
pub struct Cells {
    /// What stands in the columns of names.
    pub names: Vec<String>,
    /// What stands in the columns of values.
    pub values: Vec<Bound>,
}

impl Operator for Unpivot {
    fn passed(&self) -> Option<&[ColumnId]> {
        Some(&self.kept)
    }

    fn made(&self) -> Vec<&Field> {
        self.names.iter().chain(&self.values).collect()
    }

    fn prune(&mut self, needed: Vec<ColumnId>, pruning: &mut Pruning) -> Vec<ColumnId> {
        pruning.retain(&mut self.kept, |id| needed.contains(id));
        if !self.skip_nulls {
            let keep: Vec<bool> = self.values.iter().map(|f| needed.contains(&f.id)).collect();
            pruning.changed |= keep.contains(&false);
            retain_marked(&mut self.values, &keep);
            self.rows.iter_mut().for_each(|row| retain_marked(&mut row.values, &keep));
        }
        let mut below = self.kept.clone();
        self.rows.iter().flat_map(|row| &row.values).for_each(|by| by.columns(&mut below));
        below
    }

    fn explain(&self) -> Vec<String> {
        vec![format!("makes {} of each", plural(self.rows.len() as u64, "row"))]
    }
}
