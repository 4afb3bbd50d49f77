//! Rows that are written as they are read, handed on as they stand.

use arrow_array::{Array, ArrayRef, BinaryViewArray};
use churn_core::Type;
use churn_kernels::cells::Rows;
use churn_kernels::passthrough::{Form, Passthrough};
use churn_kernels::views::TextBlock;

use super::cells::BlockCells;
use super::options::CsvOptions;
use crate::format::LineForm;

/// Whether cells mean what they mean where nothing is said, and stand between these separators.
pub(super) fn is_usual(options: &CsvOptions, form: LineForm) -> bool {
    options.separator == form.separator
        && options.quote.is_none_or(|quote| quote == b'"')
        && options.missing.is_none()
        && options.decimal == b'.'
        && options.thousands.is_none()
}

/// How values of these types are written; `None` if one of them is not told from its cell.
pub(super) fn forms(kinds: &[Type]) -> Option<Vec<Form>> {
    let form = |kind: &Type| match kind {
        Type::Int => Some(Form::Whole),
        Type::Float => Some(Form::Fraction),
        Type::Date => Some(Form::Day),
        Type::Bool => Some(Form::Truth),
        Type::Text | Type::Null => Some(Form::Text),
        _ => None,
    };
    kinds.iter().map(form).collect()
}

/// The rows of a block with these columns, all that it has; null where one is not as it would be written. Columns that
/// are not there were not read: their cells alone tell.
pub(super) fn lines(
    forms: &[Form],
    block: &TextBlock,
    cells: &BlockCells<'_>,
    columns: &[Option<ArrayRef>],
    rows: Rows<'_>,
) -> BinaryViewArray {
    let mut rows_as_they_stand = Passthrough::new(rows);
    for (position, (form, column)) in forms.iter().zip(columns).enumerate() {
        let cells = cells.column(position);
        match column {
            Some(column) => rows_as_they_stand.column(cells, *form, column.nulls()),
            None => rows_as_they_stand.unread(cells, *form),
        }
    }
    let last = cells.column(forms.len().saturating_sub(1));
    rows_as_they_stand.lines(block, cells.column(0), last)
}
