//! Long to wide: rows of groups become columns.

use churn_core::readable::plural;
use churn_core::{ColumnId, Field, Scalar, Type};

use crate::operator::{Operator, Pruning, add};

/// Rows of groups become columns: one row for each value of `by`, one column for each cell.
#[derive(Clone)]
pub struct Pivot {
    /// The columns that tell the rows of the result apart.
    pub by: Vec<Field>,
    /// The columns whose values become columns, and their types.
    pub keys: Vec<(ColumnId, Type)>,
    /// The values of the keys that have columns.
    pub combinations: Vec<Vec<Scalar>>,
    /// What is computed for each cell.
    pub cells: Vec<Cell>,
    /// How many rows a group has, where those of other values are to be counted.
    pub count: Option<ColumnId>,
    /// Whether a group is of all keys, where there are totals.
    pub of_keys: Option<ColumnId>,
}

/// A column that a group's values go to.
#[derive(Clone)]
pub struct Cell {
    /// The column, for one cell's values.
    pub field: Field,
    /// The combination of key values; one beyond the last is the total.
    pub combination: usize,
    /// The column of the groups.
    pub value: ColumnId,
    /// Whether that is a list, of which there must be one value; what messages call it.
    pub only: Option<String>,
    /// What stands where the combination does not occur.
    pub fill: Option<Scalar>,
}

impl Operator for Pivot {
    fn passed(&self) -> Option<&[ColumnId]> {
        Some(&[])
    }

    fn made(&self) -> Vec<&Field> {
        self.by.iter().chain(self.cells.iter().map(|cell| &cell.field)).collect()
    }

    fn prune(&mut self, mut needed: Vec<ColumnId>, pruning: &mut Pruning) -> Vec<ColumnId> {
        // A cell that may hold one value only is looked at whether it is needed or not.
        pruning.retain(&mut self.cells, |cell| cell.only.is_some() || needed.contains(&cell.field.id));
        needed.clear();
        add(&mut needed, self.by.iter().map(|f| f.id).chain(self.keys.iter().map(|(id, _)| *id)));
        add(&mut needed, self.cells.iter().map(|cell| cell.value).chain(self.count).chain(self.of_keys));
        needed
    }

    fn takes_all(&self) -> bool {
        true
    }

    fn counts_all(&self) -> bool {
        false
    }

    fn explain(&self) -> Vec<String> {
        vec![format!("holds one row for each group; {}", plural(self.cells.len() as u64, "new column"))]
    }
}
