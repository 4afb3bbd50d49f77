//! A row group of many columns, read page by page.
//!
//! The crate's reader of a column keeps a decompressor, of about 100 KB, as long as the column is read, and all columns
//! of a row group are read at once. Here each page is read with a decompressor of its own, which is gone before the page
//! of the next column is read. Where pages stand is told by the offset index of the file.

use std::sync::Arc;

use parquet::arrow::arrow_reader::{ArrowReaderMetadata, ParquetRecordBatchReader, RowGroups, RowSelection};
use parquet::arrow::{ProjectionMask, parquet_to_arrow_field_levels};
use parquet::column::page::{Page, PageIterator, PageMetadata, PageReader};
use parquet::errors::{ParquetError, Result};
use parquet::file::metadata::{ColumnChunkMetaData, ParquetMetaData, RowGroupMetaData};
use parquet::file::page_index::offset_index::PageLocation;
use parquet::file::reader::ChunkReader;
use parquet::file::serialized_reader::SerializedPageReader;

/// Columns of a row group from which on it is read so.
const MANY_COLUMNS: usize = 64;

/// Whether a row group is read so: it has many columns, and an index tells where the pages of each are.
pub(super) fn reads(metadata: &ArrowReaderMetadata, group: usize, mask: &ProjectionMask) -> bool {
    let metadata = metadata.metadata();
    let columns = metadata.row_groups().get(group).map_or(0, RowGroupMetaData::num_columns);
    let wanted = || (0..columns).filter(|column| mask.leaf_included(*column));
    wanted().count() >= MANY_COLUMNS
        && wanted().all(|column| pages(metadata, group, column).is_some_and(|pages| !pages.is_empty()))
}

/// Reads some columns of some rows of a row group.
pub(super) fn reader<R: ChunkReader + Clone + 'static>(
    file: &R,
    metadata: &ArrowReaderMetadata,
    (group, mask): (usize, ProjectionMask),
    (batch_rows, selection): (usize, Option<RowSelection>),
) -> Result<ParquetRecordBatchReader> {
    let fields = metadata.schema().fields();
    let levels = parquet_to_arrow_field_levels(metadata.parquet_schema(), mask, Some(fields))?;
    let group = RowGroup { file: Arc::new(file.clone()), metadata: metadata.metadata().clone(), group };
    ParquetRecordBatchReader::try_new_with_row_groups(&levels, &group, batch_rows, selection)
}

/// Where the pages of a column are.
pub(super) fn pages(metadata: &ParquetMetaData, group: usize, column: usize) -> Option<&Vec<PageLocation>> {
    metadata.page_index()?.page_locations(group, column)
}

struct RowGroup<R> {
    file: Arc<R>,
    metadata: Arc<ParquetMetaData>,
    group: usize,
}

impl<R: ChunkReader + 'static> RowGroups for RowGroup<R> {
    fn num_rows(&self) -> usize {
        self.row_groups().map(|group| usize::try_from(group.num_rows()).unwrap_or(0)).sum()
    }

    fn column_chunks(&self, column: usize) -> Result<Box<dyn PageIterator>> {
        let lost = || ParquetError::General(format!("column {column} has no pages"));
        let chunk = self.metadata.row_group(self.group).columns().get(column).ok_or_else(lost)?;
        let pages = pages(&self.metadata, self.group, column).ok_or_else(lost)?;
        let first = pages.first().ok_or_else(lost)?;
        let column = ColumnPages {
            file: self.file.clone(),
            chunk: chunk.clone(),
            has_dictionary: u64::try_from(first.offset).is_ok_and(|first| first != chunk.byte_range().0),
            pages: pages.clone(),
            next: 0,
            rows: self.num_rows(),
        };
        Ok(Box::new(OneColumn(Some(column))))
    }

    fn row_groups(&self) -> Box<dyn Iterator<Item = &RowGroupMetaData> + '_> {
        Box::new(self.metadata.row_groups().iter().skip(self.group).take(1))
    }

    fn metadata(&self) -> &ParquetMetaData {
        &self.metadata
    }
}

/// The column of the only row group.
struct OneColumn<R>(Option<ColumnPages<R>>);

impl<R: ChunkReader + 'static> Iterator for OneColumn<R> {
    type Item = Result<Box<dyn PageReader>>;

    fn next(&mut self) -> Option<Self::Item> {
        self.0.take().map(|column| Ok(Box::new(column) as Box<dyn PageReader>))
    }
}

impl<R: ChunkReader + 'static> PageIterator for OneColumn<R> {}

/// The pages of a column.
struct ColumnPages<R> {
    file: Arc<R>,
    chunk: ColumnChunkMetaData,
    /// Whether a dictionary is to be read first.
    has_dictionary: bool,
    pages: Vec<PageLocation>,
    next: usize,
    rows: usize,
}

impl<R: ChunkReader> ColumnPages<R> {
    fn read(&self, chunk: &ColumnChunkMetaData, pages: Vec<PageLocation>) -> Result<Option<Page>> {
        SerializedPageReader::new(self.file.clone(), chunk, self.rows, Some(pages))?.get_next_page()
    }
}

impl<R: ChunkReader + 'static> PageReader for ColumnPages<R> {
    fn get_next_page(&mut self) -> Result<Option<Page>> {
        if std::mem::take(&mut self.has_dictionary) {
            return self.read(&self.chunk, self.pages.clone());
        }
        let Some(page) = self.pages.get(self.next).cloned() else { return Ok(None) };
        self.next += 1;
        // What stands before the first page would be taken for a dictionary.
        let chunk = self.chunk.clone().into_builder();
        let chunk = chunk.set_dictionary_page_offset(None).set_data_page_offset(page.offset).build()?;
        self.read(&chunk, vec![page])
    }

    fn peek_next_page(&mut self) -> Result<Option<PageMetadata>> {
        if self.has_dictionary {
            return Ok(Some(PageMetadata { num_rows: None, num_levels: None, is_dict: true }));
        }
        let Some(page) = self.pages.get(self.next) else { return Ok(None) };
        let first = |page: &PageLocation| usize::try_from(page.first_row_index);
        let end = self.pages.get(self.next + 1).map_or(Ok(self.rows), first)?;
        let rows = end.checked_sub(first(page)?);
        Ok(Some(PageMetadata { num_rows: rows, num_levels: None, is_dict: false }))
    }

    fn skip_next_page(&mut self) -> Result<()> {
        if !std::mem::take(&mut self.has_dictionary) {
            self.next += 1;
        }
        Ok(())
    }

    fn at_record_boundary(&mut self) -> Result<bool> {
        // Pages of an offset index begin with a record.
        Ok(true)
    }
}

impl<R: ChunkReader + 'static> Iterator for ColumnPages<R> {
    type Item = Result<Page>;

    fn next(&mut self) -> Option<Result<Page>> {
        self.get_next_page().transpose()
    }
}
