//! Some rows of a row group, and reading some of their columns.

use std::sync::Arc;

use arrow_array::RecordBatch;
use churn_core::parallel::caught;
use churn_core::{Batch, Error, ErrorKind, Result};
use parquet::arrow::ProjectionMask;
use parquet::arrow::arrow_reader::{ParquetRecordBatchReader, ParquetRecordBatchReaderBuilder, RowSelection};
use parquet::file::metadata::RowGroupMetaData;

use super::fetched::{self, FetchedChunks};
use super::file::{ParquetFile, Positioned, broken, damaged, mixed_up};
use super::source::ParquetScanState;
use super::{page_by_page, skip};
use crate::merge_schemas;
use crate::source::Decoded;

/// Rows that are decoded together, and cells of them: batches of many columns have fewer rows.
const BATCH_ROWS: usize = 1 << 14;
const BATCH_CELLS: usize = 1 << 19;

/// Some rows of a row group.
pub(super) struct RowGroupPiece {
    pub(super) shared: Arc<ParquetScanState>,
    pub(super) file: usize,
    pub(super) group: usize,
    pub(super) from: usize,
    pub(super) to: usize,
    /// What was fetched of the row group from a store.
    pub(super) fetched: Arc<FetchedChunks>,
}

/// Reads some columns of some rows.
pub(super) struct PieceReader {
    batches: ParquetRecordBatchReader,
    /// For each column asked for its place in the table.
    columns: Vec<usize>,
    /// For each of them its root among those that are read, and the way from there.
    ways: Vec<Option<(usize, Vec<usize>)>>,
    /// Rows that are still to come, as the footer tells.
    left: usize,
}

impl RowGroupPiece {
    pub(super) fn file(&self) -> Result<&ParquetFile> {
        let lost = || Error::new(ErrorKind::Internal, "A morsel is of no file.");
        self.shared.files.get(self.file).ok_or_else(lost)
    }

    /// Whether it ends its row group.
    pub(super) fn is_last(&self) -> bool {
        self.group().is_none_or(|group| usize::try_from(group.num_rows()).unwrap_or(0) <= self.to)
    }

    /// The bytes that its row group has in the file.
    pub(super) fn bytes_of_group(&self) -> u64 {
        self.group().and_then(|group| u64::try_from(group.compressed_size()).ok()).unwrap_or(0)
    }

    fn group(&self) -> Option<&RowGroupMetaData> {
        self.shared.files.get(self.file)?.metadata.metadata().row_groups().get(self.group)
    }

    /// The rows that may pass, of those of this piece; `None` if none may.
    pub(super) fn selection(&self) -> Result<Option<RowSelection>> {
        let file = self.file()?;
        let places = self.shared.united.places.get(self.file);
        let named = self.shared.request.ranges.iter().filter_map(|(column, range)| {
            let flat = file.columns.get(places?.get(*column).copied()??)?;
            // Only a column that is carried as it is in the file can be held against its statistics.
            let as_it_is = self
                .shared
                .united
                .columns
                .get(*column)
                .is_some_and(|c| churn_core::Type::of(&c.data) == churn_core::Type::of(&flat.data));
            (flat.path.len() == 1 && as_it_is).then_some((flat.name.as_str(), range))
        });
        let ranges: Vec<_> = named.collect();
        let Some(parts) = skip::parts(file, self.group, &ranges) else { return Ok(None) };
        let rows = self.group().map_or(0, |group| usize::try_from(group.num_rows()).unwrap_or(0));
        let own = RowSelection::from_consecutive_ranges(std::iter::once(self.from..self.to), rows);
        let both = match parts {
            Some(parts) => parts.intersection(&own),
            None => own,
        };
        Ok(both.selects_any().then_some(both))
    }

    pub(super) fn reader(&self, columns: Vec<usize>, selection: Option<RowSelection>) -> Result<PieceReader> {
        let file = self.file()?;
        let failed = |e| broken(&file.shown, &e);
        let places = self.shared.united.places.get(self.file);
        let flats = columns.iter().map(|c| file.columns.get(places?.get(*c).copied()??));
        let flats: Vec<_> = flats.collect();
        let roots = self.roots(file, &columns);
        let way = |flat: &crate::merge_schemas::Flat| {
            let (root, rest) = flat.path.split_first()?;
            Some((roots.iter().position(|r| r == root)?, rest.to_vec()))
        };
        let ways = flats.iter().map(|flat| flat.and_then(way)).collect();
        let mask = ProjectionMask::roots(file.metadata.parquet_schema(), roots.iter().copied());
        let batch_rows = (BATCH_CELLS / columns.len().max(1)).clamp(1 << 8, BATCH_ROWS);
        let left = match &selection {
            Some(selection) => selection.row_count(),
            None => self.group().map_or(0, |group| usize::try_from(group.num_rows()).unwrap_or(0)),
        };
        self.shared.first_columns.get_or_init(|| columns.clone());
        let reader = self.fetched(file, &mask, selection.as_ref())?;
        let open = || {
            if page_by_page::reads(&file.metadata, self.group, &mask) {
                let (part, rows) = ((self.group, mask), (batch_rows, selection));
                page_by_page::reader(&reader, &file.metadata, part, rows)
            } else {
                let metadata = file.metadata.clone();
                let mut builder = ParquetRecordBatchReaderBuilder::new_with_metadata(reader, metadata)
                    .with_projection(mask)
                    .with_row_groups(vec![self.group])
                    .with_batch_size(batch_rows);
                if let Some(selection) = selection {
                    builder = builder.with_row_selection(selection);
                }
                builder.build()
            }
        };
        let batches = caught(open).map_err(|_| mixed_up(&file.shown))?.map_err(failed)?;
        Ok(PieceReader { batches, columns, ways, left })
    }

    /// The columns of the file that some of the table's are read from, in order.
    fn roots(&self, file: &ParquetFile, columns: &[usize]) -> Vec<usize> {
        let places = self.shared.united.places.get(self.file);
        let flats = columns.iter().filter_map(|c| file.columns.get(places?.get(*c).copied()??));
        let mut roots: Vec<usize> = flats.filter_map(|flat| flat.path.first().copied()).collect();
        roots.sort_unstable();
        roots.dedup();
        roots
    }

    /// Fetches what some columns of it need from its store, if that is no more than so many bytes.
    ///
    /// # Errors
    /// As [`RowGroupPiece::reader`].
    pub(super) fn fetch_ahead(&self, columns: &[usize], most: u64) -> Result<()> {
        let file = self.file()?;
        let (Some(remote), Some(selection)) = (file.reader.remote(), self.selection()?) else {
            return Ok(());
        };
        let roots = self.roots(file, columns);
        let mask = ProjectionMask::roots(file.metadata.parquet_schema(), roots);
        let selection = self.unless_whole(selection);
        let ranges = fetched::ranges(file.metadata.metadata(), self.group, &mask, selection.as_ref());
        if ranges.iter().map(|range| range.end - range.start).sum::<u64>() > most {
            return Ok(());
        }
        self.fetched.fetch(remote, &ranges).map_err(|e| file.unreadable(&e))
    }

    /// A selection of rows, unless it is of all rows of the row group: these are read the fast way.
    pub(super) fn unless_whole(&self, selection: RowSelection) -> Option<RowSelection> {
        let is_whole =
            self.group().is_some_and(|g| usize::try_from(g.num_rows()) == Ok(selection.row_count()));
        (!is_whole).then_some(selection)
    }

    /// The file, with what is read of it fetched first if it is in a store.
    fn fetched(
        &self,
        file: &ParquetFile,
        mask: &ProjectionMask,
        selection: Option<&RowSelection>,
    ) -> Result<Positioned> {
        let Some(remote) = file.reader.remote() else { return Ok(file.reader.clone()) };
        let ranges = fetched::ranges(file.metadata.metadata(), self.group, mask, selection);
        self.fetched.fetch(remote, &ranges).map_err(|e| file.unreadable(&e))?;
        Ok(file.reader.with(self.fetched.clone()))
    }

    /// The columns of a batch as the table has them.
    fn batch(&self, reader: &PieceReader, read: &RecordBatch) -> Result<Batch> {
        let file = self.file()?;
        let rows = read.num_rows();
        let column = |(column, way): (&usize, &Option<(usize, Vec<usize>)>)| {
            if self.shared.united.file_column == Some(*column) {
                return Ok(merge_schemas::file_name(&file.shown, rows));
            }
            let found = way.as_ref().map(|(root, path)| (read.column(*root), path.as_slice()));
            self.shared.united.column_of(*column, found, (&file.shown, rows))
        };
        let columns = reader.columns.iter().zip(&reader.ways).map(column).collect::<Result<_>>()?;
        Ok(Batch { columns, rows })
    }

    /// The error of pages that have fewer or more rows than the footer tells.
    fn lacking(&self, left: usize) -> Error {
        let than = if left > 0 { format!("{left} fewer rows") } else { "more rows".to_owned() };
        let why = format!("the pages of its row group {} have {than} than its footer tells", self.group);
        self.file().map_or_else(|e| e, |file| damaged(&file.shown, &why))
    }

    pub(super) fn next_of(&self, reader: &mut PieceReader) -> Result<Option<Batch>> {
        let next = caught(|| reader.batches.next());
        let next = next.or_else(|_| self.file().and_then(|file| Err(mixed_up(&file.shown))))?;
        let Some(read) = next else {
            return match reader.left {
                0 => Ok(None),
                left => Err(self.lacking(left)),
            };
        };
        let read = read.map_err(|e| {
            let error = parquet::errors::ParquetError::ArrowError(e.to_string());
            self.file().map_or_else(|e| e, |file| broken(&file.shown, &error))
        })?;
        reader.left = reader.left.checked_sub(read.num_rows()).ok_or_else(|| self.lacking(0))?;
        self.batch(reader, &read).map(Some)
    }

    /// A batch without rows that tells of those that were not read.
    pub(super) fn skipped(&self, rows: usize) -> Decoded {
        let data = |c: &usize| self.shared.united.columns.get(*c).map(|c| c.data.clone());
        let columns = self.shared.request.columns.iter().filter_map(data);
        let columns = columns.map(|d| arrow_array::new_empty_array(&d)).collect();
        Decoded { skipped: rows, ..Decoded::of(Batch { columns, rows: 0 }, 0) }
    }
}
