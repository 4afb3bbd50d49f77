//! What columnar formats that are written share: what they may use, and where their bytes go.

use std::fs::File;
use std::io::Write;
use std::path::{Path, PathBuf};

use churn_core::parallel::Threads;
use churn_core::{Batch, Error, ErrorKind, Field, Result, Type};

use super::format::{FileFormat, WriteOptions};

/// Takes rows in order and writes them as a file of a columnar format.
pub trait RowWriter: Send {
    /// Appends rows.
    fn write(&mut self, batch: Batch) -> Result<()>;
    /// What writes one more table of the same file; `None` if the format has one a file. Each is finished.
    ///
    /// # Errors
    /// The table cannot be started.
    fn another(&self, _: &[Field], _: &WriteOptions) -> Result<Option<Box<dyn RowWriter>>> {
        Ok(None)
    }
    /// Writes what stands at the end; gives back what was written to.
    fn finish(self: Box<Self>) -> Result<Out>;
}

/// What writers may use. None of it decides what the bytes of a file are.
#[derive(Clone, Debug)]
pub struct WriterResources {
    pub(crate) threads: Threads,
    /// Bytes that wait in memory, at most.
    pub(crate) bytes: usize,
    /// Where more than that waits.
    temporary: Option<PathBuf>,
}

impl WriterResources {
    const LEAST: usize = 1 << 20;
    const MOST: usize = 256 << 20;

    /// With these threads, within so many bytes: a little is always there, and more than enough helps nobody. What
    /// has no room in memory waits in this folder, or in the system's for temporary files.
    pub fn new(threads: Threads, bytes: usize, temporary: Option<PathBuf>) -> WriterResources {
        let bytes = bytes.clamp(WriterResources::LEAST, WriterResources::MOST);
        WriterResources { threads, bytes, temporary }
    }

    /// The folder for temporary files, if one is given.
    pub fn temporary(&self) -> Option<&Path> {
        self.temporary.as_deref()
    }

    /// The threads of the run.
    pub fn threads(&self) -> &Threads {
        &self.threads
    }

    /// Those of one of so many writers.
    pub(crate) fn share(&self, writers: usize) -> WriterResources {
        WriterResources { bytes: self.bytes / writers.max(1), ..self.clone() }
    }

    /// A file without a name for what has no room in memory.
    pub(crate) fn temporary_file(&self) -> std::io::Result<File> {
        self.temporary.as_ref().map_or_else(tempfile::tempfile, tempfile::tempfile_in)
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
        .caused_by_io(error)
        .why("Nothing was changed: an older file of that name is as it was.")
}

/// Checks that there is no interval among some columns, for a format that holds none.
///
/// # Errors
/// There is one.
pub(crate) fn without_intervals(format: &impl FileFormat, fields: &[Field]) -> Result<()> {
    let Some(field) = fields.iter().find(|field| field.kind == Type::Interval) else { return Ok(()) };
    let (title, column) = (format.title(), churn_core::names::name(&field.name));
    let what = format!("{title} files hold no intervals of months and microseconds, and {column} is one.");
    let next = format!("Write it as text: add {column} = cast({column} as text).");
    Err(Error::new(ErrorKind::Type, what).next(next))
}
