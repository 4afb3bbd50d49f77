//! Wide to long, long to wide, lists to rows.

use churn_core::{ColumnId, Field, Scalar, Type};
use churn_expr::Bound;

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

/// Lists become rows: one for each value.
#[derive(Clone)]
pub struct Unnest {
    /// Columns that stay as they are.
    pub kept: Vec<ColumnId>,
    /// The lists, and the columns of their values.
    pub lists: Vec<(ColumnId, Field)>,
    /// Whether lists that are null or empty give no row.
    pub skip_nulls: bool,
}

impl Pivot {
    /// The columns that it makes.
    pub(crate) fn made(&self) -> impl Iterator<Item = &Field> {
        self.by.iter().chain(self.cells.iter().map(|cell| &cell.field))
    }
}

impl Totals {
    /// The columns that it adds.
    pub fn made(&self) -> impl Iterator<Item = &Field> {
        self.by.iter().chain(&self.keys).map(|(field, _)| field).chain([&self.of_keys, &self.of_rows])
    }
}
