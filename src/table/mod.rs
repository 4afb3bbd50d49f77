//! A result: columns with names and types, in memory.

mod cells;
pub(crate) mod display;
mod rows;

use std::sync::Arc;

use arrow_array::{ArrayRef, RecordBatch, RecordBatchOptions};
use arrow_schema::{DataType, Field as ArrowField, Schema, SchemaRef};
use churn_core::widen::widen;
use churn_core::{Batch, Error, ErrorKind, Field, Ledger, Result, Scalar, Type};
use churn_io::merge_schemas::cast_to;

pub use cells::Cell;
pub use display::View;
pub(crate) use rows::rows_of;

/// Rows in memory, with named columns, and the account of the run that made them.
///
/// `Display` shows the first rows as an aligned table; [`Table::view`] does with a width and a number of rows.
#[derive(Clone, Debug)]
pub struct Table {
    fields: Vec<Field>,
    batches: Vec<Batch>,
    /// Rows that the run had, of which the table may hold only the first.
    total: u64,
    ledger: Ledger,
}

impl Table {
    pub(crate) fn new(fields: Vec<Field>, batches: Vec<Batch>, total: Option<u64>, ledger: Ledger) -> Table {
        let held = batches.iter().map(|b| b.rows as u64).sum();
        Table { fields, batches, total: total.unwrap_or(held), ledger }
    }

    /// The number of rows in memory.
    pub fn len(&self) -> usize {
        self.batches.iter().map(|b| b.rows).sum()
    }

    /// Whether there is no row.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The number of rows that the run had: more than [`Table::len`] where only the first were kept.
    pub fn total_rows(&self) -> u64 {
        self.total
    }

    /// The columns' names and types, in order.
    pub fn columns(&self) -> impl Iterator<Item = (&str, &Type)> {
        self.fields.iter().map(|f| (f.name.as_str(), &f.kind))
    }

    /// What became of every row.
    pub fn ledger(&self) -> &Ledger {
        &self.ledger
    }

    /// The value of a column in a row, both from 0; null beyond the end.
    ///
    /// # Errors
    /// There is no such column.
    pub fn value(&self, row: usize, column: &str) -> Result<Scalar> {
        let place = self.place(column)?;
        let mut row = row;
        for batch in &self.batches {
            if row < batch.rows {
                let array = batch.columns.get(place).map(widen).transpose()?;
                return Ok(array.map_or(Scalar::Null, |a| Scalar::from_array(&a, row)));
            }
            row -= batch.rows;
        }
        Ok(Scalar::Null)
    }

    /// All values of a column.
    ///
    /// # Errors
    /// There is no such column.
    pub fn values(&self, column: &str) -> Result<Vec<Scalar>> {
        let place = self.place(column)?;
        let mut values = Vec::with_capacity(self.len());
        for batch in &self.batches {
            if let Some(array) = batch.columns.get(place) {
                let array: ArrayRef = widen(array)?;
                values.extend((0..batch.rows).map(|row| Scalar::from_array(&array, row)));
            }
        }
        Ok(values)
    }

    fn place(&self, column: &str) -> Result<usize> {
        let names = || self.fields.iter().map(|f| f.name.as_str());
        names().position(|n| n == column).ok_or_else(|| {
            let what = format!("There is no column {}.", churn_core::names::name(column));
            let error = Error::new(ErrorKind::Name, what);
            match churn_core::error::nearest(column, names()) {
                Some(near) => error.next(format!("Did you mean {}?", churn_core::names::name(near))),
                None => error,
            }
        })
    }

    /// The Arrow schema of the batches.
    pub fn schema(&self) -> SchemaRef {
        schema(&self.fields)
    }

    /// The rows as Arrow record batches, without a copy.
    ///
    /// # Errors
    /// A fault of this crate: the columns do not fit the schema.
    pub fn batches(&self) -> Result<Vec<RecordBatch>> {
        self.batches.iter().map(|batch| record_batch(batch.clone(), &self.fields)).collect()
    }
}

/// The Arrow schema of columns.
pub(crate) fn schema(fields: &[Field]) -> SchemaRef {
    let fields: Vec<ArrowField> = fields.iter().map(|f| ArrowField::new(&f.name, told_as(f), true)).collect();
    Arc::new(Schema::new(fields))
}

/// The type of a column outside: texts are told as texts, also where they are carried as numbers into a dictionary.
fn told_as(field: &Field) -> DataType {
    if let DataType::Dictionary(..) = field.data { field.kind.arrow() } else { field.data.clone() }
}

/// A batch with its names.
pub(crate) fn record_batch(batch: Batch, fields: &[Field]) -> Result<RecordBatch> {
    let options = RecordBatchOptions::new().with_row_count(Some(batch.rows));
    let columns = batch.columns.into_iter().zip(fields);
    let columns = columns.map(|(column, field)| cast_to(column, &told_as(field))).collect::<Result<_>>()?;
    RecordBatch::try_new_with_options(schema(fields), columns, &options).map_err(churn_core::arrow_error)
}
