//! A run whose rows are read batch by batch while it goes on.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{Receiver, sync_channel};

#[cfg(feature = "ffi")]
use arrow_array::ffi_stream::{FFI_ArrowArrayStream, RecordBatchStreamReader};
use arrow_array::{RecordBatch, RecordBatchReader};
use arrow_schema::{ArrowError, SchemaRef};
use churn_core::{Batch, Error, ErrorKind, Field, Result};
use churn_exec::Channel;
use serde::de::DeserializeOwned;

use super::Flow;
use crate::options::RunOptions;
use crate::table::{record_batch, rows_of, schema};

/// Record batches of a run, in order; the run goes on in the background and waits for its reader.
///
/// Dropping it stops the run, also one that is still sorting or grouping and has given no batch.
#[derive(Debug)]
pub struct BatchReader {
    fields: Vec<Field>,
    from: Receiver<Result<Batch>>,
    abandoned: Arc<AtomicBool>,
}

impl Drop for BatchReader {
    fn drop(&mut self) {
        self.abandoned.store(true, Ordering::Relaxed);
    }
}

impl BatchReader {
    /// The schema of all batches.
    pub fn schema(&self) -> SchemaRef {
        schema(&self.fields)
    }
}

/// Record batches of a run as the crates of Arrow read them.
#[derive(Debug)]
pub struct ArrowReader(BatchReader);

impl Iterator for ArrowReader {
    type Item = std::result::Result<RecordBatch, ArrowError>;

    fn next(&mut self) -> Option<Self::Item> {
        let batch = self.0.next()?;
        Some(batch.map_err(|error| ArrowError::ExternalError(Box::new(error))))
    }
}

impl RecordBatchReader for ArrowReader {
    fn schema(&self) -> SchemaRef {
        self.0.schema()
    }
}

impl BatchReader {
    /// As a reader of the crates of Arrow, whose errors hold ours as their source.
    ///
    /// ```
    /// use churn::arrow_array::RecordBatchReader;
    /// let reader = churn::Flow::steps("values litres: (120), (80)").batches()?.into_arrow();
    /// assert_eq!(reader.schema().field(0).name(), "litres");
    /// # Ok::<(), churn::Error>(())
    /// ```
    pub fn into_arrow(self) -> ArrowReader {
        ArrowReader(self)
    }

    /// As a stream of the C interface of Arrow, which another language can read without a copy.
    #[cfg(feature = "ffi")]
    pub fn into_stream(self) -> FFI_ArrowArrayStream {
        FFI_ArrowArrayStream::new(Box::new(self.into_arrow()))
    }
}

impl Iterator for BatchReader {
    type Item = Result<RecordBatch>;

    fn next(&mut self) -> Option<Self::Item> {
        let batch = self.from.recv().ok()?;
        Some(batch.and_then(|batch| record_batch(batch, &self.fields)))
    }
}

/// Rows of a run as values of a struct; see [`Flow::rows`].
#[derive(Debug)]
pub struct RowReader<T> {
    reader: BatchReader,
    /// Rows of the batch that was read last.
    ready: std::vec::IntoIter<T>,
    /// Rows of the batches before.
    before: usize,
}

impl<T: DeserializeOwned> Iterator for RowReader<T> {
    type Item = Result<T>;

    fn next(&mut self) -> Option<Result<T>> {
        loop {
            if let Some(row) = self.ready.next() {
                return Some(Ok(row));
            }
            let batch = self.reader.from.recv().ok()?;
            let read = batch.and_then(|batch| rows_of(&batch, &self.reader.fields, self.before));
            match read {
                Ok(rows) => {
                    self.before += rows.len();
                    self.ready = rows.into_iter();
                }
                Err(error) => return Some(Err(error)),
            }
        }
    }
}

impl Flow {
    /// Runs the chain in the background and gives its rows as record batches, in order, few at a time.
    ///
    /// # Errors
    /// As [`Flow::check`]; what goes wrong during the run is the last item.
    ///
    /// ```
    /// let flow = churn::Flow::steps("values litres: (120), (80)");
    /// let mut rows = 0;
    /// for batch in flow.batches()? {
    ///     rows += batch?.num_rows();
    /// }
    /// assert_eq!(rows, 2);
    /// # Ok::<(), churn::Error>(())
    /// ```
    pub fn batches(&self) -> Result<BatchReader> {
        self.batches_with(&RunOptions::default())
    }

    /// Runs the chain in the background and gives its rows as values of a struct, in order, few at a time. What
    /// [`Table::rows`](crate::Table::rows) says of fields holds here.
    ///
    /// # Errors
    /// As [`Flow::check`]; what goes wrong during the run, and a row that does not fit, is the last item.
    ///
    /// ```
    /// #[derive(serde::Deserialize)]
    /// struct Delivery { farm: String, litres: f64 }
    ///
    /// let milk = churn::Flow::steps("values farm, litres: ('F001', 120.5), ('F002', 80.0)");
    /// let mut litres = 0.0;
    /// for delivery in milk.rows::<Delivery>()? {
    ///     litres += delivery?.litres;
    /// }
    /// assert_eq!(litres, 200.5);
    /// # Ok::<(), churn::Error>(())
    /// ```
    pub fn rows<T: DeserializeOwned>(&self) -> Result<RowReader<T>> {
        Ok(RowReader { reader: self.batches()?, ready: Vec::new().into_iter(), before: 0 })
    }

    /// Starts from the batches of a reader of the crates of Arrow, which are held in memory.
    ///
    /// # Errors
    /// The reader fails, or a column has a type that the language lacks.
    pub fn of_reader(reader: impl RecordBatchReader) -> Result<Flow> {
        let schema = reader.schema();
        let unread =
            |error: ArrowError| Error::new(ErrorKind::Input, format!("The batches cannot be read: {error}."));
        let mut batches = reader.collect::<std::result::Result<Vec<_>, _>>().map_err(unread)?;
        if batches.is_empty() {
            batches.push(RecordBatch::new_empty(schema));
        }
        Flow::batches_of(batches)
    }

    /// Starts from a stream of the C interface of Arrow that another language made.
    ///
    /// # Errors
    /// As [`Flow::of_reader`].
    ///
    /// ```
    /// let milk = churn::Flow::steps("values litres: (120), (80)");
    /// let taken = churn::Flow::of_stream(milk.batches()?.into_stream())?;
    /// assert_eq!(taken.run()?.column::<i64>("litres")?, [120, 80]);
    /// # Ok::<(), churn::Error>(())
    /// ```
    #[cfg(feature = "ffi")]
    pub fn of_stream(stream: FFI_ArrowArrayStream) -> Result<Flow> {
        let reader = RecordBatchStreamReader::try_new(stream);
        Flow::of_reader(
            reader.map_err(|error| {
                Error::new(ErrorKind::Input, format!("The stream cannot be read: {error}."))
            })?,
        )
    }

    /// As [`Flow::batches`], with options.
    ///
    /// # Errors
    /// As [`Flow::batches`].
    pub fn batches_with(&self, options: &RunOptions) -> Result<BatchReader> {
        let plan = self.plan_with(options)?;
        let fields = plan.plan.main.fields.clone();
        let abandoned = Arc::new(AtomicBool::new(false));
        let options = options.clone().abandoned_by(abandoned.clone());
        let (to, from) = sync_channel(2);
        std::thread::spawn(move || {
            let last = to.clone();
            if let Err(error) = churn_exec::run(&plan.plan, options.settings(), |_| Ok(Channel::sink(to))) {
                // A reader that went away does not need to know.
                let _ = last.send(Err(error));
            }
        });
        Ok(BatchReader { fields, from, abandoned })
    }
}
