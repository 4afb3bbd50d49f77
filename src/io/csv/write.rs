//! Delimited text, written so that it reads back the same.
//!
//! Floats have a point or an exponent, an empty text has quotes, null is the empty cell without them.

use arrow_array::cast::AsArray;
use arrow_array::types::{Date32Type, Float64Type, Int64Type};
use arrow_array::{Array, ArrayRef, StringViewArray};
use arrow_buffer::NullBuffer;
use churn_kernels::{calendar, digits};

use crate::error::Result;
use crate::expr::{Batch, Field, Scalar, widen, write_float};
use crate::io::format::{Encoder, WriteOptions};

pub(crate) struct CsvEncoder {
    names: Vec<String>,
    options: WriteOptions,
}

impl CsvEncoder {
    pub(crate) fn new(fields: &[Field], options: WriteOptions) -> CsvEncoder {
        CsvEncoder { names: fields.iter().map(|f| f.name.clone()).collect(), options }
    }

    /// Appends a text, in quotes where it would not read back the same.
    fn write_text(&self, text: &[u8], out: &mut Vec<u8>) {
        let separator = self.options.separator;
        let needs = self.options.quote_always
            || text.is_empty()
            || (!self.options.missing.is_empty() && text == self.options.missing.as_bytes())
            || text.starts_with(b"\xef\xbb\xbf")
            || digits::holds_any(text, [separator, b'"', b'\n', b'\r']);
        if !needs {
            out.extend_from_slice(text);
            return;
        }
        out.push(b'"');
        for part in text.split_inclusive(|b| *b == b'"') {
            out.extend_from_slice(part);
            if part.last() == Some(&b'"') {
                out.push(b'"');
            }
        }
        out.push(b'"');
    }

    #[inline]
    fn write_cell(&self, cells: &Cells<'_>, row: usize, out: &mut Vec<u8>) {
        if cells.nulls.is_some_and(|nulls| nulls.is_null(row)) {
            out.extend_from_slice(self.options.missing.as_bytes());
            return;
        }
        match &cells.values {
            Values::Texts(texts) => self.write_text(texts.value(row).as_bytes(), out),
            Values::Floats(values) => write_float(at(values, row), out),
            Values::Ints(values) => digits::push_int(at(values, row), out),
            Values::Days(values) => calendar::write_date(at(values, row), out),
            Values::Others(array) => match Scalar::from_array(array, row) {
                value @ Scalar::List(..) => self.write_text(value.plain().as_bytes(), out),
                value => value.write_plain(out),
            },
        }
    }
}

/// A column as the loop over rows sees it.
struct Cells<'a> {
    nulls: Option<&'a NullBuffer>,
    values: Values<'a>,
}

enum Values<'a> {
    Texts(&'a StringViewArray),
    Floats(&'a [f64]),
    Ints(&'a [i64]),
    Days(&'a [i32]),
    Others(&'a ArrayRef),
}

#[inline]
fn at<T: Copy + Default>(values: &[T], row: usize) -> T {
    values.get(row).copied().unwrap_or_default()
}

impl<'a> Cells<'a> {
    fn new(array: &'a ArrayRef) -> Cells<'a> {
        let values = if let Some(texts) = array.as_string_view_opt() {
            Values::Texts(texts)
        } else if let Some(floats) = array.as_primitive_opt::<Float64Type>() {
            Values::Floats(floats.values())
        } else if let Some(ints) = array.as_primitive_opt::<Int64Type>() {
            Values::Ints(ints.values())
        } else if let Some(days) = array.as_primitive_opt::<Date32Type>() {
            Values::Days(days.values())
        } else {
            Values::Others(array)
        };
        Cells { nulls: array.nulls(), values }
    }
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
            out.push(b'\n');
        }
        out
    }

    fn rows(&self, batch: &Batch) -> Result<Vec<u8>> {
        let columns = batch.columns.iter().map(widen).collect::<Result<Vec<_>>>()?;
        let cells: Vec<Cells<'_>> = columns.iter().map(Cells::new).collect();
        let mut out = Vec::with_capacity(batch.rows * columns.len() * 8);
        for row in 0..batch.rows {
            for (i, column) in cells.iter().enumerate() {
                if i > 0 {
                    out.push(self.options.separator);
                }
                self.write_cell(column, row, &mut out);
            }
            out.push(b'\n');
        }
        Ok(out)
    }
}
