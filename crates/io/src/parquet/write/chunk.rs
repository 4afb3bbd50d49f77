//! A column of a row group: pages of numbers into a dictionary, and of plain values where there are too many of those.
//!
//! Numbers are found by the tables that group rows, and bounds are told of the dictionary's values: the crate's own
//! encoders hash and compare each value of each row. What stands in a page is described in the Parquet format.

use arrow_array::{Array, ArrayRef};
use arrow_buffer::BooleanBufferBuilder;
use arrow_schema::DataType;
use parquet::basic::{BoundaryOrder, Encoding, PageType};
use parquet::column::page::{CompressedPage, Page, PageWriteSpec};
use parquet::column::writer::ColumnCloseResult;
use parquet::errors::Result;
use parquet::file::metadata::{
    ColumnChunkMetaData, ColumnIndexBuilder, OffsetIndexBuilder, PageEncodingStats,
};
use parquet::schema::types::ColumnDescPtr;

use super::packer::Packer;
use super::spool::{EncodedColumn, Spool, Spooled};
use super::values::{self, PageBounds, ValueEncoder};
use super::{checksum, hybrid};

/// Where pages and dictionaries end. Those of all columns of a row group are held at once, by whoever writes and by
/// whoever reads: of many columns each has a smaller share.
#[derive(Clone, Copy)]
pub(super) struct ChunkBounds {
    /// Rows of a page.
    page_rows: usize,
    /// Bytes of a page of plain values, if its rows are fewer.
    page_bytes: usize,
    /// Bytes of a dictionary from which on values are written plainly.
    dictionary_bytes: usize,
}

impl ChunkBounds {
    /// What each of so many columns may take.
    pub(super) fn of_columns(columns: usize) -> ChunkBounds {
        // Of more columns than `full` each has less.
        let share = |whole: usize, full: usize, least: usize| (whole * full / columns.max(full)).max(least);
        ChunkBounds {
            page_rows: share(1 << 14, 32, 1 << 10),
            page_bytes: share(1 << 20, 32, 1 << 14),
            // The table that finds a value's number is some times larger than the value.
            dictionary_bytes: share(share(1 << 20, 16, 0), 64, 1 << 14),
        }
    }
}

/// Rows after which it is seen whether a page is large; also after each part of the rows, whose bytes are bounded.
const SEEN_ROWS: usize = 1 << 12;

pub(super) struct ColumnChunk {
    column: ColumnDescPtr,
    packer: Packer,
    values: Box<dyn ValueEncoder>,
    is_plain: bool,
    bounds: ChunkBounds,
    spool: Spool,
    open: Open,
    pages: Vec<Encoded>,
}

/// The page that is being filled.
#[derive(Default)]
struct Open {
    rows: usize,
    nulls: usize,
    numbers: Vec<u32>,
    plain: Vec<u8>,
    /// Which rows have a value; only where some have none.
    valid: Option<BooleanBufferBuilder>,
}

/// A page as it will be written.
struct Encoded {
    bytes: Spooled,
    told: PageWriteSpec,
    rows: usize,
    nulls: usize,
    encoding: Encoding,
    bounds: PageBounds,
}

impl ColumnChunk {
    /// An empty one; `None` where the crate's own encoders have to do it: other types, other compressions.
    /// Without numbers into a dictionary from the start if values do not repeat.
    pub(super) fn new(
        column: ColumnDescPtr,
        data: &DataType,
        packer: &Packer,
        repeating: bool,
        (bounds, spool): (ChunkBounds, &Spool),
    ) -> Option<ColumnChunk> {
        let values = values::of(data).filter(|_| packer.can())?;
        Some(ColumnChunk {
            column,
            packer: packer.clone(),
            values,
            is_plain: !repeating,
            bounds,
            spool: spool.clone(),
            open: Open::default(),
            pages: Vec::new(),
        })
    }

    /// Appends the values of a part of the rows. Where pages end does not depend on how the values come in arrays.
    pub(super) fn push(&mut self, part: &[ArrayRef]) -> Result<()> {
        for array in part {
            let mut from = 0;
            while from < array.len() {
                let end = self.bounds.page_rows.min((self.open.rows / SEEN_ROWS + 1) * SEEN_ROWS);
                let rows = (end - self.open.rows).min(array.len() - from);
                self.push_rows(&array.slice(from, rows));
                from += rows;
                if self.open.rows >= self.bounds.page_rows
                    || (self.open.rows.is_multiple_of(SEEN_ROWS) && self.is_large())
                {
                    self.end_page()?;
                }
            }
        }
        if self.is_large() { self.end_page() } else { Ok(()) }
    }

    fn push_rows(&mut self, array: &ArrayRef) {
        if self.is_plain {
            self.values.plain(array, &mut self.open.plain);
        } else {
            self.values.number(array, &mut self.open.numbers);
        }
        self.open.push(array);
    }

    /// Whether the page ends before it has all its rows.
    fn is_large(&self) -> bool {
        self.open.plain.len() >= self.bounds.page_bytes || (!self.is_plain && self.has_too_many())
    }

    /// Whether there are more values than a dictionary has.
    fn has_too_many(&self) -> bool {
        self.values.size() > self.bounds.dictionary_bytes
    }

    fn end_page(&mut self) -> Result<()> {
        let open = std::mem::take(&mut self.open);
        let mut body = Vec::with_capacity(open.plain.len() + open.numbers.len() * 3 + 64);
        body.extend_from_slice(&[0; 4]);
        hybrid::levels(open.rows, open.valid.as_ref().map(|valid| valid.as_slice()), &mut body);
        let levels = (body.len() as u32 - 4).to_le_bytes();
        body.iter_mut().zip(levels).for_each(|(byte, length)| *byte = length);
        // A page without values has no numbers either.
        let encoding = if open.numbers.is_empty() { Encoding::PLAIN } else { Encoding::RLE_DICTIONARY };
        if encoding == Encoding::PLAIN {
            body.extend_from_slice(&open.plain);
        } else {
            let width = hybrid::width(self.values.len().saturating_sub(1) as u32);
            body.push(width as u8);
            hybrid::encode(&open.numbers, width, &mut body);
        }
        let data = Page::DataPage {
            buf: self.packer.pack(&body)?.into(),
            num_values: open.rows as u32,
            encoding,
            def_level_encoding: Encoding::RLE,
            rep_level_encoding: Encoding::RLE,
            statistics: None,
        };
        let (bytes, told) = checksum::page(CompressedPage::new(data, body.len()))?;
        self.pages.push(Encoded {
            bytes: self.spool.keep(bytes)?,
            told,
            rows: open.rows,
            nulls: open.nulls,
            encoding,
            bounds: self.values.page(),
        });
        if !self.is_plain && self.has_too_many() {
            self.is_plain = true;
            self.values.end_numbers();
        }
        let Open { mut numbers, mut plain, .. } = open;
        numbers.clear();
        plain.clear();
        self.open = Open { numbers, plain, ..Open::default() };
        Ok(())
    }

    /// All pages, and what the file's footer tells of them.
    pub(super) fn finish(mut self) -> Result<(EncodedColumn, ColumnCloseResult)> {
        if self.open.rows > 0 {
            self.end_page()?;
        }
        let mut pages = Vec::with_capacity(self.pages.len() + 1);
        let mut footer = Footer::new(&self.column);
        if self.values.len() > 0 {
            let values = self.values.dictionary();
            let page = Page::DictionaryPage {
                buf: self.packer.pack(&values)?.into(),
                num_values: self.values.len() as u32,
                encoding: Encoding::PLAIN,
                is_sorted: false,
            };
            let (bytes, told) = checksum::page(CompressedPage::new(page, values.len()))?;
            pages.push(self.spool.keep(bytes)?);
            footer.dictionary = Some(footer.place(&told)?.0);
        }
        for page in std::mem::take(&mut self.pages) {
            pages.push(footer.add(page)?);
        }
        let told = footer.close(self)?;
        Ok((EncodedColumn::new(pages), told))
    }
}

/// What is told of a column's pages at the end of the file.
struct Footer {
    index: ColumnIndexBuilder,
    offsets: OffsetIndexBuilder,
    dictionary: Option<i64>,
    first: Option<i64>,
    /// Bytes as they are stored, and before.
    stored: i64,
    raw: i64,
    rows: usize,
    nulls: usize,
    /// Pages of each encoding.
    counts: [(Encoding, i32); 2],
}

impl Footer {
    fn new(column: &ColumnDescPtr) -> Footer {
        Footer {
            index: ColumnIndexBuilder::new(column.physical_type()),
            offsets: OffsetIndexBuilder::new(),
            dictionary: None,
            first: None,
            stored: 0,
            raw: 0,
            rows: 0,
            nulls: 0,
            counts: [(Encoding::RLE_DICTIONARY, 0), (Encoding::PLAIN, 0)],
        }
    }

    /// Where the next page stands in the column, and its bytes there.
    fn place(&mut self, told: &PageWriteSpec) -> Result<(i64, i32)> {
        let offset = self.stored;
        self.raw += told.uncompressed_size as i64;
        self.stored += told.compressed_size as i64;
        Ok((offset, i32::try_from(told.compressed_size)?))
    }

    /// Takes note of the next page; gives its bytes.
    fn add(&mut self, page: Encoded) -> Result<Spooled> {
        let PageBounds { least_and_greatest, nans } = page.bounds;
        if least_and_greatest.is_none() && page.nulls < page.rows {
            // Values without an order: the index has no place for them.
            self.index.to_invalid();
        }
        let (least, greatest) = least_and_greatest.unwrap_or_default();
        self.index.append(page.nulls == page.rows, least, greatest, page.nulls as i64, nans);
        let (offset, size) = self.place(&page.told)?;
        self.first.get_or_insert(offset);
        self.offsets.append_row_count(page.rows as i64);
        self.offsets.append_offset_and_size(offset, size);
        (self.rows, self.nulls) = (self.rows + page.rows, self.nulls + page.nulls);
        self.counts.iter_mut().filter(|(e, _)| *e == page.encoding).for_each(|(_, n)| *n += 1);
        Ok(page.bytes)
    }

    fn close(mut self, chunk: ColumnChunk) -> Result<ColumnCloseResult> {
        self.index.set_boundary_order(match chunk.values.order() {
            (true, _) => BoundaryOrder::ASCENDING,
            (_, true) => BoundaryOrder::DESCENDING,
            _ => BoundaryOrder::UNORDERED,
        });
        let counts = self.counts.into_iter().filter(|(_, count)| *count > 0);
        let data = |(encoding, count)| PageEncodingStats { page_type: PageType::DATA_PAGE, encoding, count };
        let metadata = ColumnChunkMetaData::builder(chunk.column)
            .set_encodings(vec![Encoding::PLAIN, Encoding::RLE, Encoding::RLE_DICTIONARY])
            .set_page_encoding_stats(counts.map(data).collect())
            .set_compression(chunk.packer.compression())
            .set_num_values(self.rows as i64)
            .set_total_compressed_size(self.stored)
            .set_total_uncompressed_size(self.raw)
            .set_dictionary_page_offset(self.dictionary)
            .set_data_page_offset(self.first.unwrap_or(0))
            .set_statistics(chunk.values.statistics(self.nulls as u64))
            .build()?;
        Ok(ColumnCloseResult {
            bytes_written: self.stored.unsigned_abs(),
            rows_written: self.rows as u64,
            metadata,
            bloom_filter: None,
            column_index: if self.index.valid() { Some(self.index.build()?) } else { None },
            offset_index: Some(self.offsets.build()),
        })
    }
}

impl Open {
    /// Takes note of which rows have a value.
    fn push(&mut self, array: &ArrayRef) {
        match (array.nulls().filter(|nulls| nulls.null_count() > 0), &mut self.valid) {
            (None, None) => {}
            (None, Some(valid)) => valid.append_n(array.len(), true),
            (Some(nulls), valid) => {
                let valid = valid.get_or_insert_with(|| {
                    let mut before = BooleanBufferBuilder::new(self.rows + array.len());
                    before.append_n(self.rows, true);
                    before
                });
                valid.append_buffer(nulls.inner());
                self.nulls += nulls.null_count();
            }
        }
        self.rows += array.len();
    }
}
