//! Rows that do not fit in memory: Arrow streams in files without names, compressed unless their columns are short.
//!
//! A file is unlinked as soon as it is made, so that the system takes it away however the run ends.

pub(crate) mod merge;
pub(crate) mod partitioned;

use std::fs::File;
use std::io::{BufReader, BufWriter, Read, Write};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use arrow_array::{Array, ArrayRef, RecordBatch, RecordBatchOptions};
use arrow_ipc::CompressionType;
use arrow_ipc::reader::StreamReader;
use arrow_ipc::writer::{IpcWriteOptions, StreamWriter};
use arrow_schema::{ArrowError, Field, Schema};
use churn_core::parallel::Threads;
use churn_core::widen::{alone, bytes_alone, without_dictionary};
use churn_core::{Batch, Error, ErrorKind, Result, cancel};
use churn_io::place;
use churn_kernels::memory;

use crate::runtime::budget::Budget;
use crate::runtime::materialized::slices_of;

/// Where a run puts what does not fit.
#[derive(Clone, Debug)]
pub(crate) struct Spill {
    folder: PathBuf,
    /// Bytes of the rows that were written, as they stood in memory.
    written: Arc<AtomicU64>,
}

/// Where rows go that do not fit.
pub(crate) struct Disk<'a> {
    pub(crate) spill: &'a Spill,
    pub(crate) budget: &'a Budget,
    /// Threads that may sort them.
    pub(crate) threads: &'a Threads,
}

/// Bytes of rows that stand in a file together, about: as much of each file is held of those that are merged.
pub(crate) const PIECE: usize = 1 << 18;

/// As much of a file that is read alone.
const LARGE: usize = 1 << 21;

/// Rows of a piece, at most.
const ROWS: usize = 1 << 14;

/// Bytes of a column in a piece from which on it is compressed.
const PACKED: usize = 1 << 11;

/// Bytes of a file that are read at once.
const READ: usize = 1 << 13;

/// A file that is being written.
pub struct RunWriter {
    file: Arc<File>,
    folder: PathBuf,
    out: Option<StreamWriter<BufWriter<SharedFile>>>,
    rows: u64,
    bytes: usize,
    /// Bytes of a piece, and of the largest so far.
    piece: usize,
    largest: usize,
    /// What all files of the run have together.
    written: Arc<AtomicU64>,
}

/// A file that was written.
#[derive(Clone, Debug)]
pub(crate) struct Run {
    file: Arc<File>,
    folder: PathBuf,
    pub(crate) rows: u64,
    /// Bytes that its rows take in memory.
    pub(crate) bytes: usize,
    /// Bytes that its largest piece takes.
    largest: usize,
}

/// The batches of a file, in order.
pub(crate) struct RunReader {
    stream: StreamReader<BufReader<ReadAt>>,
    folder: PathBuf,
    /// The rows of the file, and those that were read.
    rows: u64,
    taken: u64,
}

impl RunReader {
    /// The rows that were read, and those of the file.
    pub(crate) fn progress(&self) -> (u64, Option<u64>) {
        (self.taken, Some(self.rows))
    }
}

/// A file that its writer and its readers hold together.
struct SharedFile(Arc<File>);

impl Write for SharedFile {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        (&*self.0).write(bytes)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// A place in a file; each reader has its own.
struct ReadAt(Arc<File>, u64);

impl Read for ReadAt {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        let read = place::read_at(&self.0, into, self.1)?;
        self.1 += read as u64;
        Ok(read)
    }
}

impl Spill {
    pub(crate) fn new(folder: Option<PathBuf>) -> Spill {
        Spill { folder: folder.unwrap_or_else(std::env::temp_dir), written: Arc::default() }
    }

    /// Bytes of the rows that were written, as they stood in memory.
    pub(crate) fn written(&self) -> u64 {
        self.written.load(Ordering::Relaxed)
    }

    /// Makes a file that may be read beside many others.
    pub(crate) fn writer(&self) -> Result<RunWriter> {
        self.writer_of(PIECE)
    }

    /// Makes a file that is read alone.
    pub(crate) fn writer_alone(&self) -> Result<RunWriter> {
        self.writer_of(LARGE)
    }

    fn writer_of(&self, piece: usize) -> Result<RunWriter> {
        let file = tempfile::tempfile_in(&self.folder).map_err(|e| failed(&self.folder, &e))?;
        let (file, folder) = (Arc::new(file), self.folder.clone());
        let written = self.written.clone();
        Ok(RunWriter { file, folder, out: None, rows: 0, bytes: 0, piece, largest: 0, written })
    }
}

impl RunWriter {
    /// Appends rows, in pieces; every batch has columns of the same types.
    pub(crate) fn write(&mut self, batch: Batch) -> Result<()> {
        if batch.rows == 0 {
            return Ok(());
        }
        let columns = batch.columns.into_iter().map(without_dictionary).collect();
        let batch = Batch { columns, rows: batch.rows };
        let bytes = batch.columns.iter().map(bytes_alone).sum::<usize>();
        let rows = (self.piece * batch.rows / bytes.max(1)).clamp(1, ROWS);
        self.bytes += bytes;
        self.written.fetch_add(bytes as u64, Ordering::Relaxed);
        memory::passed(bytes);
        self.largest = self.largest.max(bytes * rows.min(batch.rows) / batch.rows);
        slices_of(batch, rows).into_iter().try_for_each(|piece| self.write_piece(piece))
    }

    /// Appends a piece, with the text of its rows alone: a file of views holds all text that they belong to.
    fn write_piece(&mut self, Batch { columns, rows }: Batch) -> Result<()> {
        cancel::check()?;
        let columns: Vec<ArrayRef> = columns.into_iter().map(alone).collect();
        let field =
            |(i, column): (usize, &ArrayRef)| Field::new(i.to_string(), column.data_type().clone(), true);
        let schema = Arc::new(Schema::new(columns.iter().enumerate().map(field).collect::<Vec<_>>()));
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        let lost = |e: ArrowError| arrow_failed(&self.folder, e);
        let batch = RecordBatch::try_new_with_options(schema.clone(), columns, &options).map_err(lost)?;
        if self.out.is_none() {
            // To start a compressor for each of many short columns takes longer than it saves.
            let is_packed = self.largest / batch.num_columns().max(1) >= PACKED;
            let codec = is_packed.then_some(CompressionType::LZ4_FRAME);
            let options = IpcWriteOptions::default().try_with_compression(codec).map_err(lost)?;
            let file = BufWriter::with_capacity(1 << 16, SharedFile(self.file.clone()));
            self.out = Some(StreamWriter::try_new_with_options(file, &schema, options).map_err(lost)?);
        }
        self.rows += rows as u64;
        match &mut self.out {
            Some(out) => out.write(&batch).map_err(lost),
            None => Ok(()),
        }
    }

    /// Ends the file.
    pub(crate) fn finish(mut self) -> Result<Run> {
        if let Some(mut out) = self.out.take() {
            out.finish().and_then(|()| out.flush()).map_err(|e| arrow_failed(&self.folder, e))?;
        }
        let RunWriter { file, folder, rows, bytes, largest, .. } = self;
        Ok(Run { file, folder, rows, bytes, largest })
    }
}

impl Run {
    /// Bytes that a reader holds, about: a piece, and what it was packed in.
    pub(crate) fn held_to_read(&self) -> usize {
        self.largest / 2 * 3 + READ
    }

    /// Starts reading at the first batch; a file without rows has no reader.
    pub(crate) fn reader(&self) -> Result<Option<RunReader>> {
        self.reader_of(None)
    }

    /// As [`Run::reader`], of some columns.
    pub(crate) fn reader_of(&self, columns: Option<Vec<usize>>) -> Result<Option<RunReader>> {
        if self.rows == 0 {
            return Ok(None);
        }
        let file = BufReader::with_capacity(READ, ReadAt(self.file.clone(), 0));
        let stream = StreamReader::try_new(file, columns).map_err(|e| arrow_failed(&self.folder, e))?;
        Ok(Some(RunReader { stream, folder: self.folder.clone(), rows: self.rows, taken: 0 }))
    }
}

impl Iterator for RunReader {
    type Item = Result<Batch>;

    fn next(&mut self) -> Option<Result<Batch>> {
        if cancel::is_asked() {
            return Some(Err(cancel::stopped()));
        }
        let batch = self.stream.next()?;
        Some(match batch {
            Ok(batch) => {
                memory::passed(batch.get_array_memory_size());
                self.taken += batch.num_rows() as u64;
                Ok(Batch { rows: batch.num_rows(), columns: batch.columns().to_vec() })
            }
            Err(error) => Err(arrow_failed(&self.folder, error)),
        })
    }
}

fn arrow_failed(folder: &std::path::Path, error: ArrowError) -> Error {
    match error {
        ArrowError::IoError(_, error) => failed(folder, &error),
        other => Error::new(ErrorKind::Internal, format!("Rows could not be kept on disk: {other}.")),
    }
}

/// The error of a folder that is full or cannot be written to.
fn failed(folder: &std::path::Path, error: &std::io::Error) -> Error {
    if place::are_too_many_open(error) {
        return place::too_many_open();
    }
    Error::new(
        ErrorKind::Output,
        format!("Rows that do not fit in memory cannot be put into {}: {error}.", folder.display()),
    )
    .next("Name a folder with more room with --temporary, or give the run more memory with --memory.")
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::cast::AsArray;
    use arrow_array::{Int64Array, StringViewArray};

    #[test]
    fn what_is_written_reads_back() -> Result<()> {
        let mut writer = Spill::new(None).writer()?;
        for start in [0i64, 3] {
            let numbers: ArrayRef = Arc::new(Int64Array::from_iter_values(start..start + 3));
            let long = |n: i64| (n != 4).then(|| format!("a text of more than twelve bytes {n}"));
            let texts: ArrayRef = Arc::new((start..start + 3).map(long).collect::<StringViewArray>());
            writer.write(Batch { columns: vec![numbers, texts.slice(0, 3)], rows: 3 })?;
        }
        let run = writer.finish()?;
        for _ in 0..2 {
            let read = run.reader()?.into_iter().flatten().collect::<Result<Vec<_>>>()?;
            assert_eq!(read.iter().map(|b| b.rows).collect::<Vec<_>>(), [3, 3]);
            let last = read.last().and_then(|b| b.columns.last()).map(|c| c.as_string_view().clone());
            assert_eq!(last.map(|t| (t.is_null(1), t.value(2).len())), Some((true, 34)));
        }
        Ok(())
    }

    #[test]
    fn a_folder_that_is_not_there_is_told() {
        let error = Spill::new(Some("/no/such/folder".into())).writer().map(|_| ()).err();
        assert_eq!(error.map(|e| e.kind()), Some(ErrorKind::Output));
    }
}
