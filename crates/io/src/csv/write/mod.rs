//! Delimited text, written so that it reads back the same.
//!
//! Floats have a point or an exponent, an empty text has quotes, null is the empty cell without them.

mod cell_texts;
mod columns;

use arrow_array::{Array, BinaryViewArray};
use arrow_data::ByteView;
use churn_core::names::name;
use churn_core::scalar::write_float;
use churn_core::widen::widen;
use churn_core::{Batch, Error, ErrorKind, Field, Result, Scalar};
use churn_kernels::known::known;
use churn_kernels::{calendar, digits, gather, lines};

use cell_texts::CellTexts;
use columns::{ColumnValues, WrittenColumn, at};

use crate::format::{Encoder, LineEncoder, LineForm, TextEncoding, WriteOptions};
use crate::json_text::write_value;

pub(crate) struct CsvEncoder {
    names: Vec<String>,
    options: WriteOptions,
    /// Whether most texts are written as they are.
    plain: bool,
    /// What stands for null.
    missing: Vec<u8>,
    /// Whether values that are no texts stand in quotes, as the separator is a character that they may have.
    quotes_all: bool,
    /// What stands behind a row.
    line_end: &'static [u8],
}

impl CsvEncoder {
    pub(crate) fn new(fields: &[Field], options: WriteOptions) -> CsvEncoder {
        let is_of_values = |byte: u8| byte.is_ascii_alphanumeric() || b".+-: ".contains(&byte);
        let quotes_all = is_of_values(options.separator);
        let is_usual = options.decimal == b'.' && options.encoding == TextEncoding::Utf8;
        let plain = !options.quote_always && options.missing.is_empty() && is_usual;
        let line_end: &[u8] = if options.crlf { b"\r\n" } else { b"\n" };
        let names = fields.iter().map(|f| f.name.clone()).collect();
        let mut encoder = CsvEncoder { names, missing: Vec::new(), options, plain, quotes_all, line_end };
        let missing = encoder.options.missing.clone();
        if digits::holds_any(missing.as_bytes(), encoder.special()) {
            quote(missing.as_bytes(), &mut encoder.missing);
        } else {
            encoder.missing = missing.into_bytes();
        }
        encoder
    }

    /// The names of the columns.
    pub(super) fn names(&self) -> &[String] {
        &self.names
    }

    /// Bytes that have a text stand in quotes.
    #[inline]
    fn special(&self) -> [u8; 4] {
        [self.options.separator, b'"', b'\n', b'\r']
    }

    /// Refuses values that would be read back as null: a reader takes what `missing` says for null, in quotes or not.
    fn check_values(&self, cells: &[WrittenColumn<'_>], rows: usize) -> Result<()> {
        let missing = self.options.missing.as_bytes();
        if missing.is_empty() {
            return Ok(());
        }
        let mut value = Vec::new();
        for (column, name) in cells.iter().zip(&self.names) {
            for row in (0..rows).filter(|row| !column.nulls.is_some_and(|nulls| nulls.is_null(*row))) {
                value.clear();
                match &column.values {
                    ColumnValues::Texts(texts) => value.extend_from_slice(texts.value(row).as_bytes()),
                    _ => self.write_value(column, row, &mut value),
                }
                if value == missing {
                    return Err(taken_for_null(name, &self.options.missing));
                }
            }
        }
        Ok(())
    }

    /// Appends a text, in quotes where it would not read back the same.
    fn write_text(&self, text: &[u8], out: &mut Vec<u8>) {
        let needs = self.options.quote_always
            || text.is_empty()
            || text.starts_with(b"\xef\xbb\xbf")
            || digits::holds_any(text, self.special());
        if !needs {
            out.extend_from_slice(text);
            return;
        }
        quote(text, out);
    }

    #[inline]
    fn write_cell(&self, cells: &WrittenColumn<'_>, row: usize, out: &mut Vec<u8>) {
        if cells.nulls.is_some_and(|nulls| nulls.is_null(row)) {
            out.extend_from_slice(&self.missing);
            return;
        }
        let is_quoted = self.quotes_all && !matches!(cells.values, ColumnValues::Texts(_));
        if is_quoted {
            out.push(b'"');
        }
        let start = out.len();
        self.write_value(cells, row, out);
        if self.options.decimal != b'.' && cells.is_fraction() {
            let number = out.get_mut(start..).unwrap_or_default();
            number.iter_mut().filter(|byte| **byte == b'.').for_each(|byte| *byte = self.options.decimal);
        }
        if is_quoted {
            out.push(b'"');
        }
    }

    #[inline]
    fn write_value(&self, cells: &WrittenColumn<'_>, row: usize, out: &mut Vec<u8>) {
        match &cells.values {
            ColumnValues::Texts(texts) => {
                let view = known(texts.views(), row);
                if !(self.plain && !is_marked(view) && digits::push_short_text(view, self.special(), out)) {
                    self.write_text(texts.value(row).as_bytes(), out);
                }
            }
            ColumnValues::Floats(values) => write_float(at(values, row), out),
            ColumnValues::Ints(values) => digits::push_int(at(values, row), out),
            ColumnValues::Days(values, table) => {
                let day = at(values, row);
                match table.texts.get(day.wrapping_sub(table.first) as usize) {
                    Some(text) if *text != 0 => digits::push_day(*text, out),
                    _ => calendar::write_date(day, out),
                }
            }
            ColumnValues::Others(array) => match Scalar::from_array(array, row) {
                value @ Scalar::List(..) => {
                    let mut text = Vec::new();
                    write_value(&value, &mut text);
                    self.write_text(&text, out);
                }
                value => value.write_plain(out),
            },
        }
    }
}

fn taken_for_null(column: &str, missing: &str) -> Error {
    let what = format!("A value of the column {} is '{missing}', which is written for null.", name(column));
    Error::new(ErrorKind::Data, what).why("Whoever reads the file could not tell the two apart.").next(
        "Choose another text for missing, or change these values before: nullif(x, y), replace(x, y, z).",
    )
}

/// Appends a text in quotes, those within doubled.
fn quote(text: &[u8], out: &mut Vec<u8>) {
    out.push(b'"');
    for part in text.split_inclusive(|b| *b == b'"') {
        out.extend_from_slice(part);
        if part.last() == Some(&b'"') {
            out.push(b'"');
        }
    }
    out.push(b'"');
}

/// Whether a short text starts with a mark of byte order, which would be taken for one at the start of a file.
#[inline]
fn is_marked(view: u128) -> bool {
    (view >> 32) as u32 & 0x00ff_ffff == 0x00bf_bbef
}

/// Bytes of a cell with its separator, about: what is written is not copied to a larger place.
const CELL_BYTES: usize = 12;

/// The bytes from a line on, and how long it is; `None` for one that is its own view.
fn from(lines: &BinaryViewArray, row: usize) -> Option<(&[u8], usize)> {
    let view = ByteView::from(*lines.views().get(row)?);
    let block = lines.data_buffers().get(view.buffer_index as usize).filter(|_| view.length > 12)?;
    Some((block.get(view.offset as usize..)?, view.length as usize))
}

impl Encoder for CsvEncoder {
    fn start(&self) -> Vec<u8> {
        let mut out = Vec::new();
        if self.options.header {
            for (i, name) in self.names.iter().enumerate() {
                if i > 0 {
                    out.push(self.options.separator);
                }
                self.write_text(name.as_bytes(), &mut out);
            }
            out.extend_from_slice(self.line_end);
        }
        out
    }

    fn rows(&self, batch: &Batch, ready: Option<&BinaryViewArray>) -> Result<Vec<u8>> {
        let columns = batch.columns.iter().map(widen).collect::<Result<Vec<_>>>()?;
        let cells: Vec<WrittenColumn<'_>> = columns.iter().map(WrittenColumn::new).collect();
        self.check_values(&cells, batch.rows)?;
        let mut out = Vec::with_capacity(batch.rows * columns.len() * CELL_BYTES);
        let mut texts = CellTexts::new(self, &cells, batch.rows);
        for row in 0..batch.rows {
            match ready.filter(|lines| lines.is_valid(row)).and_then(|lines| from(lines, row)) {
                Some((line, length)) => gather::push_near(line, length, &mut out),
                None => texts.write_row(row, &mut out),
            }
            out.extend_from_slice(self.line_end);
        }
        Ok(out)
    }

    fn by_line(self: Box<Self>) -> Option<Box<dyn LineEncoder>> {
        // Whoever puts lines together ends them with a line feed.
        if self.options.crlf { None } else { Some(self) }
    }

    fn line_form(&self) -> Option<LineForm> {
        self.plain.then_some(LineForm { separator: self.options.separator })
    }
}

impl LineEncoder for CsvEncoder {
    fn lines(&self, batch: &Batch, standing: Option<&BinaryViewArray>) -> Result<BinaryViewArray> {
        let columns = batch.columns.iter().map(widen).collect::<Result<Vec<_>>>()?;
        let cells: Vec<WrittenColumn<'_>> = columns.iter().map(WrittenColumn::new).collect();
        self.check_values(&cells, batch.rows)?;
        let (mut text, mut ends) = (Vec::new(), Vec::new());
        let mut texts = CellTexts::new(self, &cells, batch.rows);
        for row in 0..batch.rows {
            texts.write_row(row, &mut text);
            ends.push(text.len());
        }
        Ok(lines::with_own(standing, text, &ends))
    }
}
