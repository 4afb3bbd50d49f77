//! Sources of a user's own: batches as they are made, in order, of the columns that a run needs.

use std::fmt;
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::RecordBatch;
use arrow_schema::SchemaRef;
use churn_core::names::{comma, name};
use churn_core::parallel::guarded_own;
use churn_core::widen::check_range;
use churn_core::{Batch, Error, ErrorKind, Result, Type};

use crate::memory::Ready;
use crate::source::{About, Capability, Morsel, Request, Scan, Source, SourceColumn};

/// The batches of one reading of a source, in order.
pub type OwnBatches = Box<dyn Iterator<Item = Result<RecordBatch>> + Send>;

/// A table of a user's own: a generator of rows, a database, a format that the library lacks.
///
/// It may be read several times in a run, and from threads of the run, one at a time for each reading. Its batches are not
/// held: a run reads on as it goes, and stops where it has enough.
pub trait OwnSource: fmt::Debug + Send + Sync + 'static {
    /// What plans, ledgers and messages call it, where no table and no file has it.
    fn name(&self) -> String {
        "a source of your own".into()
    }

    /// Its columns, the same whenever it is asked.
    fn schema(&self) -> SchemaRef;

    /// How many rows there are, if that is known.
    fn rows(&self) -> Option<u64> {
        None
    }

    /// Starts reading from the front: batches of these columns of the schema, in this order, and no others.
    ///
    /// # Errors
    /// It cannot be read. An error of a batch ends the run.
    fn read(&self, columns: &[usize]) -> Result<OwnBatches>;
}

/// A user's own source as the engine reads it.
#[derive(Debug)]
pub struct Own {
    source: Arc<Named>,
    columns: Vec<SourceColumn>,
    about: About,
}

impl Own {
    /// Takes a source in.
    ///
    /// # Errors
    /// It has no column, or one of a type that the language lacks.
    pub fn new(source: impl OwnSource) -> Result<Own> {
        let name = source.name();
        Own::named(Arc::new(source), name)
    }

    /// As [`Own::new`], by the name of its table or its file.
    ///
    /// # Errors
    /// As [`Own::new`].
    pub fn named(source: Arc<dyn OwnSource>, called: String) -> Result<Own> {
        let source = Named { source, name: called };
        let schema = source.guarded(|source| Ok(source.schema()))?;
        if schema.fields().is_empty() {
            return Err(Error::new(
                ErrorKind::Input,
                format!("{} has no columns.", capitalized(&source.name)),
            ));
        }
        let column = |field: &Arc<arrow_schema::Field>| match Type::of(field.data_type()) {
            Some(_) => {
                Ok(SourceColumn { name: field.name().clone(), data: field.data_type().clone(), open: false })
            }
            None => {
                let (column, kind) = (name(field.name()), field.data_type());
                let what = format!("The column {column} is {kind}, which the language lacks.");
                Err(Error::new(ErrorKind::Type, what))
            }
        };
        let columns = schema.fields().iter().map(column).collect::<Result<_>>()?;
        let about = About { rows: source.guarded(|source| Ok(source.rows()))?, ..About::default() };
        Ok(Own { source: Arc::new(source), columns, about })
    }

    /// The same, of one file of so many bytes.
    pub(crate) fn of_file(mut self, bytes: Option<u64>) -> Own {
        (self.about.files, self.about.bytes) = (1, bytes);
        self
    }
}

impl Source for Own {
    fn columns(&self) -> &[SourceColumn] {
        &self.columns
    }

    fn about(&self) -> &About {
        &self.about
    }

    fn open(&self, request: Request) -> Result<Box<dyn Scan>> {
        let columns = request.columns.iter().filter_map(|i| self.columns.get(*i).cloned()).collect();
        let batches = self.source.guarded(|source| source.read(&request.columns))?;
        let reading = Reading { batches, done: 0, ended: false };
        let (source, rows) = (self.source.clone(), self.about.rows);
        Ok(Box::new(OwnScan { source, columns, rows, reading: Mutex::new(reading) }))
    }
}

/// A user's source, and what it is called.
#[derive(Debug)]
struct Named {
    source: Arc<dyn OwnSource>,
    name: String,
}

impl Named {
    /// Runs code of the user's; a panic in it is an error that names the source.
    fn guarded<T>(&self, read: impl FnOnce(&dyn OwnSource) -> Result<T>) -> Result<T> {
        guarded_own(|| self.failed(), || read(&*self.source))
    }

    fn failed(&self) -> Error {
        Error::new(ErrorKind::Input, format!("{} could not be read.", capitalized(&self.name)))
    }
}

/// A name at the start of a sentence.
pub(crate) fn capitalized(name: &str) -> String {
    let mut letters = name.chars();
    letters.next().into_iter().flat_map(char::to_uppercase).chain(letters).collect()
}

/// How far a reading is.
struct Reading {
    batches: OwnBatches,
    /// Rows that were given.
    done: u64,
    ended: bool,
}

struct OwnScan {
    source: Arc<Named>,
    columns: Vec<SourceColumn>,
    rows: Option<u64>,
    reading: Mutex<Reading>,
}

impl OwnScan {
    /// The columns of a batch, held to those that were asked for.
    fn checked(&self, batch: &RecordBatch) -> Result<Batch> {
        let found = batch.columns().iter().map(|column| column.data_type());
        if !found.clone().eq(self.columns.iter().map(|column| &column.data)) {
            let wanted = comma(self.columns.iter().map(|c| format!("{} {}", name(&c.name), c.data)));
            let why = format!("It gave columns of {} where it was asked for {wanted}.", comma(found));
            return Err(self.source.failed().why(why));
        }
        for (array, column) in batch.columns().iter().zip(&self.columns) {
            check_range(array).map_err(|e| e.why(format!("It is the column {}.", name(&column.name))))?;
        }
        Ok(Batch { columns: batch.columns().to_vec(), rows: batch.num_rows() })
    }
}

impl Scan for OwnScan {
    fn enable(&mut self, _: Capability<'_>) -> bool {
        false
    }

    fn next(&self) -> Result<Option<Box<dyn Morsel>>> {
        let mut reading = self.reading.lock().unwrap_or_else(PoisonError::into_inner);
        if reading.ended {
            return Ok(None);
        }
        match self.source.guarded(|_| reading.batches.next().transpose())? {
            Some(batch) => {
                reading.done += batch.num_rows() as u64;
                Ok(Some(Box::new(Ready::new(self.checked(&batch)?))))
            }
            None => {
                reading.ended = true;
                Ok(None)
            }
        }
    }

    fn progress(&self) -> (u64, Option<u64>) {
        (self.reading.lock().unwrap_or_else(PoisonError::into_inner).done, self.rows)
    }
}
