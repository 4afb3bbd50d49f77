//! Wide to long, long to wide, lists to rows.

use crate::expr::{Bound, ColumnId, Field, Scalar, Type};

/// Columns become rows: each row gives one for each of `rows`.
#[derive(Clone)]
pub(crate) struct Unpivot {
    /// Columns that are repeated.
    pub(crate) kept: Vec<ColumnId>,
    /// Columns that take parts of old names, and those that take values.
    pub(crate) names: Vec<Field>,
    pub(crate) values: Vec<Field>,
    pub(crate) rows: Vec<Cells>,
    /// Whether rows without any value are left out.
    pub(crate) skip_nulls: bool,
}

/// What one of the rows that a row becomes holds: a text for each name, an expression for each value.
#[derive(Clone)]
pub(crate) struct Cells {
    pub(crate) names: Vec<String>,
    pub(crate) values: Vec<Bound>,
}

/// Rows of groups become columns: one row for each value of `by`, one column for each cell.
#[derive(Clone)]
pub(crate) struct Pivot {
    pub(crate) by: Vec<Field>,
    pub(crate) keys: Vec<(ColumnId, Type)>,
    /// The values of the keys that have columns.
    pub(crate) combinations: Vec<Vec<Scalar>>,
    pub(crate) cells: Vec<Cell>,
    /// How many rows a group has, where those of other values are to be counted.
    pub(crate) count: Option<ColumnId>,
    /// Whether a group is of all keys, where there are totals.
    pub(crate) of_keys: Option<ColumnId>,
}

/// A column that a group's values go to.
#[derive(Clone)]
pub(crate) struct Cell {
    pub(crate) field: Field,
    /// The combination of key values; one beyond the last is the total.
    pub(crate) combination: usize,
    /// The column of the groups.
    pub(crate) value: ColumnId,
    /// Whether that is a list, of which there must be one value; what messages call it.
    pub(crate) only: Option<String>,
    /// What stands where the combination does not occur.
    pub(crate) fill: Option<Scalar>,
}

/// Each row four times: for its cell, for the total of its row, for that of its column, and for that of all; without a
/// total row only twice. A row that has no cell is there once.
#[derive(Clone)]
pub(crate) struct Totals {
    /// Which rows have a cell, where values of the keys are given.
    pub(crate) counted: Option<Bound>,
    /// Whether there is a total row.
    pub(crate) has_row: bool,
    pub(crate) by: Vec<(Field, Bound)>,
    pub(crate) keys: Vec<(Field, Bound)>,
    /// Whether a row stands for all keys, and whether it stands for all rows.
    pub(crate) of_keys: Field,
    pub(crate) of_rows: Field,
}

/// Lists become rows: one for each value.
#[derive(Clone)]
pub(crate) struct Unnest {
    pub(crate) kept: Vec<ColumnId>,
    /// The lists, and the columns of their values.
    pub(crate) lists: Vec<(ColumnId, Field)>,
    pub(crate) skip_nulls: bool,
}

impl Pivot {
    /// The columns that it makes.
    pub(crate) fn made(&self) -> impl Iterator<Item = &Field> {
        self.by.iter().chain(self.cells.iter().map(|cell| &cell.field))
    }
}

impl Totals {
    /// The columns that it adds.
    pub(crate) fn made(&self) -> impl Iterator<Item = &Field> {
        self.by.iter().chain(&self.keys).map(|(field, _)| field).chain([&self.of_keys, &self.of_rows])
    }
}
