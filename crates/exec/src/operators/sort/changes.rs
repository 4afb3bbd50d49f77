//! Sorted rows in runs of equal ones.

use arrow_array::ArrayRef;
use arrow_row::{OwnedRow, RowConverter, SortField};
use churn_core::{Result, Type};

use crate::keys::normal;

/// Where sorted rows differ from the row before them.
pub(crate) struct Changes {
    converter: Option<RowConverter>,
    last: Option<OwnedRow>,
    any: bool,
}

impl Changes {
    pub(crate) fn new(kinds: &[Type]) -> Result<Changes> {
        let fields: Vec<SortField> = kinds.iter().map(|kind| SortField::new(kind.arrow())).collect();
        let converter = (!fields.is_empty()).then(|| RowConverter::new(fields)).transpose();
        Ok(Changes { converter: converter.map_err(churn_core::arrow_error)?, last: None, any: false })
    }

    /// Whether each of the next rows differs from the one before; the very first does.
    pub(crate) fn of(&mut self, columns: &[ArrayRef], rows: usize) -> Result<Vec<bool>> {
        let mut differ = vec![false; rows];
        if let Some(converter) = &self.converter {
            let columns = columns.iter().map(normal).collect::<Result<Vec<_>>>()?;
            let keys = converter.convert_columns(&columns).map_err(churn_core::arrow_error)?;
            for (row, differs) in differ.iter_mut().enumerate() {
                let key = keys.row(row);
                *differs = match row.checked_sub(1) {
                    Some(before) => keys.row(before) != key,
                    None => self.last.as_ref().is_some_and(|last| last.row() != key),
                };
            }
            self.last = rows.checked_sub(1).map(|last| keys.row(last).owned()).or(self.last.take());
        }
        if let Some(first) = differ.first_mut() {
            *first |= !std::mem::replace(&mut self.any, true);
        }
        Ok(differ)
    }
}
