//! Checksums of pages: a CRC-32 of the bytes that follow the page's header, written into that header.
//!
//! A reader can then tell a page that was damaged on its way. The crate writes headers without one, so the field is
//! put into the header afterwards. The header is a Thrift struct in the compact protocol: each field has a byte that
//! holds how far its number is from the number of the field before it (high half) and its type (low half), then a
//! value. Fields 1 to 3 are whole numbers (the page's type, its size before and after compression), field 4 is the
//! checksum, and one of the fields 5 to 8 follows.

use std::sync::{Arc, Mutex, PoisonError};

use bytes::Bytes;
use parquet::arrow::arrow_writer::{
    ArrowColumnChunk, ArrowColumnWriter, PageKey, PageStore, PageStoreArgs, PageStoreFactory,
};
use parquet::column::page::{CompressedPage, PageWriteSpec, PageWriter};
use parquet::column::writer::ColumnCloseResult;
use parquet::errors::{ParquetError, Result};
use parquet::file::writer::{SerializedPageWriter, TrackedWrite};

use super::spool::{EncodedColumn, Spool, Spooled};

/// The number of a dictionary page among the types of pages, as the protocol writes it (zigzag).
const DICTIONARY_PAGE: u8 = 2 << 1;

/// A field whose number is one more than that of the field before it, of a 32-bit number.
const NEXT_NUMBER: u8 = 0x15;

/// A page with its header and checksum, and what the footer tells of it; its place is not known yet.
pub(super) fn page(page: CompressedPage) -> Result<(Bytes, PageWriteSpec)> {
    let body = page.compressed_size();
    let mut written = TrackedWrite::new(Vec::with_capacity(body + 64));
    let mut told = SerializedPageWriter::new(&mut written).write_page(page)?;
    let written = written.into_inner()?;
    let (header, body) = written.split_at_checked(written.len() - body).ok_or_else(unknown_header)?;
    let made = with_checksum(header, body)?;
    let added = made.len() - header.len() - body.len();
    told.compressed_size += added;
    told.uncompressed_size += added;
    Ok((made.into(), told))
}

/// A page: its header with the checksum of its body, and the body.
fn with_checksum(header: &[u8], body: &[u8]) -> Result<Vec<u8>> {
    let mut rest = header;
    for _ in 0..3 {
        rest = rest.strip_prefix(&[NEXT_NUMBER]).ok_or_else(unknown_header)?;
        let last = rest.iter().position(|byte| byte & 0x80 == 0).ok_or_else(unknown_header)?;
        rest = rest.get(last + 1..).ok_or_else(unknown_header)?;
    }
    let (field, rest_of_field) = rest.split_first().ok_or_else(unknown_header)?;
    // The field that came after number 3 comes after number 4 now.
    let field = field.checked_sub(0x10).filter(|field| field >> 4 > 0).ok_or_else(unknown_header)?;
    let mut made = Vec::with_capacity(header.len() + 6 + body.len());
    made.extend_from_slice(header.get(..header.len() - rest.len()).ok_or_else(unknown_header)?);
    made.push(NEXT_NUMBER);
    write_number(crc32fast::hash(body) as i32, &mut made);
    made.push(field);
    made.extend_from_slice(rest_of_field);
    made.extend_from_slice(body);
    made.shrink_to_fit();
    Ok(made)
}

/// A number in zigzag form, seven bits a byte, the lowest first.
fn write_number(number: i32, out: &mut Vec<u8>) {
    let mut left = ((number << 1) ^ (number >> 31)) as u32;
    while left > 0x7f {
        out.push(left as u8 | 0x80);
        left >>= 7;
    }
    out.push(left as u8);
}

fn unknown_header() -> ParquetError {
    ParquetError::General("the header of a page is not as the format has it".to_owned())
}

/// The pages of a column that the crate encodes, with checksums in their headers.
#[derive(Debug)]
struct Pages {
    spool: Spool,
    /// The header whose body has not come.
    header: Option<Bytes>,
    dictionary: Option<Spooled>,
    data: Vec<Spooled>,
    /// By how many bytes all headers have grown.
    added: usize,
}

impl Pages {
    /// Takes a header, or the body of the one before.
    fn put(&mut self, bytes: Bytes) -> Result<()> {
        let Some(header) = self.header.take() else {
            self.header = Some(bytes);
            return Ok(());
        };
        let whole = with_checksum(&header, &bytes)?;
        self.added += whole.len() - header.len() - bytes.len();
        let is_dictionary = whole.get(1) == Some(&DICTIONARY_PAGE);
        let page = self.spool.keep(whole.into())?;
        if is_dictionary {
            self.dictionary = Some(page);
        } else {
            self.data.push(page);
        }
        Ok(())
    }

    fn bytes(&self) -> usize {
        self.dictionary.iter().chain(&self.data).map(Spooled::length).sum()
    }
}

/// Where the crate's encoder of a column leaves pages.
#[derive(Clone, Debug)]
pub(super) struct PagesOfColumn(Arc<Mutex<Pages>>);

impl PagesOfColumn {
    fn new(spool: &Spool) -> PagesOfColumn {
        let (header, dictionary, data, added) = (None, None, Vec::new(), 0);
        PagesOfColumn(Arc::new(Mutex::new(Pages { spool: spool.clone(), header, dictionary, data, added })))
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, Pages> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl PageStore for PagesOfColumn {
    fn put(&mut self, bytes: Bytes) -> Result<PageKey> {
        self.lock().put(bytes)?;
        Ok(PageKey::new(0))
    }

    fn take(&mut self, _: PageKey) -> Result<Bytes> {
        Err(ParquetError::General("pages are taken all at once".to_owned()))
    }

    fn memory_size(&self) -> usize {
        self.lock().bytes()
    }
}

/// Gives each column of a row group that the crate encodes a place for its pages.
#[derive(Debug)]
pub(super) struct PagesOfGroup {
    spool: Spool,
    given: Mutex<Vec<PagesOfColumn>>,
}

impl PagesOfGroup {
    pub(super) fn new(spool: Spool) -> PagesOfGroup {
        PagesOfGroup { spool, given: Mutex::default() }
    }

    /// The places that were given since this was asked last, in the order of columns.
    pub(super) fn take(&self) -> Vec<PagesOfColumn> {
        std::mem::take(&mut *self.given.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

impl PageStoreFactory for PagesOfGroup {
    fn create(&self, _: &PageStoreArgs<'_>) -> Result<Box<dyn PageStore>> {
        let pages = PagesOfColumn::new(&self.spool);
        self.given.lock().unwrap_or_else(PoisonError::into_inner).push(pages.clone());
        Ok(Box::new(pages))
    }
}

/// A column that the crate encodes, and the place of its pages.
pub(super) struct Encoder {
    pub(super) writer: ArrowColumnWriter,
    pub(super) pages: PagesOfColumn,
}

impl Encoder {
    /// All pages, the dictionary first, and what the file's footer tells of them.
    pub(super) fn finish(self) -> Result<(EncodedColumn, ColumnCloseResult)> {
        let mut chunk = self.writer.close()?;
        let mut pages = self.pages.lock();
        let told = of_pages(&mut chunk, &pages)?;
        let data = std::mem::take(&mut pages.data);
        Ok((EncodedColumn::new(pages.dictionary.take().into_iter().chain(data).collect()), told))
    }
}

/// What the crate told of a column's pages, with the sizes and places that they have now.
fn of_pages(chunk: &mut ArrowColumnChunk, pages: &Pages) -> Result<ColumnCloseResult> {
    let told = chunk.close_mut();
    let metadata = told.metadata.clone();
    let (stored, raw) = (metadata.compressed_size(), metadata.uncompressed_size());
    let metadata = metadata
        .into_builder()
        .set_total_compressed_size(stored + pages.added as i64)
        .set_total_uncompressed_size(raw + pages.added as i64)
        .build()?;
    let mut offset_index = told.offset_index.take();
    let locations = offset_index.iter_mut().flat_map(|index| &mut index.page_locations);
    let mut offset = 0;
    for (location, page) in locations.zip(&pages.data) {
        location.offset = offset;
        location.compressed_page_size = i32::try_from(page.length())?;
        offset += i64::from(location.compressed_page_size);
    }
    let told = ColumnCloseResult {
        bytes_written: told.bytes_written + pages.added as u64,
        rows_written: told.rows_written,
        metadata,
        bloom_filter: told.bloom_filter.take(),
        column_index: told.column_index.take(),
        offset_index,
    };
    told.update_dictionary_location(pages.dictionary.as_ref().map_or(0, Spooled::length))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(0, &[0])]
    #[case(-1, &[1])]
    #[case(64, &[0x80, 1])]
    #[case(i32::MIN, &[0xff, 0xff, 0xff, 0xff, 0x0f])]
    fn numbers_take_seven_bits_a_byte(#[case] number: i32, #[case] expected: &[u8]) {
        let mut out = Vec::new();
        write_number(number, &mut out);
        assert_eq!(out, expected);
    }

    #[rstest]
    #[case(&[])]
    #[case(&[0x15, 0x80])]
    #[case(&[0x15, 0, 0x15, 2, 0x15, 2, 0x1c])]
    fn other_headers_are_refused(#[case] header: &[u8]) {
        assert!(with_checksum(header, b"milk").is_err());
    }
}
