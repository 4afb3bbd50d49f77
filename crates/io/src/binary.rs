//! What columnar formats that are written share: rows that wait until there are enough of them, and where they go.

use std::io::Write;
use std::sync::Arc;

use arrow_array::{Array, ArrayRef};
use arrow_schema::{DataType, Field as ArrowField, Schema};
use churn_core::parallel::Helpers;
use churn_core::{Batch, Error, ErrorKind, Field, Result};

use super::merge_schemas::cast_to;

/// Takes rows in order and writes them as a file of a columnar format.
pub trait RowWriter: Send {
    /// Appends rows.
    fn write(&mut self, batch: Batch) -> Result<()>;
    /// Writes the rows that wait.
    fn settle(&mut self) -> Result<()> {
        Ok(())
    }
    /// Writes what stands at the end; gives back what was written to.
    fn finish(self: Box<Self>) -> Result<Out>;
}

/// What writers may use.
#[derive(Clone, Debug)]
pub struct WriterResources {
    pub(crate) helpers: Helpers,
    /// Bytes of rows that wait until there are enough of them, at most.
    pub(crate) bytes: usize,
}

impl WriterResources {
    const LEAST: usize = 8 << 20;
    const MOST: usize = 256 << 20;

    /// With so many threads, within so many bytes: a little is always there, and more than enough helps nobody.
    pub fn new(threads: usize, bytes: usize) -> WriterResources {
        WriterResources {
            helpers: Helpers::beside(threads),
            bytes: bytes.clamp(WriterResources::LEAST, WriterResources::MOST),
        }
    }

    /// Bytes of rows that are handed on together, at most.
    pub(crate) fn part(&self) -> usize {
        (self.bytes / 8).min(16 << 20)
    }
}

/// Where bytes go.
pub struct Out(Option<Box<dyn Write + Send>>);

impl Out {
    /// Writes to `out`.
    pub fn new(out: impl Write + Send + 'static) -> Out {
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
pub fn failed(error: &std::io::Error) -> Error {
    if error.kind() == std::io::ErrorKind::BrokenPipe {
        return Error::new(ErrorKind::Interrupted, "The reader of the output went away.");
    }
    Error::new(ErrorKind::Output, format!("The output cannot be written: {error}."))
        .why("Nothing was changed: an older file of that name is as it was.")
}

/// Rows that wait to be written, of columns whose types do not change from batch to batch.
pub(crate) struct WaitingRows {
    schema: Arc<Schema>,
    batches: Vec<Batch>,
    rows: usize,
    bytes: usize,
}

impl WaitingRows {
    pub(crate) fn new(fields: &[Field]) -> WaitingRows {
        let field = |f: &Field| ArrowField::new(&f.name, stored(&f.data), true);
        let schema = Arc::new(Schema::new(fields.iter().map(field).collect::<Vec<_>>()));
        WaitingRows { schema, batches: Vec::new(), rows: 0, bytes: 0 }
    }

    pub(crate) fn schema(&self) -> Arc<Schema> {
        self.schema.clone()
    }

    /// Whether so many rows wait, or rows of so many bytes.
    pub(crate) fn are_many(&self, rows: usize, bytes: usize) -> bool {
        self.rows >= rows || self.bytes >= bytes
    }

    /// Bytes of the rows that wait, about.
    pub(crate) fn bytes(&self) -> usize {
        self.bytes
    }

    pub(crate) fn push(&mut self, batch: Batch) -> Result<()> {
        if batch.rows > 0 {
            let columns = batch.columns.into_iter().zip(self.schema.fields());
            let columns = columns.map(|(c, f)| cast_to(c, f.data_type())).collect::<Result<_>>()?;
            let batch = Batch { columns, rows: batch.rows };
            self.rows += batch.rows;
            self.bytes += batch.memory();
            self.batches.push(batch);
        }
        Ok(())
    }

    /// The rows that wait.
    pub(crate) fn take(&mut self) -> Vec<Batch> {
        (self.rows, self.bytes) = (0, 0);
        std::mem::take(&mut self.batches)
    }

    /// The columns of the rows that wait, each in one piece; `None` if there are none.
    pub(crate) fn take_whole(&mut self) -> Result<Option<Vec<ArrayRef>>> {
        let batches = self.take();
        let Some(first) = batches.first() else { return Ok(None) };
        let column = |i: usize| {
            let parts: Vec<&dyn Array> =
                batches.iter().filter_map(|b| b.columns.get(i)).map(AsRef::as_ref).collect();
            arrow_select::concat::concat(&parts).map_err(churn_core::arrow_error)
        };
        (0..first.columns.len()).map(column).collect::<Result<Vec<_>>>().map(Some)
    }
}

/// The type that a column is written in: as it is carried, but texts plainly.
fn stored(data: &DataType) -> DataType {
    match data {
        DataType::Dictionary(_, _) => churn_core::Type::of(data).map_or(DataType::Utf8View, |t| t.arrow()),
        other => other.clone(),
    }
}
