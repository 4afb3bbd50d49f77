//! One file: its footer, its columns, and reading it from many threads.

use std::io::Read;
use std::path::Path;
use std::sync::Arc;

use arrow_schema::{DataType, Field, FieldRef, Schema};
use bytes::Bytes;
use churn_core::parallel::caught;
use churn_core::{Error, Result};
use parquet::arrow::arrow_reader::{ArrowReaderMetadata, ArrowReaderOptions};
use parquet::basic::Encoding;
use parquet::errors::ParquetError;
use parquet::file::metadata::{PageIndexPolicy, ParquetMetaData};
use parquet::file::reader::{ChunkReader, Length};

use super::ParquetFormat;
use crate::format;
use crate::merge_schemas::{Flat, flat};
use crate::open_files::{OpenFiles, PositionedFile};

/// A file as the crate's reader takes it.
#[derive(Clone, Debug)]
pub(super) struct Positioned(PositionedFile);

/// A reader that starts at a place of a file.
pub(super) struct From(PositionedFile, u64);

impl Read for From {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        let read = self.0.read_at(into, self.1)?;
        self.1 += read as u64;
        Ok(read)
    }
}

impl Length for Positioned {
    fn len(&self) -> u64 {
        self.0.size()
    }
}

impl ChunkReader for Positioned {
    type T = std::io::BufReader<From>;

    fn get_read(&self, start: u64) -> Result<Self::T, ParquetError> {
        Ok(std::io::BufReader::new(From(self.0.clone(), start)))
    }

    fn get_bytes(&self, start: u64, length: usize) -> Result<Bytes, ParquetError> {
        let mut bytes = Vec::with_capacity(length);
        From(self.0.clone(), start).take(length as u64).read_to_end(&mut bytes)?;
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
    pub(super) fn open(path: &Path, shown: &str, files: &Arc<OpenFiles>) -> Result<ParquetFile> {
        let reader = Positioned(PositionedFile::open(path, files)?);
        let options = ArrowReaderOptions::new().with_page_index_policy(PageIndexPolicy::Optional);
        let failed = |e: ParquetError| broken(shown, &e);
        let loaded = caught(|| ArrowReaderMetadata::load(&reader, options)).map_err(|_| mixed_up(shown))?;
        let metadata = loaded.map_err(failed)?;
        agreeing(metadata.metadata(), reader.0.size()).map_err(|why| damaged(shown, &why))?;
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

    pub(super) fn rows(&self) -> u64 {
        u64::try_from(self.metadata.metadata().file_metadata().num_rows()).unwrap_or(0)
    }

    pub(super) fn bytes(&self) -> u64 {
        self.reader.0.size()
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
