//! Formats of a user's own: what reads a file as a source, and what writes batches to a file.

use std::fmt;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use arrow_array::{ArrayRef, RecordBatch, RecordBatchOptions};
use arrow_schema::{Field as ArrowField, Schema, SchemaRef};
use churn_core::parallel::{caught, guarded_own};
use churn_core::widen::widen;
use churn_core::{Batch, Error, ErrorKind, Field, Result};

use super::{FileFormat, Opening, WriteOptions};
use crate::binary::{Out, RowWriter, WriterResources};
use crate::folders;
use crate::own::{Own, OwnSource};
use crate::source::Source;

type Starts = dyn Fn(&[u8]) -> bool + Send + Sync;
type Reads = dyn Fn(&Path) -> Result<Arc<dyn OwnSource>> + Send + Sync;
type Writes = dyn Fn(&SchemaRef, Box<dyn Write + Send>) -> Result<Box<dyn OwnWriter>> + Send + Sync;

/// A format of a user's own: a name, and what reads its files, writes them, or both.
///
/// Files are found, opened for `read`, and written complete or not at all as those of the library's formats are: several as
/// one table, from folders of `key=value`, from addresses and standard input by a copy.
#[derive(Clone)]
pub struct OwnFormat {
    names: Vec<String>,
    starts: Option<Arc<Starts>>,
    reads: Option<Arc<Reads>>,
    writes: Option<Arc<Writes>>,
}

/// What writes batches to a file of a user's own format; a closure that takes a batch does, where nothing stands at the end.
pub trait OwnWriter: Send {
    /// Appends rows: the columns of the schema that it was made with.
    ///
    /// # Errors
    /// The format cannot hold a value; the file cannot be written.
    fn write(&mut self, batch: &RecordBatch) -> Result<()>;

    /// Writes what stands at the end, if anything does.
    ///
    /// # Errors
    /// The file cannot be written.
    fn finish(self: Box<Self>) -> Result<()> {
        Ok(())
    }
}

impl<F: FnMut(&RecordBatch) -> Result<()> + Send> OwnWriter for F {
    fn write(&mut self, batch: &RecordBatch) -> Result<()> {
        self(batch)
    }
}

impl OwnFormat {
    /// A format of this name, which messages call it by, `with (format = …)` chooses, and names of files end with.
    pub fn new(name: &str) -> OwnFormat {
        OwnFormat { names: vec![name.to_owned()], starts: None, reads: None, writes: None }
    }

    /// Names of its files may end with this, too.
    #[must_use]
    pub fn or_named(mut self, ending: &str) -> OwnFormat {
        self.names.push(ending.to_owned());
        self
    }

    /// How the first bytes tell that a file is of this format, whatever its name is.
    #[must_use]
    pub fn known_by(mut self, starts: impl Fn(&[u8]) -> bool + Send + Sync + 'static) -> OwnFormat {
        self.starts = Some(Arc::new(starts));
        self
    }

    /// What reads a file.
    #[must_use]
    pub fn read_by<S: OwnSource>(
        mut self,
        reads: impl Fn(&Path) -> Result<S> + Send + Sync + 'static,
    ) -> OwnFormat {
        self.reads = Some(Arc::new(move |file| Ok(Arc::new(reads(file)?))));
        self
    }

    /// What writes a file of columns of some names and types, carried as [`Type::arrow`](churn_core::Type::arrow) says.
    #[must_use]
    pub fn written_by<W: OwnWriter + 'static>(
        mut self,
        writes: impl Fn(&SchemaRef, Box<dyn Write + Send>) -> Result<W> + Send + Sync + 'static,
    ) -> OwnFormat {
        self.writes = Some(Arc::new(move |schema, out| Ok(Box::new(writes(schema, out)?))));
        self
    }

    /// Runs code of the user's; a panic in it is an error that names the format.
    fn guarded<T>(&self, run: impl FnOnce() -> Result<T>) -> Result<T> {
        let what = || format!("The format {} of your own failed.", self.title());
        guarded_own(|| Error::new(ErrorKind::Data, what()), run)
    }

    fn cannot(&self, does: &str, not: &str) -> Error {
        Error::new(ErrorKind::Check, format!("Files of the format {} are {does}, not {not}.", self.title()))
    }
}

impl fmt::Debug for OwnFormat {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.title())
    }
}

impl FileFormat for OwnFormat {
    fn title(&self) -> &str {
        self.names.first().map_or("", String::as_str)
    }

    fn names(&self) -> Vec<&str> {
        self.names.iter().map(String::as_str).collect()
    }

    fn is_text(&self) -> bool {
        false
    }

    fn starts(&self, first: &[u8]) -> bool {
        self.starts.as_ref().is_some_and(|starts| caught(|| starts(first)).unwrap_or(false))
    }

    fn reads_with(&self, option: &str) -> bool {
        option == "format"
    }

    fn open(&self, files: &[PathBuf], opening: Opening) -> Result<Arc<dyn Source>> {
        let Some(reads) = &self.reads else { return Err(self.cannot("written", "read")) };
        let open = |file: &PathBuf| {
            let shown = file.strip_prefix(&opening.base).unwrap_or(file).display().to_string();
            let source = self.guarded(|| reads(file)).and_then(|source| Own::named(source, shown.clone()));
            let source =
                source.map_err(|e| if e.place().is_some() { e } else { e.in_file(&shown, None, None) })?;
            let bytes = std::fs::metadata(file).ok().map(|about| about.len());
            Ok((shown, Arc::new(source.of_file(bytes)) as Arc<dyn Source>))
        };
        folders::together(files.iter().map(open).collect::<Result<_>>()?)
    }

    fn may_be_written(&self, _: &Path) -> Result<()> {
        if self.writes.is_some() { Ok(()) } else { Err(self.cannot("read", "written")) }
    }

    fn writer(
        &self,
        out: Out,
        fields: &[Field],
        _: &WriteOptions,
        _: &WriterResources,
    ) -> Result<Option<Box<dyn RowWriter>>> {
        let Some(writes) = &self.writes else { return Err(self.cannot("read", "written")) };
        let columns = fields.iter().map(|field| ArrowField::new(&field.name, field.kind.arrow(), true));
        let schema: SchemaRef = Arc::new(Schema::new(columns.collect::<Vec<_>>()));
        let out = LentOut(Arc::new(Mutex::new(Some(out))));
        let writer = self.guarded(|| writes(&schema, Box::new(out.clone())))?;
        Ok(Some(Box::new(OwnRows { format: self.clone(), schema, out, writer })))
    }
}

/// Where bytes go, lent to a user's writer and taken back when it has ended.
#[derive(Clone)]
struct LentOut(Arc<Mutex<Option<Out>>>);

impl Write for LentOut {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        let mut out = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        out.as_mut().ok_or_else(|| std::io::Error::other("the file is finished"))?.write(bytes)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        let mut out = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        out.as_mut().map_or(Ok(()), Out::flush)
    }
}

/// A user's writer at work.
struct OwnRows {
    format: OwnFormat,
    schema: SchemaRef,
    out: LentOut,
    writer: Box<dyn OwnWriter>,
}

impl RowWriter for OwnRows {
    fn write(&mut self, batch: Batch) -> Result<()> {
        let columns = batch.columns.iter().map(widen).collect::<Result<Vec<ArrayRef>>>()?;
        let rows = RecordBatchOptions::new().with_row_count(Some(batch.rows));
        let batch = RecordBatch::try_new_with_options(self.schema.clone(), columns, &rows);
        let batch = batch.map_err(churn_core::arrow_error)?;
        let OwnRows { format, writer, .. } = self;
        format.guarded(|| writer.write(&batch))
    }

    fn finish(self: Box<Self>) -> Result<Out> {
        let OwnRows { format, out, writer, .. } = *self;
        format.guarded(|| writer.finish())?;
        let out = out.0.lock().unwrap_or_else(PoisonError::into_inner).take();
        Ok(out.unwrap_or_else(Out::nowhere))
    }
}
