//! One file: its footer, its columns, and reading it from many threads.

use std::io::Read;
use std::path::Path;
use std::sync::Arc;

use arrow_schema::{DataType, Field, FieldRef, Schema};
use bytes::Bytes;
use churn_core::parallel::caught;
use churn_core::{Error, Result};
use parquet::arrow::ProjectionMask;
use parquet::arrow::arrow_reader::{ArrowReaderMetadata, ArrowReaderOptions};
use parquet::basic::Encoding;
use parquet::errors::ParquetError;
use parquet::file::metadata::{PageIndexPolicy, ParquetMetaData};
use parquet::file::reader::{ChunkReader, Length};

use super::ParquetFormat;
use super::fetched::FetchedChunks;
use crate::format::{self, Opening};
use crate::merge_schemas::{Flat, flat};
use crate::open_files::{OpenFiles, PositionedFile};
use crate::place;
use crate::store::RemoteFile;

/// A file as the crate's reader takes it.
#[derive(Clone, Debug)]
pub(super) struct Positioned {
    file: PositionedFile,
    /// Parts of it that were fetched from a store; all others are fetched when they are read.
    fetched: Option<Arc<FetchedChunks>>,
}

impl Positioned {
    pub(super) fn new(file: PositionedFile) -> Positioned {
        Positioned { file, fetched: None }
    }

    /// The file in a store, if it is in one.
    pub(super) fn remote(&self) -> Option<&RemoteFile> {
        match &self.file {
            PositionedFile::Remote(file) => Some(file),
            PositionedFile::Local(_) => None,
        }
    }

    /// The file, with parts that were fetched.
    pub(super) fn with(&self, fetched: Arc<FetchedChunks>) -> Positioned {
        Positioned { file: self.file.clone(), fetched: Some(fetched) }
    }

    fn read_at(&self, into: &mut [u8], at: u64) -> std::io::Result<usize> {
        let end = at.saturating_add(into.len() as u64);
        match self.fetched.as_ref().and_then(|fetched| fetched.from(at..end)) {
            Some(known) => (&known[..]).read(into),
            None => self.file.read_at(into, at),
        }
    }
}

/// A reader that starts at a place of a file.
pub(super) struct From(Positioned, u64);

impl Read for From {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        let read = self.0.read_at(into, self.1)?;
        self.1 += read as u64;
        Ok(read)
    }
}

impl Length for Positioned {
    fn len(&self) -> u64 {
        self.file.size()
    }
}

impl ChunkReader for Positioned {
    type T = std::io::BufReader<From>;

    fn get_read(&self, start: u64) -> Result<Self::T, ParquetError> {
        Ok(std::io::BufReader::new(From(self.clone(), start)))
    }

    fn get_bytes(&self, start: u64, length: usize) -> Result<Bytes, ParquetError> {
        let wanted = start..start.saturating_add(length as u64);
        let fetched = self.fetched.as_ref().and_then(|fetched| fetched.from(wanted.clone()));
        if let Some(known) = fetched.filter(|known| known.len() == length) {
            return Ok(known);
        }
        if let Some(remote) = self.remote() {
            let bytes = remote.fetch(wanted).map_err(|e| ParquetError::External(Box::new(e)))?;
            let cut = || ParquetError::EOF(format!("it ends at byte {}, within a column", self.len()));
            return if bytes.len() == length { Ok(bytes) } else { Err(cut()) };
        }
        let mut bytes = Vec::with_capacity(length);
        From(self.clone(), start).take(length as u64).read_to_end(&mut bytes)?;
        if bytes.len() < length {
            let end = start + bytes.len() as u64;
            return Err(ParquetError::EOF(format!("it ends at byte {end}, within a column")));
        }
        Ok(Bytes::from(bytes))
    }
}

/// A file with its footer.
#[derive(Debug)]
pub(super) struct ParquetFile {
    pub(super) shown: String,
    pub(super) reader: Positioned,
    pub(super) metadata: ArrowReaderMetadata,
    pub(super) columns: Vec<Flat>,
    /// What should be told of its columns.
    pub(super) notes: Vec<String>,
}

impl ParquetFile {
    /// Reads the footer of a file.
    ///
    /// # Errors
    /// It cannot be read, or is no Parquet file.
    pub(super) fn open(
        path: &Path,
        shown: &str,
        files: &Arc<OpenFiles>,
        opening: &Opening,
    ) -> Result<ParquetFile> {
        let reader = Positioned::new(PositionedFile::open(path, files, &opening.remote)?);
        let options = ArrowReaderOptions::new().with_page_index_policy(PageIndexPolicy::Optional);
        let failed = |e: ParquetError| broken(shown, &e);
        let loaded = caught(|| ArrowReaderMetadata::load(&reader, options)).map_err(|_| mixed_up(shown))?;
        let metadata = loaded.map_err(failed)?;
        agreeing(metadata.metadata(), reader.len()).map_err(|why| damaged(shown, &why))?;
        // Texts as views, or as numbers into a dictionary where the file has them so.
        let fields: Vec<FieldRef> = metadata
            .schema()
            .fields()
            .iter()
            .enumerate()
            .map(|(root, field)| carried(field, || is_dictionary(metadata.metadata(), root)))
            .collect();
        let schema = Arc::new(Schema::new_with_metadata(fields, metadata.schema().metadata().clone()));
        let options = ArrowReaderOptions::new().with_schema(schema);
        let metadata = ArrowReaderMetadata::try_new(metadata.metadata().clone(), options).map_err(failed)?;
        let flattened = flat(metadata.schema().fields());
        let notes = flattened.notes(shown);
        Ok(ParquetFile { shown: shown.to_owned(), reader, metadata, columns: flattened.columns, notes })
    }

    /// The error of bytes of it that its store does not give.
    pub(super) fn unreadable(&self, error: &std::io::Error) -> Error {
        place::unreadable(Path::new(&self.shown), error)
    }

    pub(super) fn rows(&self) -> u64 {
        u64::try_from(self.metadata.metadata().file_metadata().num_rows()).unwrap_or(0)
    }

    /// Bytes that the columns of some roots take in the file.
    pub(super) fn bytes_of(&self, roots: impl Iterator<Item = usize>) -> u64 {
        let mask = ProjectionMask::roots(self.metadata.parquet_schema(), roots);
        let groups = self.metadata.metadata().row_groups().iter();
        let columns = groups.flat_map(|group| group.columns().iter().enumerate());
        columns.filter(|(leaf, _)| mask.leaf_included(*leaf)).map(|(_, column)| column.byte_range().1).sum()
    }

    pub(super) fn bytes(&self) -> u64 {
        self.reader.len()
    }
}

/// Whether what a footer tells goes together: its numbers of rows, as rows are counted without reading a page, and the places
/// of its columns with the length of the file, as its reader takes them for granted.
fn agreeing(metadata: &ParquetMetaData, size: u64) -> std::result::Result<(), String> {
    let mut all = 0i64;
    for (number, group) in metadata.row_groups().iter().enumerate() {
        let rows = group.num_rows();
        all = all.saturating_add(rows);
        if rows < 0 {
            return Err(format!("its row group {number} has {rows} rows"));
        }
        let is_list = |leaf: usize| metadata.file_metadata().schema_descr().column(leaf).max_rep_level() > 0;
        for (leaf, column) in group.columns().iter().enumerate() {
            let start = column.dictionary_page_offset().unwrap_or(column.data_page_offset());
            let is_place = start >= 0 && column.data_page_offset() >= 0 && column.compressed_size() >= 0;
            let end = start.checked_add(column.compressed_size()).and_then(|end| u64::try_from(end).ok());
            if !is_place || end.is_none_or(|end| end > size) {
                let name = column.column_path().string();
                return Err(format!("the column {name} of its row group {number} lies outside the file"));
            }
            let values = column.num_values();
            if values != rows && !is_list(leaf) {
                let name = column.column_path().string();
                return Err(format!(
                    "its row group {number} has {rows} rows, and the column {name} has {values} values there"
                ));
            }
        }
    }
    let told = metadata.file_metadata().num_rows();
    if all == told { Ok(()) } else { Err(format!("it has {told} rows, and its row groups {all}")) }
}

/// The field as it is to be read.
fn carried(field: &FieldRef, is_dictionary: impl Fn() -> bool) -> FieldRef {
    let data = match field.data_type() {
        DataType::Utf8 | DataType::LargeUtf8 | DataType::Utf8View | DataType::Dictionary(_, _)
            if churn_core::Type::of(field.data_type()) == Some(churn_core::Type::Text) =>
        {
            if is_dictionary() {
                DataType::Dictionary(Box::new(DataType::Int32), Box::new(DataType::Utf8))
            } else {
                DataType::Utf8View
            }
        }
        DataType::Binary | DataType::LargeBinary => DataType::BinaryView,
        _ => return field.clone(),
    };
    Arc::new(Field::new(field.name(), data, field.is_nullable()))
}

/// Whether all pages of a top-level column hold numbers into a dictionary.
fn is_dictionary(metadata: &ParquetMetaData, root: usize) -> bool {
    let schema = metadata.file_metadata().schema_descr();
    let Some(leaf) = (0..schema.num_columns()).find(|leaf| schema.get_column_root_idx(*leaf) == root) else {
        return false;
    };
    metadata.num_row_groups() > 0
        && metadata.row_groups().iter().all(|group| {
            group.columns().get(leaf).and_then(|c| c.page_encoding_stats_mask()).is_some_and(|mask| {
                mask.is_only(Encoding::RLE_DICTIONARY) || mask.is_only(Encoding::PLAIN_DICTIONARY)
            })
        })
}

/// The error of a file that cannot be understood.
pub(super) fn broken(shown: &str, error: &ParquetError) -> Error {
    if let ParquetError::External(error) = error
        && let Some(error) = error.downcast_ref::<std::io::Error>()
        && error.kind() != std::io::ErrorKind::UnexpectedEof
    {
        return place::unreadable(Path::new(shown), error);
    }
    let why = error.to_string();
    damaged(shown, why.split_once(": ").map_or(why.as_str(), |(_, rest)| rest))
}

/// The error of a file whose reader took something for granted that is not so.
pub(super) fn mixed_up(shown: &str) -> Error {
    damaged(shown, "its parts do not go together")
}

/// The error of a file that is not as it says it is.
pub(super) fn damaged(shown: &str, why: &str) -> Error {
    format::damaged(&ParquetFormat, shown, why)
}
