//! Rows that wait for a file of their own, in one temporary file for all: each segment is an Arrow stream.

use std::fs::File;
use std::io::Cursor;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use arrow_array::RecordBatch;
use arrow_ipc::CompressionType;
use arrow_ipc::reader::StreamReader;
use arrow_ipc::writer::{IpcWriteOptions, StreamWriter};
use arrow_schema::{ArrowError, Schema};
use churn_core::widen::alone;
use churn_core::{Batch, Error, ErrorKind, Result};

use super::place;

/// The file. It has no name, so that the system takes it away however the run ends.
pub(super) struct Segments {
    folder: PathBuf,
    file: Option<File>,
    end: u64,
}

/// Where a segment stands in the file.
#[derive(Clone, Copy)]
pub(super) struct Segment {
    at: u64,
    bytes: usize,
}

impl Segments {
    /// A file in this folder, made when the first rows come.
    pub(super) fn new(folder: &Path) -> Segments {
        Segments { folder: folder.to_owned(), file: None, end: 0 }
    }

    /// Appends rows of one schema.
    ///
    /// # Errors
    /// The disk is full or fails.
    pub(super) fn push(&mut self, schema: &Arc<Schema>, batches: Vec<Batch>) -> Result<Segment> {
        let codec = Some(CompressionType::LZ4_FRAME);
        let options = IpcWriteOptions::default().try_with_compression(codec).map_err(broken)?;
        let mut out = StreamWriter::try_new_with_options(Vec::new(), schema, options).map_err(broken)?;
        for batch in batches {
            let columns = batch.columns.into_iter().map(alone).collect();
            out.write(&RecordBatch::try_new(schema.clone(), columns).map_err(broken)?).map_err(broken)?;
        }
        let bytes = out.into_inner().map_err(broken)?;
        if self.file.is_none() {
            self.file = Some(tempfile::tempfile_in(&self.folder).map_err(|e| self.failed(&e))?);
        }
        let Some(file) = &self.file else { return Err(lost()) };
        place::write_at(file, &bytes, self.end).map_err(|e| self.failed(&e))?;
        let segment = Segment { at: self.end, bytes: bytes.len() };
        self.end += bytes.len() as u64;
        Ok(segment)
    }

    /// The rows of a segment.
    ///
    /// # Errors
    /// The disk fails.
    pub(super) fn read(&self, segment: Segment) -> Result<Vec<Batch>> {
        let file = self.file.as_ref().ok_or_else(lost)?;
        let mut bytes = vec![0; segment.bytes];
        place::read_exact_at(file, &mut bytes, segment.at).map_err(|e| self.failed(&e))?;
        let read = StreamReader::try_new(Cursor::new(bytes), None).map_err(broken)?;
        read.map(|batch| batch.map(|b| Batch { rows: b.num_rows(), columns: b.columns().to_vec() }))
            .map(|batch| batch.map_err(broken))
            .collect()
    }

    fn failed(&self, error: &std::io::Error) -> Error {
        let what =
            format!("Rows cannot be kept in {} until they are written: {error}.", self.folder.display());
        Error::new(ErrorKind::Output, what).next("Make room there, or split by columns of fewer values.")
    }
}

fn lost() -> Error {
    Error::new(ErrorKind::Internal, "Rows that wait for their file were lost.")
}

fn broken(error: ArrowError) -> Error {
    Error::new(ErrorKind::Internal, format!("Rows that wait for their file could not be kept: {error}."))
}
