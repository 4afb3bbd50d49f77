//! Delimited text, written so that it reads back the same.
//!
//! Floats have a point or an exponent, an empty text has quotes, null is the empty cell without them.

use arrow_array::cast::AsArray;
use arrow_array::types::{Date32Type, Float64Type, Int64Type};
use arrow_array::{Array, ArrayRef};
use churn_kernels::calendar;

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
            || text.iter().any(|b| *b == separator || matches!(b, b'"' | b'\n' | b'\r'));
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

    fn write_cell(&self, array: &ArrayRef, row: usize, out: &mut Vec<u8>) {
        if array.is_null(row) {
            out.extend_from_slice(self.options.missing.as_bytes());
        } else if let Some(texts) = array.as_string_view_opt() {
            self.write_text(texts.value(row).as_bytes(), out);
        } else if let Some(floats) = array.as_primitive_opt::<Float64Type>() {
            write_float(floats.value(row), out);
        } else if let Some(ints) = array.as_primitive_opt::<Int64Type>() {
            out.extend_from_slice(itoa::Buffer::new().format(ints.value(row)).as_bytes());
        } else if let Some(days) = array.as_primitive_opt::<Date32Type>() {
            calendar::write_date(days.value(row), out);
        } else {
            match Scalar::from_array(array, row) {
                value @ Scalar::List(..) => self.write_text(value.plain().as_bytes(), out),
                value => value.write_plain(out),
            }
        }
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
        let mut out = Vec::with_capacity(batch.rows * columns.len() * 8);
        for row in 0..batch.rows {
            for (i, column) in columns.iter().enumerate() {
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
