//! Three-valued logic by bit masks.

use std::sync::Arc;

use arrow_array::{Array, BooleanArray};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use churn_core::Column;

/// The rows that are true and the rows that are false.
fn truth(column: &Column, rows: usize) -> (BooleanBuffer, BooleanBuffer) {
    let array = column.bools(rows);
    match array.nulls() {
        None => (array.values().clone(), !array.values()),
        Some(nulls) => (array.values() & nulls.inner(), &!array.values() & nulls.inner()),
    }
}

fn column(is_true: BooleanBuffer, is_false: &BooleanBuffer) -> Column {
    let known = NullBuffer::new(&is_true | is_false);
    let nulls = (known.null_count() > 0).then_some(known);
    Column::Array(Arc::new(BooleanArray::new(is_true, nulls)))
}

/// True where both are true, false where either is false, else unknown.
pub(crate) fn and(a: &Column, b: &Column, rows: usize) -> Column {
    let ((a_true, a_false), (b_true, b_false)) = (truth(a, rows), truth(b, rows));
    column(&a_true & &b_true, &(&a_false | &b_false))
}

/// True where either is true, false where both are false, else unknown.
pub(crate) fn or(a: &Column, b: &Column, rows: usize) -> Column {
    let ((a_true, a_false), (b_true, b_false)) = (truth(a, rows), truth(b, rows));
    column(&a_true | &b_true, &(&a_false & &b_false))
}

/// True where false, false where true, else unknown.
pub fn not(a: &Column, rows: usize) -> Column {
    let array = a.bools(rows);
    Column::Array(Arc::new(BooleanArray::new(!array.values(), array.nulls().cloned())))
}

/// True where there is no value; never unknown.
pub fn is_null(a: &Column, rows: usize) -> Column {
    let missing = match a.nulls(rows) {
        None => BooleanBuffer::new_unset(rows),
        Some(nulls) => !nulls.inner(),
    };
    Column::Array(Arc::new(BooleanArray::new(missing, None)))
}
