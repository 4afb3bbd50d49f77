//! JSON and NDJSON, written: an array of records, or a record a line.
//!
//! Dates and times are ISO 8601 texts; NaN and the infinities, which JSON lacks, are null.

use arrow_array::cast::AsArray;
use arrow_array::types::Float64Type;
use arrow_array::{Array, ArrayRef, BinaryViewArray};
use arrow_schema::DataType;
use churn_core::widen::widen;
use churn_core::{Batch, Field, Result, Scalar};

use crate::format::Encoder;
use crate::json_text::{quoted, write_value};

pub(crate) struct JsonEncoder {
    /// Each column's name as a JSON text with its colon.
    keys: Vec<String>,
    /// Whether the records stand in one array.
    array: bool,
}

impl JsonEncoder {
    pub(crate) fn new(fields: &[Field], array: bool) -> JsonEncoder {
        let keys = fields.iter().map(|f| format!("{}:", quoted(&f.name))).collect();
        JsonEncoder { keys, array }
    }
}

/// Appends a cell as JSON; plain texts and numbers without a detour.
fn write_cell(column: &ArrayRef, row: usize, out: &mut Vec<u8>) {
    if column.is_null(row) {
        out.extend_from_slice(b"null");
    } else if let Some(texts) = column.as_string_view_opt() {
        let text = texts.value(row);
        if text.bytes().any(|b| b < 0x20 || b == b'"' || b == b'\\') {
            out.extend_from_slice(quoted(text).as_bytes());
        } else {
            out.push(b'"');
            out.extend_from_slice(text.as_bytes());
            out.push(b'"');
        }
    } else {
        write_value(&Scalar::from_array(column, row), out);
    }
}

/// The floats of a column that are NaN or infinite.
fn not_finite(column: &ArrayRef) -> usize {
    if let Some(list) = column.as_list_opt::<i32>() {
        let values =
            (0..list.len()).filter(|row| list.is_valid(*row)).map(|row| not_finite(&list.value(row)));
        return values.sum();
    }
    let is_float = matches!(column.data_type(), DataType::Float16 | DataType::Float32 | DataType::Float64);
    let Some(wide) = is_float.then(|| widen(column).ok()).flatten() else { return 0 };
    let floats = wide.as_primitive_opt::<Float64Type>();
    floats.map_or(0, |floats| floats.iter().flatten().filter(|value| !value.is_finite()).count())
}

impl Encoder for JsonEncoder {
    fn start(&self) -> Vec<u8> {
        if self.array { b"[\n".to_vec() } else { Vec::new() }
    }

    fn rows(&self, batch: &Batch, _: Option<&BinaryViewArray>) -> Result<Vec<u8>> {
        let columns = batch.columns.iter().map(widen).collect::<Result<Vec<_>>>()?;
        let mut out = Vec::with_capacity(batch.rows * columns.len() * 16);
        for row in 0..batch.rows {
            if row > 0 {
                out.extend_from_slice(if self.array { b",\n" } else { b"\n" });
            }
            out.push(b'{');
            for (i, (key, column)) in self.keys.iter().zip(&columns).enumerate() {
                if i > 0 {
                    out.push(b',');
                }
                out.extend_from_slice(key.as_bytes());
                write_cell(column, row, &mut out);
            }
            out.push(b'}');
        }
        if !self.array && !out.is_empty() {
            out.push(b'\n');
        }
        debug_assert!(columns.iter().all(|c| c.len() == batch.rows));
        Ok(out)
    }

    fn lost(&self, batch: &Batch) -> usize {
        batch.columns.iter().map(not_finite).sum()
    }

    fn between(&self) -> &'static [u8] {
        if self.array { b",\n" } else { b"" }
    }

    fn end(&self) -> &'static [u8] {
        if self.array { b"\n]\n" } else { b"" }
    }
}
