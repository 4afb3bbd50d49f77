//! What columnar formats that are written share: rows that wait until there are enough of them, and where they go.

use std::io::Write;
use std::sync::Arc;

use arrow_array::{Array, ArrayRef};
use arrow_schema::{DataType, Field as ArrowField, Schema};

use super::unite::conformed;
use crate::error::{Error, ErrorKind, Result};
use crate::expr::{Batch, Field};

/// Takes rows in order and writes them as a file of a columnar format.
pub(crate) trait RowWriter: Send {
    /// Appends rows.
    fn write(&mut self, batch: Batch) -> Result<()>;
    /// Writes what stands at the end; gives back what was written to.
    fn finish(self: Box<Self>) -> Result<Out>;
}

/// Where bytes go.
pub(crate) struct Out(Option<Box<dyn Write + Send>>);

impl Out {
    pub(crate) fn new(out: impl Write + Send + 'static) -> Out {
        Out(Some(Box::new(out)))
    }

    /// Takes nothing.
    pub(crate) fn nowhere() -> Out {
        Out(None)
    }
}

impl Write for Out {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        match &mut self.0 {
            Some(out) => out.write(bytes),
            None => Ok(bytes.len()),
        }
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.0.as_mut().map_or(Ok(()), |out| out.flush())
    }
}

/// The error of a disk that is full or fails, or of a reader that went away.
pub(crate) fn failed(error: &std::io::Error) -> Error {
    if error.kind() == std::io::ErrorKind::BrokenPipe {
        return Error::new(ErrorKind::Interrupted, "The reader of the output went away.");
    }
    Error::new(ErrorKind::Output, format!("The output cannot be written: {error}."))
        .why("Nothing was changed: an older file of that name is as it was.")
}

/// Rows that wait to be written, of columns whose types do not change from batch to batch.
pub(crate) struct Rows {
    schema: Arc<Schema>,
    batches: Vec<Batch>,
    rows: usize,
}

impl Rows {
    pub(crate) fn new(fields: &[Field]) -> Rows {
        let field = |f: &Field| ArrowField::new(&f.name, stored(&f.data), true);
        let schema = Arc::new(Schema::new(fields.iter().map(field).collect::<Vec<_>>()));
        Rows { schema, batches: Vec::new(), rows: 0 }
    }

    pub(crate) fn schema(&self) -> Arc<Schema> {
        self.schema.clone()
    }

    /// How many rows wait.
    pub(crate) fn waiting(&self) -> usize {
        self.rows
    }

    pub(crate) fn push(&mut self, batch: Batch) -> Result<()> {
        if batch.rows > 0 {
            let columns = batch.columns.into_iter().zip(self.schema.fields());
            let columns = columns.map(|(c, f)| conformed(c, f.data_type())).collect::<Result<_>>()?;
            self.rows += batch.rows;
            self.batches.push(Batch { columns, rows: batch.rows });
        }
        Ok(())
    }

    /// The rows that wait.
    pub(crate) fn take(&mut self) -> Vec<Batch> {
        self.rows = 0;
        std::mem::take(&mut self.batches)
    }

    /// The columns of the rows that wait, each in one piece; `None` if there are none.
    pub(crate) fn take_whole(&mut self) -> Result<Option<Vec<ArrayRef>>> {
        let batches = self.take();
        let Some(first) = batches.first() else { return Ok(None) };
        let column = |i: usize| {
            let parts: Vec<&dyn Array> =
                batches.iter().filter_map(|b| b.columns.get(i)).map(AsRef::as_ref).collect();
            arrow_select::concat::concat(&parts).map_err(crate::expr::arrow_error)
        };
        (0..first.columns.len()).map(column).collect::<Result<Vec<_>>>().map(Some)
    }
}

/// The type that a column is written in: as it is carried, but texts plainly.
fn stored(data: &DataType) -> DataType {
    match data {
        DataType::Dictionary(_, _) => crate::expr::Type::of(data).map_or(DataType::Utf8View, |t| t.arrow()),
        other => other.clone(),
    }
}
